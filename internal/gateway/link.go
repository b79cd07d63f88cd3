package gateway

import (
	"encoding/json"
	"errors"
	"io"
	"net"
	"sync"
	"time"

	"github.com/fasthttp/websocket"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

const (
	helloTimeout  = 5 * time.Second
	writeTimeout  = 10 * time.Second // without progress on one frame: the client does not read
	lingerTimeout = time.Second      // to let a client read why it was closed
	maxOutbox     = 256              // answers that a client has not read; more, and it is closed
)

// link is one WebSocket connection.
type link struct {
	gateway *Gateway
	conn    *websocket.Conn
	carries presence.LinkID // guarded by the registry; zero before hello and for operators
	wake    chan struct{}   // holds one: there is something to write; a second says nothing more

	// Of the reading goroutine alone.
	guest   guest
	greeted bool

	// Of the writing goroutine alone.
	receiver *delivery.Receiver // nil before hello
	asking   *time.Ticker       // for an operator's link: when to ask for a beat

	mu      sync.Mutex
	outbox  []outgoing
	goodbye *goodbye // set once: after the outbox, the link closes
}

// outgoing is a frame to write, with what is to be done right before and right
// after. So whatever a link follows starts after the answer that says so, and
// stops before it.
type outgoing struct {
	frame         []byte
	before, after func()
}

type goodbye struct {
	code   int
	reason string
}

// serve carries the connection until it ends.
func (l *link) serve() {
	written := make(chan struct{})
	go func() {
		defer close(written)
		l.write()
	}()
	l.read()
	l.close(websocket.CloseNoStatusReceived, "")
	<-written
	_ = l.conn.Close()
}

// read handles frames until the connection fails. After the goodbye it only
// empties the connection: closing it with unread data would take back what the
// client has not read yet.
func (l *link) read() {
	_ = l.conn.SetReadDeadline(time.Now().Add(helloTimeout))
	for {
		if l.guest.operator && !l.closing() {
			_ = l.conn.SetReadDeadline(time.Now().Add(l.gateway.operatorSilence()))
		}
		kind, reader, err := l.conn.NextReader()
		if err != nil {
			l.readFailed(err)
			return
		}
		data, err := io.ReadAll(io.LimitReader(reader, wire.MaxFrame+1))
		if err != nil {
			l.readFailed(err)
			return
		}
		if l.closing() {
			continue
		}
		switch {
		case len(data) > wire.MaxFrame:
			l.fail(nil, &wire.Problem{Code: wire.CodeTooLarge, Detail: "the frame is too large", Allowed: "frames of at most 16384 bytes"},
				websocket.CloseMessageTooBig)
		case kind != websocket.TextMessage:
			l.refuse(nil, &wire.Problem{Code: wire.CodeNotJSON, Detail: "the frame is binary", Allowed: "text frames, each one JSON object"})
		default:
			l.receive(data)
		}
	}
}

func (l *link) readFailed(err error) {
	var timeout net.Error
	if !errors.As(err, &timeout) || !timeout.Timeout() || l.closing() {
		return
	}
	if !l.greeted {
		l.refuse(nil, &wire.Problem{Code: wire.CodeHelloTimeout, Detail: "no valid hello came in time", Allowed: "a hello within 5 seconds"})
		return
	}
	l.close(wire.CloseSilent, presence.ReasonSilent.String())
}

// write writes the outbox and what the receiver lacks, each time it is woken,
// until the goodbye.
func (l *link) write() {
	defer l.stopAsking()
	var frames [][]byte
	for l.woken() {
		l.mu.Lock()
		outbox, bye := l.outbox, l.goodbye
		l.outbox = nil
		l.mu.Unlock()
		for _, out := range outbox {
			if out.before != nil {
				out.before()
			}
			if !l.writeFrame(out.frame) {
				return
			}
			if out.after != nil {
				out.after()
			}
		}
		if bye != nil {
			l.sayGoodbye(bye)
			return
		}
		if l.receiver == nil {
			continue
		}
		frames = l.receiver.Next(frames[:0])
		for _, frame := range frames {
			if !l.writeFrame(frame) {
				return
			}
		}
		clear(frames)
	}
}

// woken waits until there may be something to write. Meanwhile an operator's link
// is asked for beats. It is false when the connection takes no more.
func (l *link) woken() bool {
	var ask <-chan time.Time
	for {
		if l.asking != nil {
			ask = l.asking.C
		}
		select {
		case <-l.wake:
			return true
		case <-ask:
			if !l.writeFrame(beatFrame) {
				return false
			}
		}
	}
}

// ask begins to ask for beats. The core does that for sessions; an operator's
// link has none, but must be known to be dead all the same.
func (l *link) ask() { l.asking = time.NewTicker(l.gateway.engine.Policy().BeatEvery) }

func (l *link) stopAsking() {
	if l.asking != nil {
		l.asking.Stop()
	}
}

// writeFrame is false when the connection takes no more; then it is closed, for
// the frame may have been cut.
func (l *link) writeFrame(frame []byte) bool {
	_ = l.conn.SetWriteDeadline(time.Now().Add(writeTimeout))
	if err := l.conn.WriteMessage(websocket.TextMessage, frame); err != nil {
		l.close(wire.CloseSlow, "slow")
		_ = l.conn.Close()
		return false
	}
	return true
}

func (l *link) sayGoodbye(bye *goodbye) {
	if bye.code != websocket.CloseNoStatusReceived {
		message := websocket.FormatCloseMessage(bye.code, bye.reason)
		_ = l.conn.WriteControl(websocket.CloseMessage, message, time.Now().Add(lingerTimeout))
	}
	_ = l.conn.SetReadDeadline(time.Now().Add(lingerTimeout))
}

// close lets the link end after what is in its outbox. Only the first call
// counts. It never blocks.
func (l *link) close(code int, reason string) {
	l.mu.Lock()
	if l.goodbye == nil {
		l.goodbye = &goodbye{code, reason}
	}
	l.mu.Unlock()
	l.notify()
}

func (l *link) closing() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.goodbye != nil
}

func (l *link) notify() {
	select {
	case l.wake <- struct{}{}:
	default:
	}
}

// send puts a frame into the outbox. A client that asks and does not read the
// answers is closed.
func (l *link) send(out outgoing) {
	l.mu.Lock()
	full := len(l.outbox) >= maxOutbox
	if !full && l.goodbye == nil {
		l.outbox = append(l.outbox, out)
	}
	l.mu.Unlock()
	if full {
		l.close(wire.CloseSlow, "slow")
		return
	}
	l.notify()
}

func (l *link) askBeat(id presence.LinkID) {
	l.send(outgoing{frame: beatFrame, after: func() {
		_, _ = l.gateway.do(presence.BeatWritten{To: id}) // never refused
	}})
}

// answer says that a request was carried out.
func (l *link) answer(id wire.ID, welcome *wire.Welcome, before, after func()) {
	l.send(outgoing{before: before, after: after,
		frame: encode(wire.Answer{Type: wire.TypeAnswer, Re: id, Welcome: welcome})})
}

// refuse says that a request was not carried out. Before hello, that is the end
// of the link.
func (l *link) refuse(id wire.ID, err error) {
	l.fail(id, err, 0)
}

func (l *link) fail(id wire.ID, err error, code int) {
	problem := ProblemOf(err)
	if problem.Code == wire.CodeInternal {
		l.gateway.log.Error("request failed", "error", err)
	}
	l.send(outgoing{frame: encode(wire.ErrorFrame{Type: wire.TypeError, Re: id, Problem: *problem,
		Help: wire.HelpPath(problem.Code)})})
	if code == 0 && !l.greeted {
		code = wire.CloseRefused
	}
	if code != 0 {
		l.close(code, problem.Code)
	}
}

var beatFrame = encode(wire.Beat{Type: wire.TypeBeat})

func encode(frame any) []byte {
	text, err := json.Marshal(frame)
	if err != nil {
		panic("gateway: frames are plain data: " + err.Error())
	}
	return text
}

func closeFor(reason presence.Reason) int {
	switch reason {
	case presence.ReasonReplaced:
		return wire.CloseReplaced
	case presence.ReasonSilent:
		return wire.CloseSilent
	case presence.ReasonClosing:
		return wire.CloseClosing
	case presence.ReasonExpired:
		return wire.CloseExpired
	case presence.ReasonRemoved, presence.ReasonBye:
		return wire.CloseEnded
	}
	return websocket.CloseGoingAway
}
