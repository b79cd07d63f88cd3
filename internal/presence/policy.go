package presence

import (
	"maps"
	"slices"
	"strings"
	"time"
)

// Policy holds the timings and limits of a realm. What is about a session is set
// here; what is about being in a room may differ by room ([Policy.For]).
type Policy struct {
	// RoomPolicy is that of rooms which no pattern names, and of sessions that are
	// in no room.
	RoomPolicy
	// Rooms are the policies of rooms by pattern. A room has that of the most
	// specific pattern that names it.
	Rooms []PatternPolicy

	// BeatEvery is how long a link may bring nothing before it is asked for a beat.
	BeatEvery time.Duration
	// BeatTolerance times BeatEvery is how long a written request may stay
	// unanswered before the link is declared lost.
	BeatTolerance float64
	// Probe is how long a link may take to prove that it is alive when another page
	// claims its session.
	Probe time.Duration
	// Lease is the time within which a session without a connection has to come
	// again.
	Lease time.Duration
	// IdleAfter is how long a session is awake after the last activity.
	IdleAfter time.Duration
	// ActivityEvery is how often at most a client reports activity.
	ActivityEvery time.Duration
	// ExpiryWarning is how long before the expiry of a token its link is warned.
	ExpiryWarning time.Duration
	// RoomsPerSession is how many rooms one session may be in at once.
	RoomsPerSession int
	// SessionsPerPerson is how many unended sessions one person may have.
	SessionsPerPerson int
	// SecondSession is what becomes of a person's second session.
	SecondSession SecondSession
	// NameBytes and PictureBytes bound a profile.
	NameBytes, PictureBytes int
}

// RoomPolicy holds what is about being in a room.
type RoomPolicy struct {
	// GraceClosing is how long a session still counts after its page said that it
	// is going away, which a reload does too.
	GraceClosing time.Duration
	// GraceLost is how long it still counts after its link was lost without a word.
	GraceLost time.Duration
	// GraceBackground is the same for a page that had said that it is hidden: browsers
	// slow its timers to one a minute.
	GraceBackground time.Duration
	// TypingExpires is how long after the last report typing ends by itself.
	TypingExpires time.Duration
	// Capacity is how many people may be in the room; 0 stands for any number.
	Capacity int
	// CountEvery is how often at most a new count of the room is told.
	CountEvery time.Duration
	// MembersMax is how many people a room may have to be told member by member.
	// Above it, its count is told, and members are given in pages.
	MembersMax int
}

// PatternPolicy is the policy of the rooms that a pattern names.
type PatternPolicy struct {
	Pattern Pattern
	RoomPolicy
}

// SecondSession is what becomes of a second session of one person.
type SecondSession string

const (
	AllowSecond   SecondSession = "allow"   // there may be several
	ReplaceFirst  SecondSession = "replace" // the older ends
	RefuseSecond  SecondSession = "refuse"  // the newer is refused while the older has a link
	maxNoteBytes                = 200
	maxNonceBytes               = 64
)

// DefaultPolicy is the policy of a realm that sets nothing (DESIGN.md §3).
func DefaultPolicy() Policy {
	return Policy{
		RoomPolicy: RoomPolicy{
			GraceClosing:    3 * time.Second,
			GraceLost:       10 * time.Second,
			GraceBackground: 90 * time.Second,
			TypingExpires:   6 * time.Second,
			CountEvery:      250 * time.Millisecond,
			MembersMax:      1000,
		},
		BeatEvery:         15 * time.Second,
		BeatTolerance:     2.5,
		Probe:             2 * time.Second,
		Lease:             150 * time.Second,
		IdleAfter:         5 * time.Minute,
		ActivityEvery:     20 * time.Second,
		ExpiryWarning:     time.Minute,
		RoomsPerSession:   64,
		SessionsPerPerson: 64,
		SecondSession:     AllowSecond,
		NameBytes:         128,
		PictureBytes:      1024,
	}
}

// For returns the policy of a room.
func (p *Policy) For(room RoomName) *RoomPolicy {
	best, policy := Pattern(""), &p.RoomPolicy
	for i := range p.Rooms {
		if pattern := p.Rooms[i].Pattern; pattern.Match(room) && (best == "" || pattern.moreSpecific(best)) {
			best, policy = pattern, &p.Rooms[i].RoomPolicy
		}
	}
	return policy
}

// setPolicy puts another policy in force (see [SetPolicy]). Timers are set anew, since one
// that was lazily left for later may be due sooner now.
func (c *Core) setPolicy(now reading, policy Policy) {
	c.policy = &policy
	for _, r := range c.rooms {
		r.policy = c.policy.For(r.name)
	}
	for _, id := range slices.Sorted(maps.Keys(c.sessions)) { // in an order that can be repeated
		c.arm(now, c.sessions[id])
	}
}

// Silence is the time that a written beat request may stay unanswered.
func (p *Policy) Silence() time.Duration {
	return time.Duration(float64(p.BeatEvery) * p.BeatTolerance)
}

// LongestGhost is the published bound: the longest that somebody whose link died
// without a word can still be shown as present in any room, with a hidden page or not.
func (p *Policy) LongestGhost() time.Duration {
	longest := p.LongestGhostIn(&p.RoomPolicy)
	for i := range p.Rooms {
		longest = max(longest, p.LongestGhostIn(&p.Rooms[i].RoomPolicy))
	}
	return longest
}

// LongestGhostIn is LongestGhost for rooms of one policy.
func (p *Policy) LongestGhostIn(r *RoomPolicy) time.Duration {
	return max(p.GhostIn(r, false), p.GhostIn(r, true))
}

// GhostIn is how long at most somebody whose link died without a word is shown in rooms of
// one policy: their page was hidden, or it was not.
func (p *Policy) GhostIn(r *RoomPolicy, pageHidden bool) time.Duration {
	return p.LostAfter() + r.graceFor(ReasonLost, pageHidden)
}

// LostAfter is how long after the last sign of life a link that is up counts as lost.
func (p *Policy) LostAfter() time.Duration { return p.BeatEvery + p.Silence() }

// graceFor is how long a session still counts in a room for this reason.
func (p *RoomPolicy) graceFor(reason Reason, pageHidden bool) time.Duration {
	switch {
	case reason == ReasonClosing:
		return p.GraceClosing
	case pageHidden:
		return max(p.GraceBackground, p.GraceLost)
	}
	return p.GraceLost
}

// moreSpecific compares two patterns that name the same room: at the first word
// in which they differ, a word is more specific than *, and * than **.
func (p Pattern) moreSpecific(than Pattern) bool {
	rank := func(word string) int {
		switch word {
		case "**":
			return 0
		case "*":
			return 1
		}
		return 2
	}
	a, b := string(p), string(than)
	for a != "" && b != "" {
		var x, y string
		x, a, _ = strings.Cut(a, ".")
		y, b, _ = strings.Cut(b, ".")
		if rank(x) != rank(y) {
			return rank(x) > rank(y)
		}
	}
	return false
}
