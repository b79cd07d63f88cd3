package server

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

const (
	// reserve is how many descriptors are kept for all that is no connection; of few, a
	// quarter.
	reserve = 200
	// sendBuffer bounds what the kernel holds for a client that does not read; the
	// kernel doubles it.
	sendBuffer = 32 << 10
	// maxDrained is how many connections at once are read out before they are closed, and
	// drainTime and drainBytes how far. Closing one unread would take back what it was told
	// (RFC 9112 §9.6).
	maxDrained = 32
	drainTime  = time.Second
	drainBytes = 256 << 10
)

// listener accepts connections up to a limit, and goes on when descriptors run out, which would
// otherwise end the service. Connections beyond the limit are answered with 503.
type listener struct {
	net.Listener
	most    int64
	open    atomic.Int64
	drained atomic.Int64
	drains  int64         // how many at once may be drained: few if the limit is low, since they take descriptors too
	stopped chan struct{} // closed by Close
	stop    sync.Once
}

// unlimited is the limit where the system has none.
const unlimited = 1 << 20

// listen listens at an address. Accepted connections have the buffers of the listening socket.
// Beats and writes find out whether a client is alive, so TCP keep-alive is off.
func listen(address string) (net.Listener, error) {
	config := net.ListenConfig{
		KeepAlive: -1,
		Control: func(_, _ string, c syscall.RawConn) error {
			return c.Control(func(fd uintptr) { bufferSending(fd, sendBuffer) })
		},
	}
	return config.Listen(context.Background(), "tcp", address)
}

// limitConnections wraps a listener. Most is the limit of connections; 0 stands for the number
// of descriptors less a reserve.
func limitConnections(l net.Listener, most int) *listener {
	if most == 0 {
		most = descriptors()
	}
	return &listener{Listener: l, most: int64(most), drains: min(maxDrained, int64(most)/12+1), stopped: make(chan struct{})}
}

// Accept implements [net.Listener].
func (l *listener) Accept() (net.Conn, error) {
	wait := 5 * time.Millisecond
	for {
		c, err := l.Listener.Accept()
		switch {
		case exhausted(err):
			select {
			case <-l.stopped:
				return nil, net.ErrClosed
			case <-time.After(wait):
			}
			wait = min(2*wait, 500*time.Millisecond)
			continue
		case err != nil:
			return nil, err
		}
		tcp, ok := c.(*net.TCPConn)
		if !ok {
			return c, nil
		}
		if l.open.Add(1) > l.most {
			l.turnAway(tcp)
			continue
		}
		return &countedConn{TCPConn: tcp, listener: l}, nil
	}
}

// exhausted tells whether accepting failed for lack of something that will be available again.
func exhausted(err error) bool {
	for _, lack := range []error{syscall.EMFILE, syscall.ENFILE, syscall.ENOBUFS, syscall.ENOMEM} {
		if errors.Is(err, lack) {
			return true
		}
	}
	return false
}

const tooMany = "HTTP/1.1 503 Service Unavailable\r\nRetry-After: 1\r\nConnection: close\r\nContent-Type: application/problem+json\r\nX-Content-Type-Options: nosniff\r\n" +
	"Content-Length: 158\r\n\r\n" +
	`{"type":"/problems/busy","title":"Busy","status":503,"instance":"","code":"busy","detail":"too many connections are open","allowed":"another try in a second"}`

// turnAway answers that there are too many connections, and closes the connection.
func (l *listener) turnAway(c *net.TCPConn) {
	l.drain(c, func() error {
		defer l.open.Add(-1)
		return c.Close()
	}, func() error {
		if _, err := c.Read(make([]byte, 4<<10)); err != nil { // the request
			return err
		}
		_, err := c.Write([]byte(tooMany))
		return err
	})
}

// drain says something over a connection, reads what the other side still sends, and closes it,
// all beside the caller. If too many are being drained, it is closed at once.
func (l *listener) drain(c *net.TCPConn, closeIt, say func() error) {
	if l.drained.Add(1) > l.drains {
		l.drained.Add(-1)
		_ = closeIt()
		return
	}
	go func() {
		defer l.drained.Add(-1)
		defer func() { _ = closeIt() }()
		_ = c.SetDeadline(time.Now().Add(drainTime))
		if say() != nil || c.CloseWrite() != nil {
			return
		}
		_, _ = io.CopyN(io.Discard, c, drainBytes)
	}()
}

// Close implements [net.Listener].
func (l *listener) Close() error {
	l.stop.Do(func() { close(l.stopped) })
	return l.Listener.Close()
}

// countedConn is a connection that is counted until it is closed. It embeds the TCP connection,
// so that its socket remains accessible.
type countedConn struct {
	*net.TCPConn
	listener  *listener
	unread    atomic.Bool
	begun     atomic.Bool  // something has come of the next request
	answering atomic.Bool  // a whole request has come, and is being answered
	until     atomic.Int64 // Unix nanoseconds: when a long request has to be there; 0: none is read
	closed    atomic.Bool
}

// stallTime is how long a request that may take longer may stand still.
const stallTime = 10 * time.Second

// SetReadDeadline implements [net.Conn]. A deadline beyond stallTime holds as long as data
// arrives: a slow upload is judged by its progress.
func (c *countedConn) SetReadDeadline(at time.Time) error {
	c.until.Store(0)
	if !at.IsZero() && time.Until(at) > stallTime+time.Second {
		c.until.Store(at.UnixNano())
	}
	return c.TCPConn.SetReadDeadline(at)
}

// Read implements [net.Conn]. A connection over which nothing was asked in time ends without a
// word. A browser opens connections in advance, and would take a word about it for the answer to
// a request that it sends at that moment.
func (c *countedConn) Read(data []byte) (int, error) {
	if until := c.until.Load(); until != 0 {
		at := time.Now().Add(stallTime)
		if last := time.Unix(0, until); last.Before(at) {
			at = last
		}
		_ = c.TCPConn.SetReadDeadline(at)
	}
	n, err := c.TCPConn.Read(data)
	if n > 0 {
		c.begun.Store(true)
	} else if errors.Is(err, os.ErrDeadlineExceeded) && !c.begun.Load() {
		err = io.EOF
	}
	return n, err
}

// LeaveUnread says that the connection will be closed before everything was read, so that
// closing it must not take the last answer back.
func (c *countedConn) LeaveUnread() { c.unread.Store(true) }

// Close implements [net.Conn].
func (c *countedConn) Close() error {
	if c.closed.Swap(true) {
		return c.TCPConn.Close()
	}
	closeIt := func() error {
		defer c.listener.open.Add(-1)
		return c.TCPConn.Close()
	}
	if !c.unread.Load() {
		return closeIt()
	}
	c.listener.drain(c.TCPConn, closeIt, func() error { return nil })
	return nil
}
