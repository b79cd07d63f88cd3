package server

import (
	"crypto/tls"
	"net"
	"sync"
	"sync/atomic"

	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"
)

// unasked tracks the connections without a complete request: new ones, those with half a
// request, and those kept for the next request. A stop closes them at once, because nobody waits
// for an answer on them. The zero value is ready.
//
// Each connection knows whether a request on it is being answered, so that requests share no
// lock.
type unasked struct {
	stopping atomic.Bool

	mu   sync.Mutex
	open map[*countedConn]net.Conn // to what closes it: itself, or TLS over it
}

// watch follows the connections of a server and the requests of an app. Call it before anything
// else of the app is set up.
func (u *unasked) watch(app *fiber.App) {
	u.open = map[*countedConn]net.Conn{}
	app.Server().ConnState = u.changed
	app.Use(func(c fiber.Ctx) error {
		if counted := countedOf(c.RequestCtx().Conn()); counted != nil {
			counted.answering.Store(true) // until it is idle or closed
		}
		return c.Next()
	})
}

func countedOf(conn net.Conn) *countedConn {
	if secure, ok := conn.(*tls.Conn); ok {
		conn = secure.NetConn()
	}
	counted, _ := conn.(*countedConn)
	return counted
}

func (u *unasked) changed(conn net.Conn, state fasthttp.ConnState) {
	counted := countedOf(conn)
	if counted == nil {
		return
	}
	switch state {
	case fasthttp.StateNew:
		u.mu.Lock()
		u.open[counted] = conn
		u.mu.Unlock()
	case fasthttp.StateIdle:
		counted.answering.Store(false)
		counted.begun.Store(false)
	case fasthttp.StateHijacked, fasthttp.StateClosed:
		u.mu.Lock()
		delete(u.open, counted)
		u.mu.Unlock()
		return
	default:
		return
	}
	if u.stopping.Load() { // close has not seen it as it is now
		_ = conn.Close()
	}
}

// close closes these connections, and from now on every connection that becomes one.
func (u *unasked) close() {
	u.stopping.Store(true)
	u.mu.Lock()
	defer u.mu.Unlock()
	for counted, conn := range u.open {
		if !counted.answering.Load() {
			_ = conn.Close()
		}
	}
}
