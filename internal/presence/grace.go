package presence

// lose takes the link from a session, which now waits to return: in each room for that room's
// grace, and altogether for the longest of them, or for the realm's grace if it is in no room. A
// second sign of loss may shorten a grace but never lengthens it; if it does shorten it, its
// reason replaces the first.
func (c *Core) lose(now reading, s *session, reason Reason, out *Effects) {
	again := s.state == Grace
	shorten := func(deadline *awakeTime, because *Reason, policy *RoomPolicy) {
		if at := now.awake + policy.graceFor(reason, s.pageHidden); !again || at < *deadline {
			*deadline, *because = at, reason
		}
	}
	if !again {
		if s.leased {
			c.leases--
		}
		c.inGrace++
		s.lost = now.awake
	}
	if s.entries.count() == 0 {
		shorten(&s.deadline, &s.reason, &c.policy.RoomPolicy)
	} else {
		s.deadline = 0
	}
	s.state = Grace
	for _, e := range s.entries.list() {
		shorten(&e.deadline, &e.reason, e.room().policy)
		if e.deadline > s.deadline {
			s.deadline, s.reason = e.deadline, e.reason
		}
		if reason == ReasonClosing {
			c.stopTyping(e, ReasonClosing, out)
		}
	}
	c.arm(now, s)
	out.touch(s.person)
	out.add(SessionInGrace{Link: s.linkID(), User: s.person.id, Kind: s.kind, Reason: s.reason, LastSeen: s.heardWall, PageHidden: s.pageHidden, Again: again})
	if s.contest() != nil {
		c.settle(now, s, true, out) // the old link is gone, so it is a reload
	}
}

// closing applies the word of the page that it is closing. That is not an answer to a probe: the
// page gives way to the waiting page, which is the same page reloaded.
func (c *Core) closing(now reading, link LinkID, out *Effects) error {
	s, err := c.heard(now, link, out)
	if err != nil {
		return err
	}
	c.lose(now, s, ReasonClosing, out)
	return nil
}

// linkLost applies the end of a connection. A lease has none.
func (c *Core) linkLost(now reading, link LinkID, out *Effects) {
	if s, err := c.from(link); err == nil && !s.leased {
		c.lose(now, s, ReasonLost, out)
	}
}

// closingBeacon applies the word of the page that it is closing, sent beside the link. The link
// is cut: frames that still arrive over it were sent before that word and must not undo it. A
// wrong key gets the same answer as an unknown session, so that it reveals nothing.
func (c *Core) closingBeacon(now reading, in ClosingBeacon, out *Effects) Reply {
	s := c.sessions.get(in.Session)
	if s == nil || !s.key.is(in.Key) || s.nonce != in.Nonce {
		return Reply{Stale: true}
	}
	if s.state == Live {
		s.hears(now)
		if !s.leased {
			out.add(Cut{Link: s.linkID(), Reason: ReasonClosing})
		}
	}
	c.lose(now, s, ReasonClosing, out)
	return Reply{}
}

// byeNote ends a session at the word of the holder of its resume key. A wrong key gets the same
// answer as an unknown session.
func (c *Core) byeNote(now reading, in ByeNote, out *Effects) Reply {
	s := c.sessions.get(in.Session)
	if s == nil || !s.key.is(in.Key) {
		return Reply{Stale: true}
	}
	s.hears(now)
	c.endByForce(now, s, ReasonBye, out)
	return Reply{}
}

// expire cuts the link of a session whose token has expired. The session gets its grace; a valid
// token of the same person brings it back.
func (c *Core) expire(now reading, s *session, out *Effects) {
	if !s.leased {
		out.add(Cut{Link: s.linkID(), Reason: ReasonExpired})
	}
	c.lose(now, s, ReasonExpired, out)
}

// beatWritten starts the silence, unless it is running already.
func (c *Core) beatWritten(now reading, in BeatWritten) {
	s, err := c.from(in.To)
	if err != nil {
		return
	}
	if s.contest() != nil && in.Probe {
		s.contest().asked = true
	}
	if s.leased || s.unheard > 0 || s.heard > s.asked {
		return
	}
	s.unheard = now.awake
	c.arm(now, s)
}
