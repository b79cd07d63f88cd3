package delivery

import (
	"sync"

	"tovik.example/tovik/internal/engine"
)

// Detail is how much of a room is followed.
type Detail uint8

// The details, in order: each has all that the ones before it have.
const (
	None Detail = iota
	AtCount
	AtMembers
)

// Source gives whole rooms. It may call [Hub.Take] meanwhile.
type Source interface {
	Snapshot(engine.Topic) (engine.Snapshot, bool)
}

// Hub is the [engine.Sink] that receivers follow rooms through. All methods are
// safe for concurrent use.
type Hub struct {
	source Source

	mu       sync.Mutex
	topics   map[engine.Topic]*topic
	wildcard map[*Receiver]struct{} // receivers that follow at least one pattern with a wildcard
}

// NewHub returns a hub without receivers. Use sets the source before the first
// receiver follows anything.
func NewHub() *Hub {
	return &Hub{topics: map[engine.Topic]*topic{}, wildcard: map[*Receiver]struct{}{}}
}

// Use sets where snapshots come from. The hub is an engine's sink and the engine
// the hub's source, so one of them must be told of the other later.
func (h *Hub) Use(source Source) { h.source = source }

// Take implements [engine.Sink].
func (h *Hub) Take(b engine.Batch) {
	h.mu.Lock()
	defer h.mu.Unlock()
	t := h.topics[b.Topic]
	if t == nil {
		t = h.begin(b.Topic)
	}
	if t.idle() {
		for r := range h.wildcard {
			r.attach(t)
		}
	}
	t.add(b)
	for sub := range t.subs {
		sub.receiver.mark(sub)
	}
	if b.Ended {
		h.end(t)
	}
}

func (h *Hub) begin(name engine.Topic) *topic {
	t := &topic{Topic: name, subs: map[*sub]struct{}{}}
	h.topics[name] = t
	return t
}

// end lets a topic whose room has ended go, unless somebody follows it by name
// and so waits for its next life. The others are let go by their next Next, when
// they have its last batch.
func (h *Hub) end(t *topic) {
	for sub := range t.subs {
		if sub.receiver.byName(t.Room) {
			return
		}
	}
	delete(h.topics, t.Topic)
	t.ended = true
	for sub := range t.subs {
		sub.receiver.mark(sub)
	}
}
