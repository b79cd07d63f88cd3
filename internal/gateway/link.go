package gateway

import (
	"context"
	"errors"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"tovik.example/tovik/internal/deflate"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/internal/transport"
	"tovik.example/tovik/wire"
)

// link is what all kinds of links have in common: a connection, a conversation and an outbox.
// An event stream has a new link for each of its connections.
type link struct {
	gateway *Gateway
	kind    kind
	carrier atomic.Pointer[transport.Stream] // nil until the event stream has a connection
	caller  realm.Caller
	talk    atomic.Pointer[realm.Conversation] // nil before hello

	carries presence.LinkID // zero without a session; set before talk

	mu      sync.Mutex
	outbox  []outgoing
	heard   int64        // Unix nanoseconds; of a link without a session: the last sign of life
	wanted  int64        // the same: the last request for one
	pending *pending     // while requests are under way that may take long; nil without one
	ending  *realm.End   // why to end an event stream, before it has a connection
	hello   *reservation // nil before its guest is known and after it is published; guarded by the registry's lock

	// The flags are together, for there may be a million links.
	ended      bool // guarded by mu
	counted    bool // among the links of its guest's person; guarded by the registry's lock
	introduced bool // it has said hello; guarded by the registry's lock
	asked      bool // a beat request is being written; used by the writer only
}

// pending is the context of the requests that are under way. They share it because they end in any order.
type pending struct {
	context.Context
	end      context.CancelFunc
	requests int
}

// kind is how kinds of links differ.
type kind interface {
	transport.Handler
	isStream() bool
	// released decides what happens to the conversation when the connection has ended.
	released(*realm.Conversation)
	// every is the interval of sweep for links that the core does not know. sweep gets the time
	// since the last sign of life, and whether the interval has passed.
	every(*presence.Policy) time.Duration
	sweep(p *presence.Policy, quiet time.Duration, waits bool)
}

// outgoing is a frame to write, with functions to call right before and right after it: what a
// link follows starts after the answer that says so, and stops before it.
type outgoing struct {
	frame         []byte
	before, after func()
	beat          bool // the frame asks the session for a beat
}

// guest returns the user of the link; nil before the hello.
func (l *link) guest() *realm.Guest {
	if talk := l.talk.Load(); talk != nil {
		return talk.Guest()
	}
	return nil
}

// by identifies the link for its requests.
func (l *link) by() realm.By { return realm.By{Link: l.carries, Caller: l.caller} }

// during returns a context for a request that may take long. It is canceled when the connection ends, or after done.
func (l *link) during() (ctx context.Context, done func()) {
	l.mu.Lock()
	defer l.mu.Unlock()
	is := l.pending
	if is == nil {
		is = &pending{}
		is.Context, is.end = context.WithCancel(context.Background())
		l.pending = is
	}
	if l.ended {
		is.end()
	}
	is.requests++
	return is.Context, func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		if is.requests--; is.requests == 0 {
			is.end()
			l.pending = nil
		}
	}
}

// fetchOutbox appends the content of the outbox. It returns a nil conversation if nothing more is
// to be delivered.
func (l *link) fetchOutbox(frames []deflate.Text) ([]deflate.Text, *realm.Conversation) {
	l.mu.Lock()
	outbox, talk := l.outbox, l.talk.Load() // together, as begin sets them: the answer to the hello comes first
	l.outbox = nil
	l.mu.Unlock()
	for _, out := range outbox {
		if out.before != nil {
			out.before()
		}
		frames = append(frames, deflate.Plain(out.frame))
		l.asked = l.asked || out.beat
		if out.after != nil {
			out.after()
		}
	}
	if talk == nil || l.stream().Finishing() {
		return frames, nil
	}
	return frames, talk
}

// Wrote implements [transport.Handler]. Silence is counted from the time when the beat request
// was written.
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

// letGo stops what the link follows, and tells the core that the link has ended.
func (l *link) letGo() {
	l.mu.Lock()
	l.ended = true
	if l.pending != nil {
		l.pending.end()
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

// greet publishes the complete conversation. The answer to the hello is the first frame.
func (l *link) greet(talk *realm.Conversation, reply presence.Reply, answer []byte) {
	if ended := l.begin(talk, reply.Link, answer); ended { // the connection has ended since
		l.gateway.forget(l)
		if !l.kind.isStream() {
			talk.Close()
		}
		l.lose(talk)
		return
	}
	l.gateway.publish(l)
	l.wake()
}

// begin sets the conversation and its first frame together. It returns true if the link has ended
// meanwhile.
func (l *link) begin(talk *realm.Conversation, carries presence.LinkID, answer []byte) (ended bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.carries = carries // zero without a session
	l.outbox = append(l.outbox, outgoing{frame: answer})
	l.heard = time.Now().UnixNano()
	l.wanted = l.heard
	l.talk.Store(talk)
	return l.ended
}

// takenOut stops following a room that the session is no longer in, and tells the client.
func (l *link) takenOut(room presence.RoomName, reason presence.Reason) {
	if talk := l.talk.Load(); talk != nil {
		l.tellDropped([]wire.Drop{talk.TakenOut(room, reason)})
	}
}

// narrow ends the watches that the guest is no longer allowed, and tells the client.
func (l *link) narrow() { l.tellDropped(l.talk.Load().Narrow()) }

func (l *link) tellDropped(list []wire.Drop) {
	for _, d := range list {
		l.send(outgoing{frame: dropFrame(d)})
	}
}

func dropFrame(d wire.Drop) []byte {
	return wire.Encode(wire.DropFrame{Type: wire.TypeDropped, Drop: d})
}

// stream returns the connection; nil until an event stream has one.
func (l *link) stream() *transport.Stream { return l.carrier.Load() }

func (l *link) wake() {
	if s := l.stream(); s != nil {
		s.Wake()
	}
}

// send puts a frame into the outbox. A link whose client does not read its answers is closed.
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

// offer sends a frame that may be dropped, and reports whether it was accepted.
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
	l.mu.Lock()
	s := l.stream()
	if s == nil {
		l.ending = &realm.End{Code: code, Reason: reason}
	}
	l.mu.Unlock()
	if s != nil {
		s.Finish(code, reason)
	}
}

// connect sets the connection of the link. It returns the reason to end it at once, or nil.
func (l *link) connect(stream *transport.Stream) (end *realm.End) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.carrier.Store(stream)
	return l.ending
}

// hear notes a sign of life of a link without a session. With a session, the core does that.
func (l *link) hear() {
	if l.carries == (presence.LinkID{}) {
		l.mu.Lock()
		l.heard = time.Now().UnixNano()
		l.mu.Unlock()
	}
}

// conclude does what remains after the answer to a request was queued.
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
