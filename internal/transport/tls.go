package transport

import (
	"crypto/tls"
	"errors"
	"io"
	"net"
	"syscall"
)

// TLS returns a listener for TLS. A stream over one of its connections needs no goroutine while it waits.
func TLS(l net.Listener, config *tls.Config) net.Listener {
	return tls.NewListener(&socketListener{l}, config)
}

type socketListener struct{ net.Listener }

func (l *socketListener) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	if s, ok := c.(syscall.Conn); ok && rawSockets {
		if rc, err := s.SyscallConn(); err == nil {
			return &socket{Conn: c, rc: rc}, nil
		}
	}
	return c, nil
}

// socket is the connection below TLS.
type socket struct {
	net.Conn
	rc     syscall.RawConn
	direct bool // Read does not wait; set before its stream starts
}

// SyscallConn implements [syscall.Conn].
func (s *socket) SyscallConn() (syscall.RawConn, error) { return s.rc, nil }

// Read implements [net.Conn].
func (s *socket) Read(data []byte) (n int, err error) {
	if !s.direct {
		return s.Conn.Read(data)
	}
	var failed error
	err = s.rc.Read(func(fd uintptr) bool {
		n, failed = readSocket(fd, data)
		return true
	})
	switch {
	case err != nil:
		return 0, err
	case failed == syscall.EAGAIN:
		return 0, errNothing
	case failed != nil:
		return 0, failed
	case n == 0 && len(data) > 0:
		return 0, io.EOF
	}
	return n, nil
}

// errNothing says that there is nothing to read yet. It is temporary, so crypto/tls can be asked again.
var errNothing net.Error = nothing{}

type nothing struct{}

func (nothing) Error() string   { return "there is nothing to read yet" }
func (nothing) Timeout() bool   { return false }
func (nothing) Temporary() bool { return true }

// secureConn is TLS over a socket that does not wait.
type secureConn struct {
	otherConn
	below *socket
}

func (c *secureConn) raw() syscall.RawConn { return c.below.rc }

// mayWait implements [conn]. A client may ask for new keys (RFC 8446 §4.6.3), which is answered while its data is read.
func (c *secureConn) mayWait() bool { return true }

func (c *secureConn) read(w *worker) (data []byte, more bool, err error) {
	n, err := c.Read(w.readBuffer())
	if n > 0 || errors.Is(err, errNothing) {
		err = nil // any other error comes again with the next read
	}
	return w.buffer[:n], n > 0, err
}
