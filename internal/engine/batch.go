package engine

import (
	"crypto/rand"
	"fmt"
	"slices"
	"time"

	"tovik.example/tovik/internal/presence"
)

// Revision says exactly which state of a room a receiver has. Run is new at
// each start of the service and at each new life of a room; Number counts the
// sealed batches in it, from 1. The zero value is the revision of a room that
// nobody is in.
type Revision struct {
	Run    string
	Number uint64
}

// String is the opaque form that goes over the wire.
func (r Revision) String() string {
	if r.Run == "" {
		return ""
	}
	return fmt.Sprintf("%s.%d", r.Run, r.Number)
}

// Previous is the revision that a batch of this revision follows.
func (r Revision) Previous() Revision { return Revision{Run: r.Run, Number: r.Number - 1} }

// Batch is what changed in a room from one revision to the next: at most one
// entry for a person.
type Batch struct {
	Room     presence.RoomName
	Revision Revision
	At       time.Time // when it was sealed
	Joined   []presence.Member
	Changed  []presence.Member
	Left     []Departure
	Count    presence.Count // after it; no people: the room has ended, and so does the run
}

// Departure is a person's leave of a room.
type Departure struct {
	User     presence.UserID
	Status   presence.Status // of the person, who may be online in other rooms
	Reason   presence.Reason
	LastSeen time.Time
}

// Snapshot is a whole room at a revision.
type Snapshot struct {
	Room     presence.RoomName
	Revision Revision
	Members  []presence.Member // by user id
	Count    presence.Count
}

// feed numbers the batches of one life of a room.
type feed struct {
	room     presence.RoomName
	revision Revision
	changes  []change // unsealed, in order of a person's first
	index    map[presence.UserID]int
}

// change is what became of one person since the last seal.
type change struct {
	before, after presence.Member
	reason        presence.Reason
	lastSeen      int64
}

// note gathers a change of a member for the next seal of the room. Several
// changes of one person become one, from the first state to the last.
func (e *Engine) note(now presence.Instant, m presence.MemberChanged) {
	f := e.feeds[m.Room]
	if f == nil {
		f = &feed{room: m.Room, revision: Revision{Run: newRun()}, index: map[presence.UserID]int{}}
		e.feeds[m.Room] = f
	}
	if len(f.changes) == 0 {
		if len(e.pending) == 0 {
			e.sealAt = now.Mono + e.window
		}
		e.pending = append(e.pending, f)
	}
	i, ok := f.index[m.After.User]
	if !ok {
		i = len(f.changes)
		f.index[m.After.User] = i
		f.changes = append(f.changes, change{before: m.Before})
	}
	c := &f.changes[i]
	c.after, c.reason, c.lastSeen = m.After, m.Reason, m.LastSeen
}

func (e *Engine) sealAll(now presence.Instant) {
	for _, f := range e.pending {
		e.seal(now, f)
	}
	clear(e.pending)
	e.pending = e.pending[:0]
}

// sealNow seals one feed before its window is over.
func (e *Engine) sealNow(now presence.Instant, f *feed) {
	if i := slices.Index(e.pending, f); i >= 0 {
		e.pending = slices.Delete(e.pending, i, i+1)
		e.seal(now, f)
	}
}

// seal makes one batch of a feed's unsealed changes and hands it to the sink.
// Opposite changes cancel when they lead back to an equal member.
func (e *Engine) seal(now presence.Instant, f *feed) {
	b := Batch{Room: f.room, At: now.Wall.UTC(), Count: e.core.Count(f.room)}
	for _, c := range f.changes {
		was, is := c.before.Sessions > 0, c.after.Sessions > 0
		switch {
		case !was && is:
			b.Joined = append(b.Joined, c.after)
		case was && !is:
			b.Left = append(b.Left, Departure{User: c.after.User, Status: c.after.Status,
				Reason: c.reason, LastSeen: time.UnixMilli(c.lastSeen).UTC()})
		case was && c.before != c.after:
			b.Changed = append(b.Changed, c.after)
		}
	}
	clear(f.changes)
	f.changes = f.changes[:0]
	clear(f.index)
	if b.Count.People == 0 {
		delete(e.feeds, f.room)
	}
	if len(b.Joined)+len(b.Changed)+len(b.Left) == 0 {
		return
	}
	f.revision.Number++
	b.Revision = f.revision
	e.sink.Take(b)
}

func newRun() string { return rand.Text()[:10] }
