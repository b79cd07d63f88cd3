package presence

import "time"

// Policy holds the timings and limits of a realm.
type Policy struct {
	// BeatEvery is how long a link may bring nothing before it is asked for a beat.
	BeatEvery time.Duration
	// BeatTolerance times BeatEvery is how long a written request may stay
	// unanswered before the link is declared lost.
	BeatTolerance float64
	// GraceClosing is how long a session still counts after its page said that it
	// is going away, which a reload does too.
	GraceClosing time.Duration
	// GraceLost is how long a session still counts after its link was lost
	// without a word.
	GraceLost time.Duration
	// RoomsPerSession is how many rooms one session may be in at once.
	RoomsPerSession int
	// SessionsPerPerson is how many unended sessions one person may have.
	SessionsPerPerson int
}

// DefaultPolicy is the policy of a realm that sets nothing (DESIGN.md §3).
func DefaultPolicy() Policy {
	return Policy{
		BeatEvery:         15 * time.Second,
		BeatTolerance:     2.5,
		GraceClosing:      3 * time.Second,
		GraceLost:         10 * time.Second,
		RoomsPerSession:   64,
		SessionsPerPerson: 64,
	}
}

// Silence is the time that a written beat request may stay unanswered.
func (p Policy) Silence() time.Duration {
	return time.Duration(float64(p.BeatEvery) * p.BeatTolerance)
}

// LongestGhost is the published bound: the longest that somebody whose link
// died without a word can still be shown as present.
func (p Policy) LongestGhost() time.Duration {
	return p.BeatEvery + p.Silence() + p.GraceLost
}
