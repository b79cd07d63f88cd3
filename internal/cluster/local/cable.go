package local

import (
	"context"
	"net"
	"sync"
)

// cable carries connections to an address, until it is cut: then what is written to it goes nowhere, and nobody
// is told, as on a network that loses everything. The connections of that time break when it is mended.
type cable struct {
	listener net.Listener
	to       string

	mu    sync.Mutex
	cut   bool
	whole chan struct{} // closed while it is not cut
	conns map[net.Conn]struct{}
}

func newCable(to string) (*cable, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	c := &cable{listener: listener, to: to, whole: make(chan struct{}), conns: map[net.Conn]struct{}{}}
	close(c.whole)
	go c.serve()
	return c, nil
}

func (c *cable) address() string { return c.listener.Addr().String() }

func (c *cable) serve() {
	for {
		conn, err := c.listener.Accept()
		if err != nil {
			return
		}
		go c.carry(conn)
	}
}

func (c *cable) carry(from net.Conn) {
	if !c.hold(from) {
		return
	}
	defer c.drop(from)
	if !c.passes() {
		return
	}
	to, err := net.Dial("tcp", c.to)
	if err != nil || !c.hold(to) {
		return
	}
	defer c.drop(to)
	done := make(chan struct{}, 2)
	for _, way := range [][2]net.Conn{{from, to}, {to, from}} {
		go func() {
			defer func() { done <- struct{}{} }()
			buffer := make([]byte, 32<<10)
			for {
				n, err := way[0].Read(buffer)
				if n == 0 && err != nil || !c.passes() {
					return
				}
				if _, err := way[1].Write(buffer[:n]); err != nil {
					return
				}
			}
		}()
	}
	<-done
}

// passes returns true if the cable is whole. Otherwise it waits until it is mended, and returns false.
func (c *cable) passes() bool {
	c.mu.Lock()
	cut, whole := c.cut, c.whole
	c.mu.Unlock()
	if cut {
		<-whole
	}
	return !cut
}

func (c *cable) hold(conn net.Conn) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.conns == nil {
		_ = conn.Close()
		return false
	}
	c.conns[conn] = struct{}{}
	return true
}

func (c *cable) drop(conn net.Conn) {
	_ = conn.Close()
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.conns, conn)
}

// sever cuts the cable, or mends it.
func (c *cable) sever(cut bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.cut == cut {
		return
	}
	c.cut = cut
	if cut {
		c.whole = make(chan struct{})
		return
	}
	close(c.whole)
	for conn := range c.conns {
		_ = conn.Close()
	}
}

func (c *cable) close() {
	_ = c.listener.Close()
	c.sever(false)
	c.mu.Lock()
	defer c.mu.Unlock()
	for conn := range c.conns {
		_ = conn.Close()
	}
	c.conns = nil
}

// dial connects through the cable.
func (c *cable) dial(ctx context.Context) (net.Conn, error) {
	return new(net.Dialer).DialContext(ctx, "tcp", c.address())
}
