package presence

import "slices"

// remove takes a person out of a room, or out of everything, and lets the tokens
// that they have be refused from then on. A token says its time in whole seconds,
// so one of the same second is refused too.
func (c *Core) remove(now reading, in Remove, out *Effects) {
	p := c.known(in.User)
	if p.removed == nil {
		p.removed = &removal{}
	}
	if in.Room == "" {
		p.removed.altogether = now.wall
		c.endAll(now, p, ReasonRemoved, out)
		return
	}
	if p.removed.rooms == nil {
		p.removed.rooms = map[RoomName]int64{}
	}
	p.removed.rooms[in.Room] = now.wall
	if m := p.member(c.rooms[in.Room]); m != nil {
		c.observe(p, leaving{ReasonRemoved, now.wall}, out, func() {
			for _, e := range slices.Clone(m.entries) {
				c.exit(e)
			}
		})
	}
}

func (c *Core) signOut(now reading, in SignOut, out *Effects) {
	if p := c.people[in.User]; p != nil {
		c.endAll(now, p, ReasonBye, out)
	}
}

func (c *Core) endSession(now reading, in EndSession, out *Effects) error {
	s := c.sessions[in.Session]
	if s == nil {
		return &Refusal{Code: CodeNoSession, Field: "session", Value: string(in.Session), Allowed: "a session that has not ended"}
	}
	c.endByForce(now, s, ReasonRemoved, out)
	return nil
}
