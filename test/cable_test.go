package test

import (
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/test/chrome"
	"tovik.example/tovik/wire"
)

// cable lies between a browser and the service, and can be cut: every connection over
// it breaks, as when a laptop changes its network.
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
	go c.carry()
	t.Cleanup(func() {
		_ = listener.Close()
		c.cut()
	})
	return c
}

func (c *cable) url() string { return "http://" + c.listener.Addr().String() }

func (c *cable) carry() {
	for {
		near, err := c.listener.Accept()
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

func (c *cable) cut() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for conn := range c.conns {
		_ = conn.Close()
	}
}

// TestReloadsAndCutsOfAPageAreSeenByNobody reloads the page of the guide, and cuts its
// cable, again and again. A third party is told that the person came, and no more.
func TestReloadsAndCutsOfAPageAreSeenByNobody(t *testing.T) {
	s := startService(t)
	network := layCable(t, s.URL())
	events := make(chan client.Event, 1000)
	third, err := client.Dial(t.Context(), client.Options{Server: s.URL(), Key: key, Watch: []wire.Watch{{Room: weir}},
		OnEvent: func(e client.Event) { events <- e }})
	require.NoError(t, err)
	defer third.Close()

	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	page := open(t, browser, application(t, network.url()).URL, "/")
	here := shown("tovik-count") + ` === "1 person"`
	page.until(here)
	for i := range 60 {
		page.do(chromedp.Reload())
		if i%2 == 0 { // else it is reloaded again before it has said hello
			page.until(here)
		}
	}
	page.until(here)
	for range 20 {
		network.cut()
		time.Sleep(50 * time.Millisecond)
		page.until(here)
	}
	count, err := client.API{Server: s.URL(), Key: key}.Count(t.Context(), weir)
	require.NoError(t, err)
	require.Equal(t, wire.Tally{People: 1, Sessions: 1}, count.Online, "one session all the time")
	joined := 0
	for {
		select {
		case e := <-events:
			joined += len(e.Joined)
			require.Empty(t, e.Left, "somebody was seen to leave")
			continue
		default:
		}
		break
	}
	require.Equal(t, 1, joined)
}
