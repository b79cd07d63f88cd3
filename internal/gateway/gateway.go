package gateway

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"runtime"
	"sync"
	"time"

	"tovik.example/tovik/internal/cluster/peers"
	"tovik.example/tovik/internal/deflate"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/internal/transport"
	"tovik.example/tovik/wire"
)

// Options are the parts and settings of a Gateway. Realms is required.
type Options struct {
	Realms *realm.Realms
	Peers  *peers.Peers // the nodes of the cluster; nil: the service is alone
	Limits Limits       // zero fields mean the defaults
	Log    *slog.Logger // nil stands for none
}

// Gateway accepts links, and holds all links of the service. It is the [realm.Links] of every
// realm. All methods are safe for concurrent use.
type Gateway struct {
	*registry
	realms  *realm.Realms
	peers   *peers.Peers
	limits  Limits
	log     *slog.Logger
	pool    *transport.Pool
	tickets *tickets
	feeds   *feeds
	waiting sync.WaitGroup // answers that are not ready yet
}

// elsewhere is how many links a node of a cluster serves at once. It is more than there are processors, because the
// content of a list may have to wait for an answer of the realm's owner.
const elsewhere = 128

// New returns a gateway. Call Run, and after Drain call Close.
func New(o Options) *Gateway {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	limits := o.Limits.withDefaults()
	workers := runtime.GOMAXPROCS(0)
	if o.Peers != nil {
		workers = elsewhere
	}
	g := &Gateway{
		registry: newRegistry(limits), realms: o.Realms, peers: o.Peers, limits: limits, log: o.Log,
		pool:    transport.NewPool(workers, limits.SlowAfter),
		tickets: newTickets(), feeds: newFeeds(),
	}
	g.answerPeers()
	return g
}

// Run does what is due for links that the core does not know, until ctx ends.
func (g *Gateway) Run(ctx context.Context) {
	for {
		wait := min(sweepEvery, g.realms.Sweep())
		begun := time.Now()
		select {
		case <-ctx.Done():
			return
		case now := <-time.After(wait):
			g.sweep(now, now.Sub(begun)-wait)
		}
	}
}

// Close ends the gateway's workers. Call Drain first.
func (g *Gateway) Close() {
	g.waiting.Wait()
	g.feeds.close()
	g.pool.Close()
}

// MayOpen returns an error if an address may not open another WebSocket now. It is a [*wire.Problem]. If there is
// merely no place for it yet, WebSocket tells it when to come back: a browser cannot see the answer to a failed handshake.
func (g *Gateway) MayOpen(address string) error { return g.mayKnock(address) }

// WebSocket makes a connection a link, and returns at once. The handshake of RFC 6455 has been
// answered, and with deflates it has agreed on compressed messages; early is what the client has
// sent since.
func (g *Gateway) WebSocket(conn net.Conn, early []byte, deflates bool, caller realm.Caller) {
	s := &webSocket{link: link{gateway: g, caller: caller}}
	s.kind = s
	codec := transport.WebSocket(wire.MaxFrame, deflates)
	g.carry(&s.link, transport.NewStream(g.pool, conn, codec, s), early, func(f transport.Farewell) { g.turnAway(conn, codec, f) })
}

// carry starts a link on the connection of an HTTP request.
func (g *Gateway) carry(l *link, stream *transport.Stream, early []byte, turnAway func(transport.Farewell)) {
	end := l.connect(stream)
	if err := g.add(l); err != nil { // other links came first, or the service is stopping
		turnAway(g.farewell(err))
		l.letGo()
		g.forget(l)
		return
	}
	if l.talk.Load() == nil {
		stream.ExpectWithin(helloTimeout)
	}
	stream.Start(early)
	stream.Wake()
	if end != nil {
		stream.Finish(end.Code, end.Reason)
	}
}

// farewell says why a connection does not become a link, and when to come back.
func (g *Gateway) farewell(why error) transport.Farewell {
	f := transport.Farewell{Code: transport.CloseTryAgainLater, Reason: problem.Of(why).Code}
	switch f.Reason {
	case wire.CodeNotReady:
		f.Code, f.Reason = transport.CloseServiceRestart, restarts
	case wire.CodeBusy:
		f.Frames = []deflate.Text{deflate.Plain(wire.Encode(wire.Moving{Type: wire.TypeMoving, After: g.comeBack(time.Now()).Milliseconds()}))}
	}
	return f
}

func (g *Gateway) turnAway(conn net.Conn, codec transport.Codec, f transport.Farewell) {
	g.turning(1)
	g.waiting.Add(1)
	transport.TurnAway(g.pool, conn, codec, f, func() {
		g.turning(-1)
		g.waiting.Done()
	})
}

// whileAsking returns a context that ends with the connection, for requests that may have to
// wait for others.
func (g *Gateway) whileAsking(conn net.Conn) (context.Context, func()) {
	if !g.realms.AsksOthers(wire.TypeHello) {
		return context.Background(), func() {}
	}
	return transport.WhileOpen(conn)
}

// open gives the core the hello of an HTTP request, and withdraws it if the connection ends
// before the reply.
func (g *Gateway) open(ctx context.Context, conn net.Conn, c *realm.Greeting) (presence.Reply, error) {
	if err := ctx.Err(); err != nil {
		return presence.Reply{}, gone(err)
	}
	reply, wait, err := c.Begin()
	if wait == nil {
		return reply, err
	}
	if ctx.Done() == nil { // nothing watches the connection yet
		var done func()
		ctx, done = transport.WhileOpen(conn)
		defer done()
	}
	reply, err = wait(ctx)
	return reply, gone(err)
}

// sweepEvery is the longest time between two sweeps. A sweep that is late by more than late
// means that the machine was suspended and could not hear anybody.
const (
	sweepEvery = time.Second
	late       = time.Second
)

// sweep asks links without a session for beats and closes those that do not answer, as the core
// does for sessions. It lets event streams send signs of life, often enough that their clients
// notice a loss within the policy's silence.
func (g *Gateway) sweep(now time.Time, pause time.Duration) {
	g.tickets.expire(now)
	g.Recheck() // because keys expire
	g.eachLoose(func(l *link) {
		talk := l.talk.Load()
		if l.stream() == nil || talk == nil {
			return
		}
		p := talk.Guest().Realm().Policy()
		l.mu.Lock()
		if pause > late {
			l.heard += int64(pause)
			l.wanted += int64(pause)
		}
		quiet, waits := time.Duration(now.UnixNano()-l.heard), now.UnixNano()-l.wanted >= int64(l.kind.every(p))
		if waits {
			l.wanted = now.UnixNano()
		}
		l.mu.Unlock()
		l.kind.sweep(p, quiet, waits)
	})
}

// Recheck closes the links whose key, or the key of whose token, is no longer valid.
func (g *Gateway) Recheck() {
	g.closeIf(func(who *realm.Guest) bool { return !g.realms.InForce(who) }, wire.CloseExpired, wire.CodeBadKey)
}

// CloseRealm closes all links of a realm.
func (g *Gateway) CloseRealm(name string) {
	g.closeIf(func(who *realm.Guest) bool { return who.ID().Realm == name }, wire.CloseExpired, wire.CodeUnknownRealm)
}

// Removed implements [realm.Links].
func (g *Gateway) Removed(name string, user presence.UserID, room presence.RoomName, until time.Time) {
	theirs := func(who *realm.Guest) bool {
		return who.ID() == realm.PersonID{Realm: name, User: user} && who.Issued().UnixMilli() <= until.UnixMilli()
	}
	if room == "" {
		g.closeIf(theirs, wire.CloseEnded, presence.ReasonRemoved.String())
		g.feeds.endIf(theirs)
		return
	}
	g.orderIf(theirs, (*link).narrow)
	g.feeds.narrow(theirs)
}

// gone turns the end of a connection into a problem.
func gone(err error) error {
	if errors.Is(err, context.Canceled) {
		return &wire.Problem{Code: wire.CodeNotReady, Detail: "the connection has ended"}
	}
	return err
}
