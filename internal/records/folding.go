package records

import (
	"encoding/json"
	"time"

	"tovik.example/tovik/internal/headcount"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/timing"
)

// folding makes rows of what happens in a realm, and puts them into a batch.
type folding struct {
	realm   string
	fold    *journal.Fold
	counter *headcount.Counter
	typists *timing.Typists
	batch   *batch
}

// newFolding returns the folding of a realm that is empty at a time.
func newFolding(realm string, from time.Time) *folding {
	r := &folding{realm: realm, counter: headcount.NewCounter(realm, from.UnixMilli()), typists: timing.NewTypists(realm)}
	r.fold = journal.NewFold(realm, func(e journal.Entry) { r.batch.entry(e) }, func(a *journal.Announcement) { r.batch.announce(a) })
	return r
}

// happening is an effect of the core with its time in Unix milliseconds.
type happening struct {
	at       int64
	effect   presence.Effect
	restored bool           // by a restart: it is so, but it does not happen
	entry    *journal.Entry // an entry that no effect makes; nil: there is an effect
}

// recorded reports whether an effect says something for the records.
func recorded(effect presence.Effect) bool {
	switch effect.(type) {
	case presence.AskBeat, presence.Cut, presence.WarnExpiry, presence.Settled:
		return false
	}
	return true
}

// makesEntry reports whether the journal lacks something without the effect.
func makesEntry(effect presence.Effect) bool {
	switch effect.(type) {
	case presence.TypingChanged, presence.CueGiven:
		return false
	}
	return true
}

// person returns the row of what a restart needs to know of somebody.
func (r *folding) person(saved presence.SavedPerson) *Person {
	p := &Person{Realm: r.realm, User: saved.User, Name: saved.Profile.Name, Picture: saved.Profile.Picture}
	for i := range saved.Sessions {
		if opened := saved.Sessions[i].Opened; p.FirstSeen == 0 || opened < p.FirstSeen {
			p.FirstSeen = opened
		}
	}
	if len(saved.Sessions) == 0 && saved.Set == (presence.Appearance{}) && !saved.Hidden {
		return p
	}
	saved.Removed = nil // is a row of its own
	state, err := json.Marshal(saved)
	if err != nil {
		panic("records: what is plain data can be written: " + err.Error())
	}
	p.State = state
	return p
}

// digest adds an effect to the batch: entries, counts, announcements, and last-seen times.
func (r *folding) digest(h *happening, b *batch) {
	if h.entry != nil {
		b.entry(*h.entry)
		return
	}
	if e, ok := h.effect.(presence.TypingChanged); ok {
		if typing, over := r.typists.Take(h.at, e); over {
			b.typing(typing)
		}
		return
	}
	r.counter.Roll(h.at, b.headcount)
	r.counter.Take(h.at, h.effect, h.restored)
	r.batch = b
	r.fold.Take(h.at, h.effect, h.restored)
	if h.restored {
		return
	}
	switch e := h.effect.(type) {
	case presence.SessionOpened:
		b.firstSeen(r.realm, e.User, h.at)
	case presence.MemberChanged:
		if e.Views.Has(presence.Full) && (e.Before.Sessions == 0) != (e.After.Sessions == 0) {
			b.profile(r.realm, e.After.User, e.After.Profile)
		}
	case presence.PersonChanged:
		if e.After.Status == presence.Offline {
			seen := func(view presence.View) int64 {
				if e.Views.Has(view) {
					return e.LastSeen
				}
				return 0
			}
			b.lastSeen(r.realm, e.User, seen(presence.Full), seen(presence.Open))
		}
	}
}
