package nodes

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
)

// table is a host's rows: plain data, or a file of the service.
type table interface {
	cluster.Records
	// put puts the rows of records that apply, and notes the position after them.
	put(after cluster.Position, records []cluster.Record)
	maker(cluster.Realm, time.Time) cluster.Maker
	// text returns everything in the table, for comparison.
	text() string
	close()
}

// plain is a table of plain data.
type plain struct {
	people   map[cluster.Realm]map[presence.UserID]presence.SavedPerson
	sessions map[presence.SessionID]bool
	changes  []string
}

// plainRows are the people who have changed, and those of whom nothing is left.
type plainRows struct {
	people []presence.SavedPerson
	gone   []presence.UserID
}

func newPlain() *plain {
	return &plain{people: map[cluster.Realm]map[presence.UserID]presence.SavedPerson{}, sessions: map[presence.SessionID]bool{}}
}

// State implements [cluster.Records].
func (p *plain) State(realm cluster.Realm) presence.Saved {
	saved := presence.Saved{Version: presence.SavedVersion}
	for _, user := range slices.Sorted(maps.Keys(p.people[realm])) {
		saved.People = append(saved.People, p.people[realm][user])
	}
	return saved
}

// Confirmed implements [cluster.Records].
func (p *plain) Confirmed(_ cluster.Realm, session presence.SessionID) bool {
	return p.sessions[session]
}

func (p *plain) put(_ cluster.Position, records []cluster.Record) {
	for _, r := range records {
		if p.people[r.Realm] == nil {
			p.people[r.Realm] = map[presence.UserID]presence.SavedPerson{}
		}
		for _, change := range r.Changes {
			p.changes = append(p.changes, fmt.Sprint(change))
		}
		rows, ok := r.Rows.(*plainRows)
		if !ok {
			continue
		}
		for _, person := range rows.people {
			p.people[r.Realm][person.User] = person
			for _, s := range person.Sessions {
				p.sessions[s.ID] = true
			}
		}
		for _, user := range rows.gone {
			delete(p.people[r.Realm], user)
		}
	}
}

func (p *plain) text() string {
	text, err := json.Marshal(p.people)
	if err != nil {
		panic(err)
	}
	return fmt.Sprint(string(text), p.changes)
}

func (p *plain) close() {}

func (p *plain) maker(cluster.Realm, time.Time) cluster.Maker {
	return &plainMaker{touched: map[presence.UserID]bool{}}
}

// plainMaker is a maker of [plainRows].
type plainMaker struct{ touched map[presence.UserID]bool }

// Record implements [engine.Recorder].
func (m *plainMaker) Record(_ time.Time, _ []presence.Effect, touched []presence.UserID) {
	for _, user := range touched {
		m.touched[user] = true
	}
}

// Restored implements [engine.Recorder].
func (m *plainMaker) Restored(at time.Time, effects []presence.Effect, touched []presence.UserID) {
	m.Record(at, effects, touched)
}

// Pending implements [cluster.Maker].
func (m *plainMaker) Pending() bool { return len(m.touched) > 0 }

// Rows implements [cluster.Maker].
func (m *plainMaker) Rows(_ time.Time, save func(presence.UserID) (presence.SavedPerson, bool)) any {
	rows := &plainRows{}
	for _, user := range slices.Sorted(maps.Keys(m.touched)) {
		if saved, known := save(user); known {
			rows.people = append(rows.people, saved)
		} else {
			rows.gone = append(rows.gone, user)
		}
	}
	clear(m.touched)
	return rows
}

// file is a table in a file of the service, as in production: rows go through the form that they have
// in the log.
type file struct {
	dir   string
	store *records.Store
	at    records.Position
}

func newFile(dir string) *file {
	store, err := records.Open(dir)
	if err != nil {
		panic(err)
	}
	return &file{dir: dir, store: store, at: records.Position{Log: "the-rehearsal"}}
}

func realmName(realm cluster.Realm) string { return fmt.Sprint("aldermoor-", realm) }

// State implements [cluster.Records].
func (f *file) State(realm cluster.Realm) presence.Saved {
	saved, err := f.store.State(realmName(realm))
	if err != nil {
		panic(err)
	}
	return saved
}

// Confirmed implements [cluster.Records].
func (f *file) Confirmed(realm cluster.Realm, session presence.SessionID) bool {
	opened, err := f.store.Opened(realmName(realm), session)
	if err != nil {
		panic(err)
	}
	return opened
}

func (f *file) put(_ cluster.Position, list []cluster.Record) {
	var rows []records.Rows
	for _, r := range list {
		text, err := json.Marshal(r.Rows)
		if err != nil {
			panic(err)
		}
		f.at = f.at.Next(text)
		var decoded records.Rows
		if err := json.Unmarshal(text, &decoded); err != nil {
			panic(err)
		}
		for _, change := range r.Changes {
			decoded.Changes = append(decoded.Changes, change.(records.Change))
		}
		rows = append(rows, decoded)
	}
	if err := f.store.Put(f.at, rows); err != nil {
		panic(err)
	}
}

func (f *file) maker(realm cluster.Realm, at time.Time) cluster.Maker {
	minute := at.Truncate(time.Minute).UnixMilli()
	rows, err := f.store.Minute(realmName(realm), minute)
	if err != nil {
		panic(err)
	}
	return records.NewMaker(realmName(realm), at, rows)
}

// text returns the position only: files are compared by [file.differs].
func (f *file) text() string { return fmt.Sprintf("%x", f.at.Hash) }

func (f *file) differs(other *file) (differ []string) {
	findings, err := records.Compare(context.Background(), f.dir, other.dir)
	if err != nil {
		return []string{err.Error()}
	}
	for _, is := range findings {
		if is.Wrong {
			differ = append(differ, is.What+": "+is.Detail)
		}
	}
	return differ
}

func (f *file) close() {
	if err := f.store.Close(); err != nil && !errors.Is(err, context.Canceled) {
		panic(err)
	}
}

// sessionsIn returns the sessions that a record has.
func sessionsIn(r cluster.Record) (sessions []presence.SavedSession) {
	switch rows := r.Rows.(type) {
	case *plainRows:
		for _, p := range rows.people {
			sessions = append(sessions, p.Sessions...)
		}
	case *records.Rows:
		for i := range rows.People {
			saved, err := rows.People[i].Saved()
			if err != nil {
				panic(err)
			}
			sessions = append(sessions, saved.Sessions...)
		}
	}
	return sessions
}

var _ engine.Recorder = (*plainMaker)(nil)
