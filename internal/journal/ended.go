package journal

import (
	"hash/maphash"

	"tovik.example/tovik/internal/presence"
)

// An ended session is remembered for at least endedFor milliseconds, unless mostEnded others end meanwhile.
const (
	endedFor  = 15 * 60 * 1000
	mostEnded = 50_000
)

// ended remembers whose sessions have ended lately. A client may name any session as the one that it wants to
// resume: an entry keeps the name only if the session was the same person's. Hashes take little memory and hold no
// pointers. A name that was never there passes with a chance of 1 in 2^47.
type ended struct {
	seed         maphash.Seed
	newer, older map[uint64]struct{}
	since        int64 // when the first of newer ended, in Unix milliseconds
}

func newEnded() ended { return ended{seed: maphash.MakeSeed()} }

func (e *ended) hash(user presence.UserID, session presence.SessionID) uint64 {
	return maphash.Comparable(e.seed, [2]string{string(user), string(session)})
}

// note takes a session that ended at a time in Unix milliseconds.
func (e *ended) note(user presence.UserID, session presence.SessionID, at int64) {
	if e.newer == nil || at-e.since >= endedFor || len(e.newer) >= mostEnded {
		e.older, e.newer, e.since = e.newer, map[uint64]struct{}{}, at
	}
	e.newer[e.hash(user, session)] = struct{}{}
}

// has reports whether a session of the person has ended lately.
func (e *ended) has(user presence.UserID, session presence.SessionID) bool {
	hash := e.hash(user, session)
	_, newer := e.newer[hash]
	_, older := e.older[hash]
	return newer || older
}
