package gateway

import (
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
	carries presence.LinkID                  // set once; zero before hello and without a session
	caller  Caller
	realm   *Realm                // set once, before carries
	badge   atomic.Pointer[badge] // nil before hello

	// Of the receiving side, one at a time.
	guest  *guest // nil before hello
	frames pace
	excess pace
	cues   pace
	told   pace  // when last told that it sends too much
	post   *post // the request that is carried out, of an event stream; else nil

	// Of the writing side, one at a time.
	asked bool // a beat request is among what is being written

	mu       sync.Mutex
	receiver *delivery.Receiver // nil before hello
	outbox   []outgoing
	heard    int64 // Unix nanoseconds; without a session: the last sign of life
	wanted   int64 // the same: when it was last asked for one
	ended    bool
}

// badge is with what a link was let in, for whoever has to find the links that may not go
// on: the id of a key, an operator's or that of its token, its person, and what it watches.
type badge struct {
	realm    string
	operator bool
	key      string
	user     presence.UserID
	watching []presence.Pattern
}

// follows tells whether a link watches a room.
func (b *badge) follows(room presence.RoomName) bool {
	return slices.ContainsFunc(b.watching, func(p presence.Pattern) bool { return p.Match(room) })
}

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
	l.receive(data)
}

// MayWait implements [transport.Handler]: a hello may have to wait for the probe of
// an older link, and where others are asked who may come, any frame for their answer.
func (l *link) MayWait() bool { return l.guest == nil || l.gateway.asksOthers }

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
	outbox, receiver := l.outbox, l.receiver
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
	if l.stream().Finishing() {
		return frames, nil
	}
	return frames, receiver
}

// Wrote implements [transport.Handler]. Silence counts from a request that was
// really written.
func (l *link) Wrote() {
	if l.asked {
		l.asked = false
		_, _ = l.realm.do(presence.BeatWritten{To: l.carries}) // never refused
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
	receiver := l.receiver
	l.mu.Unlock()
	if l.feed != nil {
		l.gateway.feeds.detach(l.feed, l)
	} else if receiver != nil {
		receiver.Close()
	}
	if l.carries != (presence.LinkID{}) {
		_, _ = l.realm.do(presence.LinkLost{Link: l.carries}) // never refused
	}
}

// greet makes the receiver the link's, and puts the answer to hello before all that
// it gives.
func (l *link) greet(receiver *delivery.Receiver, answer []byte) {
	l.mu.Lock()
	l.receiver = receiver
	l.outbox = append(l.outbox, outgoing{frame: answer})
	l.heard = time.Now().UnixNano()
	l.wanted = l.heard
	ended := l.ended
	l.mu.Unlock()
	if ended {
		receiver.Close()
		return
	}
	l.wake()
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
	if l.guest == nil {
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
