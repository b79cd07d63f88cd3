package engine

import (
	"time"

	"tovik.example/tovik/internal/presence"
)

// maxLastSeen limits how many last-seen times are kept.
const maxLastSeen = 100_000

// people gathers changes of people in a view, as feeds do for rooms. Each view has a window of
// its own, so that hidden people leave no rhythm in the open view.
type people struct {
	changes []personChange // unsealed, in order of a person's first
	index   map[presence.UserID]int
	sealAt  time.Duration
	gone    gone
}

// gone keeps when offline people were last seen, as far as it has room.
type gone struct {
	lastSeen map[presence.UserID]int64 // Unix milliseconds; 0 of somebody who is back
	order    []presence.UserID         // of lastSeen, a ring when full
	oldest   int
}

type personChange struct {
	Subject
	before, after presence.Appearance
	seenBefore    int64 // last seen, of before
	lastSeen      int64
}

func (e *Engine) notePerson(now presence.Instant, c presence.PersonChanged) {
	for _, view := range []presence.View{presence.Full, presence.Open} {
		if c.Views.Has(view) {
			e.people[view].note(now.Mono+e.window, Subject{c.User, view}, c)
		}
	}
}

func (p *people) note(sealAt time.Duration, subject Subject, c presence.PersonChanged) {
	if p.index == nil {
		p.index = map[presence.UserID]int{}
	}
	if len(p.changes) == 0 {
		p.sealAt = sealAt
	}
	i, ok := p.index[c.User]
	if !ok {
		i = len(p.changes)
		p.index[c.User] = i
		p.changes = append(p.changes, personChange{Subject: subject, before: c.Before, seenBefore: p.gone.lastSeen[c.User]})
	}
	p.changes[i].after, p.changes[i].lastSeen = c.After, c.LastSeen
	p.gone.note(c)
}

// note keeps when somebody was last seen who goes offline.
func (g *gone) note(c presence.PersonChanged) {
	if c.After.Status != presence.Offline {
		if _, known := g.lastSeen[c.User]; known {
			g.lastSeen[c.User] = 0 // keeps its place in the order
		}
		return
	}
	g.recall(c.User, c.LastSeen)
}

// recall keeps when somebody was last seen. When there is no more room, it drops the oldest
// entry.
func (g *gone) recall(user presence.UserID, lastSeen int64) {
	if g.lastSeen == nil {
		g.lastSeen = map[presence.UserID]int64{}
	}
	_, known := g.lastSeen[user]
	switch {
	case known:
	case len(g.order) < maxLastSeen:
		g.order = append(g.order, user)
	default:
		delete(g.lastSeen, g.order[g.oldest])
		g.order[g.oldest] = user
		g.oldest = (g.oldest + 1) % maxLastSeen
	}
	g.lastSeen[user] = lastSeen
}

// sealPeople tells the changes of people whose windows are over.
func (e *Engine) sealPeople(now presence.Instant) {
	for view := range e.people {
		p := &e.people[view]
		if len(p.changes) == 0 || p.sealAt > now.Mono {
			continue
		}
		for _, c := range p.changes {
			if c.before != c.after || c.after.Status == presence.Offline && c.lastSeen != c.seenBefore {
				e.news = append(e.news, sight(c.Subject, c.after, c.lastSeen))
			}
		}
		clear(p.changes)
		p.changes = p.changes[:0]
		clear(p.index)
	}
}

// Sight returns how a view sees a person as of the last seal. Later changes are told to the
// sink, whoever asks.
func (e *Engine) Sight(subject Subject) Sight {
	e.mu.Lock()
	defer e.mu.Unlock()
	p := &e.people[subject.View]
	if i, unsealed := p.index[subject.User]; unsealed {
		c := p.changes[i]
		return sight(subject, c.before, c.seenBefore)
	}
	return e.sightNow(subject)
}

// SightNow returns how a view sees a person now, sealed or not.
func (e *Engine) SightNow(subject Subject) Sight {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.sightNow(subject)
}

func (e *Engine) sightNow(subject Subject) Sight {
	return sight(subject, e.core.Person(subject.User, subject.View), e.people[subject.View].gone.lastSeen[subject.User])
}

func sight(subject Subject, appearance presence.Appearance, lastSeen int64) Sight {
	s := Sight{Subject: subject, Appearance: appearance}
	if appearance.Status == presence.Offline && lastSeen != 0 {
		s.LastSeen = time.UnixMilli(lastSeen).UTC()
	}
	return s
}

// Traces returns how much of each kind there is of a person, for the receipt of an erasure.
func (e *Engine) Traces(user presence.UserID) (traces map[string]int) {
	e.hold(func(now presence.Instant) { traces = e.traces(now, user) })
	return traces
}

func (e *Engine) traces(now presence.Instant, user presence.UserID) map[string]int {
	x := e.core.Explain(now, user, "")
	traces := map[string]int{"sessions": len(x.Sessions), "rooms": len(e.core.RoomsOf(user, presence.Full)), "statuses": 0, "last_seen": 0}
	if saved, _ := e.core.SavePerson(now, user); saved.Set != (presence.Appearance{}) { // also of somebody who is offline
		traces["statuses"] = 1
	}
	for view := range e.people {
		if e.people[view].gone.lastSeen[user] != 0 {
			traces["last_seen"] = 1
		}
	}
	return traces
}

// Erase ends all sessions of a person and forgets everything about them. It returns what there was
// (see [Engine.Traces]).
func (e *Engine) Erase(user presence.UserID) (erased map[string]int) {
	e.change(func(now presence.Instant) {
		erased = e.traces(now, user)
		_, _ = e.core.Apply(now, presence.Erase{User: user}, &e.effects) // never refused
		e.carryOut(now)                                                  // which notes when they were last seen
		for view := range e.people {
			if e.people[view].gone.forget(user) {
				erased["last_seen"] = 1
			}
		}
	})
	return erased
}

// forget drops somebody; their place in the order stays.
func (g *gone) forget(user presence.UserID) bool {
	at, known := g.lastSeen[user]
	if known {
		g.lastSeen[user] = 0
	}
	return known && at != 0
}
