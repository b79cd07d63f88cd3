package delivery

import (
	"slices"
	"sync"
	"time"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// ringSize is how many batches a receiver may lag behind before it gets a snapshot instead.
const ringSize = 32

// forgetAfter is how long a room that nobody follows keeps its changes for followers who return.
const forgetAfter = time.Minute

// topic is a followed room, as a view sees it. It outlasts the room while it has followers.
type topic struct {
	engine.Topic

	mu     sync.Mutex
	policy *presence.RoomPolicy
	subs   []*sub
	newest engine.Revision // zero when no batch has come yet
	bare   engine.Revision // of the last batch that was not about doing alone
	came   time.Time       // when it did
	count  presence.Count  // at it
	exists bool            // somebody is in the room, as far as has been seen
	ring   []batch         // what led to newest, the oldest first
	left   time.Time       // when the last follower went
	gone   bool            // the hub has forgotten it
	kept   bool            // it is among those that keep something
	big    bool            // too many people to be told one by one

	snapshot *frame           // at the newest revision; nil when none has been made
	sparse   *frame           // the same without what members are doing
	whole    *engine.Snapshot // the same, as long as somebody follows the first members only
	first    firsts
	countNow *frame // the same of the count
	pins     []*pin // whole states of a big room, the newest last
	pinning  pinning

	published tally     // what those who follow the count have, or will
	told      time.Time // when it was published
	due       time.Time // when a newer one is to be; zero when there is none
	waiting   bool      // it is in the hub's postponements

	typists []presence.UserID
	typing  register

	asks   []presence.OpenAsk
	asking register
}

// register holds a value of which only the newest matters.
type register struct {
	version uint64 // 0: nothing to tell yet
	frame   *frame // nil until first needed
}

// tally is a published count.
type tally struct {
	register
	revision engine.Revision
	count    presence.Count
}

// newestCount returns the frame of the present count, published or not.
func (t *topic) newestCount() *frame {
	if t.countNow == nil {
		revision, count := t.newest, t.count
		if !t.exists {
			revision = engine.Revision{}
		}
		t.countNow = &frame{of: func() any { return countFrame(t.Room, revision, count) }}
	}
	return t.countNow
}

// batch is a sealed batch that a receiver may still need.
type batch struct {
	*engine.Batch
	after engine.Revision // that it follows
	came  time.Time       // when it was sealed

	// For those who do not follow what members are doing:
	tells bool            // it has something for them
	same  bool            // it is the same for them
	bare  engine.Revision // that it follows then

	changes, sparse *frame // nil until first needed: most rooms have few followers, or none
}

// frame returns the frame of the batch, sparse or not; nil if there is nothing to tell. The lock of the
// topic is held.
func (b *batch) frame(sparse bool) *frame {
	what, prev, of := &b.changes, b.after, b.Batch
	switch {
	case sparse && !b.tells:
		return nil
	case sparse && !b.same:
		what, prev = &b.sparse, b.bare
	default:
		sparse = false
	}
	if *what == nil {
		*what = &frame{of: func() any { return changesFrame(of, prev, sparse) }}
	}
	return *what
}

func (t *topic) add(b *engine.Batch, now time.Time) {
	after := b.Follows()
	if after != t.newest {
		t.ring, t.pins, t.bare = nil, nil, engine.Revision{Run: b.Revision.Run} // another run
	}
	t.newest, t.count, t.exists, t.came = b.Revision, b.Count, !b.Ended, now
	t.snapshot, t.sparse, t.countNow, t.whole, t.first = nil, nil, nil, nil, nil
	t.forget(now)
	if len(t.ring) == ringSize {
		copy(t.ring, t.ring[1:])
		t.ring = t.ring[:ringSize-1]
	}
	next := batch{Batch: b, after: after, came: now}
	if b.Bare() > 0 || after.Run != b.Revision.Run {
		next.tells, next.bare, t.bare = true, t.bare, b.Revision
		next.same = next.bare == after && len(b.Doing) == 0 && !anyDoing(b)
	}
	t.ring = append(t.ring, next)
	t.grow(b.Count.People)
}

// forget drops batches that are too old for followers who return. In the open view this depends
// on time alone, so that it does not reveal who follows the room; in the full view, a room that
// nobody follows keeps nothing.
func (t *topic) forget(now time.Time) {
	if t.View == presence.Full && len(t.subs) == 0 && now.Sub(t.left) > forgetAfter {
		t.ring = nil
		return
	}
	if now.Sub(t.came) > forgetAfter { // they are made anew when somebody comes
		t.snapshot, t.sparse, t.countNow = nil, nil, nil
	}
	old := 0
	for old < len(t.ring) && now.Sub(t.ring[old].came) > forgetAfter {
		old++
	}
	if old > 0 {
		t.ring = append([]batch(nil), t.ring[old:]...)
	}
}

// settleCount publishes a count that became due while no receiver waited for it.
func (t *topic) settleCount(now time.Time) {
	if !t.due.IsZero() && !t.waiting && !t.due.After(now) {
		t.publishCount(t.due)
	}
}

// grow notes whether the room is big. It becomes small again only well below the bound, so that
// a room at the bound does not change back and forth.
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
	t.pinning.wanted = t.pinsItself()
}

// place returns the place in the ring of the batch that follows a revision; that of the newest is the
// length of the ring. It returns false if the ring does not lead on from the revision.
func (t *topic) place(revision engine.Revision) (int, bool) {
	if revision == t.newest {
		return len(t.ring), true
	}
	if len(t.ring) == 0 {
		return 0, false
	}
	// Within a run, batches follow one another.
	if first := t.ring[0].after; revision.Run == first.Run && revision.Number >= first.Number {
		if i := revision.Number - first.Number; i < uint64(len(t.ring)) && t.ring[i].after == revision {
			return int(i), true
		}
	}
	i := slices.IndexFunc(t.ring, func(b batch) bool { return b.after == revision })
	return i, i >= 0
}

// has tells whether the ring leads from a revision to the newest one. Batches that are too old
// do not count, even if they are still there.
func (t *topic) has(revision engine.Revision) bool {
	i, ok := t.place(revision)
	return ok && (i == len(t.ring) || time.Since(t.ring[i].came) <= forgetAfter)
}

func anyDoing(b *engine.Batch) bool {
	does := func(m presence.Member) bool { return m.Doing != "" }
	return slices.ContainsFunc(b.Joined, does) || slices.ContainsFunc(b.Changed, does)
}

// since calls each with the frames that lead from a revision to the newest one, sparse or not.
// The topic must have the revision.
func (t *topic) since(revision engine.Revision, sparse bool, each func(prev engine.Revision, f *frame)) {
	place, _ := t.place(revision)
	for i := range t.ring[place:] {
		b := &t.ring[place+i]
		if f := b.frame(sparse); f != nil {
			each(b.after, f)
		}
	}
}

// lag returns how many changes since would append.
func (t *topic) lag(revision engine.Revision) (size int) {
	place, _ := t.place(revision)
	for _, b := range t.ring[place:] {
		size += b.Size()
	}
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

func (t *topic) publishCount(at time.Time) {
	t.told, t.due = at, time.Time{}
	t.published = tally{register{version: t.published.version + 1}, t.newest, t.count}
}

// publishedCount returns the frame of the published count.
func (t *topic) publishedCount() *frame {
	p := &t.published
	if p.frame == nil {
		revision, count := p.revision, p.count
		p.frame = &frame{of: func() any { return countFrame(t.Room, revision, count) }}
	}
	return p.frame
}

func (t *topic) typingNow() *frame {
	if t.typing.frame == nil {
		typists := t.typists
		t.typing.frame = &frame{of: func() any { return typingFrame(t.Room, typists) }}
	}
	return t.typing.frame
}

// keep keeps the members at the newest revision, if somebody follows the first of them only.
func (t *topic) keep(s engine.Snapshot) {
	for _, sub := range t.subs {
		if sub.limit > 0 {
			t.whole = &s
			return
		}
	}
}

// firstOf returns the frame of a part of the members, at the newest revision; nil if they are not
// known.
func (t *topic) firstOf(of part) *frame {
	if t.whole == nil {
		return nil
	}
	whole := *t.whole
	if of.sparse {
		whole.Revision = t.bare
	}
	return t.first.of(whole, of)
}

func (t *topic) asksNow() *frame {
	if t.asking.frame == nil {
		asks := t.asks
		t.asking.frame = &frame{of: func() any { return asksFrame(t.Room, asks) }}
	}
	return t.asking.frame
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
