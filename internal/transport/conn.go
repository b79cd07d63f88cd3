package transport

import (
	"errors"
	"net"
	"os"
	"sync"
	"syscall"
	"time"
)

// conn is a connection of a stream: a raw socket, or something on top of one, mainly TLS.
type conn interface {
	// read waits for data. The caller returns the buffer to buffers.
	read(buffers *sync.Pool) (buffer *[]byte, n int, err error)
	// write writes what it can without waiting, possibly nothing.
	write(w *writer, data []byte) (n int, err error)
	// writeSlowly writes everything, and gives up after the time without progress.
	writeSlowly(data []byte, slow time.Duration) error
	net() net.Conn
}

// newConn uses the raw socket if there is one.
func newConn(c net.Conn) conn {
	if s, ok := c.(syscall.Conn); ok && rawSockets {
		if rc, err := s.SyscallConn(); err == nil {
			raw := &rawConn{Conn: c, rc: rc}
			raw.readable = raw.tryRead
			return raw
		}
	}
	return &otherConn{Conn: c}
}

// rawConn reads and writes its socket only inside the callbacks of [syscall.RawConn]. They hold
// a reference to the descriptor, so that it cannot be closed and reused for another connection.
type rawConn struct {
	net.Conn
	rc       syscall.RawConn
	readable func(fd uintptr) bool // tryRead, stored so that waiting does not allocate

	// Used by the one read at a time.
	buffers *sync.Pool
	buffer  *[]byte
	n       int
	err     error
}

func (c *rawConn) net() net.Conn { return c.Conn }

func (c *rawConn) read(buffers *sync.Pool) (*[]byte, int, error) {
	c.buffers = buffers
	if err := c.rc.Read(c.readable); err != nil {
		return nil, 0, err
	}
	buffer, n, err := c.buffer, c.n, c.err
	c.buffer, c.err = nil, nil
	return buffer, n, err
}

// tryRead is called when the socket may be readable, and only then takes a buffer. Readiness is
// edge-triggered: it may wait again only after EAGAIN.
func (c *rawConn) tryRead(fd uintptr) bool {
	buffer, _ := c.buffers.Get().(*[]byte)
	n, err := readSocket(fd, *buffer)
	if err == syscall.EAGAIN {
		c.buffers.Put(buffer)
		return false
	}
	c.buffer, c.n, c.err = buffer, max(n, 0), err
	return true
}

func (c *rawConn) write(w *writer, data []byte) (int, error) {
	w.data = data
	err := c.rc.Write(w.once)
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

// writer is a worker's state for a write, so that a write does not allocate.
type writer struct {
	once func(fd uintptr) bool
	data []byte
	n    int
	err  error

	joined []byte
	frames [][]byte
}

func newWriter() *writer {
	w := &writer{}
	w.once = func(fd uintptr) bool {
		w.n, w.err = writeSocket(fd, w.data)
		return true
	}
	return w
}

// otherConn is a connection without a raw socket, such as TLS. It has a small read buffer of its
// own, and every write may wait.
type otherConn struct{ net.Conn }

func (c *otherConn) net() net.Conn { return c.Conn }

func (c *otherConn) read(*sync.Pool) (*[]byte, int, error) {
	buffer := make([]byte, spareSize)
	n, err := c.Read(buffer)
	if n > 0 {
		err = nil // the next read returns it
	}
	return &buffer, n, err
}

func (c *otherConn) write(*writer, []byte) (int, error) { return 0, nil }

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
