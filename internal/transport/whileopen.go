package transport

import (
	"context"
	"net"
	"sync"
	"syscall"
	"time"
)

// WhileOpen returns a context that ends when the peer closes the connection during its request.
// It does not notice that after the peer has sent more data, or on systems without raw sockets.
// Call done before anything else reads from the connection.
func WhileOpen(c net.Conn) (_ context.Context, done func()) {
	ctx, cancel := context.WithCancel(context.Background())
	for {
		inner, wrapped := c.(interface{ NetConn() net.Conn })
		if !wrapped {
			break
		}
		c = inner.NetConn()
	}
	s, ok := c.(syscall.Conn)
	if !ok || !rawSockets {
		return ctx, cancel
	}
	rc, err := s.SyscallConn()
	if err != nil {
		return ctx, cancel
	}
	_ = c.SetReadDeadline(time.Time{})
	var watching sync.WaitGroup
	watching.Go(func() {
		closed := false
		_ = rc.Read(func(fd uintptr) bool {
			n, err := peekSocket(fd)
			if err == syscall.EAGAIN {
				return false
			}
			closed = err != nil || n == 0
			return true
		})
		if closed {
			cancel()
		}
	})
	return ctx, func() {
		_ = c.SetReadDeadline(time.Unix(1, 0)) // ends the watching
		watching.Wait()
		_ = c.SetReadDeadline(time.Time{})
		cancel()
	}
}
