// Package stored keeps a node's rows in a file of the service.
package stored

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
)

// Records are a node's rows in a file. They are [cluster.Records]. A file that cannot be read or written
// panics: a node without its records must not go on.
type Records struct {
	*records.Store
	name func(cluster.Realm) string
	at   records.Position
}

// New returns the rows in a store, at the position up to which it has them. Name names the realms. A file
// that has no position yet begins the log with the given identity.
func New(store *records.Store, log string, name func(cluster.Realm) string) (*Records, error) {
	at, err := store.Position()
	if err != nil {
		return nil, err
	}
	switch at.Log {
	case log:
	case "":
		at.Log = log
	default:
		return nil, fmt.Errorf("the records are of the log %s, not of %s", at.Log, log)
	}
	return &Records{store, name, at}, nil
}

// State implements [cluster.Records].
func (r *Records) State(realm cluster.Realm) presence.Saved {
	return must(r.Store.State(r.name(realm)))
}

// Confirmed implements [cluster.Records].
func (r *Records) Confirmed(realm cluster.Realm, session presence.SessionID) bool {
	return must(r.Opened(r.name(realm), session))
}

// Put puts the rows of records that apply, and notes the position after them. They go through the form that
// they have in the log.
func (r *Records) Put(_ cluster.Position, list []cluster.Record) {
	rows := make([]records.Rows, len(list))
	at := r.at
	for i, record := range list {
		var made []records.Change
		text, err := json.Marshal(record.Rows)
		if err != nil {
			panic(err)
		}
		changes, err := json.Marshal(record.Changes)
		if err != nil {
			panic(err)
		}
		at = at.Next(slices.Concat(text, changes))
		if err := errors.Join(json.Unmarshal(text, &rows[i]), json.Unmarshal(changes, &made)); err != nil {
			panic(err)
		}
		rows[i].Changes = append(rows[i].Changes, made...)
	}
	if err := r.Store.Put(at, rows); err != nil {
		panic(err)
	}
	r.at = at
}

// Maker returns a maker for an owner that begins at a time.
func (r *Records) Maker(realm cluster.Realm, at time.Time) cluster.Maker {
	return records.NewMaker(r.name(realm), at, must(r.Minute(r.name(realm), at.Truncate(time.Minute).UnixMilli())))
}

// At returns the position up to which the file has the rows.
func (r *Records) At() records.Position { return r.at }

func must[T any](value T, err error) T {
	if err != nil {
		panic(err)
	}
	return value
}
