package cluster

import (
	"maps"
	"slices"
	"time"
)

// Format numbers the forms of records, saved state and messages, from 1. The log says which one is in
// force; a command raises it when every node knows it ([Node.RaiseFormat]).
type Format uint32

// Newest is the newest format that this version knows.
const Newest Format = 1

// Fold is what the log says about realms, up to a position. It depends on the log alone, so that all nodes
// put the same rows. A node keeps it with its rows, as plain data, and continues with it.
type Fold struct {
	Format Format            `json:"format"`
	Listed Position          `json:"listed"` // of the last record that made or ended a realm
	Number Realm             `json:"number"` // the highest that a realm has had
	Realms map[Realm]*Folded `json:"realms"`
}

// Folded is what the log says about a realm.
type Folded struct {
	Name  string        `json:"name"`
	ID    string        `json:"id"`    // of the last record that applied
	Last  Position      `json:"last"`  // of the realm's last record, for the next expectation
	Epoch Epoch         `json:"epoch"` // the highest
	Owner Name          `json:"owner"` // that began it
	Kind  Kind          `json:"kind"`  // of the last record that applied
	Ended Epoch         `json:"ended"` // the last one that was handed over
	Marks Epoch         `json:"marks"` // the epoch of the newest mark
	Time  time.Duration `json:"time"`  // of the realm at that mark
	Wall  int64         `json:"wall"`  // Unix milliseconds, at that mark
}

// NewFold returns what an empty log says if it begins with realms of these names, numbered from 1.
func NewFold(names ...string) Fold {
	f := Fold{Format: 1, Realms: map[Realm]*Folded{}}
	for _, name := range names {
		f.Number++
		f.Realms[f.Number] = &Folded{Name: name}
	}
	return f
}

// Clone returns a copy that shares nothing.
func (f *Fold) Clone() Fold {
	is := *f
	is.Realms = map[Realm]*Folded{}
	for id, r := range f.Realms {
		copied := *r
		is.Realms[id] = &copied
	}
	return is
}

// Verdict says what a record does.
type Verdict uint8

// The verdicts.
const (
	// Passes: it changes nothing. Its owner has been replaced, its realm has ended, a realm of its name
	// exists, or it was applied before.
	Passes Verdict = iota
	// Applies: put its rows and changes, if it has any.
	Applies
	// Unreadable: it has a format that this node does not know.
	Unreadable
)

// Take takes the next record of the log, for a node that knows formats up to one.
func (f *Fold) Take(at Position, r Record, knows Format) Verdict {
	if r.Format > knows {
		return Unreadable
	}
	switch r.Kind {
	case KindMark:
		for _, is := range r.Times {
			if to := f.Realms[is.Realm]; to != nil && (is.Epoch > to.Marks || is.Epoch == to.Marks && is.Time > to.Time) {
				to.Marks, to.Time, to.Wall = is.Epoch, is.Time, r.Wall
			}
		}
		return Applies
	case KindFormat:
		f.Format = max(f.Format, r.Format)
		return Applies
	case KindMade:
		for _, is := range f.Realms {
			if is.Name == r.Name {
				return Passes
			}
		}
		f.Number++
		f.Listed = at
		f.Realms[f.Number] = &Folded{Name: r.Name}
		return Applies
	}
	to := f.Realms[r.Realm]
	switch {
	case to == nil:
		return Passes
	case r.Kind == KindGone:
		f.Listed = at
		delete(f.Realms, r.Realm)
		return Applies
	}
	to.Last = at
	if r.Epoch < to.Epoch || r.ID == to.ID {
		return Passes
	}
	to.ID, to.Epoch, to.Kind = r.ID, r.Epoch, r.Kind
	switch r.Kind {
	case KindBegins:
		to.Owner = r.Node
	case KindEnds:
		to.Ended, to.Marks, to.Time, to.Wall = r.Epoch, r.Epoch, r.Time, r.Wall
	}
	return Applies
}

// order returns the numbers of the realms, sorted.
func (f *Fold) order() []Realm { return slices.Sorted(maps.Keys(f.Realms)) }

// listing returns the realms that there are.
func (f *Fold) listing() Listing {
	l := Listing{At: f.Listed, Epochs: map[Realm]Epoch{}}
	for id, is := range f.Realms {
		l.Epochs[id] = is.Epoch
	}
	return l
}
