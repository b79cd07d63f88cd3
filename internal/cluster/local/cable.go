package local

import (
	"context"
	"net"
	"sync"
)

// Cable carries connections to an address, until it is cut: then what is written to it goes nowhere, and nobody
// is told, as on a network that loses everything. The connections of that time break when it is mended.
type Cable struct {
	listener net.Listener
	to       string

	mu    sync.Mutex
	cut   bool
	whole chan struct{} // closed while it is not cut
	conns map[net.Conn]struct{}
}

// NewCable lays a cable to an address.
func NewCable(to string) (*Cable, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	c := &Cable{listener: listener, to: to, whole: make(chan struct{}), conns: map[net.Conn]struct{}{}}
	close(c.whole)
	go c.serve()
	return c, nil
}

// Address returns the address of this end of the cable.
func (c *Cable) Address() string { return c.listener.Addr().String() }

func (c *Cable) serve() {
	for {
		conn, err := c.listener.Accept()
		if err != nil {
			return
		}
		go c.carry(conn)
	}
}

func (c *Cable) carry(from net.Conn) {
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
func (c *Cable) passes() bool {
	c.mu.Lock()
	cut, whole := c.cut, c.whole
	c.mu.Unlock()
	if cut {
		<-whole
	}
	return !cut
}

func (c *Cable) hold(conn net.Conn) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.conns == nil {
		_ = conn.Close()
		return false
	}
	c.conns[conn] = struct{}{}
	return true
}

func (c *Cable) drop(conn net.Conn) {
	_ = conn.Close()
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.conns, conn)
}

// Sever cuts the cable, or mends it.
func (c *Cable) Sever(cut bool) {
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

// Close ends the cable with all its connections.
func (c *Cable) Close() {
	_ = c.listener.Close()
	c.Sever(false)
	c.mu.Lock()
	defer c.mu.Unlock()
	for conn := range c.conns {
		_ = conn.Close()
	}
	c.conns = nil
}

// dial connects through the cable.
func (c *Cable) dial(ctx context.Context) (net.Conn, error) {
	return new(net.Dialer).DialContext(ctx, "tcp", c.Address())
}
