package delivery

import (
	"slices"
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

// Source gives what is asked for whole. It may call the hub as its sink meanwhile.
type Source interface {
	// Snapshot may say later: then the hub is told at the room's next seal.
	Snapshot(engine.Topic) (snapshot engine.Snapshot, later bool)
	Sight(engine.Subject) engine.Sight
}

// Hub is the [engine.Sink] that receivers follow rooms and people through. All
// methods are safe for concurrent use.
type Hub struct {
	source Source

	mu       sync.Mutex
	policy   *presence.Policy
	topics   map[engine.Topic]*topic
	people   map[engine.Subject]*subject // those whom somebody follows
	wildcard map[*Receiver]struct{}      // receivers that follow at least one pattern with a wildcard

	delay  engine.Observer // of every so manyth delivery, in seconds; nil: nobody
	served uint32

	postponed []postponed // by when they are due; one for a topic at most
	timer     *time.Timer // for the first of them
}

// NewHub returns a hub without receivers. Use sets the source before the first
// receiver follows anything.
func NewHub(policy *presence.Policy) *Hub {
	return &Hub{policy: policy, topics: map[engine.Topic]*topic{}, people: map[engine.Subject]*subject{},
		wildcard: map[*Receiver]struct{}{}}
}

// Use sets where snapshots come from. The hub is an engine's sink and the engine
// the hub's source, so one of them must be told of the other later.
func (h *Hub) Use(source Source) { h.source = source }

// SetPolicy puts another policy in force, for rooms that are followed too.
func (h *Hub) SetPolicy(policy *presence.Policy) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.policy = policy
	for _, t := range h.topics {
		t.policy = policy.For(t.Room)
		t.grow(t.count.People)
	}
}

// Observe has one delivery in 64 measured: how long after it was sealed a change is handed
// to be written, in seconds. Call it before anything else.
func (h *Hub) Observe(delay engine.Observer) { h.delay = delay }

// measure takes one delivery of a topic's newest.
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
	if t == nil {
		t = h.begin(b.Topic)
	}
	if b.Revision == t.newest {
		t.markFresh() // nothing came of what they waited for
		return
	}
	if !t.exists {
		for r := range h.wildcard {
			r.attach(t)
		}
	}
	t.add(b)
	for _, s := range t.subs {
		if s.fresh || (s.detail == AtMembers && !t.big) {
			s.receiver.mark(s)
		}
	}
	h.tellCount(t)
}

// tellCount publishes the newest count, now or as soon as the room's policy lets it
// be told again.
func (h *Hub) tellCount(t *topic) {
	if t.waiting {
		return
	}
	now := time.Now()
	if due := t.told.Add(t.policy.CountEvery); due.After(now) && t.counted() {
		h.postpone(t, due, now)
		return
	}
	h.publish(t)
}

// postponed is a count that is to be published later.
type postponed struct {
	topic *topic
	due   time.Time
}

// postpone keeps the counts that wait in the order in which they are due.
func (h *Hub) postpone(t *topic, due, now time.Time) {
	t.waiting = true
	i := len(h.postponed)
	for i > 0 && h.postponed[i-1].due.After(due) {
		i--
	}
	h.postponed = slices.Insert(h.postponed, i, postponed{t, due})
	if i > 0 {
		return
	}
	if h.timer == nil {
		h.timer = time.AfterFunc(due.Sub(now), h.publishDue)
	} else {
		h.timer.Reset(due.Sub(now))
	}
}

func (h *Hub) publishDue() {
	h.mu.Lock()
	defer h.mu.Unlock()
	now := time.Now()
	done := 0
	for ; done < len(h.postponed) && !h.postponed[done].due.After(now); done++ {
		t := h.postponed[done].topic
		t.waiting = false
		h.publish(t)
	}
	h.postponed = slices.Delete(h.postponed, 0, done)
	if len(h.postponed) > 0 {
		h.timer.Reset(h.postponed[0].due.Sub(now))
	}
}

func (h *Hub) publish(t *topic) {
	t.publishCount()
	for _, s := range t.subs {
		if s.detail == AtCount || t.big {
			s.receiver.mark(s)
		}
	}
	if !t.exists && h.topics[t.Topic] == t {
		h.end(t)
	}
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

// end lets a topic whose room has ended go, unless somebody follows it by name
// and so waits for its next life. The others are let go by their next Next, when
// they have its last batch.
func (h *Hub) end(t *topic) {
	for _, s := range t.subs {
		if s.receiver.byName(t.Room) {
			return
		}
	}
	delete(h.topics, t.Topic)
	t.ended = true
	for _, s := range t.subs {
		s.receiver.mark(s)
	}
}
