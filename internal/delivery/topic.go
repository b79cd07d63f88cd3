package delivery

import (
	"encoding/json"
	"time"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// ringSize is how many batches a receiver may lag behind before a snapshot is
// what brings it up to date.
const ringSize = 32

// forgetAfter is how long a room that nobody follows any more keeps its changes for
// those who come back.
const forgetAfter = time.Minute

// topic is a room as it is followed in a view. It is guarded by the hub's lock.
type topic struct {
	engine.Topic
	policy *presence.RoomPolicy
	subs   []*sub
	newest engine.Revision // zero when no batch has come yet
	came   time.Time       // when it did
	count  presence.Count  // at it
	exists bool            // somebody is in the room, as far as has been seen
	ring   []batch         // what led to newest, the oldest first
	left   time.Time       // when the last follower went
	ended  bool            // out of the hub: to be dropped once its last batch is delivered
	big    bool            // too many people to be told one by one

	snapshot []byte // encoded, at the newest revision; nil when none has been made
	countNow []byte // the same of the count
	catching bool   // a receiver is asking for the room whole; others wait for what it gets
	pins     []*pin // whole states of a big room, the newest last

	published tally     // what those who follow the count have, or will
	told      time.Time // when it was published
	waiting   bool      // a newer one will be

	typists []presence.UserID
	typing  register
}

// register is the encoded form of something of which only the newest matters.
type register struct {
	version uint64 // 0: nothing to tell yet
	frame   []byte // nil until first needed
}

// tally is a published count.
type tally struct {
	register
	revision engine.Revision
	count    presence.Count
}

// newestCount returns the frame of the count as it is now, published or not.
func (t *topic) newestCount() []byte {
	if t.countNow == nil {
		t.countNow = encode(countFrame(t.Room, t.newest, t.count))
	}
	return t.countNow
}

// batch is a sealed batch that somebody may still need: as it came until somebody
// does, and then encoded.
type batch struct {
	sealed  *engine.Batch
	changes []byte
}

// frame returns the encoded batch.
func (b *batch) frame() []byte {
	if b.changes == nil {
		b.changes, b.sealed = encode(changesFrame(*b.sealed)), nil
	}
	return b.changes
}

func (t *topic) add(b engine.Batch) {
	if b.Revision.Previous() != t.newest {
		t.ring, t.pins = nil, nil // another run
	}
	t.newest, t.count, t.exists, t.came = b.Revision, b.Count, !b.Ended, time.Now()
	t.snapshot, t.countNow = nil, nil
	switch {
	case len(t.subs) == 0 && time.Since(t.left) > forgetAfter:
		t.ring = nil // nobody can come back to what was before
	case len(t.ring) == ringSize:
		copy(t.ring, t.ring[1:])
		t.ring[ringSize-1] = batch{sealed: &b}
	default:
		t.ring = append(t.ring, batch{sealed: &b})
	}
	t.grow(b.Count.People)
}

// grow notes whether the room is big. It becomes small again only well below the
// bound, so that a room at the bound does not go to and fro.
func (t *topic) grow(people int) {
	most := t.policy.MembersMax
	big := people > most || (t.big && people > most*9/10)
	if big == t.big {
		return
	}
	t.big, t.pins = big, nil
	for _, s := range t.subs {
		s.fresh = s.fresh || s.detail == AtMembers
	}
}

// oldest is the number of the first batch of the ring.
func (t *topic) oldest() uint64 { return t.newest.Number + 1 - uint64(len(t.ring)) }

// has tells whether the ring leads from a revision to the newest one.
func (t *topic) has(revision engine.Revision) bool {
	return revision.Run == t.newest.Run && revision.Number <= t.newest.Number && revision.Number+1 >= t.oldest()
}

// since gives the frames that lead from a revision, which the topic has, to the
// newest one.
func (t *topic) since(revision engine.Revision, each func(prev engine.Revision, frame []byte)) {
	for ; revision.Number < t.newest.Number; revision.Number++ {
		each(revision, t.ring[revision.Number+1-t.oldest()].frame())
	}
}

// lag is how many bytes since would give, as far as they are known.
func (t *topic) lag(revision engine.Revision) (size int) {
	t.since(revision, func(_ engine.Revision, frame []byte) { size += len(frame) })
	return size
}

// counted tells whether anybody follows the count.
func (t *topic) counted() bool {
	if t.big {
		return len(t.subs) > 0
	}
	for _, s := range t.subs {
		if s.detail == AtCount {
			return true
		}
	}
	return false
}

func (t *topic) publishCount() {
	t.told = time.Now()
	t.published = tally{register{version: t.published.version + 1}, t.newest, t.count}
}

// countFrame returns the frame of the published count.
func (t *topic) countFrame() []byte {
	p := &t.published
	if p.frame == nil {
		p.frame = encode(countFrame(t.Room, p.revision, p.count))
	}
	return p.frame
}

func (t *topic) typingFrame() []byte {
	if t.typing.frame == nil {
		t.typing.frame = encode(typingFrame(t.Room, t.typists))
	}
	return t.typing.frame
}

// markFresh lets those try again who wait for the room whole.
func (t *topic) markFresh() {
	for _, s := range t.subs {
		if s.fresh {
			s.receiver.mark(s)
		}
	}
}

func (t *topic) remove(s *sub) {
	last := t.subs[len(t.subs)-1]
	t.subs[s.place], last.place = last, s.place
	t.subs[len(t.subs)-1] = nil
	t.subs = t.subs[:len(t.subs)-1]
	if len(t.subs) == 0 {
		t.left = time.Now()
	}
}

func encode(frame any) []byte {
	text, err := json.Marshal(frame)
	if err != nil {
		panic("delivery: frames are plain data: " + err.Error())
	}
	return text
}
