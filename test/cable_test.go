package test

import (
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// cable is a network connection between a browser and the service. When it is cut, every
// connection breaks, as when a laptop changes its network.
type cable struct {
	listener net.Listener
	target   string

	mu    sync.Mutex
	conns map[net.Conn]bool
}

func layCable(t *testing.T, service string) *cable {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	c := &cable{listener: listener, target: strings.TrimPrefix(service, "http://"), conns: map[net.Conn]bool{}}
	go c.carry(listener)
	t.Cleanup(func() {
		_ = c.listener.Close()
		c.cut()
	})
	return c
}

func (c *cable) url() string { return "http://" + c.listener.Addr().String() }

// fail breaks every connection, and accepts none for a time.
func (c *cable) fail(t *testing.T, length time.Duration) {
	t.Helper()
	address := c.listener.Addr().String()
	c.pull()
	time.Sleep(length)
	require.Eventually(t, func() bool {
		listener, err := net.Listen("tcp", address)
		if err == nil {
			c.listener = listener
			go c.carry(listener)
		}
		return err == nil
	}, patience, 10*time.Millisecond)
}

func (c *cable) carry(listener net.Listener) {
	for {
		near, err := listener.Accept()
		if err != nil {
			return
		}
		far, err := net.Dial("tcp", c.target)
		if err != nil {
			_ = near.Close()
			continue
		}
		c.mu.Lock()
		c.conns[near], c.conns[far] = true, true
		c.mu.Unlock()
		for _, way := range [][2]net.Conn{{near, far}, {far, near}} {
			go func() {
				_, _ = io.Copy(way[0], way[1])
				c.drop(near)
				c.drop(far)
			}()
		}
	}
}

func (c *cable) drop(conn net.Conn) {
	c.mu.Lock()
	defer c.mu.Unlock()
	_ = conn.Close()
	delete(c.conns, conn)
}

// pull cuts the cable for good.
func (c *cable) pull() {
	_ = c.listener.Close()
	c.cut()
}

func (c *cable) cut() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for conn := range c.conns {
		_ = conn.Close()
	}
}
