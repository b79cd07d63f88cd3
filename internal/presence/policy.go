package presence

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

// Policy has the timings and limits of a realm. Those of sessions are the same everywhere; those
// of rooms can differ by room ([Policy.For]).
type Policy struct {
	// RoomPolicy applies to rooms that no pattern matches, and to sessions in no room.
	RoomPolicy
	// Rooms are the policies of rooms by pattern. The most specific matching pattern applies.
	Rooms []PatternPolicy

	// BeatEvery is the time without a frame over a link after which it is asked for a beat.
	BeatEvery time.Duration
	// BeatTolerance times BeatEvery is how long a written beat request may stay unanswered
	// before the link counts as lost.
	BeatTolerance float64
	// Probe is how long a link has to prove that it is alive when another page claims its
	// session.
	Probe time.Duration
	// Lease is the time within which a session without a connection must send its next hello.
	Lease time.Duration
	// IdleAfter is how long a session stays active after the last activity.
	IdleAfter time.Duration
	// ActivityEvery is the shortest interval in which clients report activity.
	ActivityEvery time.Duration
	// ExpiryWarning is how long before the expiry of a token its link is warned.
	ExpiryWarning time.Duration
	// RoomsPerSession limits the rooms of a session.
	RoomsPerSession int
	// SessionsPerPerson limits the unended sessions of a person.
	SessionsPerPerson int
	// SecondSession decides what happens to a person's second session.
	SecondSession SecondSession
	// Quota limits what the realm uses as a whole.
	Quota Quota
	// InvitationWaits is how long an invitation waits for an answer.
	InvitationWaits time.Duration
	// InvitationBusy decides whether people can be invited who have set busy.
	InvitationBusy InvitationBusy
	// InvitationsMax limits the open invitations that a person has received.
	InvitationsMax int
	// Labels are the application's own words for statuses.
	Labels map[Status][]string
	// NameBytes and PictureBytes limit a profile.
	NameBytes, PictureBytes int
}

// RoomPolicy has the timings and limits of being in a room.
type RoomPolicy struct {
	// GraceClosing is how long a session still counts after its page said that it is closing; a
	// reload says so, too.
	GraceClosing time.Duration
	// GraceLost is how long it still counts after its link was lost without notice.
	GraceLost time.Duration
	// GraceBackground is the same for a hidden page, whose timers browsers slow down to one a
	// minute.
	GraceBackground time.Duration
	// TypingExpires is how long after the last report typing ends by itself.
	TypingExpires time.Duration
	// Capacity limits the people in the room; 0 means no limit.
	Capacity int
	// CountEvery is the shortest interval in which counts of the room are sent.
	CountEvery time.Duration
	// MembersMax limits the people in a room whose members are sent one by one. In a larger room
	// the count is sent, and members are read in pages.
	MembersMax int
	// Entry decides whether somebody without a pass is let in or has to ask.
	Entry Entry
	// WatchCount decides who may follow the count of a room that asks: people who may enter
	// without asking, or everybody who may watch the room.
	WatchCount WatchCount
	// AskWaits is how long an ask waits for an answer.
	AskWaits time.Duration
	// AskPass is how long the pass lasts of somebody who was admitted or has accepted an
	// invitation.
	AskPass time.Duration
	// AskAgain is how long somebody who was refused must wait before they ask again.
	AskAgain time.Duration
	// Engages makes the members busy, as in a call. A person may be in one such room,
	// or in several if EngagesSeveral is set for all of them.
	Engages, EngagesSeveral bool
	// DoingEvery is the shortest interval in which others see what a member is doing change.
	DoingEvery time.Duration
	// DoingBytes limits what a member says of what they are doing.
	DoingBytes int
}

// Entry is how a room is entered.
type Entry string

const (
	EntryOpen Entry = "open" // by everybody who may be in it
	EntryAsk  Entry = "ask"  // with a pass; without one, after asking
)

// WatchCount is who may follow the count of a room that asks.
type WatchCount string

const (
	CountAdmitted WatchCount = "admitted"
	CountAnyone   WatchCount = "anyone"
)

// InvitationBusy is what happens to an invitation of somebody who has set busy.
type InvitationBusy string

const (
	RefuseBusy InvitationBusy = "refuse"
	AllowBusy  InvitationBusy = "allow"
)

// PatternPolicy is the policy of the rooms that a pattern matches.
type PatternPolicy struct {
	Pattern Pattern
	RoomPolicy
}

// SecondSession is what happens when a person opens a second session.
type SecondSession string

const (
	AllowSecond   SecondSession = "allow"   // several are allowed
	ReplaceFirst  SecondSession = "replace" // the older session ends
	RefuseSecond  SecondSession = "refuse"  // the newer session is refused while the older one has a link
	maxNoteBytes                = 200
	maxNonceBytes               = 64
)

// DefaultPolicy returns the default policy (docs/design.md §3).
func DefaultPolicy() Policy {
	return Policy{
		RoomPolicy: RoomPolicy{
			GraceClosing:    3 * time.Second,
			GraceLost:       10 * time.Second,
			GraceBackground: 90 * time.Second,
			TypingExpires:   6 * time.Second,
			CountEvery:      250 * time.Millisecond,
			MembersMax:      1000,
			Entry:           EntryOpen,
			WatchCount:      CountAdmitted,
			AskWaits:        time.Minute,
			AskPass:         12 * time.Hour,
			AskAgain:        time.Minute,
			DoingEvery:      100 * time.Millisecond,
			DoingBytes:      1024,
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
		InvitationWaits:   30 * time.Second,
		InvitationBusy:    RefuseBusy,
		InvitationsMax:    16,
		NameBytes:         128,
		PictureBytes:      1024,
	}
}

// For returns the policy of a room.
func (p *Policy) For(room RoomName) *RoomPolicy {
	_, policy := p.find(room)
	return policy
}

// PatternFor returns the pattern whose policy applies to a room; ** if that is the realm's.
func (p *Policy) PatternFor(room RoomName) Pattern {
	pattern, _ := p.find(room)
	return cmp.Or(pattern, "**")
}

func (p *Policy) find(room RoomName) (best Pattern, policy *RoomPolicy) {
	policy = &p.RoomPolicy
	for i := range p.Rooms {
		if pattern := p.Rooms[i].Pattern; pattern.Match(room) && (best == "" || pattern.moreSpecific(best)) {
			best, policy = pattern, &p.Rooms[i].RoomPolicy
		}
	}
	return best, policy
}

// setPolicy replaces the policy (see [SetPolicy]). It arms all timers again, because deadlines
// may be earlier under the new policy.
func (c *Core) setPolicy(now reading, policy Policy, out *Effects) {
	if policy.Quota != c.policy.Quota {
		c.quotas.told = nil // what was told is about other limits
	}
	c.policy = &policy
	c.setPolicies(out)
	c.sessionsChanged(now, out)
	for _, id := range slices.Sorted(c.sessions.ids()) { // in a reproducible order
		c.arm(now, c.sessions.get(id))
	}
}

// Silence returns how long a written beat request may stay unanswered.
func (p *Policy) Silence() time.Duration {
	return time.Duration(float64(p.BeatEvery) * p.BeatTolerance)
}

// LongestGhost returns the published bound: the longest time for which a person whose link died
// without notice may still be shown in any room, whether the page was hidden or not.
func (p *Policy) LongestGhost() time.Duration {
	longest := p.LongestGhostIn(&p.RoomPolicy)
	for i := range p.Rooms {
		longest = max(longest, p.LongestGhostIn(&p.Rooms[i].RoomPolicy))
	}
	return longest
}

// LongestGhostIn returns LongestGhost for rooms with one policy.
func (p *Policy) LongestGhostIn(r *RoomPolicy) time.Duration {
	return max(p.GhostIn(r, false), p.GhostIn(r, true))
}

// GhostIn returns how long a person whose link died without notice may be shown in rooms with
// one policy, if their page was hidden or not.
func (p *Policy) GhostIn(r *RoomPolicy, pageHidden bool) time.Duration {
	return p.LostAfter() + r.graceFor(ReasonLost, pageHidden)
}

// LostAfter returns how long after the last sign of life a connected link counts as lost.
func (p *Policy) LostAfter() time.Duration { return p.BeatEvery + p.Silence() }

// graceFor returns how long a session still counts in a room for a reason.
func (p *RoomPolicy) graceFor(reason Reason, pageHidden bool) time.Duration {
	switch {
	case reason == ReasonClosing:
		return p.GraceClosing
	case pageHidden:
		return max(p.GraceBackground, p.GraceLost)
	}
	return p.GraceLost
}

// moreSpecific compares two patterns that match the same room: at the first word that differs, a
// word is more specific than *, and * than **.
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
