package inmemory

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/presence"
)

// Records are a node's rows: people, sessions that were opened, and changes of commands. They are
// [cluster.Records], and used by one goroutine at a time.
type Records struct {
	people   map[cluster.Realm]map[presence.UserID]presence.SavedPerson
	sessions map[presence.SessionID]bool
	changes  []string
}

// Rows are the people who have changed, and those of whom nothing is left.
type Rows struct {
	People []presence.SavedPerson
	Gone   []presence.UserID
}

// NewRecords returns empty records.
func NewRecords() *Records {
	return &Records{people: map[cluster.Realm]map[presence.UserID]presence.SavedPerson{}, sessions: map[presence.SessionID]bool{}}
}

// Prepare implements [cluster.Records].
func (p *Records) Prepare(cluster.Realm) {}

// State implements [cluster.Records].
func (p *Records) State(realm cluster.Realm) presence.Saved {
	saved := presence.Saved{Version: presence.SavedVersion}
	for _, user := range slices.Sorted(maps.Keys(p.people[realm])) {
		saved.People = append(saved.People, p.people[realm][user])
	}
	return saved
}

// Confirmed implements [cluster.Records].
func (p *Records) Confirmed(_ cluster.Realm, sessions []presence.SessionID) []presence.SessionID {
	return slices.DeleteFunc(slices.Clone(sessions), func(session presence.SessionID) bool { return !p.sessions[session] })
}

// Put puts the rows of records.
func (p *Records) Put(_ cluster.Position, _ cluster.Fold, records []cluster.Record) error {
	for _, r := range records {
		if r.Kind == cluster.KindGone {
			delete(p.people, r.Realm)
			continue
		}
		if p.people[r.Realm] == nil {
			p.people[r.Realm] = map[presence.UserID]presence.SavedPerson{}
		}
		for _, change := range r.Changes {
			p.changes = append(p.changes, fmt.Sprint(change))
		}
		rows, ok := r.Rows.(*Rows)
		if !ok {
			continue
		}
		for _, person := range rows.People {
			p.people[r.Realm][person.User] = person
			for _, s := range person.Sessions {
				p.sessions[s.ID] = true
			}
		}
		for _, user := range rows.Gone {
			delete(p.people[r.Realm], user)
		}
	}
	return nil
}

// Text returns everything, for comparison.
func (p *Records) Text() string {
	text, err := json.Marshal(p.people)
	if err != nil {
		panic(err)
	}
	return fmt.Sprint(string(text), p.changes)
}

// Maker returns a maker of [Rows].
func (p *Records) Maker(cluster.Realm, time.Time) cluster.Maker { return NewMaker() }

// NewMaker returns a maker of [Rows].
func NewMaker() *Maker { return &Maker{touched: map[presence.UserID]bool{}} }

// Maker makes [Rows]. It is a [cluster.Maker].
type Maker struct{ touched map[presence.UserID]bool }

// Record implements [engine.Recorder].
func (m *Maker) Record(_ time.Time, _ []presence.Effect, touched []presence.UserID) {
	for _, user := range touched {
		m.touched[user] = true
	}
}

// Restored implements [engine.Recorder].
func (m *Maker) Restored(at time.Time, effects []presence.Effect, touched []presence.UserID) {
	m.Record(at, effects, touched)
}

// Pending implements [cluster.Maker].
func (m *Maker) Pending(time.Time) bool { return len(m.touched) > 0 }

// Rows implements [cluster.Maker].
func (m *Maker) Rows(_ time.Time, save func(presence.UserID) (presence.SavedPerson, bool)) any {
	rows := &Rows{}
	for _, user := range slices.Sorted(maps.Keys(m.touched)) {
		if saved, known := save(user); known {
			rows.People = append(rows.People, saved)
		} else {
			rows.Gone = append(rows.Gone, user)
		}
	}
	clear(m.touched)
	return rows
}
