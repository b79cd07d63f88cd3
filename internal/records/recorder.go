package records

import (
	"sync"
	"time"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
)

// maxHappenings limits what a recorder has been told and the writer has not taken yet. Beyond
// it, journal entries are lost, and counted.
const maxHappenings = 200_000

// Recorder takes what happens in a realm, for the [Writer]. It is the [engine.Recorder] of the
// realm's engine.
type Recorder struct {
	writer *Writer
	engine *engine.Engine

	mu      sync.Mutex
	pending []happening
	lost    gap                          // of what was too much
	touched map[presence.UserID]struct{} // people to save anew

	*folding // the writer's, except for its realm
}

// newRecorder returns a recorder of what happens from a time on. Set its engine before anything
// happens.
func newRecorder(realm string, w *Writer, from time.Time) *Recorder {
	return &Recorder{writer: w, touched: map[presence.UserID]struct{}{}, folding: newFolding(realm, from)}
}

// act takes an entry that no effect makes.
func (r *Recorder) act(e journal.Entry) {
	r.mu.Lock()
	defer r.mu.Unlock()
	e.Realm, e.Open = r.realm, true
	if len(r.pending) >= maxHappenings {
		r.lost.add(e.At)
		return
	}
	r.pending = append(r.pending, happening{at: e.At, entry: &e})
	r.writer.wake()
}

// Record implements [engine.Recorder].
func (r *Recorder) Record(at time.Time, effects []presence.Effect, touched []presence.UserID) {
	r.take(at.UnixMilli(), effects, touched, false)
}

// Restored implements [engine.Recorder].
func (r *Recorder) Restored(at time.Time, effects []presence.Effect, touched []presence.UserID) {
	r.take(at.UnixMilli(), effects, touched, true)
}

func (r *Recorder) take(at int64, effects []presence.Effect, touched []presence.UserID, restored bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	before := len(r.pending) + len(r.touched)
	for _, effect := range effects {
		if !recorded(effect) {
			continue
		}
		if len(r.pending) >= maxHappenings && !restored {
			if makesEntry(effect) {
				r.lost.add(at)
			}
			continue
		}
		r.pending = append(r.pending, happening{at: at, effect: effect, restored: restored})
	}
	for _, user := range touched {
		r.touched[user] = struct{}{}
	}
	if before == 0 && len(r.pending)+len(r.touched) > 0 {
		r.writer.wake()
	}
}

// gather moves everything that has happened into the writer's batch.
func (r *Recorder) gather(b *batch) {
	var happened []happening
	var lost gap
	burst := false
	saved := map[presence.UserID]*Person{}
	for {
		more := false
		r.engine.SavePeople(func() []presence.UserID {
			r.mu.Lock()
			defer r.mu.Unlock()
			users := make([]presence.UserID, 0, min(len(r.touched), maxSaved))
			for user := range r.touched {
				if len(users) == maxSaved {
					more, burst = true, true // others wait for the engine: it is not held for all at once
					return users
				}
				users = append(users, user)
				delete(r.touched, user)
			}
			happened, r.pending = r.pending, happened[:0]
			if burst { // what it has made of the map is not needed any more
				r.touched = map[presence.UserID]struct{}{}
			}
			lost, r.lost = r.lost, gap{}
			return users
		}, func(p presence.SavedPerson) { saved[p.User] = r.person(p) })
		if !more {
			break
		}
	}
	b.miss(r.realm, lost)
	for user, p := range saved {
		b.person(p, user)
	}
	for i := range happened {
		r.digest(&happened[i], b)
	}
	r.keepSpare(happened)
}

// maxSaved is how many people are saved under one hold of the engine's lock.
const maxSaved = 1000

// keepSpare reuses the memory of what has been digested.
func (r *Recorder) keepSpare(happened []happening) {
	clear(happened)
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.pending == nil && cap(happened) <= 8*maxSaved {
		r.pending = happened[:0]
	}
}
