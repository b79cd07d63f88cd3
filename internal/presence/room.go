package presence

// room is a room that somebody is in, or that is declared.
type room struct {
	name     RoomName
	policy   *RoomPolicy
	declared bool
	members  []*member // in no particular order
	counts   [viewCount]Count
	typists  [viewCount][]UserID
}

// member is a person in a room, with all their sessions there.
type member struct {
	room    *room
	person  *person
	since   [viewCount]int64 // Unix milliseconds
	entries []*entry
	place   int    // index in the room's members
	epoch   uint64 // of the last observation that saw it
}

// entry is a session in a room.
type entry struct {
	session  *session
	member   *member
	deadline awakeTime // in grace: when it leaves the room
	reason   Reason    // in grace: why

	typing bool
	report uint64    // number of the last typing report over the current link
	until  awakeTime // typing: when it expires
}

func (e *entry) room() *room { return e.member.room }

// member returns a person in a room; nil for somebody who is not in it.
func (p *person) member(r *room) *member {
	if p != nil {
		for _, m := range p.members {
			if m.room == r {
				return m
			}
		}
	}
	return nil
}

func (s *session) entry(name RoomName) *entry {
	for _, e := range s.entries {
		if e.room().name == name {
			return e
		}
	}
	return nil
}

// rooms returns the rooms of the session, in the order of joining.
func (s *session) rooms() []RoomName {
	names := make([]RoomName, len(s.entries))
	for i, e := range s.entries {
		names[i] = e.room().name
	}
	return names
}

// hasPlace reports whether the open view of a room has a place for one more person. A hidden
// person neither takes nor needs one.
func (r *room) hasPlace() bool {
	return r.policy.Capacity == 0 || r.counts[Open].People < r.policy.Capacity
}

// mayEnter reports whether a person (nil if the core does not know them) may enter a room, with
// a token issued at the time.
func (c *Core) mayEnter(p *person, issued int64, name RoomName) error {
	if p != nil && p.removed != nil && issued <= p.removed.rooms[name] {
		return &Refusal{Code: CodeRemoved, Field: "room", Value: string(name),
			Allowed: "a token issued after the removal from this room"}
	}
	r := c.rooms[name]
	if r == nil || p.member(r) != nil || (p != nil && p.hidden) || r.hasPlace() {
		return nil
	}
	return roomFull(name, r.policy)
}

func (c *Core) join(now reading, s *session, name RoomName, out *Effects) error {
	if s.entry(name) != nil {
		return nil
	}
	if err := c.mayJoin(s, s.issued, name); err != nil {
		return err
	}
	c.observe(s.person, leaving{}, out, func() { c.enter(now, s, name) })
	return nil
}

// mayJoin reports whether a session may join a room, with a token issued at the time. It may
// stay where it is.
func (c *Core) mayJoin(s *session, issued int64, name RoomName) error {
	if s.entry(name) != nil {
		return nil
	}
	if len(s.entries) >= c.policy.RoomsPerSession {
		return tooManyRooms(c.policy)
	}
	return c.mayEnter(s.person, issued, name)
}

// enter puts a session into a room, which is created if needed.
func (c *Core) enter(now reading, s *session, name RoomName) {
	if s.entry(name) != nil {
		return
	}
	r := c.existing(name)
	m := s.person.member(r)
	if m == nil {
		m = &member{room: r, person: s.person, since: [viewCount]int64{now.wall, now.wall}, place: len(r.members)}
		r.members = append(r.members, m)
		s.person.members = append(s.person.members, m)
	}
	e := &entry{session: s, member: m}
	m.entries = append(m.entries, e)
	s.entries = append(s.entries, e)
}

func (c *Core) existing(name RoomName) *room {
	r := c.rooms[name]
	if r == nil {
		r = &room{name: name, policy: c.policy.For(name)}
		c.rooms[name] = r
	}
	return r
}

// leave takes the session out of a room at its client's request.
func (c *Core) leave(now reading, s *session, name RoomName, out *Effects) error {
	e := s.entry(name)
	if e == nil {
		return notInRoom("room", name)
	}
	c.observe(s.person, leaving{ReasonLeave, now.wall}, out, func() { c.exit(e) })
	return nil
}

func notInRoom(field string, name RoomName) error {
	return &Refusal{Code: CodeNotInRoom, Field: field, Value: string(name), Allowed: "a room that this session is in"}
}

// exit removes an entry. With their last entry the person leaves, and with its last member the
// room ends, unless it is declared.
func (c *Core) exit(e *entry) {
	m := e.member
	e.session.entries = without(e.session.entries, e)
	m.entries = without(m.entries, e)
	if len(m.entries) > 0 {
		return
	}
	r := m.room
	last := r.members[len(r.members)-1]
	r.members[m.place], last.place = last, m.place
	r.members[len(r.members)-1] = nil
	r.members = r.members[:len(r.members)-1]
	m.person.members = without(m.person.members, m)
	c.drop(r)
}

func (c *Core) drop(r *room) {
	if len(r.members) == 0 && !r.declared {
		delete(c.rooms, r.name)
	}
}

func (c *Core) declare(in Declare) {
	if in.Declared {
		c.existing(in.Room).declared = true
	} else if r := c.rooms[in.Room]; r != nil {
		r.declared = false
		c.drop(r)
	}
}
