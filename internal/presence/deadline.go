package presence

import "time"

// Act is what happens to a session at a deadline.
type Act string

// The acts. Each is a rule of docs/design.md §3.
const (
	AskForBeat   Act = "ask-beat"     // nothing was heard over the link for BeatEvery
	DeclareLost  Act = "lose"         // a beat request stayed unanswered
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

// deadline is a time at which something happens to a session.
type deadline struct {
	at    awakeTime
	act   Act
	entry *entry // its room, or nil
}

const never = awakeTime(1<<63 - 1)

// deadlines calls each with everything that will happen to a session if nothing more is heard of
// it.
func (c *Core) deadlines(now reading, s *session, each func(deadline)) {
	p := c.policy
	switch {
	case s.state == Grace:
		for _, e := range s.entries.list() {
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
	if s.contest() != nil {
		each(deadline{s.contest().deadline, SettleProbe, nil})
	}
	if !s.idle && !s.noInput {
		each(deadline{s.active + p.IdleAfter, FallIdle, nil})
	}
	for _, e := range s.entries.list() {
		if e.types() {
			each(deadline{e.typed.until, StopTyping, e})
		}
	}
	if s.state == Live && s.expires != 0 {
		if warn := s.expires - p.ExpiryWarning.Milliseconds(); !s.warned {
			each(deadline{now.until(warn), WarnOfExpiry, nil})
		}
		each(deadline{now.until(s.expires), ExpireToken, nil})
	}
}

// earliest returns the first deadline; of several at the same time, the one that deadlines
// yields first.
func (c *Core) earliest(now reading, s *session) deadline {
	first := deadline{at: never}
	c.deadlines(now, s, func(d deadline) {
		if d.at < first.at {
			first = d
		}
	})
	return first
}

// arm sets the session's timer to its earliest deadline. An input that only moves a deadline
// away does not call it: a beat only stores its time. The timer then fires too early, and is
// armed again.
func (c *Core) arm(now reading, s *session) {
	c.wheel.set(&s.timer, c.earliest(now, s).at)
}

// fire does everything that is due for a session, one act after another.
func (s *session) fire(c *Core, now reading, out *Effects) {
	for c.unended(s) {
		d := c.earliest(now, s)
		if d.at > now.awake {
			c.wheel.set(&s.timer, d.at)
			return
		}
		switch d.act {
		case LeaveRoom:
			c.observe(s.person, cause{d.entry.reason, s.heardWall, s.id}, out, func() { c.exit(now, d.entry) })
		case AskForBeat:
			s.asked = now.awake
			out.add(AskBeat{Link: s.linkID()})
		case DeclareLost:
			out.add(Cut{Link: s.linkID(), Reason: ReasonSilent})
			c.lose(now, s, ReasonSilent, out)
		case FallIdle:
			c.setIdle(now, s, true, s.active, out)
		case StopTyping:
			c.stopTyping(d.entry, ReasonSilent, out)
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

// fired is the owner of a timer.
type fired interface {
	fire(c *Core, now reading, out *Effects)
}

// lateness is how late Advance may be before that counts as a suspension of the machine.
const lateness = time.Second
