package gateway

import (
	"context"
	"log/slog"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/valyala/fasthttp"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// Gateway accepts links.
type Gateway struct {
	engine   *engine.Engine
	hub      *delivery.Hub
	links    *Links
	tokens   *access.Tokens
	key      access.OperatorKey
	log      *slog.Logger
	upgrader websocket.FastHTTPUpgrader
}

// New returns a gateway to the engine, whose [engine.Links] must be links and
// whose sink must be hub.
func New(e *engine.Engine, hub *delivery.Hub, links *Links, tokens *access.Tokens, key access.OperatorKey, log *slog.Logger) *Gateway {
	return &Gateway{
		engine: e, hub: hub, links: links, tokens: tokens, key: key, log: log,
		upgrader: websocket.FastHTTPUpgrader{
			ReadBufferSize:  1024,
			WriteBufferSize: 4096,
			// Nothing in a handshake says who somebody is, no cookie and no header:
			// the hello does, with a token. So a page of any origin may ask.
			CheckOrigin: func(*fasthttp.RequestCtx) bool { return true },
		},
	}
}

// Upgrade makes the request a link, which lives on after it. Its error is a
// [*wire.Problem].
func (g *Gateway) Upgrade(ctx *fasthttp.RequestCtx) error {
	if !websocket.FastHTTPIsWebSocketUpgrade(ctx) {
		return &wire.Problem{Code: wire.CodeNotWebSocket, Detail: "this is not a WebSocket handshake",
			Allowed: "GET with Connection: Upgrade and Upgrade: websocket"}
	}
	if g.links.Draining() {
		return &wire.Problem{Code: wire.CodeNotReady, Detail: "the service is stopping"}
	}
	return g.upgrader.Upgrade(ctx, g.carry)
}

// carry serves a link until it ends, and lets the core know that it did.
func (g *Gateway) carry(conn *websocket.Conn) {
	l := &link{gateway: g, conn: conn, wake: make(chan struct{}, 1)}
	if !g.links.add(l) { // the service began to stop during the handshake
		l.sayGoodbye(&goodbye{websocket.CloseServiceRestart, "the service restarts"})
		_ = conn.Close()
		return
	}
	l.serve()
	if l.receiver != nil {
		l.receiver.Close()
	}
	if l.carries != (presence.LinkID{}) {
		_, _ = g.do(presence.LinkLost{Link: l.carries}) // never refused
	}
	g.links.remove(l)
}

// operatorSilence is how long a link without a session may bring nothing.
func (g *Gateway) operatorSilence() time.Duration {
	p := g.engine.Policy()
	return p.BeatEvery + p.Silence()
}

// do tells the engine. A link that is gone does not take back what it asked for,
// so there is no context to be over.
func (g *Gateway) do(in presence.Input) (presence.Reply, error) {
	return g.engine.Do(context.Background(), in)
}

// Closed applies a page's closing note, which comes over HTTP. The answer does
// not tell a wrong key from a session that has ended.
func (g *Gateway) Closed(note wire.ClosingNote) (wire.ClosingAnswer, error) {
	reply, err := g.do(presence.ClosingBeacon{
		Session: presence.SessionID(note.Session), Key: note.Key, Nonce: note.Nonce,
	})
	return wire.ClosingAnswer{Applied: err == nil && !reply.Stale}, err
}

// ReuseNothing is how the server under a gateway must treat the connections that
// become links: a pooled wrapper could be handed to another client while a
// writer still holds it.
func ReuseNothing(s *fasthttp.Server) { s.KeepHijackedConns = true }
