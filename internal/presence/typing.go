package presence

// typed is what a session has reported about typing in a room.
type typed struct {
	on     bool
	until  awakeTime // on: when it expires
	report uint64    // number of the last report over the current link
}

// types reports whether the session is typing.
func (e *entry) types() bool { return e.typed != nil && e.typed.on }

// typings returns what the session has typed, to be changed.
func (e *entry) typings() *typed {
	if e.typed == nil {
		e.typed = &typed{}
	}
	return e.typed
}

// typing applies one typing report of a session (docs/design.md §3, Typing). Typing starts with
// the first report and is renewed silently. It ends on stop, on sent, on leave, on closing, or
// some time after the last report; the loss of the link alone does not end it. Others see the
// union over the person's sessions.
func (c *Core) typing(now reading, s *session, in Typing, out *Effects) (Reply, error) {
	e := s.entry(in.Room)
	if e == nil {
		return Reply{}, notInRoom("room", in.Room)
	}
	t := e.typings()
	if in.Number != 0 && in.Number <= t.report {
		return Reply{Stale: true}, nil
	}
	t.report = max(t.report, in.Number)
	c.types(now, e, in.On, out)
	return Reply{}, nil
}

// types starts, renews or ends typing.
func (c *Core) types(now reading, e *entry, on bool, out *Effects) {
	t := e.typings()
	t.until = now.awake + e.room().policy.TypingExpires
	if t.on != on {
		c.notice(e.session.person, cause{}, out, func() { t.on = on })
		c.arm(now, e.session)
	}
}

func (c *Core) stopTyping(e *entry, why Reason, out *Effects) {
	if e.types() {
		c.notice(e.session.person, cause{reason: why}, out, func() { e.typed.on = false })
	}
}
