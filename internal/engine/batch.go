package engine

import (
	"cmp"
	"crypto/rand"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"tovik.example/tovik/internal/presence"
)

// Revision identifies a state of a room. Run is new at each start of the service and at each new
// life of a room; Number counts the sealed batches in it, from 1. The zero value is the revision
// of a room that does not exist.
type Revision struct {
	Run    string
	Number uint64
}

// String returns the opaque form that goes over the wire.
func (r Revision) String() string {
	if r.Run == "" {
		return ""
	}
	return fmt.Sprintf("%s.%d", r.Run, r.Number)
}

// Previous returns the revision that a batch of this revision follows.
func (r Revision) Previous() Revision { return Revision{Run: r.Run, Number: r.Number - 1} }

// Topic is a room as a view sees it. Each topic has revisions of its own, so that those of the
// open view reveal nothing about hidden people.
type Topic struct {
	Room presence.RoomName
	View presence.View
}

// Batch is what changed in a topic from one revision to the next: at most one entry per person,
// and at least one in all.
type Batch struct {
	Topic
	Revision Revision
	At       time.Time // when it was sealed
	Joined   []presence.Member
	Changed  []presence.Member
	Left     []Departure
	Doing    []presence.Member // only what they are doing has changed
	Count    presence.Count    // after it
	Ended    bool              // the room has ended, and so does the run
	// After is the revision that it follows, if that is not [Revision.Previous]: of another run, or
	// several revisions before.
	After *Revision
}

// Follows returns the revision that the batch follows.
func (b *Batch) Follows() Revision {
	if b.After != nil {
		return *b.After
	}
	return b.Revision.Previous()
}

// Compare adds what has become of a member. Before has no sessions if they were not one.
func (b *Batch) Compare(before, after presence.Member) {
	if before.Sessions == 0 {
		b.Joined = append(b.Joined, after)
		return
	}
	onlyDoing := before
	onlyDoing.Doing = after.Doing
	switch {
	case before == after:
	case onlyDoing == after:
		b.Doing = append(b.Doing, after)
	default:
		b.Changed = append(b.Changed, after)
	}
}

// Size returns how many changes the batch has.
func (b *Batch) Size() int { return len(b.Joined) + len(b.Changed) + len(b.Left) + len(b.Doing) }

// Bare returns how many changes it has for those who do not follow what members are doing.
func (b *Batch) Bare() int { return len(b.Joined) + len(b.Changed) + len(b.Left) }

// Departure is a person's leave of a room.
type Departure struct {
	User     presence.UserID
	Status   presence.Status // of the person, who may be online in other rooms
	Reason   presence.Reason
	LastSeen time.Time
}

// Snapshot is a whole room at a revision.
type Snapshot struct {
	Topic
	Revision Revision
	Members  []presence.Member // by user id
	Count    presence.Count
	Exists   bool
}

// ParseRevision reads what String wrote. It returns false for anything else.
func ParseRevision(text string) (Revision, bool) {
	if text == "" {
		return Revision{}, true
	}
	run, number, ok := strings.Cut(text, ".")
	n, err := strconv.ParseUint(number, 10, 64)
	return Revision{run, n}, ok && run != "" && err == nil
}

// Typists is the set of typists in a topic, in the order in which they began. It is a register:
// only the newest matters, and it has no revision.
type Typists struct {
	Topic
	Users []presence.UserID
}

// Asks are the open asks of a room, the oldest first: a register, the same in both views.
type Asks struct {
	Room presence.RoomName
	Open []presence.OpenAsk
}

// Subject is a person as a view sees them.
type Subject struct {
	User presence.UserID
	View presence.View
}

// Sight is how a view sees a person. It is a register, too.
type Sight struct {
	Subject
	presence.Appearance
	// LastSeen goes with offline; zero when it is not known.
	LastSeen time.Time
}

// feed numbers the batches of one life of a room.
type feed struct {
	topic    Topic
	revision Revision
	sealAt   time.Duration // when the unsealed changes of a busy room are to be sealed
	calmAt   time.Duration // from when on a change is sealed at once
	waiting  bool          // it waits in pending, or in calm
	typing   bool          // who types has changed
	waited   chan struct{} // closed by the next seal; nil without waiters
	unsealed *unsealed     // nil when there is nothing
}

// unsealed are the changes of a feed since its last seal. What a seal empties is reused for the
// next feed, because most rooms are calm most of the time.
type unsealed struct {
	changes []change // in order of a person's first
	index   map[presence.UserID]int
}

// maxSpare limits the memory that is kept for later changes.
const maxSpare = 64

// change is what became of one person since the last seal.
type change struct {
	before, after presence.Member
	reason        presence.Reason
	lastSeen      int64
}

// note gathers a change of a member for the next seal of each topic in which it is seen. Several
// changes of one person become one, from the first state to the last.
func (e *Engine) note(now presence.Instant, m presence.MemberChanged) {
	for _, view := range []presence.View{presence.Full, presence.Open} {
		if m.Views.Has(view) {
			f := e.feed(now, Topic{m.Room, view})
			for _, r := range e.readings[f.topic] {
				r.changed[m.After.User] = struct{}{}
			}
			if f.unsealed == nil {
				f.unsealed = e.fresh()
			}
			f.unsealed.note(m)
		}
	}
}

// noteTyping lets the typists of a room be told at the next seal of each topic.
func (e *Engine) noteTyping(now presence.Instant, t presence.TypingChanged) {
	for _, view := range []presence.View{presence.Full, presence.Open} {
		if t.Views.Has(view) {
			e.feed(now, Topic{t.Room, view}).typing = true
		}
	}
}

// feed returns a topic's feed, which waits to be sealed from now on.
func (e *Engine) feed(now presence.Instant, topic Topic) *feed {
	f := e.feeds[topic]
	if f == nil {
		f = &feed{topic: topic, revision: Revision{Run: e.newRun(topic.View)}}
		e.feeds[topic] = f
	}
	if f.waiting {
		return f
	}
	// A change in a calm room is sealed at once. In a busy one the first change since the last
	// seal opens a window, and all changes in it are sealed together. On a busy machine that
	// first change is late, so there are fewer and larger seals then.
	f.waiting = true
	if now.Mono >= f.calmAt {
		e.calm = append(e.calm, f)
		return f
	}
	f.sealAt = now.Mono + e.window
	at, _ := slices.BinarySearchFunc(e.pending, f.sealAt+1, func(f *feed, at time.Duration) int { return cmp.Compare(f.sealAt, at) })
	e.pending = slices.Insert(e.pending, at, f)
	return f
}

func (e *Engine) fresh() *unsealed {
	n := len(e.spare)
	if n == 0 {
		return &unsealed{index: map[presence.UserID]int{}}
	}
	u := e.spare[n-1]
	e.spare = e.spare[:n-1]
	return u
}

func (u *unsealed) note(m presence.MemberChanged) {
	i, ok := u.index[m.After.User]
	if !ok {
		i = len(u.changes)
		u.index[m.After.User] = i
		u.changes = append(u.changes, change{before: m.Before})
	}
	c := &u.changes[i]
	c.after, c.reason, c.lastSeen = m.After, m.Reason, m.LastSeen
}

// sealCalm seals the feeds of calm rooms, with everything that has just happened in them.
func (e *Engine) sealCalm(now presence.Instant) {
	for _, f := range e.calm {
		e.seal(now, f)
	}
	clear(e.calm)
	e.calm = e.calm[:0]
}

// sealDue seals the feeds that are due. They wait in the order of their seals; those of one
// instant in the order of their first change.
func (e *Engine) sealDue(now presence.Instant) {
	due := 0
	for due < len(e.pending) && e.pending[due].sealAt <= now.Mono {
		e.seal(now, e.pending[due])
		due++
	}
	e.pending = slices.Delete(e.pending, 0, due)
}

// sealNow seals one feed before its window is over.
func (e *Engine) sealNow(now presence.Instant, f *feed) {
	if i := slices.Index(e.pending, f); i >= 0 {
		e.pending = slices.Delete(e.pending, i, i+1)
		e.seal(now, f)
	}
}

// seal makes a batch of a feed's unsealed changes. Opposite changes cancel if they lead back to
// an equal member.
func (e *Engine) seal(now presence.Instant, f *feed) {
	b := &Batch{
		Topic: f.topic, At: now.Wall.UTC(),
		Count: e.core.Count(f.topic.Room, f.topic.View), Ended: !e.core.Exists(f.topic.Room, f.topic.View),
	}
	changes := e.take(f)
	for _, c := range changes {
		switch was, is := c.before.Sessions > 0, c.after.Sessions > 0; {
		case is:
			b.Compare(c.before, c.after)
		case was:
			b.Left = append(b.Left, Departure{User: c.after.User, Status: c.after.Status,
				Reason: c.reason, LastSeen: time.UnixMilli(c.lastSeen).UTC()})
		}
	}
	if b.Ended {
		delete(e.feeds, f.topic)
	}
	if f.waited != nil {
		close(f.waited)
		f.waited = nil
	}
	f.calmAt = now.Mono + e.window
	if len(changes) > 1 {
		f.calmAt += e.window // what was busy has to be calm for longer
	}
	typing := f.typing
	f.waiting, f.typing = false, false
	sealed := any(b)
	if b.Size() > 0 {
		f.revision.Number++
		b.Revision = f.revision
	} else {
		sealed = f.topic
	}
	typists := Typists{Topic: f.topic}
	switch {
	case !typing:
		e.news = append(e.news, sealed)
	case b.Ended: // after its last batch nothing can be told of a room
		e.news = append(e.news, typists, sealed)
	default:
		typists.Users = e.core.Typing(f.topic.Room, f.topic.View)
		e.news = append(e.news, sealed, typists)
	}
}

// take empties a feed. The changes are valid until the next note.
func (e *Engine) take(f *feed) []change {
	u := f.unsealed
	if u == nil {
		return nil
	}
	f.unsealed = nil
	changes := u.changes
	if len(e.spare) < maxSpare {
		u.changes = u.changes[:0]
		clear(u.index)
		e.spare = append(e.spare, u)
	}
	return changes
}

func randomRun(presence.View) string { return rand.Text()[:10] }
