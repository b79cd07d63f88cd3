package presence

// typing takes one report of a session (DESIGN.md §3, Typing). It starts with the
// first report and is renewed silently; it ends on stop, on sent, on leave, on
// closing, or when it expires after the last report. A mere loss of the link lets
// it run to its expiry. What others see is the union over the person's sessions.
func (c *Core) typing(now reading, s *session, in Typing, out *Effects) error {
	e := s.entry(in.Room)
	if e == nil {
		return notInRoom(in.Room)
	}
	if in.Number <= e.report {
		return nil // older than what is known
	}
	e.report = in.Number
	e.until = now.awake + e.room().policy.TypingExpires
	if e.typing != in.On {
		c.notice(s.person, leaving{}, out, func() { e.typing = in.On })
		c.arm(now, s)
	}
	return nil
}

func (c *Core) stopTyping(e *entry, out *Effects) {
	if e.typing {
		c.notice(e.session.person, leaving{}, out, func() { e.typing = false })
	}
}
