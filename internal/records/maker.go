package records

import (
	"cmp"
	"maps"
	"slices"
	"sync"
	"time"

	"tovik.example/tovik/internal/headcount"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/timing"
)

// Rows are what an owner makes of what happens in a realm, as plain data. Every node puts them into
// its file ([Store.Put]).
type Rows struct {
	Realm   string          `json:"realm,omitempty"`
	Entries []journal.Entry `json:"entries,omitempty"` // without ids, which follow from the order of the log
	People  []Person        `json:"people,omitempty"`
	Counts  []headcount.Row `json:"counts,omitempty"`
	Typings []timing.Typing `json:"typings,omitempty"` // to be added to what is there
	Hooked  []Delivery      `json:"hooked,omitempty"`  // deliveries, without ids
	Tried   []Delivery      `json:"tried,omitempty"`   // deliveries with their outcomes
	Run     *Run            `json:"run,omitempty"`     // since when, and until when, the owner has been one
	Changes []Change        `json:"changes,omitempty"` // what commands change
	Tidy    *Tidy           `json:"tidy,omitempty"`
}

// Empty reports whether there are no rows.
func (r *Rows) Empty() bool { return r.Size() == 0 }

// Size returns the number of rows.
func (r *Rows) Size() int {
	size := len(r.Entries) + len(r.People) + len(r.Counts) + len(r.Typings) + len(r.Hooked) + len(r.Tried) + len(r.Changes)
	if r.Run != nil {
		size++
	}
	if r.Tidy != nil {
		size++
	}
	return size
}

// Maker makes the rows of a realm for an owner. It is the [engine.Recorder] of the owner's engine,
// and used by one goroutine at a time, apart from [Maker.Result] and [Maker.Tidy].
type Maker struct {
	*folding
	outbox  Deliverer
	totals  *Totals
	run     *Run
	pending []happening
	touched map[presence.UserID]struct{}
	counted int64 // when the headcounts of the present minute were last taken
	minute  int64 // when rows were last made, in minutes

	mu    sync.Mutex
	tried []Delivery
	tidy  *Tidy
}

// Deliverer makes deliveries out of announcements. It does not block.
type Deliverer interface {
	// Deliveries returns what hooks want to be told about an announcement.
	Deliveries(*journal.Announcement) []Delivery
}

// MakerOptions are what a Maker is made of. Realm and From are required.
type MakerOptions struct {
	Realm  string
	From   time.Time
	Minute []headcount.Row // headcounts of the present minute that are on record
	Run    int64           // the id of the owner's run; 0: it is not written
	Outbox Deliverer       // nil: hooks are told nothing
	Totals *Totals         // nil: nobody counts
}

// NewMaker returns the maker of a realm from a time on.
func NewMaker(o MakerOptions) *Maker {
	m := &Maker{folding: newFolding(o.Realm, o.From), outbox: o.Outbox, totals: o.Totals, touched: map[presence.UserID]struct{}{}}
	if o.Run > 0 {
		m.run = &Run{ID: o.Run, Started: o.From.UnixMilli()}
	}
	m.counter.Continue(o.Minute)
	return m
}

// Result takes the outcome of a delivery.
func (m *Maker) Result(d Delivery) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.tried = append(m.tried, d)
}

// Tidy takes what the next rows delete.
func (m *Maker) Tidy(t *Tidy) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.tidy = t
}

// Record implements [engine.Recorder].
func (m *Maker) Record(at time.Time, effects []presence.Effect, touched []presence.UserID) {
	m.take(at, effects, touched, false)
}

// Restored implements [engine.Recorder].
func (m *Maker) Restored(at time.Time, effects []presence.Effect, touched []presence.UserID) {
	m.take(at, effects, touched, true)
}

func (m *Maker) take(at time.Time, effects []presence.Effect, touched []presence.UserID, restored bool) {
	for _, effect := range effects {
		if recorded(effect) {
			m.pending = append(m.pending, happening{at: at.UnixMilli(), effect: effect, restored: restored})
		}
	}
	for _, user := range touched {
		m.touched[user] = struct{}{}
	}
}

// Pending reports whether there is something to make rows of. Once a minute there always is: headcounts, and
// the sign of life of the owner.
func (m *Maker) Pending(at time.Time) bool {
	if len(m.pending)+len(m.touched) > 0 || m.run != nil && at.UnixMilli()/int64(headcount.Minute) != m.minute {
		return true
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	return len(m.tried) > 0 || m.tidy != nil
}

// Rows returns the rows of everything that has happened, a [*Rows]. Save returns what must survive of
// a person. The same history makes the same rows, in the same order.
func (m *Maker) Rows(at time.Time, save func(presence.UserID) (presence.SavedPerson, bool)) any {
	b := newBatch(m.totals)
	b.outbox = m.outbox
	m.batch = b
	m.minute = at.UnixMilli() / int64(headcount.Minute)
	for _, user := range slices.Sorted(maps.Keys(m.touched)) {
		saved, _ := save(user)
		b.person(m.person(saved), user)
	}
	clear(m.touched)
	rows := &Rows{Realm: m.realm}
	for i := range m.pending {
		h := &m.pending[i]
		if removed, ok := h.effect.(presence.PersonRemoved); ok && !h.restored {
			rows.Changes = append(rows.Changes, Change{Remove: &Removal{Realm: m.realm, User: removed.User, Room: removed.Room, At: time.UnixMilli(removed.Refused).UTC()}})
		}
		m.digest(h, b)
	}
	clear(m.pending)
	m.pending = m.pending[:0]
	m.counter.Roll(at.UnixMilli(), b.headcount)
	if at.UnixMilli()-m.counted >= countEvery.Milliseconds() {
		m.counted = at.UnixMilli()
		m.counter.SoFar(at.UnixMilli(), b.headcount)
	}
	rows.Entries, rows.Hooked = b.entries, b.deliveries
	if m.run != nil {
		m.run.Mark = at.UnixMilli()
		run := *m.run
		rows.Run = &run
	}
	m.mu.Lock()
	rows.Tried, rows.Tidy, m.tried, m.tidy = m.tried, m.tidy, nil, nil
	m.mu.Unlock()
	for _, id := range slices.SortedFunc(maps.Keys(b.people), func(p, q personID) int { return cmp.Compare(p.user, q.user) }) {
		rows.People = append(rows.People, *b.people[id])
	}
	for _, id := range slices.SortedFunc(maps.Keys(b.counts), func(p, q countID) int {
		return cmp.Or(cmp.Compare(p.room, q.room), cmp.Compare(p.at, q.at))
	}) {
		rows.Counts = append(rows.Counts, b.counts[id])
	}
	for t, times := range b.typings {
		t.Times = times
		rows.Typings = append(rows.Typings, t)
	}
	slices.SortFunc(rows.Typings, func(p, q timing.Typing) int {
		return cmp.Or(cmp.Compare(p.Room, q.Room), cmp.Compare(p.Hour, q.Hour), cmp.Compare(p.Length, q.Length), compareBool(p.Expired, q.Expired))
	})
	return rows
}

func compareBool(p, q bool) int {
	switch {
	case p == q:
		return 0
	case q:
		return -1
	}
	return 1
}
