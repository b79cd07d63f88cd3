package presence

import "time"

// Act is what becomes of a session at a deadline.
type Act string

// The acts. Each is one rule of DESIGN.md §3.
const (
	AskForBeat   Act = "ask-beat"     // a link has brought nothing for BeatEvery
	DeclareLost  Act = "lose"         // a written request has stayed unanswered
	EndLease     Act = "end-lease"    // a lease has run out; there is no further grace
	LeaveRoom    Act = "leave"        // the room's grace is over
	EndGrace     Act = "end-grace"    // the longest grace is over
	FallIdle     Act = "fall-idle"    // no activity for IdleAfter
	StopTyping   Act = "stop-typing"  // no report for TypingExpires
	WarnOfExpiry Act = "warn-expiry"  // the token expires soon
	ExpireToken  Act = "expire"       // the token has expired
	SettleProbe  Act = "settle-probe" // the older link has not answered another page
)

// Acts returns all acts.
func Acts() []Act {
	return []Act{AskForBeat, DeclareLost, EndLease, LeaveRoom, EndGrace, FallIdle, StopTyping, WarnOfExpiry, ExpireToken, SettleProbe}
}

// deadline is when something becomes of a session.
type deadline struct {
	at    awakeTime
	act   Act
	entry *entry // the room that it is about, or nil
}

const never = awakeTime(1<<63 - 1)

// deadlines calls each with everything that will become of a session if nothing
// more is heard of it.
func (c *Core) deadlines(now reading, s *session, each func(deadline)) {
	p := c.policy
	switch {
	case s.state == Grace:
		for _, e := range s.entries {
			if e.deadline < s.deadline {
				each(deadline{e.deadline, LeaveRoom, e})
			}
		}
		each(deadline{s.deadline, EndGrace, nil})
	case s.leased:
		each(deadline{s.heard + p.Lease, EndLease, nil})
	default:
		if s.unheard > 0 {
			each(deadline{s.unheard + p.Silence(), DeclareLost, nil})
		}
		each(deadline{max(s.heard, s.asked) + p.BeatEvery, AskForBeat, nil})
	}
	if s.contest != nil {
		each(deadline{s.contest.deadline, SettleProbe, nil})
	}
	if !s.idle && !s.noInput {
		each(deadline{s.active + p.IdleAfter, FallIdle, nil})
	}
	for _, e := range s.entries {
		if e.typing {
			each(deadline{e.until, StopTyping, e})
		}
	}
	if s.state == Live && s.expires != 0 {
		if warn := s.expires - p.ExpiryWarning.Milliseconds(); !s.warned {
			each(deadline{now.until(warn), WarnOfExpiry, nil})
		}
		each(deadline{now.until(s.expires), ExpireToken, nil})
	}
}

// earliest is the deadline that comes first; of several at once, the one that
// deadlines names first.
func (c *Core) earliest(now reading, s *session) deadline {
	first := deadline{at: never}
	c.deadlines(now, s, func(d deadline) {
		if d.at < first.at {
			first = d
		}
	})
	return first
}

// arm sets the session's timer to its earliest deadline. What only moves a
// deadline away does not come here, a beat least of all: it stores its time, and
// the timer, firing too early, finds that and is set anew.
func (c *Core) arm(now reading, s *session) {
	c.wheel.set(&s.timer, c.earliest(now, s).at)
}

// fire does what is due for a session, one thing after another.
func (s *session) fire(c *Core, now reading, out *Effects) {
	for c.unended(s) {
		d := c.earliest(now, s)
		if d.at > now.awake {
			c.wheel.set(&s.timer, d.at)
			return
		}
		switch d.act {
		case LeaveRoom:
			c.observe(s.person, leaving{d.entry.reason, s.heardWall}, out, func() { c.exit(d.entry) })
		case AskForBeat:
			s.asked = now.awake
			out.add(AskBeat{Link: s.linkID()})
		case DeclareLost:
			out.add(Cut{Link: s.linkID(), Reason: ReasonSilent})
			c.lose(now, s, ReasonSilent, out)
		case FallIdle:
			c.setIdle(s, true, out)
		case StopTyping:
			c.stopTyping(d.entry, out)
		case WarnOfExpiry:
			s.warned = true
			out.add(WarnExpiry{Link: s.linkID(), Expires: s.expires})
		case ExpireToken:
			c.expire(now, s, out)
		case SettleProbe:
			c.settle(now, s, true, out)
		default: // EndGrace, EndLease
			reason := s.reason
			if s.state == Live {
				reason = ReasonSilent
			}
			c.end(now, s, reason, out)
		}
	}
}

// fired is whoever has a timer.
type fired interface {
	fire(c *Core, now reading, out *Effects)
}

// lateness is how much later than due the core may be advanced before it takes
// that for a pause of its machine.
const lateness = time.Second
