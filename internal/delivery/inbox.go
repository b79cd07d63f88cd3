package delivery

import (
	"iter"
	"sync"
)

// maxAnnounced limits the new rooms that an inbox lists one by one. Beyond it the receiver looks
// for new rooms itself, so that an inbox that is never read stops growing.
const maxAnnounced = 1024

// inbox lists the subs and people with news for a receiver, oldest first.
type inbox struct {
	mu        sync.Mutex
	wake      func()
	dirty     []*sub
	people    []*personSub
	announced int  // the number of announcements in dirty
	missed    bool // there were more announcements
}

// mark adds a sub and wakes the receiver.
func (b *inbox) mark(s *sub) {
	b.mu.Lock()
	switch {
	case s.dirty:
	case s.announced && b.announced == maxAnnounced:
		b.missed = true
	default:
		b.add(s)
	}
	wake := b.wake
	b.mu.Unlock()
	wake()
}

func (b *inbox) markPerson(s *personSub) {
	b.mu.Lock()
	if !s.dirty {
		b.addPerson(s)
	}
	wake := b.wake
	b.mu.Unlock()
	wake()
}

func (b *inbox) rewake(wake func()) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.wake = wake
}

// take empties the inbox.
func (b *inbox) take() (dirty []*sub, people []*personSub, missed bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	dirty, people, missed = b.dirty, b.people, b.missed
	b.dirty, b.people, b.announced, b.missed = nil, nil, 0, false
	for _, s := range dirty {
		s.dirty = false
	}
	for _, s := range people {
		s.dirty = false
	}
	return dirty, people, missed
}

// putBack returns what was taken but not served to the front, and appends what must be tried
// again. It reports whether the inbox has anything.
func (b *inbox) putBack(dirty []*sub, people []*personSub, again []*sub) (more bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(dirty)+len(people)+len(again) > 0 {
		since, sincePeople := b.dirty, b.people
		b.dirty, b.people, b.announced = nil, nil, 0
		for _, s := range since {
			s.dirty = false
		}
		for _, s := range sincePeople {
			s.dirty = false
		}
		for s := range each(dirty, since, again) {
			if !s.dirty {
				b.add(s)
			}
		}
		for s := range each(people, sincePeople) {
			if !s.dirty {
				b.addPerson(s)
			}
		}
	}
	return len(b.dirty)+len(b.people) > 0 || b.missed
}

func (b *inbox) add(s *sub) {
	s.dirty = true
	b.dirty = append(b.dirty, s)
	if s.announced {
		b.announced++
	}
}

func (b *inbox) addPerson(s *personSub) {
	s.dirty = true
	b.people = append(b.people, s)
}

// each ranges over several lists.
func each[T any](lists ...[]T) iter.Seq[T] {
	return func(yield func(T) bool) {
		for _, list := range lists {
			for _, x := range list {
				if !yield(x) {
					return
				}
			}
		}
	}
}
