package delivery

import (
	"cmp"
	"container/heap"
	"slices"
	"strings"
	"sync"
	"time"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// Detail is how much of a room is followed.
type Detail uint8

// The details, in order: each has all that the ones before it have.
const (
	None Detail = iota
	AtCount
	AtMembers
)

// Source returns whole states. It may call the hub as its sink meanwhile.
type Source interface {
	// Unsealed tells whether the topic has changes that the hub has not been told yet. It will
	// be told at the room's next seal.
	Unsealed(engine.Topic) bool
	// Sealed returns a topic at its newest revision, without what is not sealed yet.
	Sealed(engine.Topic) engine.Snapshot
	Sight(engine.Subject) engine.Sight
}

// Hub is the [engine.Sink] through which receivers follow rooms and people. All methods are safe
// for concurrent use.
type Hub struct {
	source Source

	mu       sync.Mutex
	policy   *presence.Policy
	topics   map[engine.Topic]*topic
	people   map[engine.Subject]*subject // those whom somebody follows
	wildcard map[*Receiver]struct{}      // receivers that follow at least one pattern with a wildcard

	delay  engine.Observer // of every so manyth delivery, in seconds; nil: nobody
	served uint32

	postponed postponements // one for a topic at most
	timer     *time.Timer   // for the first of them
	closed    bool
}

// Options are what a Hub is made of. Policy and Source are required.
type Options struct {
	Policy *presence.Policy // must not be changed
	// Source makes the source of snapshots: an engine, of which the hub is the sink.
	Source func(engine.Sink) Source
	// Delay is told, for one delivery in 64, how long a change took from its seal until it was
	// handed to be written, in seconds. It may be nil.
	Delay engine.Observer
}

// NewHub returns a hub without receivers.
func NewHub(o Options) *Hub {
	h := &Hub{policy: o.Policy, delay: o.Delay, topics: map[engine.Topic]*topic{}, people: map[engine.Subject]*subject{},
		wildcard: map[*Receiver]struct{}{}}
	h.source = o.Source(h)
	return h
}

// SetPolicy puts another policy in force, also for rooms that are followed already.
func (h *Hub) SetPolicy(policy *presence.Policy) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.policy = policy
	for _, t := range h.topics {
		t.policy = policy.For(t.Room)
		t.grow(t.count.People)
		h.pinIfWanted(t)
	}
}

// measure measures a delivery of a topic's newest batch.
func (h *Hub) measure(t *topic) {
	if h.served++; h.delay != nil && h.served%64 == 0 && !t.came.IsZero() {
		h.delay.Observe(time.Since(t.came).Seconds())
	}
}

// Take implements [engine.Sink].
func (h *Hub) Take(b engine.Batch) {
	h.mu.Lock()
	defer h.mu.Unlock()
	t := h.topics[b.Topic]
	switch {
	case t == nil && b.Empty():
		return
	case t == nil:
		t = h.begin(b.Topic)
	}
	if b.Empty() {
		t.markFresh() // nothing came of what they waited for
		h.pinIfWanted(t)
		return
	}
	now := time.Now()
	t.settleCount(now)
	if !t.exists {
		for r := range h.wildcard {
			r.attach(t)
		}
	}
	t.add(b, now)
	for _, s := range t.subs {
		if s.fresh {
			s.sealed = true
		}
		if s.fresh || (s.detail == AtMembers && !t.big) {
			s.receiver.mark(s)
		}
	}
	h.tellCount(t, now)
	h.pinIfWanted(t)
}

// tellCount publishes the newest count: now, or as soon as the room's policy permits. The time
// does not depend on who follows the count.
func (h *Hub) tellCount(t *topic, now time.Time) {
	if !t.due.IsZero() { // what is published then is the newest
		h.postpone(t, now)
		return
	}
	if due := t.told.Add(t.policy.CountEvery); due.After(now) {
		t.due = due
		h.postpone(t, now)
		return
	}
	h.publish(t, now)
}

// postponed is a count that is to be published later.
type postponed struct {
	topic *topic
	due   time.Time
}

// catchUpCount is called when somebody begins to follow the count. From then on it is as if
// somebody had followed it all the time.
func (h *Hub) catchUpCount(t *topic) {
	now := time.Now()
	t.settleCount(now)
	h.postpone(t, now)
}

// postponements is a heap of counts by their due time; those of one instant by room.
type postponements []postponed

func (p postponements) Len() int      { return len(p) }
func (p postponements) Swap(i, j int) { p[i], p[j] = p[j], p[i] }
func (p *postponements) Push(x any)   { *p = append(*p, x.(postponed)) }

func (p postponements) Less(i, j int) bool {
	a, b := p[i], p[j]
	return cmp.Or(a.due.Compare(b.due), strings.Compare(string(a.topic.Room), string(b.topic.Room)), cmp.Compare(a.topic.View, b.topic.View)) < 0
}

func (p *postponements) Pop() any {
	last := len(*p) - 1
	x := (*p)[last]
	(*p)[last] = postponed{}
	*p = (*p)[:last]
	return x
}

// postpone publishes a count when it is due, if anybody follows it.
func (h *Hub) postpone(t *topic, now time.Time) {
	if t.waiting || t.due.IsZero() || (t.exists && !t.counted()) {
		return // a room that has ended is let go then, too
	}
	t.waiting = true
	heap.Push(&h.postponed, postponed{t, t.due})
	if h.postponed[0].topic != t {
		return
	}
	if h.timer == nil {
		h.timer = time.AfterFunc(t.due.Sub(now), h.publishDue)
	} else {
		h.timer.Reset(t.due.Sub(now))
	}
}

func (h *Hub) publishDue() {
	h.mu.Lock()
	defer h.mu.Unlock()
	now := time.Now()
	for len(h.postponed) > 0 && !h.postponed[0].due.After(now) {
		p := heap.Pop(&h.postponed).(postponed)
		p.topic.waiting = false
		h.publish(p.topic, p.due)
	}
	if len(h.postponed) > 0 {
		h.timer.Reset(h.postponed[0].due.Sub(now))
	}
}

func (h *Hub) publish(t *topic, at time.Time) {
	t.publishCount(at)
	for _, s := range t.subs {
		if s.detail == AtCount || t.big {
			s.receiver.mark(s)
		}
	}
	if !t.exists && h.topics[t.Topic] == t {
		h.end(t)
	}
}

// Close ends what the hub does on its own. Receivers may still be closed.
func (h *Hub) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.closed = true
}

// TakeTypists implements [engine.Sink].
func (h *Hub) TakeTypists(typists engine.Typists) {
	h.mu.Lock()
	defer h.mu.Unlock()
	t := h.topics[typists.Topic]
	if t == nil {
		return // nobody can have followed a room that is over
	}
	t.typists, t.typing = typists.Users, register{version: t.typing.version + 1}
	for _, s := range t.subs {
		if s.detail == AtMembers {
			s.receiver.mark(s)
		}
	}
}

func (h *Hub) begin(name engine.Topic) *topic {
	t := &topic{Topic: name, policy: h.policy.For(name.Room)}
	h.topics[name] = t
	return t
}

// end lets go of a topic whose room has ended. Receivers that follow the room by name will
// follow its next life. What they have not read yet they get first.
func (h *Hub) end(t *topic) {
	delete(h.topics, t.Topic)
	t.ended = true
	var next *topic
	for _, s := range slices.Clone(t.subs) {
		if s.receiver.byName(t.Room) {
			if next == nil {
				next = h.begin(t.Topic)
			}
			heir := s.receiver.attach(next)
			if heir.fresh = s.fresh; s.fresh {
				s.receiver.mark(heir)
			}
		}
		s.receiver.mark(s)
	}
}
