package server

import (
	"net"
	"sync"

	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"
)

// unasked tracks the connections without a complete request: new ones, those whose
// request is half there, and those kept for the next. A stop closes them at once, for
// nobody waits for anything over them. The zero value is ready.
type unasked struct {
	mu       sync.Mutex
	open     map[net.Conn]bool // whether a request of it is being answered
	stopping bool
}

// watch follows the connections of a server and the requests of an app. Call it before
// anything else of the app is set up.
func (u *unasked) watch(app *fiber.App) {
	u.open = map[net.Conn]bool{}
	app.Server().ConnState = u.changed
	app.Use(func(c fiber.Ctx) error {
		u.asked(c.RequestCtx().Conn())
		return c.Next()
	})
}

func (u *unasked) changed(conn net.Conn, state fasthttp.ConnState) {
	u.mu.Lock()
	defer u.mu.Unlock()
	switch state {
	case fasthttp.StateHijacked, fasthttp.StateClosed:
		delete(u.open, conn)
	case fasthttp.StateNew, fasthttp.StateIdle:
		u.open[conn] = false
		if u.stopping {
			_ = conn.Close()
		}
	}
}

// asked notes that a whole request has come. It is answered when the connection is idle
// again, or closed.
func (u *unasked) asked(conn net.Conn) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if _, open := u.open[conn]; open {
		u.open[conn] = true
	}
}

// close closes those connections, and from now on each that comes to be one.
func (u *unasked) close() {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.stopping = true
	for conn, answering := range u.open {
		if !answering {
			_ = conn.Close()
		}
	}
}
