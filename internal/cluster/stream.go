package cluster

import (
	"maps"
	"slices"
	"time"

	"tovik.example/tovik/internal/engine"
)

// DefaultCredit is how many bytes (see [weight]) may be on their way to a node without an
// acknowledgement. A broker drops what comes faster than a node reads.
const DefaultCredit = 1 << 20

// mostWaiting is how many times the credit may wait for credit. Beyond it, everything that waits is
// dropped, and the other node re-seats.
const mostWaiting = 4

// stream is one direction of the messages between two nodes. They are numbered from 1. Everything
// that is ready goes as one parcel: at once when the stream is idle, otherwise one parcel each
// Timings.Parcel. A parcel has at most an eighth of the credit, so that what comes first is soon read.
type stream struct {
	said     uint64    // the number of the newest message
	waiting  []Message // those that are not sent yet, up to said
	bytes    int       // of waiting
	sent     uint64    // the number of the newest message that was sent
	acked    uint64    // the number of the newest message that was acknowledged
	sentAt   time.Duration
	flying   []parcel // sent and not acknowledged, in order
	inFlight int      // bytes of flying
	// stale are the lists whose changes were left out for want of credit, in that order. They are sent
	// whole later, one by one.
	stale   []stale
	isStale map[stale]bool
	// reports are under way, in parts.
	reports []*reporting
	most    int // bytes that ever waited

	credit  int
	dropped bool // since the last parcel
}

func newStream(credit int) stream { return stream{credit: credit, isStale: map[stale]bool{}} }

type parcel struct {
	last  uint64
	bytes int
}

// stale is a list, or a person, whose newest state a receiver lacks.
type stale struct {
	realm   Realm
	topic   engine.Topic   // if its room is not empty
	subject engine.Subject // otherwise
}

// say queues a message, and returns its number.
func (s *stream) say(m Message) uint64 {
	s.said++
	s.waiting = append(s.waiting, m)
	s.bytes += weight(m)
	s.most = max(s.most, s.bytes)
	if s.bytes > mostWaiting*s.credit {
		s.drop()
	}
	return s.said
}

// drop drops everything that waits. The gap in the numbers tells the other node.
func (s *stream) drop() {
	s.waiting, s.bytes, s.stale, s.reports, s.dropped = nil, 0, nil, nil, true
	s.sent = s.said
	clear(s.isStale)
}

// forget drops what waits to be sent about a realm.
func (s *stream) forget(id Realm) {
	s.stale = slices.DeleteFunc(s.stale, func(what stale) bool { return what.realm == id })
	maps.DeleteFunc(s.isStale, func(what stale, _ bool) bool { return what.realm == id })
	s.reports = slices.DeleteFunc(s.reports, func(is *reporting) bool { return is.realm.id == id })
}

// hasCredit reports whether a change, or a part of a report, should be sent now.
func (s *stream) hasCredit() bool { return s.inFlight+s.bytes < s.credit }

// hasCreditToSpare reports whether a whole list should be sent now. Lists use a quarter of the credit, so that answers do
// not wait behind many of them.
func (s *stream) hasCreditToSpare() bool { return s.inFlight+s.bytes < s.credit/4 }

// acknowledged takes the acknowledgement of all messages up to a number.
func (s *stream) acknowledged(upTo uint64) {
	s.acked = max(s.acked, upTo)
	for len(s.flying) > 0 && s.flying[0].last <= upTo {
		s.inFlight -= s.flying[0].bytes
		s.flying = s.flying[1:]
	}
}

// next returns the messages of the next parcel; none if nothing waits or there is no credit.
func (s *stream) next(now time.Duration) []Message {
	n, bytes := 0, 0
	for n < len(s.waiting) && s.inFlight+bytes < s.credit && bytes < s.credit/8 {
		bytes += weight(s.waiting[n])
		n++
	}
	if n == 0 {
		return nil
	}
	messages := s.waiting[:n:n]
	s.waiting = s.waiting[n:]
	s.bytes -= bytes
	s.sent = s.said - uint64(len(s.waiting))
	s.sentAt, s.dropped = now, false
	s.flying, s.inFlight = append(s.flying, parcel{s.sent, bytes}), s.inFlight+bytes
	return messages
}

// leaveOut notes that a state was left out.
func (s *stream) leaveOut(what stale) {
	if !s.isStale[what] {
		s.stale, s.isStale[what] = append(s.stale, what), true
	}
}

// factWeight is the weight of a reported link.
const factWeight = 200

// weight estimates the size of a message in bytes.
func weight(m Message) int {
	const least, each = 64, 96
	switch m := m.(type) {
	case ToOwner:
		switch what := m.What.(type) {
		case Report:
			return least + factWeight*len(what.Facts)
		case Follow:
			return least + each*(len(what.Wishes)+len(what.People))
		}
	case FromOwner:
		switch what := m.What.(type) {
		case State:
			return least + each*len(what.Snapshot.Members)
		case Rooms:
			return least + each/4*len(what.Names)
		case News:
			if b, ok := what.What.(*engine.Batch); ok {
				return least + each*b.Size()
			}
		}
	}
	return least + each
}

// flush sends what waits for a node, if it is time.
func (n *Node) flush(to Name) {
	p := n.peers[to]
	if p.incarnation == 0 {
		return // its heartbeat will introduce it
	}
	n.refresh(to)
	if n.mono() < p.out.sentAt+n.Timings.Parcel && p.out.sent > 0 {
		return
	}
	messages := p.out.next(n.mono())
	if len(messages) > 0 || p.out.dropped {
		p.out.dropped = false
		n.envelope(to, messages)
	}
}

// refresh queues lists that were left out and parts of reports, as far as there is credit.
func (n *Node) refresh(to Name) {
	p := n.peers[to]
	for len(p.out.stale) > 0 && p.out.hasCreditToSpare() {
		what := p.out.stale[0]
		p.out.stale = p.out.stale[1:]
		delete(p.out.isStale, what)
		o := n.realms[what.realm].owner
		if o == nil || !o.speaks() || o.follows[to] == nil {
			continue
		}
		if what.topic.Room != "" {
			n.state(o, to, what.topic)
		} else {
			n.down(o, to, News{o.engine.Sight(what.subject)})
		}
	}
	for len(p.out.reports) > 0 && p.out.hasCredit() {
		is := p.out.reports[0]
		p.out.reports = p.out.reports[1:]
		if over := n.reportPart(to, is); !over && !p.out.dropped {
			p.out.reports = slices.Insert(p.out.reports, 0, is)
		}
	}
}

// envelope sends messages, with an acknowledgement of what has come.
func (n *Node) envelope(to Name, messages []Message) {
	p := n.peers[to]
	p.unacknowledged = 0
	n.do(Send{To: to, Envelope: Envelope{From: n.Name, Sender: n.Incarnation, To: p.incarnation, Last: p.out.sent, Read: p.got, Messages: messages}})
}

// say queues a message to a node, and returns its number.
func (n *Node) say(to Name, m Message) uint64 { return n.of(to).out.say(m) }

// acknowledge acknowledges what has come for some time without anything going back.
func (n *Node) acknowledge(to Name) {
	p := n.peers[to]
	if p.unacknowledged > n.Credit/8 || p.unacknowledged > 0 && n.mono() >= p.acknowledgeAt {
		n.envelope(to, nil)
	}
}

// Waiting returns how many bytes wait for other nodes, and the most that ever waited for one.
func (n *Node) Waiting() (now, most int) {
	for _, name := range n.names {
		now += n.peers[name].out.bytes
		most = max(most, n.peers[name].out.most)
	}
	return now, most
}
