package gateway

import (
	"context"
	"log/slog"
	"net"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/valyala/fasthttp"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/transport"
	"tovik.example/tovik/wire"
)

// Options are what a Gateway is made of. All but Log and Limits is required.
type Options struct {
	Realms *Realms
	Links  *Links
	Keys   *access.Keyring
	Guard  *access.Guard
	Policy *presence.Policy // of all realms
	// AsksOthers says that an application is asked about admissions, or that key sets are
	// fetched: then frames may have to wait for that.
	AsksOthers bool
	Limits     Limits       // a zero field stands for its default
	Log        *slog.Logger // nil stands for none
}

// Gateway accepts links.
type Gateway struct {
	realms     *Realms
	links      *Links
	keys       *access.Keyring
	guard      *access.Guard
	policy     atomic.Pointer[presence.Policy]
	asksOthers bool
	limits     Limits
	log        *slog.Logger
	pool       *transport.Pool
	tickets    *tickets
	feeds      *feeds
	waiting    sync.WaitGroup // answers that wait for the records
}

// New returns a gateway. Run it, and Close it after its links have been drained.
func New(o Options) *Gateway {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	limits := o.Limits.withDefaults()
	o.Links.limits = limits
	g := &Gateway{
		realms: o.Realms, links: o.Links, keys: o.Keys, guard: o.Guard, asksOthers: o.AsksOthers, limits: limits, log: o.Log,
		pool:    transport.NewPool(runtime.GOMAXPROCS(0), limits.SlowAfter),
		tickets: newTickets(), feeds: newFeeds(),
	}
	g.policy.Store(o.Policy)
	return g
}

// SetPolicy puts another policy in force, which must not be changed after that.
func (g *Gateway) SetPolicy(policy *presence.Policy) { g.policy.Store(policy) }

// Run does what falls due for links without the core's help, until ctx is over.
func (g *Gateway) Run(ctx context.Context) {
	for {
		p := g.policy.Load()
		wait := min(sweepEvery, p.BeatEvery/4, p.Silence()/6)
		begun := time.Now()
		select {
		case <-ctx.Done():
			return
		case now := <-time.After(wait):
			g.sweep(now, now.Sub(begun)-wait)
		}
	}
}

// Close ends the gateway's workers. Its links have been drained before.
func (g *Gateway) Close() {
	g.waiting.Wait()
	g.feeds.close()
	g.pool.Close()
}

// Upgrade makes the request a WebSocket link, which lives on after it. Its error is
// a [*wire.Problem].
func (g *Gateway) Upgrade(ctx *fasthttp.RequestCtx, caller Caller) error {
	accept, err := handshake(ctx)
	if err != nil {
		return err
	}
	if err := g.links.mayOpen(caller.Address); err != nil {
		return err
	}
	ctx.SetStatusCode(fasthttp.StatusSwitchingProtocols)
	ctx.Response.Header.Set("Upgrade", "websocket")
	ctx.Response.Header.Set("Connection", "Upgrade")
	ctx.Response.Header.Set("Sec-WebSocket-Accept", accept)
	ctx.Hijack(func(c net.Conn) {
		l := &link{gateway: g, caller: caller}
		g.carry(l, c, transport.WebSocket(wire.MaxFrame))
	})
	return nil
}

// carry lets a link begin on a connection that was an HTTP request.
func (g *Gateway) carry(l *link, c net.Conn, codec transport.Codec) {
	conn, early := release(c)
	stream := transport.NewStream(g.pool, conn, codec, l)
	if l.feed != nil {
		stream.Preface(streamHead)
	}
	l.carrier.Store(stream)
	if err := g.links.add(l); err != nil { // others came during the handshake, or the service began to stop
		code, reason := transport.CloseTryAgainLater, ProblemOf(err).Code
		if reason == wire.CodeNotReady {
			code, reason = transport.CloseServiceRestart, restarts
		}
		transport.TurnAway(conn, codec, code, reason)
		l.letGo()
		g.links.forget(l)
		return
	}
	if l.talk.Load() == nil {
		l.stream().ExpectWithin(helloTimeout)
	}
	l.stream().Start(early)
	l.stream().Wake()
}

// streamHead answers the request of an event stream. It has no length: the stream ends
// with its connection. The last line keeps a proxy from gathering what is to be passed
// on at once.
var streamHead = []byte("HTTP/1.1 200 OK\r\nContent-Type: text/event-stream; charset=utf-8\r\nCache-Control: no-store\r\n" +
	"Connection: close\r\nAccess-Control-Allow-Origin: *\r\nX-Content-Type-Options: nosniff\r\nX-Accel-Buffering: no\r\n\r\n")

// release takes the connection out of the HTTP server's hands, with the bytes that
// have come already. A read that may not wait gives only what is buffered.
func release(c net.Conn) (net.Conn, []byte) {
	conn := c
	if h, ok := c.(interface{ UnsafeConn() net.Conn }); ok {
		conn = h.UnsafeConn()
	}
	_ = conn.SetReadDeadline(time.Unix(1, 0))
	buffer := handshakeBuffers.Get().(*[]byte)
	defer handshakeBuffers.Put(buffer)
	n, _ := c.Read(*buffer)
	_ = conn.SetReadDeadline(time.Time{})
	return conn, slices.Clone((*buffer)[:n])
}

// handshakeBuffers are as large as what the HTTP server reads ahead.
var handshakeBuffers = sync.Pool{New: func() any {
	buffer := make([]byte, 4<<10)
	return &buffer
}}

// Closed applies a page's closing note, which comes over HTTP. The answer does
// not tell a wrong key from a session that has ended.
func (g *Gateway) Closed(note wire.ClosingNote) (wire.ClosingAnswer, error) {
	return g.applyNote(presence.ClosingBeacon{Session: presence.SessionID(note.Session), Key: note.ResumeKey, Nonce: note.Nonce})
}

// applyNote gives a note to the realm whose session it is about. It does not say which,
// but proves itself to one alone.
func (g *Gateway) applyNote(note presence.Input) (wire.ClosingAnswer, error) {
	for _, realm := range g.realms.All() {
		if reply, err := realm.do(note); err != nil || !reply.Stale {
			return wire.ClosingAnswer{Applied: err == nil}, err
		}
	}
	return wire.ClosingAnswer{}, nil
}

// ReuseNothing is how the server under a gateway must treat the connections that
// become links: a pooled wrapper could be handed to another client while a
// writer still holds it.
func ReuseNothing(s *fasthttp.Server) { s.KeepHijackedConns = true }
