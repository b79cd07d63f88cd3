package delivery

import (
	"encoding/json"

	"tovik.example/tovik/internal/engine"
)

// ringSize is how many batches a receiver may lag behind before a snapshot is
// what brings it up to date.
const ringSize = 16

// topic is a room as it is followed in a view. It is guarded by the hub's lock.
type topic struct {
	engine.Topic
	subs  map[*sub]struct{}
	ring  []batch // consecutive, of one run, oldest first
	ended bool    // out of the hub: to be dropped once its last batch is delivered

	snapshot []byte // encoded, at the newest revision; nil when none has been made
}

// batch is a sealed batch with its frames, each encoded when first needed.
type batch struct {
	engine.Batch
	changes, count []byte
}

func (t *topic) add(b engine.Batch) {
	t.snapshot = nil
	if n := len(t.ring); n > 0 && t.ring[n-1].Revision != b.Revision.Previous() {
		t.ring = t.ring[:0] // another run
	}
	if len(t.ring) == ringSize {
		t.ring = append(t.ring[:0], t.ring[1:]...)
	}
	t.ring = append(t.ring, batch{Batch: b})
}

// newest returns the newest revision, zero when no batch has come yet.
func (t *topic) newest() engine.Revision {
	if len(t.ring) == 0 {
		return engine.Revision{}
	}
	return t.ring[len(t.ring)-1].Revision
}

// since appends the frames that lead from a revision to the newest one. It is
// false when the ring does not have them all.
func (t *topic) since(have engine.Revision, frames [][]byte) ([][]byte, bool) {
	newest := t.newest()
	if have == newest {
		return frames, true
	}
	if have.Run != newest.Run || have.Number+1 < t.ring[0].Revision.Number {
		return frames, false
	}
	for i := have.Number + 1 - t.ring[0].Revision.Number; i < uint64(len(t.ring)); i++ {
		b := &t.ring[i]
		if b.changes == nil {
			b.changes = encode(changesFrame(b.Batch))
		}
		frames = append(frames, b.changes)
	}
	return frames, true
}

// newestCount returns the frame with the newest count, and false when no batch
// has come yet.
func (t *topic) newestCount() ([]byte, engine.Revision, bool) {
	if len(t.ring) == 0 {
		return nil, engine.Revision{}, false
	}
	b := &t.ring[len(t.ring)-1]
	if b.count == nil {
		b.count = encode(countFrame(b.Room, b.Revision, b.Count))
	}
	return b.count, b.Revision, true
}

func encode(frame any) []byte {
	text, err := json.Marshal(frame)
	if err != nil {
		panic("delivery: frames are plain data: " + err.Error())
	}
	return text
}

// idle tells that the room does not exist, as far as the topic has seen.
func (t *topic) idle() bool {
	return len(t.ring) == 0 || t.ring[len(t.ring)-1].Ended
}
