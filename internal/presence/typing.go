package presence

// typing takes one report of a session (DESIGN.md §3, Typing). It starts with the
// first report and is renewed silently; it ends on stop, on sent, on leave, on
// closing, or when it expires after the last report. A mere loss of the link lets
// it run to its expiry. What others see is the union over the person's sessions.
func (c *Core) typing(now reading, s *session, in Typing, out *Effects) (Reply, error) {
	e := s.entry(in.Room)
	if e == nil {
		return Reply{}, notInRoom("room", in.Room)
	}
	if in.Number != 0 && in.Number <= e.report {
		return Reply{Stale: true}, nil
	}
	e.report = max(e.report, in.Number)
	c.types(now, e, in.On, out)
	return Reply{}, nil
}

// types starts, renews or ends typing.
func (c *Core) types(now reading, e *entry, on bool, out *Effects) {
	e.until = now.awake + e.room().policy.TypingExpires
	if e.typing != on {
		c.notice(e.session.person, leaving{}, out, func() { e.typing = on })
		c.arm(now, e.session)
	}
}

func (c *Core) stopTyping(e *entry, out *Effects) {
	if e.typing {
		c.notice(e.session.person, leaving{}, out, func() { e.typing = false })
	}
}
