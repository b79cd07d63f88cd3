package engine

import (
	"time"

	"tovik.example/tovik/internal/presence"
)

// maxLastSeen bounds of how many who went offline the engine knows when.
const maxLastSeen = 100_000

// people gathers what changes of people as such, as feeds do for rooms.
type people struct {
	changes []personChange // unsealed, in order of a subject's first
	index   map[Subject]int
	sealAt  time.Duration

	lastSeen map[Subject]int64 // Unix milliseconds, of the newest that went offline
	order    []Subject         // of lastSeen, a ring when full
	oldest   int
}

type personChange struct {
	Subject
	before, after presence.Appearance
	lastSeen      int64
}

func (e *Engine) notePerson(now presence.Instant, c presence.PersonChanged) {
	p := &e.people
	if p.index == nil {
		p.index, p.lastSeen = map[Subject]int{}, map[Subject]int64{}
	}
	for _, view := range []presence.View{presence.Full, presence.Open} {
		if !c.Views.Has(view) {
			continue
		}
		if len(p.changes) == 0 {
			p.sealAt = now.Mono + e.window
		}
		subject := Subject{c.User, view}
		i, ok := p.index[subject]
		if !ok {
			i = len(p.changes)
			p.index[subject] = i
			p.changes = append(p.changes, personChange{Subject: subject, before: c.Before})
		}
		p.changes[i].after, p.changes[i].lastSeen = c.After, c.LastSeen
		p.remember(subject, c)
	}
}

// remember keeps when somebody was last seen while they are offline.
func (p *people) remember(subject Subject, c presence.PersonChanged) {
	if c.After.Status != presence.Offline {
		if _, ok := p.lastSeen[subject]; ok {
			p.lastSeen[subject] = 0 // keeps its place in the order
		}
		return
	}
	if _, ok := p.lastSeen[subject]; !ok {
		if len(p.order) < maxLastSeen {
			p.order = append(p.order, subject)
		} else {
			delete(p.lastSeen, p.order[p.oldest])
			p.order[p.oldest] = subject
			p.oldest = (p.oldest + 1) % maxLastSeen
		}
	}
	p.lastSeen[subject] = c.LastSeen
}

// sealPeople tells what has become of people in the window that is over.
func (e *Engine) sealPeople(now presence.Instant) {
	p := &e.people
	if len(p.changes) == 0 || p.sealAt > now.Mono {
		return
	}
	for _, c := range p.changes {
		if c.before != c.after {
			e.sink.TakeSight(sight(c.Subject, c.after, c.lastSeen))
		}
	}
	clear(p.changes)
	p.changes = p.changes[:0]
	clear(p.index)
}

// Sight returns what a view sees of a person now.
func (e *Engine) Sight(subject Subject) Sight {
	e.mu.Lock()
	defer e.mu.Unlock()
	return sight(subject, e.core.Person(subject.User, subject.View), e.people.lastSeen[subject])
}

func sight(subject Subject, appearance presence.Appearance, lastSeen int64) Sight {
	s := Sight{Subject: subject, Appearance: appearance}
	if appearance.Status == presence.Offline && lastSeen != 0 {
		s.LastSeen = time.UnixMilli(lastSeen).UTC()
	}
	return s
}
