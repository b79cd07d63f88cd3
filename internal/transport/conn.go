package transport

import (
	"errors"
	"net"
	"os"
	"sync"
	"syscall"
	"time"
)

// conn is a connection as streams use it. There are two kinds: raw, whose socket is
// at hand, and others, TLS above all.
type conn interface {
	// read waits until something has come. The buffer goes back to buffers when it
	// has been handled.
	read(buffers *sync.Pool) (buffer *[]byte, n int, err error)
	// write writes what can be written without waiting, which may be nothing.
	write(w *writer, data []byte) (n int, err error)
	// writeSlowly writes all, and gives up when nothing could be written for the time.
	writeSlowly(data []byte, slow time.Duration) error
	net() net.Conn
}

// newConn takes the raw socket where there is one.
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

// rawConn reads and writes its socket only within the callbacks of
// [syscall.RawConn]: these hold a reference to the descriptor, so it can be neither
// closed nor given to another connection meanwhile.
type rawConn struct {
	net.Conn
	rc       syscall.RawConn
	readable func(fd uintptr) bool // tryRead, kept so that waiting allocates nothing

	// Of the one read that is under way.
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

// tryRead is called when the socket may have something. It takes a buffer only for
// that moment. Readiness is told by edges: only after EAGAIN may it wait again.
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

// writer is what a worker writes with, so that a write allocates nothing.
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

// otherConn is a connection whose socket carries something else than what is
// written, as TLS records. It keeps a small buffer of its own, and every write may
// wait.
type otherConn struct{ net.Conn }

func (c *otherConn) net() net.Conn { return c.Conn }

func (c *otherConn) read(*sync.Pool) (*[]byte, int, error) {
	buffer := make([]byte, spareSize)
	n, err := c.Read(buffer)
	if n > 0 {
		err = nil // it comes again
	}
	return &buffer, n, err
}

func (c *otherConn) write(*writer, []byte) (int, error) { return 0, nil }

// writeSlowly writes in pieces, for progress shows only at the end of each.
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

// IsTimeout tells whether an error with which a stream ended was a deadline, that of
// [Stream.ExpectWithin] or that of a slow client.
func IsTimeout(err error) bool { return errors.Is(err, os.ErrDeadlineExceeded) }
