package transport

import (
	"crypto/tls"
	"errors"
	"io"
	"net"
	"os"
	"syscall"
	"time"
)

// conn is a connection of a stream: a raw socket, or something on top of one, mainly TLS.
type conn interface {
	// raw returns the socket to watch, or nil if there is none.
	raw() syscall.RawConn
	// await waits until there is something to read, or an error. It is not called for what is watched.
	await() error
	// read returns what there is to read, which is valid until the worker's next read. It does not
	// wait, and may return nothing. More says that there may be more than the socket shows.
	read(w *worker) (data []byte, more bool, err error)
	// write writes what it can without waiting, possibly nothing.
	write(w *worker, data []byte) (n int, err error)
	// mayWait reports whether a read may also write, which may take long.
	mayWait() bool
	// writeSlowly writes everything, and gives up after the time without progress.
	writeSlowly(data []byte, slow time.Duration) error
	// abort closes the socket at once, without a goodbye.
	abort()
	net() net.Conn
}

// connect wraps a connection for a stream, and reports whether the pool's watcher can wait for its data.
func (p *Pool) connect(c net.Conn) (_ conn, watched bool) {
	over, secure := c.(*tls.Conn)
	below := c
	if secure {
		below = over.NetConn()
	}
	s, ok := below.(syscall.Conn)
	if !ok || !rawSockets {
		return &otherConn{Conn: c}, false
	}
	rc, err := s.SyscallConn()
	if err != nil {
		return &otherConn{Conn: c}, false
	}
	watched = p.watches()
	if !secure {
		return &rawConn{Conn: c, rc: rc}, watched
	}
	if below, ok := below.(*socket); ok && watched {
		below.direct = true
		return &secureConn{otherConn{Conn: c}, below}, true
	}
	return &otherConn{Conn: c}, false
}

// rawConn reads and writes its socket only inside the callbacks of [syscall.RawConn]. They hold
// a reference to the descriptor, so that it cannot be closed and reused for another connection.
type rawConn struct {
	net.Conn
	rc syscall.RawConn
}

func (c *rawConn) net() net.Conn { return c.Conn }

func (c *rawConn) raw() syscall.RawConn { return c.rc }

func (c *rawConn) await() error {
	return c.rc.Read(func(fd uintptr) bool {
		_, err := peekSocket(fd)
		return err != syscall.EAGAIN
	})
}

func (c *rawConn) read(w *worker) ([]byte, bool, error) {
	w.readBuffer()
	err := c.rc.Read(w.readOnce)
	switch {
	case err != nil:
		return nil, false, err
	case w.err == syscall.EAGAIN:
		return nil, false, nil
	case w.err != nil:
		return nil, false, w.err
	case w.n == 0:
		return nil, false, io.EOF
	}
	return w.buffer[:w.n], false, nil
}

func (*rawConn) mayWait() bool { return false }

func (c *rawConn) abort() { _ = c.Close() }

func (c *rawConn) write(w *worker, data []byte) (int, error) {
	w.data = data
	err := c.rc.Write(w.writeOnce)
	w.data = nil
	switch {
	case err != nil:
		return 0, err
	case w.err == syscall.EAGAIN:
		return 0, nil
	}
	return max(w.n, 0), w.err
}

func (c *rawConn) writeSlowly(data []byte, slow time.Duration) error {
	for len(data) > 0 {
		_ = c.SetWriteDeadline(time.Now().Add(slow))
		var n int
		var failed error
		err := c.rc.Write(func(fd uintptr) bool {
			n, failed = writeSocket(fd, data)
			return failed != syscall.EAGAIN
		})
		if err := errors.Join(err, failed); err != nil {
			return err
		}
		data = data[n:]
	}
	return c.SetWriteDeadline(time.Time{})
}

// otherConn is a connection without a socket that can be watched. Waiting for data takes a small
// buffer of its own, and every write may wait.
type otherConn struct {
	net.Conn
	data []byte // that await has read
}

func (c *otherConn) net() net.Conn { return c.Conn }

func (*otherConn) raw() syscall.RawConn { return nil }

func (c *otherConn) await() error {
	buffer := make([]byte, spareSize)
	n, err := c.Read(buffer)
	if n == 0 {
		return err
	}
	c.data = buffer[:n] // an error comes again with the next read
	return nil
}

func (c *otherConn) read(*worker) ([]byte, bool, error) {
	data := c.data
	c.data = nil
	return data, false, nil
}

func (*otherConn) mayWait() bool { return false } // await has read

func (c *otherConn) abort() {
	if over, ok := c.Conn.(*tls.Conn); ok { // which would say goodbye first
		_ = over.NetConn().Close()
		return
	}
	_ = c.Close()
}

func (c *otherConn) write(*worker, []byte) (int, error) { return 0, nil }

// writeSlowly writes in pieces, because progress shows only at the end of each.
func (c *otherConn) writeSlowly(data []byte, slow time.Duration) error {
	for len(data) > 0 {
		_ = c.SetWriteDeadline(time.Now().Add(slow))
		n, err := c.Write(data[:min(len(data), readSize)])
		if err != nil {
			return err
		}
		data = data[n:]
	}
	return c.SetWriteDeadline(time.Time{})
}

// IsTimeout reports whether a stream ended because of a time limit: that of
// [Stream.ExpectWithin], or that for a slow client.
func IsTimeout(err error) bool { return errors.Is(err, os.ErrDeadlineExceeded) }
