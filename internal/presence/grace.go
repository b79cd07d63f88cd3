package presence

import "time"

// lose takes the link away from a session and lets it wait for its return. A
// second sign of loss may shorten the wait, never lengthen it, and then the
// reason is that of the shorter one.
func (c *Core) lose(now reading, s *session, reason Reason, out *Effects) {
	deadline := now.awake + c.graceFor(reason)
	if s.state == grace && deadline >= s.deadline {
		return
	}
	s.state, s.reason, s.deadline = grace, reason, deadline
	c.arm(s)
	out.add(SessionInGrace{Link: s.linkID(), Reason: reason})
}

func (c *Core) graceFor(reason Reason) time.Duration {
	if reason == ReasonClosing {
		return c.policy.GraceClosing
	}
	return c.policy.GraceLost
}

// closingBeacon takes the same word by another way. The link is cut: what it may
// still bring was sent before that word, and must not undo it. A wrong key is
// answered like a session that is not there, so that nobody learns from it
// whether somebody else's session exists.
func (c *Core) closingBeacon(now reading, in ClosingBeacon, out *Effects) (Reply, error) {
	s := c.sessions[in.Session]
	if s == nil || !sameSecret(s.key, in.Key) || s.nonce != in.Nonce {
		return Reply{Stale: true}, nil
	}
	if s.state == live {
		s.hears(now)
		out.add(Cut{Link: s.linkID(), Reason: ReasonClosing})
	}
	c.lose(now, s, ReasonClosing, out)
	return Reply{}, nil
}

// arm sets the session's timer to the earliest instant at which something may
// have to be done. A beat does not come here: it only stores its time, and the
// timer, firing too early, finds that and is set anew.
func (c *Core) arm(s *session) {
	if s.state == grace {
		c.wheel.set(&s.timer, s.deadline)
		return
	}
	next := max(s.heard, s.asked) + c.policy.BeatEvery
	if s.unheard > 0 {
		next = min(next, s.unheard+c.policy.Silence())
	}
	c.wheel.set(&s.timer, next)
}

// fire does what is due for a session whose timer has come.
//
// A live link that has brought nothing for BeatEvery is asked for a beat, and
// again each BeatEvery. When the first unanswered request that was really
// written is older than the silence allowed, the link is declared lost
// (DESIGN.md §3, Beats). In grace, the session ends.
func (c *Core) fire(now reading, s *session, out *Effects) {
	switch {
	case s.state == grace && now.awake >= s.deadline:
		c.end(s, s.reason, out)
		return
	case s.state == live && s.unheard > 0 && now.awake >= s.unheard+c.policy.Silence():
		link := s.linkID()
		c.lose(now, s, ReasonSilent, out)
		out.add(Cut{Link: link, Reason: ReasonSilent})
		return
	case s.state == live && now.awake >= max(s.heard, s.asked)+c.policy.BeatEvery:
		s.asked = now.awake
		out.add(AskBeat{Link: s.linkID()})
	}
	c.arm(s)
}

// beatWritten starts the silence, unless it runs already.
func (c *Core) beatWritten(now reading, link LinkID) {
	s, err := c.from(link)
	if err != nil || s.unheard > 0 || s.heard > s.asked {
		return
	}
	s.unheard = now.awake
	c.arm(s)
}
