package presence

import "time"

// setIdle makes a session idle or active, which was active before at a time. Activity of an
// active session only stores its time, and the timer finds it.
func (c *Core) setIdle(now reading, s *session, idle bool, before awakeTime, out *Effects) {
	if s.idle != idle {
		c.observe(s.person, cause{}, out, func() { s.becomeIdle(idle) })
		out.add(s.idleness(now, before))
	}
}

// idleness says that the session has become what it is, after it was active before at a time.
func (s *session) idleness(now reading, before awakeTime) SessionIdle {
	until := s.active
	if s.idle {
		before, until = s.active, now.awake
	}
	return SessionIdle{Link: s.linkID(), User: s.person.id, Idle: s.idle, Quiet: max(until-before, 0)}
}

// pageHidden stores whether the page is hidden, which decides the grace of a lost link.
func (c *Core) pageHidden(s *session, hidden bool, out *Effects) {
	if s.pageHidden != hidden {
		s.pageHidden = hidden
		out.touch(s.person)
	}
}

// becomeIdle keeps the number of the person's active sessions up to date.
func (s *session) becomeIdle(idle bool) {
	if s.idle == idle {
		return
	}
	s.idle = idle
	if idle {
		s.person.awake--
	} else {
		s.person.awake++
	}
}

// activity makes a session active, unless the activity was so long ago that the session has
// become idle since. It does nothing for a session without human input.
func (c *Core) activity(now reading, s *session, idleFor time.Duration, out *Effects) {
	if s.noInput {
		return
	}
	before := s.active
	s.active = max(s.active, now.awake-idleFor)
	if s.idle && idleFor < c.policy.IdleAfter {
		c.setIdle(now, s, false, before, out)
		c.arm(now, s)
	}
}
