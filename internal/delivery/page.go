package delivery

import (
	"slices"
	"strings"
	"time"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// Sizes of pages of members, and how long the revision that they are of is kept.
const (
	firstPage = 200
	pinFresh  = 5 * time.Second  // so old it may be for those who come
	pinLife   = 60 * time.Second // so long it can be paged through
	maxPins   = 8
)

// pin is a whole big room at one revision.
type pin struct {
	engine.Snapshot
	at    time.Time
	given bool // to somebody, who may page on
	first firsts
}

// part says which of the members of a room a frame has: the first by id, with or without what they
// are doing.
type part struct {
	limit  int
	sparse bool
}

// firsts are the frames of the first members at one revision, as far as somebody needed them.
type firsts map[part]*frame

func (f *firsts) of(s engine.Snapshot, of part) *frame {
	if (*f)[of] == nil {
		if *f == nil {
			*f = firsts{}
		}
		(*f)[of] = &frame{of: func() any { return firstFrame(s, of) }}
	}
	return (*f)[of]
}

// pinning is how a topic gets its pins. In the open view a big room is pinned by a clock of its
// own, so that what a newcomer gets does not reveal whether others came before. In the full view
// it is pinned when somebody needs it.
type pinning struct {
	wanted bool // one is to be made now
	timer  *time.Timer
}

func (t *topic) pinsItself() bool { return t.big && t.View == presence.Open }

// pinned returns the newest pin if it is fresh enough to begin with.
func (t *topic) pinned() *pin {
	if len(t.pins) == 0 {
		return nil
	}
	newest := t.pins[len(t.pins)-1]
	if !t.pinsItself() && time.Since(newest.at) > pinFresh {
		return nil
	}
	return newest
}

// pinIfWanted makes a pin in another goroutine, if one is wanted. The lock of the topic is held.
func (h *Hub) pinIfWanted(t *topic) {
	if !t.pinning.wanted || h.isClosed() {
		return
	}
	t.pinning.wanted = false
	if t.pinning.timer != nil {
		t.pinning.timer.Stop()
	}
	t.pinning.timer = time.AfterFunc(0, func() { h.pinByClock(t) })
}

func (h *Hub) pinByClock(t *topic) {
	snapshot := h.source.Sealed(t.Topic)
	t.mu.Lock()
	defer t.mu.Unlock()
	if h.isClosed() || !t.pinsItself() || t.gone {
		return
	}
	if len(t.pins) == 0 || t.pins[len(t.pins)-1].Revision != snapshot.Revision {
		if n := len(t.pins); n > 0 && !t.pins[n-1].given {
			t.pins = t.pins[:n-1]
		}
		t.pin(snapshot)
	}
	t.pinning.timer.Reset(pinFresh)
	for _, s := range t.subs {
		if s.fresh {
			s.receiver.inbox.mark(s)
		}
	}
}

// pin keeps a whole state for its life.
func (t *topic) pin(s engine.Snapshot) *pin {
	p := &pin{Snapshot: s, at: time.Now()}
	if len(t.pins) == maxPins {
		t.pins = slices.Delete(t.pins, 0, 1)
	}
	t.pins = append(t.pins, p)
	time.AfterFunc(pinLife, func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		i := slices.Index(t.pins, p)
		if i == len(t.pins)-1 && t.pinsItself() {
			i-- // it is the newest until the room changes
		}
		if i >= 0 {
			t.pins = slices.Delete(t.pins, 0, i+1)
		}
	})
	return p
}

// PageWanted says which members a page has.
type PageWanted struct {
	After  presence.UserID // those whose id comes after this; empty: from the first on
	Status presence.Status // those who have it; empty: all
	Limit  int
}

// page returns the wanted members of a room.
func page(s engine.Snapshot, want PageWanted) wire.Members {
	from, found := slices.BinarySearchFunc(s.Members, want.After, func(m presence.Member, user presence.UserID) int {
		return strings.Compare(string(m.User), string(user))
	})
	if found {
		from++
	}
	members, more := s.Members[from:], false
	if want.Status != "" {
		var chosen []presence.Member
		for _, m := range members {
			if m.Status == want.Status && len(chosen) <= want.Limit {
				chosen = append(chosen, m)
			}
		}
		members = chosen
	}
	if more = len(members) > want.Limit; more {
		members = members[:want.Limit]
	}
	s.Members = members
	document := Document(s)
	if more {
		document.Next = string(members[len(members)-1].User)
	}
	return document
}

// FirstPage returns the first page of a room as it is now. If there are more pages, it keeps the
// revision for them.
func (h *Hub) FirstPage(now engine.Snapshot, want PageWanted) wire.Members {
	first := page(now, want)
	if first.Next == "" {
		return first
	}
	t := h.lockKnown(now.Topic)
	if t == nil {
		return first
	}
	defer t.mu.Unlock()
	if t.pinOf(now.Revision) == nil {
		t.pin(now)
	}
	return first
}

// Page returns a page of a room at a revision that a snapshot or an earlier page named; the zero
// revision stands for a recent one. It returns false if the room is no longer known at that
// revision.
func (h *Hub) Page(topic engine.Topic, revision engine.Revision, want PageWanted) (wire.Members, bool) {
	if found := h.found(topic, revision); found != nil {
		return page(found.Snapshot, want), true
	}
	snapshot := h.source.Sealed(topic)
	if revision != (engine.Revision{}) && revision != snapshot.Revision {
		return wire.Members{}, false
	}
	return page(h.keep(snapshot).Snapshot, want), true
}

// found returns the pin at a revision. For the zero revision it returns the newest pin of a big
// room, and nil for a small room.
func (h *Hub) found(topic engine.Topic, revision engine.Revision) *pin {
	t := h.lockKnown(topic)
	if t == nil {
		return nil
	}
	defer t.mu.Unlock()
	if revision != (engine.Revision{}) {
		return t.pinOf(revision)
	}
	if !t.big {
		return nil
	}
	newest := t.pinned()
	if newest != nil {
		newest.given = true
	}
	return newest
}

// keep pins a fetched state, unless the room is empty or its clock is about to pin it.
func (h *Hub) keep(s engine.Snapshot) *pin {
	t := h.lockKnown(s.Topic)
	if t == nil {
		return &pin{Snapshot: s}
	}
	defer t.mu.Unlock()
	if !s.Exists || t.pinsItself() {
		return &pin{Snapshot: s}
	}
	p := t.pin(s)
	p.given = true
	return p
}

func (t *topic) pinOf(revision engine.Revision) *pin {
	for _, p := range t.pins {
		if p.Revision == revision {
			return p
		}
	}
	return nil
}
