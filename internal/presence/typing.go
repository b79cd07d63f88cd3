package presence

// typing applies one typing report of a session (docs/design.md §3, Typing). Typing starts with
// the first report and is renewed silently. It ends on stop, on sent, on leave, on closing, or
// some time after the last report; the loss of the link alone does not end it. Others see the
// union over the person's sessions.
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
		c.notice(e.session.person, cause{}, out, func() { e.typing = on })
		c.arm(now, e.session)
	}
}

func (c *Core) stopTyping(e *entry, why Reason, out *Effects) {
	if e.typing {
		c.notice(e.session.person, cause{reason: why}, out, func() { e.typing = false })
	}
}
