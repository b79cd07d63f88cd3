package gateway

import (
	"math/rand/v2"
	"time"
)

const (
	// comingBack is the number of links per second that should return after a restart, or while the rate at which
	// links are let in is not known.
	comingBack     = 2000
	shortestReturn = 100 * time.Millisecond
	// longestReturn limits the wait, so that a flood does not send everybody away for long.
	longestReturn = 10 * time.Second
)

// returning spreads the return of links for which there was no place, at the rate at which links were let in during
// the last second.
type returning struct {
	next   time.Time     // when the latest one is to come
	each   time.Duration // between two of them; 0: not known
	since  time.Time     // when this second began
	count  int           // let in since then
	wanted bool          // somebody was turned away since then, so the count is what the machine bears
}

// letIn counts a link that was let in.
func (r *returning) letIn(now time.Time) {
	r.pass(now)
	r.count++
}

// pass learns the rate from a second that is over.
func (r *returning) pass(now time.Time) {
	passed := now.Sub(r.since)
	switch {
	case passed < time.Second:
		return
	case !r.wanted || passed >= 2*time.Second:
		r.each = 0
	case r.count > 0:
		r.each = passed / time.Duration(r.count)
	}
	r.since, r.count, r.wanted = now, 0, false
}

// after returns in which time the next one should come.
func (r *returning) after(now time.Time) time.Duration {
	r.pass(now)
	r.wanted = true
	each := r.each
	if each == 0 {
		each = time.Second / comingBack
	}
	if soon := now.Add(shortestReturn); r.next.Before(soon) {
		r.next = soon
	}
	if r.next = r.next.Add(each); r.next.Sub(now) > longestReturn {
		r.next = now.Add(longestReturn)
		return longestReturn/2 + rand.N(longestReturn/2)
	}
	return r.next.Sub(now)
}
