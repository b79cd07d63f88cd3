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
	at   records.Position
	fold cluster.Fold
}

// New returns the rows in a store, up to where it has them. A file that has no position yet begins the
// log with the given identity, and what the empty log says.
func New(store *records.Store, log string, begins cluster.Fold) (*Records, error) {
	r := &Records{Store: store, fold: begins.Clone()}
	var err error
	if r.at, err = store.Position(); err != nil {
		return nil, err
	}
	switch r.at.Log {
	case log:
	case "":
		r.at.Log = log
	default:
		return nil, fmt.Errorf("the records are of the log %s, not of %s", r.at.Log, log)
	}
	if r.at.State != nil {
		r.fold = cluster.Fold{}
		if err := json.Unmarshal(r.at.State, &r.fold); err != nil {
			return nil, fmt.Errorf("what the records say about the log cannot be read: %w", err)
		}
	}
	return r, nil
}

// Fold returns what the log says up to the position, for the node and its driver.
func (r *Records) Fold() cluster.Fold { return r.fold.Clone() }

func (r *Records) name(realm cluster.Realm) string { return r.fold.Realms[realm].Name }

// State implements [cluster.Records].
func (r *Records) State(realm cluster.Realm) presence.Saved {
	return must(r.Store.State(r.name(realm)))
}

// Confirmed implements [cluster.Records].
func (r *Records) Confirmed(realm cluster.Realm, session presence.SessionID) bool {
	return must(r.Opened(r.name(realm), session))
}

// Put puts the rows of records that apply, and notes up to where the log was read and what it says there.
// They go through the form that they have in the log.
func (r *Records) Put(after cluster.Position, fold cluster.Fold, list []cluster.Record) {
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
	at.At, at.State = uint64(after), must(json.Marshal(&fold))
	if err := r.Store.Put(at, rows); err != nil {
		panic(err)
	}
	r.at, r.fold = at, fold.Clone()
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
