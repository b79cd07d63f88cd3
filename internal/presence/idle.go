package presence

import "time"

// setIdle changes whether somebody is at the session. Only a change is looked at:
// activity of a session that is awake stores its time and no more, and the timer
// finds it.
func (c *Core) setIdle(s *session, idle bool, out *Effects) {
	if s.idle != idle {
		c.observe(s.person, leaving{}, out, func() { s.becomeIdle(idle) })
		out.add(SessionIdle{Link: s.linkID(), User: s.person.id, Idle: idle})
	}
}

// pageHidden keeps what decides how long a lost link is waited for.
func (c *Core) pageHidden(s *session, hidden bool, out *Effects) {
	if s.pageHidden != hidden {
		s.pageHidden = hidden
		out.touch(s.person)
	}
}

// becomeIdle keeps the person's number of awake sessions.
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

// activity ends idleness at once, unless it was so long ago that the session has
// become idle since. A session without human input has none.
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
