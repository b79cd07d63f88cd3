package presence

import "slices"

// remove removes a person from a room, or from the realm, and refuses their present tokens from
// then on. A token has its time in whole seconds, so one issued in the same second is refused,
// too. So is a token that they use and that says a later time, by a clock that is ahead of this one's.
func (c *Core) remove(now reading, in Remove, out *Effects) {
	until := max(now.wall, in.Issued, c.Issued(in.User))
	p := c.refuse(in.User, in.Room, until)
	out.touch(p)
	out.add(PersonRemoved{User: p.id, Room: in.Room, By: in.By, Refused: until})
	concerns := func(room RoomName) bool { return in.Room == "" || room == in.Room }
	for _, a := range slices.Clone(p.asks) {
		if concerns(a.room) {
			c.closeAsk(now, a, Withdrawn, "", out)
		}
	}
	for _, list := range [][]*invitation{p.invited, p.inviting} {
		c.closeInvitations(now, list, Withdrawn, out, func(i *invitation) bool { return concerns(i.room) })
	}
	if in.Room == "" {
		c.clearStandings(p)
		c.endAll(now, p, ReasonRemoved, out)
		return
	}
	if p.standings != nil {
		c.setStanding(now, p, in.Room, standing{})
	}
	if m := p.member(c.rooms[in.Room]); m != nil {
		c.observe(p, cause{reason: ReasonRemoved, lastSeen: now.wall}, out, func() {
			for _, e := range m.entries.copied() {
				c.takeOut(now, e, ReasonRemoved, out)
			}
		})
	}
}

// takeOut removes an entry although its client did not leave, and tells the link.
func (c *Core) takeOut(now reading, e *entry, reason Reason, out *Effects) {
	s := e.session
	if s.state == Live && !s.leased {
		out.add(TakenOut{Link: s.linkID(), Room: e.room().name, Reason: reason})
	}
	c.exit(now, e)
}

// narrow takes a session out of the rooms that its token no longer grants.
func (c *Core) narrow(now reading, s *session, grants []Pattern, out *Effects) {
	if grants == nil {
		return
	}
	c.withdrawAsks(now, s, Withdrawn, out, func(room RoomName) bool { return !matches(grants, room) })
	for _, e := range s.entries.copied() {
		room := e.room().name
		if !matches(grants, room) {
			c.takeOut(now, e, ReasonLeave, out)
		}
	}
}

// refuse stores the latest time until which tokens are refused.
func (c *Core) refuse(user UserID, room RoomName, at int64) *person {
	p := c.known(user)
	if p.removed == nil {
		c.ownExtras(p).removed = &removal{}
	}
	if room == "" {
		p.removed.altogether = max(p.removed.altogether, at)
		return p
	}
	if p.removed.rooms == nil {
		p.removed.rooms = map[RoomName]int64{}
	}
	p.removed.rooms[room] = max(p.removed.rooms[room], at)
	return p
}

// Issued returns when the newest token of a person's sessions was issued, in Unix milliseconds; 0 if they
// have none.
func (c *Core) Issued(user UserID) (newest int64) {
	if p := c.people.get(user); p != nil {
		for _, s := range p.sessions.list() {
			newest = max(newest, s.issued)
		}
	}
	return newest
}

// Refused reports whether a token of a person that was issued at a time, in Unix milliseconds,
// is refused for the realm, and if not, for which rooms.
func (c *Core) Refused(user UserID, issued int64) (altogether bool, rooms []RoomName) {
	p := c.people.get(user)
	if p == nil || p.removed == nil {
		return false, nil
	}
	for room, at := range p.removed.rooms {
		if issued <= at {
			rooms = append(rooms, room)
		}
	}
	slices.Sort(rooms)
	return issued <= p.removed.altogether, rooms
}

// erase deletes everything about a person.
func (c *Core) erase(now reading, user UserID, out *Effects) {
	p := c.people.get(user)
	if p == nil {
		return
	}
	c.endAll(now, p, ReasonRemoved, out)
	c.clearStatus(p)
	c.clearStandings(p)
	p.hidden = false
	if p.removed != nil {
		p.removed = nil
		c.shareExtras(p)
	}
	for _, list := range [][]*invitation{p.invited, p.inviting} {
		c.closeInvitations(now, list, Withdrawn, out, func(*invitation) bool { return true })
	}
	out.touch(p)
	c.forget(p)
}

func (c *Core) signOut(now reading, in SignOut, out *Effects) {
	if p := c.people.get(in.User); p != nil {
		c.endAll(now, p, ReasonBye, out)
	}
}

func (c *Core) endSession(now reading, in EndSession, out *Effects) error {
	s := c.sessions.get(in.Session)
	if s == nil {
		return &Refusal{Code: CodeNoSession, Field: "session", Value: string(in.Session), Allowed: "a session that has not ended"}
	}
	c.endByForce(now, s, ReasonRemoved, out)
	return nil
}
