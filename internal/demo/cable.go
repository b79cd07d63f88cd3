package demo

import (
	"context"
	"net"
	"sync"
	"time"
)

// cable is the network of one tab. It can be pulled, and the machine can sleep: then the
// connection stays up, and nothing is read or written.
type cable struct {
	net.Conn
	awake sync.RWMutex // held for writing while asleep
}

// cables makes the connections of a tab, and keeps the newest.
type cables struct {
	mu     sync.Mutex
	newest *cable
}

func (c *cables) dial(ctx context.Context, network, address string) (net.Conn, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.newest = &cable{Conn: conn}
	return c.newest, nil
}

// pull closes the newest connection without notice.
func (c *cables) pull() {
	c.mu.Lock()
	defer c.mu.Unlock()
	_ = c.newest.Close()
}

// sleep suspends the machine until ctx ends or the time has passed.
func (c *cables) sleep(ctx context.Context, d time.Duration) {
	c.mu.Lock()
	cable := c.newest
	c.mu.Unlock()
	cable.awake.Lock()
	defer cable.awake.Unlock()
	pause(ctx, d)
}

// Read returns nothing while the machine sleeps, even if data has arrived.
func (c *cable) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.awake.RLock()
	defer c.awake.RUnlock()
	return n, err
}

func (c *cable) Write(p []byte) (int, error) {
	c.awake.RLock()
	defer c.awake.RUnlock()
	return c.Conn.Write(p)
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
