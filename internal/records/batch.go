package records

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"tovik.example/tovik/internal/headcount"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/timing"
)

// What waits at most while nothing can be written.
const (
	maxEntries    = 200_000
	maxDeliveries = 100_000
)

// batch is what waits to be written.
type batch struct {
	writer     *Writer   // nil: of a maker
	totals     *Totals   // nil: nobody counts
	outbox     Deliverer // of a maker; nil: hooks are told nothing
	entries    []journal.Entry
	people     map[personID]*Person
	counts     map[countID]headcount.Row
	typings    map[timing.Typing]int64 // how often, by all else
	deliveries []Delivery
	results    map[int64]Delivery
	lost       map[string]gap // by realm
	since      time.Time      // that the oldest of it waits
}

type personID struct {
	realm string
	user  presence.UserID
}

type countID struct {
	realm string
	room  presence.RoomName
	at    int64
}

// gap is what is missing from the journal.
type gap struct {
	entries  int64
	from, to int64 // Unix milliseconds
}

func (g *gap) add(at int64) {
	if g.entries == 0 {
		g.from = at
	}
	g.entries++
	g.to = at
}

func (g gap) join(other gap) gap {
	switch {
	case g.entries == 0:
		return other
	case other.entries == 0:
		return g
	}
	return gap{g.entries + other.entries, min(g.from, other.from), max(g.to, other.to)}
}

func (b *batch) empty() bool {
	return len(b.entries)+len(b.people)+len(b.counts)+len(b.typings)+len(b.deliveries)+len(b.results)+len(b.lost) == 0
}

func (b *batch) begins() {
	if b.since.IsZero() {
		b.since = time.Now()
	}
}

func (b *batch) entry(e journal.Entry) {
	b.begins()
	if b.totals != nil {
		b.totals.entry(&e)
	}
	b.entries = append(b.entries, e)
}

// person keeps the newest state of somebody, and when they were last seen.
func (b *batch) person(p *Person, user presence.UserID) {
	b.begins()
	id := personID{p.Realm, user}
	if old := b.people[id]; old != nil {
		p.follows(old)
	}
	b.people[id] = p
}

// firstSeen notes when somebody came, who may have left again before they were saved.
func (b *batch) firstSeen(realm string, user presence.UserID, at int64) {
	if p := b.people[personID{realm, user}]; p != nil && p.FirstSeen == 0 {
		p.FirstSeen = at
	}
}

func (b *batch) profile(realm string, user presence.UserID, profile presence.Profile) {
	if p := b.people[personID{realm, user}]; p != nil {
		p.Name, p.Picture = cmp.Or(p.Name, profile.Name), cmp.Or(p.Picture, profile.Picture)
	}
}

// lastSeen notes when a person of this batch was last seen.
func (b *batch) lastSeen(realm string, user presence.UserID, full, open int64) {
	if p := b.people[personID{realm, user}]; p != nil {
		p.LastSeen, p.LastSeenOpen = max(p.LastSeen, full), max(p.LastSeenOpen, open)
	}
}

func (b *batch) headcount(h headcount.Row) {
	b.begins()
	b.counts[countID{h.Realm, h.Room, h.At}] = h
}

// typing counts typing that has ended.
func (b *batch) typing(t timing.Typing) {
	b.begins()
	times := t.Times
	t.Times = 0
	b.typings[t] += times
}

// announce adds the deliveries that hooks want for an announcement.
func (b *batch) announce(a *journal.Announcement) {
	outbox := b.outbox
	if b.writer != nil && b.writer.outbox != nil {
		outbox = b.writer.outbox
	}
	if outbox == nil {
		return
	}
	for _, d := range outbox.Deliveries(a) {
		if b.writer != nil { // otherwise the id follows from the order of the log
			d.ID = b.writer.nextDelivery
			b.writer.nextDelivery++
		}
		b.begins()
		b.deliveries = append(b.deliveries, d)
	}
}

// miss counts entries that are lost.
func (b *batch) miss(realm string, g gap) {
	if g.entries == 0 {
		return
	}
	b.begins()
	b.lost[realm] = b.lost[realm].join(g)
	b.writer.mu.Lock()
	defer b.writer.mu.Unlock()
	b.writer.health.Lost += g.entries
}

// bound drops the oldest entries and deliveries beyond the limits.
func (b *batch) bound() {
	if over := len(b.entries) - b.writer.most; over > 0 {
		for _, e := range b.entries[:over] {
			b.miss(e.Realm, gap{1, e.At, e.At})
		}
		b.entries = slices.Delete(b.entries, 0, over)
	}
	if over := len(b.deliveries) - maxDeliveries; over > 0 {
		b.deliveries = slices.Delete(b.deliveries, 0, over)
		b.writer.mu.Lock()
		defer b.writer.mu.Unlock()
		b.writer.health.LostDeliveries += int64(over)
	}
}

// numbered numbers the entries from first on, with an entry for each gap before them.
func (b *batch) numbered(first int64) []journal.Entry {
	entries := b.entries
	if len(b.lost) > 0 {
		entries = b.withGaps()
	}
	for i := range entries {
		entries[i].ID = first + int64(i)
	}
	return entries
}

func (b *batch) withGaps() []journal.Entry {
	entries := make([]journal.Entry, 0, len(b.entries)+len(b.lost))
	for _, realm := range slices.Sorted(maps.Keys(b.lost)) {
		g := b.lost[realm]
		entries = append(entries, journal.Entry{At: g.to, Realm: realm, Kind: journal.Gap, Lost: g.entries, Length: g.to - g.from, Open: true})
	}
	return append(entries, b.entries...)
}
