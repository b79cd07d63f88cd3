package nodes

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/inmemory"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
)

// table is a host's rows: plain data, or a file of the service.
type table interface {
	cluster.Records
	// Put puts the rows of records that apply, and notes the position after them.
	Put(after cluster.Position, records []cluster.Record)
	maker(cluster.Realm, time.Time) cluster.Maker
	// Text returns everything in the table, for comparison.
	Text() string
	close()
}

// plain is a table of plain data.
type plain struct{ *inmemory.Records }

func (plain) close() {}

func (plain) maker(cluster.Realm, time.Time) cluster.Maker { return inmemory.NewMaker() }

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

// Put implements table.
func (f *file) Put(_ cluster.Position, list []cluster.Record) {
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

// Text returns the position only: files are compared by [file.differs].
func (f *file) Text() string { return fmt.Sprintf("%x", f.at.Hash) }

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
	case *inmemory.Rows:
		for _, p := range rows.People {
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
