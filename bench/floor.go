//go:build linux

package main

import (
	"encoding/json"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"

	"tovik.example/tovik/wire"
)

// beFloor runs a server that does the same as the service without any presence, in the usual way
// of the same libraries: /link holds WebSockets and parses frames, /relay sends each message to
// everybody, /blast writes to all links in a plain loop, and /count returns a constant.
func beFloor() error {
	app := fiber.New()
	app.Server().KeepHijackedConns = true
	var held, relayed conns
	app.Get("/link", held.upgrade(func([]byte) {}))
	app.Get("/relay", relayed.upgrade(func(data []byte) { relayed.write(data) }))
	app.Get("/blast", func(c fiber.Ctx) error {
		frame := []byte(strings.Repeat("x", 120))
		begun, written := time.Now(), 0
		for time.Since(begun) < time.Duration(fiber.Query[int](c, "ms"))*time.Millisecond {
			written += held.write(frame)
		}
		return c.JSON(float64(written) / time.Since(begun).Seconds())
	})
	app.Get("/count", func(c fiber.Ctx) error {
		return c.JSON(wire.Room{Room: room, Count: wire.Count{People: 1, Sessions: 1}})
	})
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Println(listener.Addr())
	return app.Listener(listener, fiber.ListenConfig{DisableStartupMessage: true})
}

// conns are open connections.
type conns struct {
	mu  sync.Mutex
	all map[*websocket.Conn]bool
}

func (c *conns) upgrade(receive func([]byte)) fiber.Handler {
	upgrader := websocket.FastHTTPUpgrader{
		CheckOrigin:     func(*fasthttp.RequestCtx) bool { return true },
		WriteBufferPool: &sync.Pool{},
	}
	return func(ctx fiber.Ctx) error {
		return upgrader.Upgrade(ctx.RequestCtx(), func(conn *websocket.Conn) {
			c.mu.Lock()
			if c.all == nil {
				c.all = map[*websocket.Conn]bool{}
			}
			c.all[conn] = true
			c.mu.Unlock()
			defer func() {
				c.mu.Lock()
				delete(c.all, conn)
				c.mu.Unlock()
				_ = conn.Close()
			}()
			for {
				_, data, err := conn.ReadMessage()
				if err != nil {
					return
				}
				var frame wire.Request
				_ = json.Unmarshal(data, &frame)
				receive(data)
			}
		})
	}
}

// write writes to all connections and returns their number.
func (c *conns) write(frame []byte) int {
	c.mu.Lock()
	defer c.mu.Unlock()
	for conn := range c.all {
		_ = conn.WriteMessage(websocket.TextMessage, frame)
	}
	return len(c.all)
}
