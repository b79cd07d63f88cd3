package gateway

import (
	"context"
	"errors"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/internal/transport"
	"tovik.example/tovik/wire"
)

// link is what every kind of link has: a connection, a conversation, and an outbox. An
// event stream has a link for each of its connections.
type link struct {
	gateway *Gateway
	kind    kind
	carrier atomic.Pointer[transport.Stream] // nil until an event stream has its connection
	caller  realm.Caller
	talk    atomic.Pointer[realm.Conversation] // nil before hello

	// Set before talk.
	carries presence.LinkID // zero without a session
	key     string          // the session's resume key

	asked bool // a beat request is among what is being written; of the writing side, one at a time

	mu     sync.Mutex
	outbox []outgoing
	heard  int64 // Unix nanoseconds; without a session: the last sign of life
	wanted int64 // the same: when it was last asked for one
	ended  bool
	cancel context.CancelFunc // of what may take long; nil when nothing does

	// Guarded by the registry's lock.
	counted    realm.PersonID // the person whose link it counts as; zero: none
	introduced bool           // it has said hello
}

// kind is what differs between kinds of links.
type kind interface {
	transport.Handler
	isStream() bool
	// released decides what becomes of the conversation when the connection is gone.
	released(*realm.Conversation)
	// every is how often a link that the core does not see to is looked at, and sweep looks
	// at it: it has been quiet for so long, and waits says that it is its turn.
	every(*presence.Policy) time.Duration
	sweep(p *presence.Policy, quiet time.Duration, waits bool)
}

// outgoing is a frame to write, with what is to be done right before and right
// after. So whatever a link follows starts after the answer that says so, and
// stops before it.
type outgoing struct {
	frame         []byte
	before, after func()
	beat          bool // it asks the session for a beat
}

// guest is who the link speaks for, nil before hello.
func (l *link) guest() *realm.Guest {
	if talk := l.talk.Load(); talk != nil {
		return talk.Guest()
	}
	return nil
}

// by says over which link a request came.
func (l *link) by() realm.By { return realm.By{Link: l.carries, Caller: l.caller} }

// during is over when the connection is.
func (l *link) during() (ctx context.Context, done func()) {
	ctx, cancel := context.WithCancel(context.Background())
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.ended {
		cancel()
	}
	before := l.cancel
	l.cancel = cancel
	return ctx, func() {
		cancel()
		l.mu.Lock()
		defer l.mu.Unlock()
		l.cancel = before
	}
}

// fetchOutbox appends what is in the outbox. The conversation is nil when nothing more is
// to be delivered.
func (l *link) fetchOutbox(frames [][]byte) ([][]byte, *realm.Conversation) {
	l.mu.Lock()
	outbox := l.outbox
	l.outbox = nil
	l.mu.Unlock()
	for _, out := range outbox {
		if out.before != nil {
			out.before()
		}
		frames = append(frames, out.frame)
		l.asked = l.asked || out.beat
		if out.after != nil {
			out.after()
		}
	}
	talk := l.talk.Load()
	if talk == nil || l.stream().Finishing() {
		return frames, nil
	}
	return frames, talk
}

// Wrote implements [transport.Handler]. Silence counts from a request that was
// really written.
func (l *link) Wrote() {
	if l.asked {
		l.asked = false
		l.guest().Realm().Apply(presence.BeatWritten{To: l.carries})
	}
}

// Ended implements [transport.Handler].
func (l *link) Ended(err error) {
	g := l.gateway
	if transport.IsTimeout(err) && !l.stream().Finishing() {
		g.tooSlow()
		g.log.Info("a link did not read and was closed", "session", l.carries.Session, "address", l.caller.Address,
			"after", g.limits.SlowAfter)
	} else if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, net.ErrClosed) {
		g.log.Debug("a link broke", "session", l.carries.Session, "error", err)
	}
	l.letGo()
	g.remove(l)
}

// letGo ends what the link follows, and lets the core know that it is gone.
func (l *link) letGo() {
	l.mu.Lock()
	l.ended = true
	if l.cancel != nil {
		l.cancel()
	}
	talk := l.talk.Load()
	l.mu.Unlock()
	if talk == nil {
		return
	}
	l.kind.released(talk)
	l.lose(talk)
}

func (l *link) lose(talk *realm.Conversation) {
	if l.carries != (presence.LinkID{}) {
		talk.Guest().Realm().Apply(presence.LinkLost{Link: l.carries})
	}
}

// greet publishes the conversation, complete, and then makes sure that nothing was missed
// of what happened before it could be found. The answer to hello comes before all that is
// delivered.
func (l *link) greet(talk *realm.Conversation, reply presence.Reply, answer []byte) {
	l.mu.Lock()
	l.carries, l.key = reply.Link, reply.Key // zero without a session
	l.outbox = append(l.outbox, outgoing{frame: answer})
	l.heard = time.Now().UnixNano()
	l.wanted = l.heard
	l.talk.Store(talk)
	ended := l.ended
	l.mu.Unlock()
	if ended { // the connection closed meanwhile
		l.gateway.forget(l)
		if !l.kind.isStream() {
			talk.Close()
		}
		l.lose(talk)
		return
	}
	l.gateway.publish(l)
	dropped, end := talk.CatchUp(l.carries, reply.Rooms)
	if end != nil {
		l.finish(end.Code, end.Reason)
	}
	l.tellDropped(dropped)
	l.wake()
}

// takenOut ends the following of a room that the session is not in any more, and says so.
func (l *link) takenOut(room presence.RoomName, reason presence.Reason) {
	if talk := l.talk.Load(); talk != nil {
		l.tellDropped([]wire.Drop{talk.TakenOut(room, reason)})
	}
}

// narrow ends the watching of what the guest may not watch any more, and says so.
func (l *link) narrow() { l.tellDropped(l.talk.Load().Narrow()) }

func (l *link) tellDropped(list []wire.Drop) {
	for _, d := range list {
		l.send(outgoing{frame: dropFrame(d)})
	}
}

func dropFrame(d wire.Drop) []byte {
	return wire.Encode(wire.DropFrame{Type: wire.TypeDropped, Drop: d})
}

// stream is the connection, nil as long as that of an event stream is not there.
func (l *link) stream() *transport.Stream { return l.carrier.Load() }

func (l *link) wake() {
	if s := l.stream(); s != nil {
		s.Wake()
	}
}

// send puts a frame into the outbox. A client that asks and does not read the
// answers is closed.
func (l *link) send(out outgoing) {
	l.mu.Lock()
	full := len(l.outbox) >= maxOutbox
	if !full && !l.ended {
		l.outbox = append(l.outbox, out)
	}
	l.mu.Unlock()
	if full {
		l.finish(wire.CloseSlow, "slow")
		return
	}
	l.wake()
}

// offer sends a frame that may be lost, and tells whether it was taken.
func (l *link) offer(frame []byte) bool {
	l.mu.Lock()
	taken := len(l.outbox) < maxUnreadCues && !l.ended
	if taken {
		l.outbox = append(l.outbox, outgoing{frame: frame})
	}
	l.mu.Unlock()
	if taken {
		l.wake()
	} else {
		l.gateway.cuesDropped.Add(1)
	}
	return taken
}

func (l *link) finish(code int, reason string) {
	if s := l.stream(); s != nil {
		s.Finish(code, reason)
	}
}

// hear notes a sign of life of a link without a session; those with one tell the core.
func (l *link) hear() {
	if l.carries == (presence.LinkID{}) {
		l.mu.Lock()
		l.heard = time.Now().UnixNano()
		l.mu.Unlock()
	}
}

// conclude does what is to be done once a request has been answered.
func (l *link) conclude(done realm.Done) {
	if done.Narrow {
		l.narrow()
	}
	if done.Then != nil {
		done.Then()
	}
	if done.End != nil {
		l.finish(done.End.Code, done.End.Reason)
	}
}

func (g *Gateway) errorFrame(id wire.ID, err error) []byte {
	p := problem.Of(err)
	if p.Code == wire.CodeInternal {
		g.log.Error("request failed", "error", err)
	}
	return wire.Encode(wire.ErrorFrame{Type: wire.TypeError, Re: id, Problem: *p, Help: wire.HelpPath(p.Code)})
}

var beatFrame = wire.Encode(wire.Beat{Type: wire.TypeBeat})

func closeFor(cut presence.Cut) int {
	if cut.Ended {
		return wire.CloseEnded
	}
	switch cut.Reason {
	case presence.ReasonReplaced:
		return wire.CloseReplaced
	case presence.ReasonSilent:
		return wire.CloseSilent
	case presence.ReasonClosing:
		return wire.CloseClosing
	case presence.ReasonExpired:
		return wire.CloseExpired
	}
	return transport.CloseGoingAway
}
