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

// pin is a big room whole, at one revision.
type pin struct {
	engine.Snapshot
	at    time.Time
	first []byte // the frame with its first page
}

// pinned returns the newest whole state if it is fresh enough to begin with.
func (t *topic) pinned() *pin {
	if len(t.pins) == 0 || time.Since(t.pins[len(t.pins)-1].at) > pinFresh {
		return nil
	}
	return t.pins[len(t.pins)-1]
}

// pin keeps a whole state for its life.
func (h *Hub) pin(t *topic, s engine.Snapshot) *pin {
	p := &pin{Snapshot: s, at: time.Now()}
	p.first = encode(wire.SnapshotFrame{Type: wire.TypeSnapshot, Members: p.page(PageWanted{Limit: firstPage})})
	if len(t.pins) == maxPins {
		t.pins = slices.Delete(t.pins, 0, 1)
	}
	t.pins = append(t.pins, p)
	time.AfterFunc(pinLife, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if i := slices.Index(t.pins, p); i >= 0 {
			t.pins = slices.Delete(t.pins, 0, i+1)
		}
	})
	return p
}

// PageWanted says which members a page is to have.
type PageWanted struct {
	After  presence.UserID // those whose id comes after this; empty: from the first on
	Status presence.Status // those who have it; empty: all
	Limit  int
}

// page returns the members that are wanted.
func (p *pin) page(want PageWanted) wire.Members {
	from, found := slices.BinarySearchFunc(p.Members, want.After, func(m presence.Member, user presence.UserID) int {
		return strings.Compare(string(m.User), string(user))
	})
	if found {
		from++
	}
	members, more := p.Members[from:], false
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
	page := p.Snapshot
	page.Members = members
	document := Document(page)
	if more {
		document.Next = string(members[len(members)-1].User)
	}
	return document
}

// FirstPage begins to page through a room as it is now, and keeps its revision for what
// follows when there is more.
func (h *Hub) FirstPage(now engine.Snapshot, want PageWanted) wire.Members {
	page := (&pin{Snapshot: now}).page(want)
	if page.Next == "" {
		return page
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if t := h.topics[now.Topic]; t != nil && !slices.ContainsFunc(t.pins, func(p *pin) bool { return p.Revision == now.Revision }) {
		h.pin(t, now)
	}
	return page
}

// Page returns a page of the members of a room at a revision, which a snapshot or an
// earlier page has told; the zero revision stands for a recent one. It is false when
// the room is no longer known at that revision.
func (h *Hub) Page(topic engine.Topic, revision engine.Revision, want PageWanted) (wire.Members, bool) {
	h.mu.Lock()
	t := h.topics[topic]
	var found *pin
	known := revision == engine.Revision{} || (t != nil && revision == t.newest)
	if t != nil {
		if revision == (engine.Revision{}) {
			found = t.pinned()
		} else if i := slices.IndexFunc(t.pins, func(p *pin) bool { return p.Revision == revision }); i >= 0 {
			found = t.pins[i]
		}
	}
	h.mu.Unlock()
	if found != nil {
		return found.page(want), true
	}
	if !known {
		return wire.Members{}, false
	}
	snapshot, later := h.source.Snapshot(topic)
	if later || (revision != engine.Revision{} && revision != snapshot.Revision) {
		return wire.Members{}, false
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if t = h.topics[topic]; t == nil || !snapshot.Exists {
		return (&pin{Snapshot: snapshot}).page(want), true // nobody is in it
	}
	return h.pin(t, snapshot).page(want), true
}
