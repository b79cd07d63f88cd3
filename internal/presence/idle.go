package presence

import "time"

// setIdle makes a session idle or active. Activity of an active session only stores its time,
// and the timer finds it.
func (c *Core) setIdle(s *session, idle bool, out *Effects) {
	if s.idle != idle {
		c.observe(s.person, leaving{}, out, func() { s.becomeIdle(idle) })
		out.add(SessionIdle{Link: s.linkID(), User: s.person.id, Idle: idle})
	}
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
	s.active = max(s.active, now.awake-idleFor)
	if s.idle && idleFor < c.policy.IdleAfter {
		c.setIdle(s, false, out)
		c.arm(now, s)
	}
}
