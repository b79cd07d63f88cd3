package delivery

import (
	"slices"
	"strings"
	"sync"
	"sync/atomic"
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
	// Unsealed tells whether the topic has changes that are not sealed yet. The hub will be
	// told at the room's next seal.
	Unsealed(engine.Topic) bool
	// Sealed returns a topic at its newest revision, without what is not sealed yet.
	Sealed(engine.Topic) engine.Snapshot
	Sight(engine.Subject) engine.Sight
}

// Follower is a [Source] that must be told what is followed, because the lists are at another node. Each
// call of Follow is undone by one of Unfollow. They are called with locks held, and must not block or
// call the hub.
type Follower interface {
	Follow(pattern presence.Pattern, view presence.View)
	Unfollow(pattern presence.Pattern, view presence.View)
	FollowPerson(engine.Subject)
	UnfollowPerson(engine.Subject)
}

// Hub is the [engine.Sink] through which receivers follow rooms and people. All methods are safe
// for concurrent use.
type Hub struct {
	source   Source
	follower Follower        // nil: the source knows everything anyway
	delay    engine.Observer // of every so manyth delivery, in seconds; nil: nobody
	served   atomic.Uint32

	gatherings sync.Pool // of *gathering

	mu        sync.Mutex
	policy    *presence.Policy
	topics    map[engine.Topic]*topic
	people    map[engine.Subject]*subject // those whom somebody follows
	wildcards map[*Receiver]wildcards     // of receivers that follow at least one
	closed    bool
	keeping   []*topic    // those that keep something to be forgotten
	forgets   *time.Timer // runs while there are any

	postponed postponements
}

// wildcards are the patterns with wildcards that a receiver follows.
type wildcards struct {
	view     presence.View
	patterns []presence.Pattern // immutable
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
		wildcards: map[*Receiver]wildcards{}}
	h.postponed.publish = h.publishPostponed
	h.source = o.Source(h)
	h.follower, _ = h.source.(Follower)
	return h
}

// lock returns a topic with its lock held. It creates the topic if necessary.
func (h *Hub) lock(name engine.Topic) *topic {
	for {
		h.mu.Lock()
		t := h.topics[name]
		if t == nil {
			t = &topic{Topic: name, policy: h.policy.For(name.Room), asking: register{version: 1}} // nobody asks
			h.topics[name] = t
		}
		h.mu.Unlock()
		t.mu.Lock()
		if !t.gone {
			return t
		}
		t.mu.Unlock() // forgotten a moment ago
	}
}

// lockKnown returns a topic with its lock held, or nil.
func (h *Hub) lockKnown(name engine.Topic) *topic {
	h.mu.Lock()
	t := h.topics[name]
	h.mu.Unlock()
	if t == nil {
		return nil
	}
	t.mu.Lock()
	if t.gone {
		t.mu.Unlock()
		return nil
	}
	return t
}

// letGo forgets a topic if its room has ended and it has no followers. The lock of the topic is
// held.
func (h *Hub) letGo(t *topic) {
	if t.exists || t.waiting || len(t.subs)+len(t.asks) > 0 || t.gone {
		return
	}
	t.gone = true
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.topics, t.Topic)
}

// known returns the topics of a view that match a pattern, by name.
func (h *Hub) known(view presence.View, pattern presence.Pattern) (list []*topic) {
	h.mu.Lock()
	for name, t := range h.topics {
		if name.View == view && pattern.Match(name.Room) {
			list = append(list, t)
		}
	}
	h.mu.Unlock()
	slices.SortFunc(list, func(a, b *topic) int { return strings.Compare(string(a.Room), string(b.Room)) })
	return list
}

// SetPolicy puts another policy in force, also for rooms that are followed already.
func (h *Hub) SetPolicy(policy *presence.Policy) {
	h.mu.Lock()
	h.policy = policy
	topics := make([]*topic, 0, len(h.topics))
	for _, t := range h.topics {
		topics = append(topics, t)
	}
	h.mu.Unlock()
	for _, t := range topics {
		t.mu.Lock()
		t.policy = policy.For(t.Room)
		t.grow(t.count.People)
		h.pinIfWanted(t)
		t.mu.Unlock()
	}
}

// measure measures the delivery of a topic's newest batch to a sub that was there when it came. One that came later, or
// has come back, says nothing about how fast deliveries are.
func (h *Hub) measure(s *sub) {
	if h.delay != nil && s.newer && h.served.Add(1)%64 == 0 {
		h.delay.Observe(time.Since(s.topic.came).Seconds())
	}
	s.newer = false
}

// Take implements [engine.Sink].
func (h *Hub) Take(b *engine.Batch) {
	t := h.lock(b.Topic)
	defer t.mu.Unlock()
	now := time.Now()
	t.settleCount(now)
	if !t.exists {
		h.announce(t)
	}
	t.add(b, now)
	h.remember(t)
	for _, s := range t.subs {
		if s.fresh {
			s.sealed = true
		}
		if s.fresh || (s.detail == AtMembers && !t.big) {
			s.newer = true
			s.receiver.inbox.mark(s)
		}
	}
	h.tellCount(t, now)
	h.pinIfWanted(t)
	h.letGo(t)
}

// remember has a topic looked at until it keeps nothing more for followers who return. Its lock is held.
func (h *Hub) remember(t *topic) {
	if t.kept {
		return
	}
	t.kept = true
	h.mu.Lock()
	defer h.mu.Unlock()
	h.lookAgain(t)
}

// lookAgain adds topics to those that keep something. The hub's lock is held.
func (h *Hub) lookAgain(topics ...*topic) {
	h.keeping = append(h.keeping, topics...)
	switch {
	case len(h.keeping) == 0 || len(h.keeping) > len(topics):
	case h.forgets == nil:
		h.forgets = time.AfterFunc(forgetAfter/4, h.forget)
	default:
		h.forgets.Reset(forgetAfter / 4)
	}
}

// forget lets topics forget what is too old, so that a calm room keeps nothing.
func (h *Hub) forget() {
	h.mu.Lock()
	topics := h.keeping
	h.keeping = nil
	h.mu.Unlock()
	now := time.Now()
	topics = slices.DeleteFunc(topics, func(t *topic) bool {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.forget(now)
		t.kept = len(t.ring) > 0 && !t.gone
		return !t.kept
	})
	h.mu.Lock()
	defer h.mu.Unlock()
	if !h.closed && len(topics) > 0 {
		h.lookAgain(topics...)
	}
}

// announce notifies the receivers whose wildcards match a new room. They attach to its topic
// when they next fetch frames.
func (h *Hub) announce(t *topic) {
	if !t.waiting {
		t.told = time.Time{} // the last count of its previous life is published
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for r, w := range h.wildcards {
		if w.view == t.View && slices.ContainsFunc(w.patterns, func(p presence.Pattern) bool { return p.Match(t.Room) }) {
			r.inbox.mark(&sub{receiver: r, topic: t, announced: true})
		}
	}
}

// TakeUnchanged implements [engine.Sink].
func (h *Hub) TakeUnchanged(name engine.Topic) {
	t := h.lockKnown(name)
	if t == nil {
		return
	}
	defer t.mu.Unlock()
	for _, s := range t.subs {
		if s.fresh { // the changes that it waited for cancelled each other
			s.sealed = true
			s.receiver.inbox.mark(s)
		}
	}
	h.pinIfWanted(t)
}

// TakeTypists implements [engine.Sink].
func (h *Hub) TakeTypists(typists engine.Typists) {
	t := h.lockKnown(typists.Topic)
	if t == nil {
		return // nobody can have followed a room that is over
	}
	defer t.mu.Unlock()
	t.typists, t.typing = typists.Users, register{version: t.typing.version + 1}
	for _, s := range t.subs {
		if s.detail == AtMembers {
			s.receiver.inbox.mark(s)
		}
	}
}

// TakeAsks implements [engine.Sink]. The asks of a room are told to its members who may admit.
func (h *Hub) TakeAsks(asks engine.Asks) {
	for _, view := range []presence.View{presence.Full, presence.Open} {
		t := h.lock(engine.Topic{Room: asks.Room, View: view})
		t.asks, t.asking = asks.Open, register{version: t.asking.version + 1}
		for _, s := range t.subs {
			if s.admits {
				s.receiver.inbox.mark(s)
			}
		}
		h.letGo(t)
		t.mu.Unlock()
	}
}

// Close stops the hub's timers. Receivers may still be closed.
func (h *Hub) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.closed = true
}

func (h *Hub) isClosed() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.closed
}
