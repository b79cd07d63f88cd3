package realm

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tovik.example/tovik/internal/headcount"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

const (
	// piece is the number of entries read at a time.
	piece = 1000
	// mostUsers limits the people in one query of the journal.
	mostUsers = 100
	// lately is how many of the last entries others are put together with.
	lately = 300
	// mostSteps limits the steps in one answer.
	mostSteps = 5000
)

func tooManyPeople(most int) error {
	return problem.BadField("user", "", "too many people for one answer", fmt.Sprintf("at most %d", most))
}

// JournalQuery selects entries of the journal. Zero fields do not restrict it.
type JournalQuery struct {
	From, To time.Time // from From on, before To
	Rooms    []string  // patterns
	Users    []string
	Kinds    []string
	After    int64 // only entries with a higher id
	Before   int64 // only entries with a lower id
	ByCause  bool  // put entries of one cause together
}

// Entries is a checked [JournalQuery].
type Entries struct {
	desk    Desk
	q       records.JournalQuery
	byCause bool
}

// ByCause reports whether entries of one cause are put together.
func (e *Entries) ByCause() bool { return e.byCause }

// Journal checks a query, and returns its entries.
func (d Desk) Journal(q JournalQuery) (*Entries, error) {
	e := &Entries{d, records.JournalQuery{Realm: d.realm.name, From: q.From, To: q.To, After: q.After, Before: q.Before}, q.ByCause}
	var err error
	if e.q.Rooms, err = d.patterns(q.Rooms); err != nil {
		return nil, err
	}
	if len(q.Users) > mostUsers {
		return nil, tooManyPeople(mostUsers)
	}
	if q.Users != nil {
		if e.q.Users, err = usersOf(q.Users); err != nil {
			return nil, err
		}
	}
	for _, word := range q.Kinds {
		kind := journal.Kind(word)
		if !slices.Contains(journal.Kinds, kind) {
			return nil, problem.BadField("kind", word, "unknown kind of entry", kindList())
		}
		e.q.Kinds = append(e.q.Kinds, kind)
	}
	return e, nil
}

func kindList() string {
	words := make([]string, len(journal.Kinds))
	for i, kind := range journal.Kinds {
		words[i] = string(kind)
	}
	return strings.Join(words, ", ")
}

// Page returns up to limit entries: the first ones if the query has From or After, otherwise
// the last ones.
func (e *Entries) Page(ctx context.Context, limit int) (wire.Journal, error) {
	q := e.q
	q.Backward = q.After == 0 && (q.Before != 0 || q.From.IsZero())
	page, err := e.desk.realm.store.Journal(ctx, q, limit+1)
	if err != nil {
		return wire.Journal{}, err
	}
	more := len(page) > limit
	page = page[:min(limit, len(page))]
	if q.Backward {
		slices.Reverse(page)
	}
	doc := wire.Journal{Entries: entryDocuments(page)}
	if len(page) > 0 {
		if q.Backward && more || !q.Backward && q.After != 0 {
			doc.Older = page[0].ID
		}
		if !q.Backward && more || q.Backward && q.Before != 0 {
			doc.Newer = page[len(page)-1].ID
		}
	}
	if e.byCause {
		doc.Lines, doc.Entries = journal.LinesOf(doc.Entries), []wire.Record{}
		return doc, e.Name(ctx, doc.Lines)
	}
	return doc, nil
}

// Name fills in the names of the people of lines, from the directory.
func (e *Entries) Name(ctx context.Context, lines []wire.JournalLine) error {
	users := make([]string, len(lines))
	for i := range lines {
		users[i] = lines[i].User
	}
	names, err := e.desk.realm.names(ctx, users)
	for i := range lines {
		lines[i].Name = names[presence.UserID(lines[i].User)]
	}
	return err
}

// Each calls the function with all entries in order, piece by piece, until it returns an
// error. A second call continues after the last piece.
func (e *Entries) Each(ctx context.Context, call func([]wire.Record) error) error {
	var failed error
	err := e.desk.realm.store.EachEntry(ctx, e.q, piece, func(page []journal.Entry) bool {
		if failed = call(entryDocuments(page)); len(page) > 0 {
			e.q.After = page[len(page)-1].ID
		}
		return failed == nil
	})
	if err == nil {
		err = failed
	}
	return err
}

// FromNow leaves out all present entries, unless the query has From or After.
func (e *Entries) FromNow(ctx context.Context) error {
	if e.q.After != 0 || !e.q.From.IsZero() {
		return nil
	}
	_, last, err := e.desk.realm.store.JournalEnds(ctx)
	e.q.After = last
	return err
}

// Lately returns the last entries before those that Each would call with, for what comes to be put
// together with them.
func (e *Entries) Lately(ctx context.Context) ([]wire.Record, error) {
	q := e.q
	q.From, q.To, q.After, q.Before, q.Backward = time.Time{}, time.Time{}, 0, e.q.After+1, true
	page, err := e.desk.realm.store.Journal(ctx, q, lately)
	slices.Reverse(page)
	return entryDocuments(page), err
}

// After leaves out all entries up to an id.
func (e *Entries) After(id int64) { e.q.After = id }

// Written returns a channel that closes when entries are written. Call it before reading the
// entries, so that none is missed in between.
func (e *Entries) Written() <-chan struct{} { return e.desk.Written() }

func entryDocuments(page []journal.Entry) []wire.Record {
	list := make([]wire.Record, len(page))
	for i := range page {
		list[i] = page[i].Record()
	}
	return list
}

// Written returns a channel that closes when something is written into the records.
func (d Desk) Written() <-chan struct{} {
	if d.realm.elsewhere != nil {
		return d.realm.store.Written()
	}
	return d.realm.writer.Written()
}

// Attendance returns who was in a room between two times, in the order in which they joined.
// For an empty name it returns who had sessions.
func (d Desk) Attendance(ctx context.Context, name string, from, to time.Time) (wire.Attendance, error) {
	room, err := d.roomOrRealm(name)
	if err != nil {
		return wire.Attendance{}, err
	}
	r := d.realm
	stays, err := r.store.Attendance(ctx, r.name, room, from, to, r.here(room))
	if err != nil {
		return wire.Attendance{}, err
	}
	doc := wire.Attendance{Room: string(room), From: wire.Time{Time: from}, To: wire.Time{Time: to}, Stays: make([]wire.Stay, 0, len(stays))}
	for _, s := range stays {
		stay := wire.Stay{User: string(s.User), Joined: wire.Time{Time: time.UnixMilli(s.Joined)}}
		if s.Left != 0 {
			stay.Left = &wire.Time{Time: time.UnixMilli(s.Left)}
		}
		doc.Stays = append(doc.Stays, stay)
	}
	if err := r.nameStays(ctx, doc.Stays); err != nil {
		return wire.Attendance{}, err
	}
	slices.SortStableFunc(doc.Stays, func(x, y wire.Stay) int { return x.Joined.Compare(y.Joined.Time) })
	return doc, nil
}

// here returns the people who are in a room now, or online for an empty room, and since when.
func (r *Realm) here(room presence.RoomName) (stays []records.Stay) {
	if room != "" {
		for _, m := range r.core.MembersNow(room) {
			stays = append(stays, records.Stay{User: m.User, Joined: m.Since.UnixMilli()})
		}
		return stays
	}
	for _, p := range r.core.Everybody() {
		for _, s := range p.Sessions {
			stays = append(stays, records.Stay{User: p.User, Joined: s.Opened})
		}
	}
	return stays
}

// nameStays fills in names from the directory.
func (r *Realm) nameStays(ctx context.Context, stays []wire.Stay) error {
	users := make([]string, len(stays))
	for i := range stays {
		users[i] = stays[i].User
	}
	names, err := r.names(ctx, users)
	for i := range stays {
		stays[i].Name = names[presence.UserID(stays[i].User)]
	}
	return err
}

// names returns the names that the directory has of people.
func (r *Realm) names(ctx context.Context, users []string) (map[presence.UserID]string, error) {
	names := map[presence.UserID]string{}
	for _, user := range users {
		names[presence.UserID(user)] = ""
	}
	delete(names, "")
	for part := range slices.Chunk(slices.Sorted(maps.Keys(names)), MostAsked) {
		people, err := r.store.People(ctx, records.PeopleQuery{Realm: r.name, Users: part, Limit: len(part)})
		if err != nil {
			return names, err
		}
		for _, p := range people {
			names[p.User] = p.Name
		}
	}
	return names, nil
}

// steps are the steps of headcounts, with their length and the default time span.
var steps = map[string]struct {
	step headcount.Step
	ago  time.Duration
}{
	"minute": {headcount.Minute, time.Hour}, "hour": {headcount.Hour, 48 * time.Hour}, "day": {headcount.Day, 30 * 24 * time.Hour},
}

// StepSpan returns the default time span of headcounts with a step.
func StepSpan(step string) (time.Duration, error) {
	s, ok := steps[step]
	if !ok {
		return 0, problem.BadField("step", step, "unknown step", "minute, hour, day")
	}
	return s.ago, nil
}

// HeadcountQuery asks for the number of people in a room, or in the realm, step by step.
type HeadcountQuery struct {
	Room     string // empty: the whole realm
	Step     string // minute, hour, day
	From, To time.Time
	Top      int // only that many steps with the most people; 0: all, in order of time
}

// Headcounts returns the number of people in a room, or in the realm, step by step.
func (d Desk) Headcounts(ctx context.Context, q HeadcountQuery) (wire.Headcounts, error) {
	room, err := d.roomOrRealm(q.Room)
	if err != nil {
		return wire.Headcounts{}, err
	}
	if _, err := StepSpan(q.Step); err != nil {
		return wire.Headcounts{}, err
	}
	asked := records.HeadcountQuery{Realm: d.realm.name, Room: room, Step: steps[q.Step].step, From: q.From, To: q.To, Most: mostSteps}
	read := d.realm.store.Headcounts
	if q.Top > 0 {
		asked.Most, read = q.Top, d.realm.store.Peaks
	}
	rows, err := read(ctx, asked)
	if err != nil {
		return wire.Headcounts{}, err
	}
	doc := wire.Headcounts{Room: string(room), Step: q.Step, Steps: make([]wire.Headcount, len(rows))}
	for i := range rows {
		doc.Steps[i] = headcountDocument(&rows[i])
	}
	if end := asked.Step.Begin(q.From.UnixMilli()) + mostSteps*int64(asked.Step); q.Top == 0 && end < q.To.UnixMilli() {
		doc.Next = &wire.Time{Time: time.UnixMilli(end)}
	}
	return doc, nil
}

func headcountDocument(h *headcount.Row) wire.Headcount {
	mean := func(sum int64) float64 {
		if h.Span == 0 {
			return 0
		}
		return float64(sum*1000/h.Span) / 1000
	}
	return wire.Headcount{
		At:       wire.Time{Time: time.UnixMilli(h.At)},
		People:   wire.Spread{Min: h.PeopleMin, Max: h.PeopleMax, Mean: mean(h.PeopleTime)},
		Sessions: wire.Spread{Min: h.SessionsMin, Max: h.SessionsMax, Mean: mean(h.SessionsTime)},
		Distinct: h.Visitors, Joins: h.Joins, Leaves: h.Leaves, PeakAt: wire.Time{Time: time.UnixMilli(h.Peak)}, Measured: h.Span,
	}
}
