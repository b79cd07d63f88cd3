package realm

import (
	"maps"
	"sync"
	"time"

	"tovik.example/tovik/internal/presence"
)

// early remembers when tokens were issued by a clock that is ahead of this one's, until that time has
// come. A removal must refuse them, also those without a session, which the core does not know.
type early struct {
	mu     sync.Mutex
	issued map[presence.UserID]time.Time // the newest of each person
	sweep  int                           // how many there are when those whose time has come are forgotten
}

// note takes a token that was accepted.
func (e *early) note(user presence.UserID, issued, now time.Time) {
	if !issued.After(now) {
		return
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.issued == nil {
		e.issued = map[presence.UserID]time.Time{}
	}
	if issued.After(e.issued[user]) {
		e.issued[user] = issued
	}
	if len(e.issued) > e.sweep {
		maps.DeleteFunc(e.issued, func(_ presence.UserID, issued time.Time) bool { return !issued.After(now) })
		e.sweep = max(1000, 2*len(e.issued))
	}
}

// of returns when the newest of a person's tokens was issued; the zero time if none was early.
func (e *early) of(user presence.UserID) time.Time {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.issued[user]
}
