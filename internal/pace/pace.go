// Package pace bounds how often a link may do something. A link has several such bounds,
// and there may be a million links, so a bound is one number of 8 bytes:
// golang.org/x/time/rate, which is used elsewhere, takes 80 and a lock.
package pace

import (
	"fmt"
	"time"
)

// Rate is how often something may happen: Burst times at once, and once more after each
// Each.
type Rate struct {
	Each  time.Duration
	Burst int
}

// Text says the rate in words, as in "200 frames at once, then 50 a second".
func (r Rate) Text(what string) string {
	return fmt.Sprintf("%d %s at once, then %d a second", r.Burst, what, time.Second/r.Each)
}

// Pace is what has been used of a rate: a token bucket, kept as the time at which it will
// be full again. The zero value is a full bucket. It is not safe for concurrent use.
type Pace struct{ full int64 } // Unix nanoseconds

// Take uses one of the rate. It returns false when there is none left.
func (p *Pace) Take(now time.Time, r Rate) bool {
	at := now.UnixNano()
	full := max(p.full, at)
	if full-at > int64(r.Burst-1)*int64(r.Each) {
		return false
	}
	p.full = full + int64(r.Each)
	return true
}
