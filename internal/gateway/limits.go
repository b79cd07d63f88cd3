package gateway

import (
	"fmt"
	"time"
)

const (
	helloTimeout  = 5 * time.Second
	maxOutbox     = 256  // answers that a client has not read; more, and it is closed
	maxEarly      = 64   // frames that wait for one that takes long
	maxUnreadCues = 64   // with so much unread, cues are dropped
	maxWatches    = 64   // rooms and patterns that one link may watch
	maxPeople     = 1000 // people that one link may watch
	maxCue        = 4 << 10
	maxCueName    = 64
	maxPage       = 1000 // members on one page
	pageSize      = 200
)

// Limits bound what clients may use. A zero field stands for its default.
type Limits struct {
	PerAddress  int           // links from one network address; 4096
	PerPerson   int           // links of one person; 128
	BeforeHello int           // links that have not said hello yet; 2048
	SlowAfter   time.Duration // without progress in writing to it, a link is closed; 10 s
}

func (l Limits) withDefaults() Limits {
	set := func(value *int, standard int) {
		if *value == 0 {
			*value = standard
		}
	}
	set(&l.PerAddress, 4096)
	set(&l.PerPerson, 128)
	set(&l.BeforeHello, 2048)
	if l.SlowAfter == 0 {
		l.SlowAfter = 10 * time.Second
	}
	return l
}

// rate is how many of something a link may do: so many at once, and one more each
// time.
type rate struct {
	each  time.Duration
	burst int
}

var (
	frameRate  = rate{20 * time.Millisecond, 200}
	excessRate = rate{100 * time.Millisecond, 200} // of frames refused for their rate
	tellRate   = rate{time.Second, 1}              // of telling so
	cueRate    = rate{200 * time.Millisecond, 20}
)

// pace is what a link has used of a rate: a token bucket, kept as the time at which
// it will be full again.
type pace struct{ full int64 } // Unix nanoseconds

// take uses one of the rate, and is false when there is none left.
func (p *pace) take(now time.Time, r rate) bool {
	at := now.UnixNano()
	full := max(p.full, at)
	if full-at > int64(r.burst-1)*int64(r.each) {
		return false
	}
	p.full = full + int64(r.each)
	return true
}

func rateText(what string, r rate) string {
	return fmt.Sprintf("%d %s at once, then %d a second", r.burst, what, time.Second/r.each)
}
