package gateway

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/transport"
	"tovik.example/tovik/wire"
)

// link is one connection of a client, or for an event stream the present one. It is
// the handler of its stream.
type link struct {
	gateway *Gateway
	carrier atomic.Pointer[transport.Stream] // nil until an event stream has its connection
	feed    *feed                            // of an event stream; nil for a WebSocket
	caller  Caller
	talk    atomic.Pointer[conversation] // nil before hello

	// Set before talk.
	carries presence.LinkID // zero without a session
	key     string          // of the session

	// Of the receiving side, one at a time.
	frames pace
	excess pace
	cues   pace
	told   pace  // when last told that it sends too much
	post   *post // the request that is carried out, of an event stream; else nil
	beside bool  // frames are handled beside the receiving: they may take long

	// Of the writing side, one at a time.
	asked bool // a beat request is among what is being written

	mu     sync.Mutex
	outbox []outgoing
	heard  int64 // Unix nanoseconds; without a session: the last sign of life
	wanted int64 // the same: when it was last asked for one
	ended  bool
	waits  bool               // a frame is being handled beside the receiving
	early  [][]byte           // frames that came meanwhile, at most maxEarly
	cancel context.CancelFunc // of what may take long; nil when nothing does

	// Guarded by the registry's lock.
	counted    personID // the person whose link it counts as; zero: none
	introduced bool     // it has said hello
}

// guest is who the link speaks for, nil before hello.
func (l *link) guest() *guest {
	if talk := l.talk.Load(); talk != nil {
		return talk.guest.Load()
	}
	return nil
}

func (l *link) realm() *Realm { return l.guest().realm }

// outgoing is a frame to write, with what is to be done right before and right
// after. So whatever a link follows starts after the answer that says so, and
// stops before it.
type outgoing struct {
	frame         []byte
	before, after func()
	beat          bool // it asks the session for a beat
}

// Receive implements [transport.Handler].
func (l *link) Receive(data []byte, text bool) {
	if !l.mayReceive() {
		return
	}
	if !text {
		l.refuse(nil, &wire.Problem{Code: wire.CodeNotJSON, Detail: "the frame is binary", Allowed: "text frames, each one JSON object"})
		return
	}
	if !l.hold(data) {
		l.receive(data)
	}
}

// later does what may take long, beside the receiving of frames: so the end of the
// connection is noticed meanwhile. Frames that come wait for it, in order.
func (l *link) later(do func()) {
	if l.post != nil || l.beside {
		do()
		return
	}
	l.mu.Lock()
	l.waits = true
	l.mu.Unlock()
	l.beside = true
	l.gateway.waiting.Go(func() {
		do()
		for {
			l.mu.Lock()
			if len(l.early) == 0 {
				l.waits, l.early, l.beside = false, nil, false
				l.mu.Unlock()
				return
			}
			next := l.early[0]
			l.early = l.early[1:]
			l.mu.Unlock()
			l.receive(next)
		}
	})
}

// hold keeps a frame while another is handled beside the receiving.
func (l *link) hold(data []byte) bool {
	l.mu.Lock()
	waits, full := l.waits, len(l.early) >= maxEarly
	if waits && !full {
		l.early = append(l.early, bytes.Clone(data))
	}
	l.mu.Unlock()
	if waits && full {
		l.finish(wire.CloseTooFast, wire.CodeTooFast)
	}
	return waits
}

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

// MayWait implements [transport.Handler]: a hello is much work, that must not hold up the
// frames of others.
func (l *link) MayWait() bool { return l.talk.Load() == nil }

// Control implements [transport.Handler].
func (l *link) Control() { l.mayReceive() }

// mayReceive keeps a client to its frame rate. What is too much is refused, with a
// word about it each second; a client that does not mind is closed.
func (l *link) mayReceive() bool {
	now := time.Now()
	if l.frames.take(now, frameRate) {
		return true
	}
	if !l.excess.take(now, excessRate) {
		l.stream().Finish(wire.CloseTooFast, wire.CodeTooFast)
		return false
	}
	if l.told.take(now, tellRate) {
		l.fail(nil, tooFast("frames", frameRate), 0)
	}
	return false
}

func tooFast(what string, r rate) *wire.Problem {
	return &wire.Problem{Code: wire.CodeTooFast, Detail: "too many " + what + " came in a short time; this one was not carried out",
		Allowed: rateText(what, r)}
}

// Broken implements [transport.Handler].
func (l *link) Broken(code int, reason string) {
	if code == transport.CloseTooLarge {
		l.fail(nil, &wire.Problem{Code: wire.CodeTooLarge, Detail: "the frame is too large", Allowed: "frames of at most 16384 bytes"}, code)
		return
	}
	l.stream().Finish(code, reason)
}

// Overdue implements [transport.Handler].
func (l *link) Overdue() {
	l.refuse(nil, &wire.Problem{Code: wire.CodeHelloTimeout, Detail: "no valid hello came in time", Allowed: "a hello within 5 seconds"})
}

// Fetch implements [transport.Handler].
func (l *link) Fetch(frames [][]byte) ([][]byte, bool) {
	if l.feed != nil {
		return l.feed.fetch(l, frames)
	}
	frames, receiver := l.fetchOutbox(frames)
	if receiver == nil {
		return frames, false
	}
	return receiver.Next(frames)
}

// fetchOutbox appends what is in the outbox. The receiver is nil when nothing more
// is to be delivered.
func (l *link) fetchOutbox(frames [][]byte) ([][]byte, *delivery.Receiver) {
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
	return frames, talk.receiver
}

// Wrote implements [transport.Handler]. Silence counts from a request that was
// really written.
func (l *link) Wrote() {
	if l.asked {
		l.asked = false
		_, _ = l.realm().do(presence.BeatWritten{To: l.carries}) // never refused
	}
}

// Ended implements [transport.Handler].
func (l *link) Ended(err error) {
	if transport.IsTimeout(err) && !l.stream().Finishing() {
		l.gateway.links.tooSlow()
		l.gateway.log.Info("a link did not read and was closed", "session", l.carries.Session, "address", l.caller.Address,
			"after", l.gateway.limits.SlowAfter)
	} else if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, net.ErrClosed) {
		l.gateway.log.Debug("a link broke", "session", l.carries.Session, "error", err)
	}
	l.letGo()
	l.gateway.links.remove(l)
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
	if l.feed != nil {
		l.gateway.feeds.detach(l.feed, l)
	} else {
		talk.receiver.Close()
	}
	l.lose()
}

func (l *link) lose() {
	if l.carries != (presence.LinkID{}) {
		_, _ = l.realm().do(presence.LinkLost{Link: l.carries}) // never refused
	}
}

// greet publishes the conversation, complete, and then makes sure that nothing was missed
// of what happened before it could be found. The answer to hello comes before all that is
// delivered.
func (l *link) greet(talk *conversation, c *greeting, reply presence.Reply, answer []byte) {
	l.mu.Lock()
	if c.session {
		l.carries, l.key = reply.Link, reply.Key
	}
	l.outbox = append(l.outbox, outgoing{frame: answer})
	l.heard = time.Now().UnixNano()
	l.wanted = l.heard
	l.talk.Store(talk)
	ended := l.ended
	l.mu.Unlock()
	if ended { // the connection closed meanwhile
		l.gateway.links.forget(l)
		if l.feed == nil {
			talk.receiver.Close()
		}
		l.lose()
		return
	}
	l.gateway.links.publish(l)
	l.catchUp(reply.Rooms)
	l.wake()
}

// catchUp makes up for what could not be told while the link could not be found yet: that
// another link has taken its session over, that a key was revoked, that the person was
// removed.
func (l *link) catchUp(rooms []presence.RoomName) {
	who := l.guest()
	if l.gateway.stillLetIn(who) != nil {
		l.finish(wire.CloseExpired, wire.CodeBadKey)
		return
	}
	if l.carries == (presence.LinkID{}) {
		if who.notRemoved() != nil {
			l.finish(wire.CloseEnded, presence.ReasonRemoved.String())
			return
		}
	} else {
		now, err := who.realm.Engine.Over(l.carries)
		if err != nil {
			l.finish(wire.CloseReplaced, presence.ReasonReplaced.String())
			return
		}
		for _, room := range rooms {
			if !slices.Contains(now, room) {
				l.takenOut(room, presence.ReasonRemoved)
			}
		}
	}
	l.narrow(nil)
}

// takenOut ends the following of a room that the session is not in any more, and says so.
func (l *link) takenOut(room presence.RoomName, reason presence.Reason) {
	err := removedProblem("room", string(room))
	if reason != presence.ReasonRemoved {
		err = notGranted("room", string(room), "rooms that the token of now grants")
	}
	l.dropRoom(room, err)
}

func (l *link) dropRoom(room presence.RoomName, err error) {
	talk := l.talk.Load()
	if talk == nil {
		return
	}
	talk.receiver.Unfollow(delivery.Joined, presence.Pattern(room))
	l.send(outgoing{frame: dropFrame(drop(wire.Drop{Room: string(room)}, err))})
}

// narrow ends the watching of what the guest may not watch any more, and says so.
func (l *link) narrow(admits func(presence.Pattern) error) {
	for _, d := range l.talk.Load().narrow(admits) {
		l.send(outgoing{frame: dropFrame(d)})
	}
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
		l.gateway.links.cuesDropped.Add(1)
	}
	return taken
}

func (l *link) finish(code int, reason string) {
	if s := l.stream(); s != nil {
		s.Finish(code, reason)
	}
}

// answer says that a request was carried out.
func (l *link) answer(id wire.ID, before, after func()) {
	l.reply(wire.Answer{Re: id}, before, after)
}

func (l *link) reply(answer wire.Answer, before, after func()) {
	answer.Type = wire.TypeAnswer
	out := outgoing{before: before, after: after, frame: encode(answer)}
	if l.post == nil {
		l.send(out)
		return
	}
	l.post.answer = out.frame
	for _, act := range []func(){before, after} {
		if act != nil {
			act()
		}
	}
}

// refuse says that a request was not carried out. Before hello, that is the end
// of the link.
func (l *link) refuse(id wire.ID, err error) { l.fail(id, err, 0) }

func (l *link) fail(id wire.ID, err error, code int) {
	if l.post != nil {
		l.post.err = err
		return
	}
	l.send(outgoing{frame: l.gateway.errorFrame(id, err)})
	if l.talk.Load() == nil {
		l.gateway.links.turnedAway(ProblemOf(err).Code)
		if code == 0 {
			code = wire.CloseRefused
		}
	}
	if code != 0 {
		l.finish(code, ProblemOf(err).Code)
	}
}

func (g *Gateway) errorFrame(id wire.ID, err error) []byte {
	problem := ProblemOf(err)
	if problem.Code == wire.CodeInternal {
		g.log.Error("request failed", "error", err)
	}
	return encode(wire.ErrorFrame{Type: wire.TypeError, Re: id, Problem: *problem, Help: wire.HelpPath(problem.Code)})
}

var beatFrame = encode(wire.Beat{Type: wire.TypeBeat})

func encode(frame any) []byte {
	text, err := json.Marshal(frame)
	if err != nil {
		panic("gateway: frames are plain data: " + err.Error())
	}
	return text
}

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
