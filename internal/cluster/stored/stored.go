// Package stored keeps a node's rows in a file of the service.
package stored

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
)

// Records are a node's rows in a file. They are [cluster.Records]. A file that cannot be read panics: a
// node without its records must not go on.
type Records struct {
	*records.Store
	outbox records.Deliverer

	mu     sync.Mutex
	at     records.Position
	fold   cluster.Fold
	names  map[cluster.Realm]string  // also of realms that have ended: rows are put before the node hears of it
	makers map[string]*records.Maker // of the realms that the node owns, or has owned last
}

// New returns the rows in a store, up to where it has them. A file that has no position yet begins the
// log with the given identity, and what the empty log says. Outbox, which may be nil, makes what makes the
// deliveries of hooks, and reports their outcomes.
func New(store *records.Store, log string, begins cluster.Fold, outbox func(*Records) (records.Deliverer, error)) (r *Records, err error) {
	r = &Records{Store: store, fold: begins.Clone(), makers: map[string]*records.Maker{}}
	if outbox != nil {
		if r.outbox, err = outbox(r); err != nil {
			return nil, err
		}
	}
	if r.at, err = store.Position(); err != nil {
		return nil, err
	}
	switch r.at.Log {
	case log:
	case "":
		if blank, err := store.Blank(); err != nil || !blank {
			return nil, cmp.Or(err, ErrNotBlank)
		}
		r.at.Log, r.at.Hash = log, []byte{}
	default:
		return nil, fmt.Errorf("the records are of the log %s, not of %s", r.at.Log, log)
	}
	if r.at.State != nil {
		r.fold = cluster.Fold{}
		if err := json.Unmarshal(r.at.State, &r.fold); err != nil {
			return nil, fmt.Errorf("what the records say about the log cannot be read: %w", err)
		}
	}
	r.names = namesIn(r.fold)
	return r, nil
}

// ErrNotBlank says that the other nodes would not have what this file has.
var ErrNotBlank = errors.New("the records here are of a service that ran alone, and other nodes of the cluster do not have them: begin a cluster with them (tovik cluster begin), or choose an empty data directory, which is filled from another node")

func namesIn(fold cluster.Fold) map[cluster.Realm]string {
	names := map[cluster.Realm]string{}
	for id, is := range fold.Realms {
		names[id] = is.Name
	}
	return names
}

// Fold returns what the log says up to the position, for the node and its driver.
func (r *Records) Fold() cluster.Fold {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.fold.Clone()
}

func (r *Records) name(realm cluster.Realm) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.names[realm]
}

// Prepare implements [cluster.Records].
func (r *Records) Prepare(realm cluster.Realm) {
	if err := r.ReadAhead(r.name(realm)); err != nil {
		panic(err)
	}
}

// State implements [cluster.Records].
func (r *Records) State(realm cluster.Realm) presence.Saved {
	return must(r.Store.State(r.name(realm)))
}

// Confirmed implements [cluster.Records].
func (r *Records) Confirmed(realm cluster.Realm, sessions []presence.SessionID) []presence.SessionID {
	return must(r.Opened(r.name(realm), sessions))
}

// Put puts the rows of records that apply, which have their texts, and notes up to where the log was read and what
// it says there. The rows are its own from then on.
func (r *Records) Put(after cluster.Position, fold cluster.Fold, list []cluster.Record) error {
	rows := make([]records.Rows, len(list))
	at := r.At()
	for i, record := range list {
		if record.Text == nil {
			return fmt.Errorf("the record %s was not read from a log: it has no text", record.ID)
		}
		at = at.Next(record.Text)
		if made, ok := record.Rows.(*records.Rows); ok {
			rows[i] = *made
		}
		for _, change := range record.Changes {
			rows[i].Changes = append(rows[i].Changes, change.(records.Change))
		}
	}
	at.At, at.State = uint64(after), must(json.Marshal(&fold))
	if err := r.Store.Put(at, rows); err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.at, r.fold = at, fold.Clone()
	maps.Copy(r.names, namesIn(fold))
	return nil
}

// Maker returns a maker for an owner that begins at a time.
func (r *Records) Maker(realm cluster.Realm, at time.Time) cluster.Maker {
	name := r.name(realm)
	m := records.NewMaker(records.MakerOptions{Realm: name, From: at, Minute: must(r.Minute(name, at.Truncate(time.Minute).UnixMilli())), Outbox: r.outbox, Totals: r.Store.Totals(),
		Run: at.UnixMilli()*mostRealms + int64(realm)%mostRealms})
	r.mu.Lock()
	defer r.mu.Unlock()
	r.makers[name] = m
	return m
}

// mostRealms keeps the runs of owners apart that begin in the same millisecond.
const mostRealms = 1024

// Result implements hooks.Outcomes: the owner's next record has it.
func (r *Records) Result(realm string, d records.Delivery) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if m := r.makers[realm]; m != nil {
		m.Result(d)
	}
}

// Redeliver implements hooks.Outcomes.
func (r *Records) Redeliver(_ context.Context, _ string, d records.Delivery) error {
	return r.Store.Redeliver(d)
}

// tidyEvery is how often old rows are looked for.
const tidyEvery = 10 * time.Second

// Tidy lets the owner of the oldest realm delete what is old, of all realms, until ctx is done.
func (r *Records) Tidy(ctx context.Context, keep func() records.Retention, owns func(cluster.Realm) bool, failed func(error)) {
	ticker := time.NewTicker(tidyEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		r.mu.Lock()
		oldest := slices.Min(append(slices.Collect(maps.Keys(r.fold.Realms)), ^cluster.Realm(0)))
		var m *records.Maker
		if is := r.fold.Realms[oldest]; is != nil {
			m = r.makers[is.Name]
		}
		r.mu.Unlock()
		if m == nil || !owns(oldest) { // asked without the lock: a node that is asked may be reading rows
			continue
		}
		switch t, err := r.Tidying(ctx, keep(), time.Now()); {
		case err != nil && ctx.Err() == nil:
			failed(err)
		case t != nil:
			m.Tidy(t)
		}
	}
}

// At returns the position up to which the file has the rows.
func (r *Records) At() records.Position {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.at
}

func must[T any](value T, err error) T {
	if err != nil {
		panic(err)
	}
	return value
}

// Read returns up to which record of the log the rows are.
func (r *Records) Read() cluster.Position { return cluster.Position(r.At().At) }
