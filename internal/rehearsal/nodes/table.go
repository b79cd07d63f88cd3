package nodes

import (
	"context"
	"errors"
	"fmt"
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/coding"
	"tovik.example/tovik/internal/cluster/inmemory"
	"tovik.example/tovik/internal/cluster/stored"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
)

// table is a host's rows: plain data, or a file of the service.
type table interface {
	cluster.Records
	// Put puts the rows of records that apply, and notes the position after them.
	Put(after cluster.Position, fold cluster.Fold, records []cluster.Record) error
	maker(cluster.Realm, time.Time) cluster.Maker
	// Text returns everything in the table, for comparison.
	Text() string
	close()
}

// plain is a table of plain data.
type plain struct{ *inmemory.Records }

func (plain) close() {}

func (plain) maker(cluster.Realm, time.Time) cluster.Maker { return inmemory.NewMaker() }

// file is a table in a file of the service, as in production.
type file struct {
	*stored.Records
	dir string
}

func newFile(dir string, fold cluster.Fold) *file {
	store, err := records.Open(dir)
	if err != nil {
		panic(err)
	}
	rows, err := stored.New(store, "the-rehearsal", fold, nil)
	if err != nil {
		panic(err)
	}
	return &file{rows, dir}
}

// Put implements [table]. The other files get the same records.
func (f *file) Put(after cluster.Position, fold cluster.Fold, list []cluster.Record) error {
	own, err := coding.Again(list)
	if err != nil {
		return err
	}
	return f.Records.Put(after, fold, own)
}

func (f *file) maker(realm cluster.Realm, at time.Time) cluster.Maker { return f.Maker(realm, at) }

// Text returns the position only: files are compared by [file.differs].
func (f *file) Text() string { return fmt.Sprintf("%x", f.At().Hash) }

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
	if err := f.Close(); err != nil && !errors.Is(err, context.Canceled) {
		panic(err)
	}
}

// made and gone return the changes of the records when a realm is made or ended.
func (w *world) made(name string) []any {
	if w.Files == "" {
		return []any{name + " is made"}
	}
	return []any{records.Change{AddRealm: &records.Realm{Name: name, Created: w.wall(0)}}}
}

func (w *world) gone(name string) []any {
	if w.Files == "" {
		return []any{name + " is gone"}
	}
	return []any{records.Change{DropRealm: name}}
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
