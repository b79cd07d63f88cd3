package rehearsal

import (
	"slices"
	"strings"
	"time"
)

// Score is what the world saw of the core.
type Score struct {
	People   int           `json:"people"`
	Hours    float64       `json:"hours"`
	Seed     uint64        `json:"seed"`
	Sessions int           `json:"sessions"`
	Acts     int           `json:"acts"`
	Beats    int           `json:"beats"`
	Restarts int           `json:"restarts"`
	Pauses   int           `json:"pauses"`
	Lines    []Line        `json:"lines"`
	Took     time.Duration `json:"-"`
}

// Line is one thing that could go wrong, with how it went. Times are in seconds.
type Line struct {
	What  string  `json:"what"`
	Seen  int     `json:"seen"`  // how often it came to it
	Total float64 `json:"total"` // seconds
	Worst float64 `json:"worst"` // seconds
	Bound float64 `json:"bound"` // seconds that the policy promises
	// Broken is how often the bound was broken; of false leaves, each one.
	Broken int `json:"broken"`
}

// Broken tells whether any bound was broken.
func (s *Score) Broken() bool {
	return slices.ContainsFunc(s.Lines, func(l Line) bool { return l.Broken > 0 })
}

// line finds or makes the line of something.
func (s *Score) line(what string) *Line {
	for i := range s.Lines {
		if s.Lines[i].What == what {
			return &s.Lines[i]
		}
	}
	s.Lines = append(s.Lines, Line{What: what})
	return &s.Lines[len(s.Lines)-1]
}

// group orders the lines: what must never happen, what the policy promises, and
// that across pauses.
func (l Line) group() string {
	switch {
	case l.What == falseLeaves || l.What == lateLeaves || l.What == flickers:
		return "1"
	case strings.HasSuffix(l.What, acrossPause):
		return "3" + l.What
	}
	return "2" + l.What
}

// slack is how much later than promised something may be seen: a timer fires at
// most one tick late, and several may follow from each other.
const slack = 100 * time.Millisecond

// acrossPause marks what the service's own standing still has made longer.
const acrossPause = ", across a pause or restart"

// took notes something that lasted, and that may have lasted as long as the policy
// promises, and as the service's machine stood still meanwhile.
func (s *Score) took(what string, lasted, promised, stalled time.Duration) {
	if stalled > 0 {
		what += acrossPause
	}
	bound := promised + stalled
	l := s.line(what)
	l.Seen++
	l.Total += lasted.Seconds()
	l.Worst = max(l.Worst, lasted.Seconds())
	l.Bound = max(l.Bound, bound.Seconds())
	if lasted > bound+slack {
		l.Broken++
	}
}

// never notes something that must not happen.
func (s *Score) never(what string) { s.line(what).Seen++; s.line(what).Broken++ }
