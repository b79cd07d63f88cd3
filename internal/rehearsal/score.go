package rehearsal

import (
	"slices"
	"strings"
	"time"

	"tovik.example/tovik/internal/presence"
)

// Score is the result of a rehearsal.
type Score struct {
	People   int            `json:"people"`
	Hours    float64        `json:"hours"`
	Seed     uint64         `json:"seed"`
	Sessions int            `json:"sessions"`
	Acts     int            `json:"acts"`
	Beats    int            `json:"beats"`
	Restarts int            `json:"restarts"`
	Pauses   int            `json:"pauses"`
	Lines    []Line         `json:"lines"`
	Took     time.Duration  `json:"-"`
	Saved    presence.Saved `json:"-"` // what a restart of the service needs, in the end
}

// Line is one thing that can go wrong, and how it went. Times are in seconds.
type Line struct {
	What  string  `json:"what"`
	Seen  int     `json:"seen"`  // how often it happened
	Total float64 `json:"total"` // seconds
	Worst float64 `json:"worst"` // seconds
	Bound float64 `json:"bound"` // seconds, as the policy promises
	// Broken is how often the bound was broken; for false leaves, how many there were.
	Broken int `json:"broken"`
}

// Broken reports whether any bound was broken.
func (s *Score) Broken() bool {
	return slices.ContainsFunc(s.Lines, func(l Line) bool { return l.Broken > 0 })
}

// line returns the line of something, and creates it if needed.
func (s *Score) line(what string) *Line {
	for i := range s.Lines {
		if s.Lines[i].What == what {
			return &s.Lines[i]
		}
	}
	s.Lines = append(s.Lines, Line{What: what})
	return &s.Lines[len(s.Lines)-1]
}

// group orders the lines: what must never happen, what the policy promises, and the same across
// pauses.
func (l Line) group() string {
	switch {
	case l.What == falseLeaves || l.What == lateLeaves || l.What == flickers:
		return "1"
	case strings.HasSuffix(l.What, acrossPause):
		return "3" + l.What
	}
	return "2" + l.What
}

// slack is how much later than promised something may be seen: a timer fires at most one tick
// late, and several may depend on each other.
const slack = 100 * time.Millisecond

// acrossPause marks what took longer because the service was paused.
const acrossPause = ", across a pause or restart"

// took records how long something took, and how long it was allowed to take: what the policy
// promises, and the pauses of the service.
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

// never records something that must not happen.
func (s *Score) never(what string) { s.line(what).Seen++; s.line(what).Broken++ }
