package presence

import "slices"

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
	entries few[entry]
	place   int32  // index in the room's members
	doing   *doing // nil: nothing yet
	looked  uint32 // the last observation that saw it
}

// entry is a session in a room.
type entry struct {
	session  *session
	member   *member
	deadline awakeTime // in grace: when it leaves the room
	reason   Reason    // in grace: why

	inherited bool // from a record or a report; otherwise this core has let the session in

	typed *typed // nil: never
	doing *done  // nil: nothing yet
}

func (e *entry) room() *room { return e.member.room }

// member returns a person in a room; nil for somebody who is not in it.
func (p *person) member(r *room) *member {
	if p != nil {
		for _, m := range p.members.list() {
			if m.room == r {
				return m
			}
		}
	}
	return nil
}

func (s *session) entry(name RoomName) *entry {
	for _, e := range s.entries.list() {
		if e.room().name == name {
			return e
		}
	}
	return nil
}

// rooms returns the rooms of the session, in the order of joining.
func (s *session) rooms() []RoomName {
	names := make([]RoomName, s.entries.count())
	for i, e := range s.entries.list() {
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
// a token issued at the time that admits others to some rooms, or has to ask. Whether nothing
// else engages them is for the caller to check.
func (c *Core) mayEnter(now reading, p *person, issued int64, admits []Pattern, name RoomName) (asks bool, err error) {
	if err := c.notRemoved(p, issued, name); err != nil {
		return false, err
	}
	r := c.rooms[name]
	if r != nil && p.member(r) != nil {
		return false, nil
	}
	if asks, err := c.mustAsk(now, p, admits, name); asks || err != nil {
		return asks, err
	}
	if r == nil || (p != nil && p.hidden) || r.hasPlace() {
		return false, nil
	}
	return false, roomFull(name, r.policy)
}

// notRemoved refuses a token issued before its person was removed from the room.
func (c *Core) notRemoved(p *person, issued int64, name RoomName) error {
	if p != nil && p.removed != nil && issued <= p.removed.rooms[name] {
		return &Refusal{Code: CodeRemoved, Field: "room", Value: string(name),
			Allowed: "a token issued after the removal from this room"}
	}
	return nil
}

// join lets the session into a room, or lets it ask to be let in.
func (c *Core) join(now reading, s *session, in Join, out *Effects) (Reply, error) {
	if s.entry(in.Room) != nil {
		return Reply{}, nil
	}
	asks, err := c.mayJoin(now, s, s.issued, s.admits(), in.Room)
	if err != nil {
		return Reply{}, err
	}
	if asks {
		c.openAsk(now, s, in.Room, in.NewAsk, out)
		return Reply{Asked: c.askedBy(now, s, in.Room)}, nil
	}
	c.observe(s.person, cause{session: s.id}, out, func() { c.enter(now, s, in.Room) })
	return Reply{}, nil
}

// askedBy returns the open asks of a session: about one room, or all.
func (c *Core) askedBy(now reading, s *session, room RoomName) (list []OpenAsk) {
	for _, a := range s.person.asks {
		if (room == "" || a.room == room) && slices.Contains(a.sessions, s) {
			list = append(list, a.open(now))
		}
	}
	return list
}

// mayJoin reports whether a session may join a room, with a token issued at the time, or has to
// ask. It may stay where it is.
func (c *Core) mayJoin(now reading, s *session, issued int64, admits []Pattern, name RoomName) (asks bool, err error) {
	if s.entry(name) != nil {
		return false, nil
	}
	if a := s.person.ask(name); s.entries.count()+s.asking() >= c.policy.RoomsPerSession && (a == nil || !slices.Contains(a.sessions, s)) {
		return false, tooManyRooms(c.policy)
	}
	if err := c.mayEngage(s.person, name, func(*session) bool { return true }); err != nil {
		return false, err
	}
	return c.mayEnter(now, s.person, issued, admits, name)
}

// enter puts a session into a room, which is created if needed.
func (c *Core) enter(now reading, s *session, name RoomName) {
	if s.entry(name) != nil {
		return
	}
	r := c.existing(name)
	m := s.person.member(r)
	if m == nil {
		m = &member{room: r, person: s.person, since: [viewCount]int64{now.wall, now.wall}, place: int32(len(r.members))}
		r.members = append(r.members, m)
		s.person.members.add(m)
		m.engage(1)
	}
	e := &entry{session: s, member: m}
	m.entries.add(e)
	s.entries.add(e)
}

func (c *Core) existing(name RoomName) *room {
	r := c.rooms[name]
	if r == nil {
		r = &room{name: name, policy: c.policy.For(name)}
		c.rooms[name] = r
	}
	return r
}

// leave takes the session out of a room at its client's request, or withdraws its ask about it.
func (c *Core) leave(now reading, s *session, name RoomName, out *Effects) error {
	if a := s.person.ask(name); a != nil && slices.Contains(a.sessions, s) {
		c.withdrawAsk(now, a, s, Withdrawn, out)
		return nil
	}
	e := s.entry(name)
	if e == nil {
		return notInRoom("room", name)
	}
	c.observe(s.person, cause{ReasonLeave, now.wall, s.id}, out, func() { c.exit(now, e) })
	return nil
}

func notInRoom(field string, name RoomName) error {
	return &Refusal{Code: CodeNotInRoom, Field: field, Value: string(name), Allowed: "a room that this session is in"}
}

// exit removes an entry. With their last entry the person leaves, and with its last member the
// room ends, unless it is declared.
func (c *Core) exit(now reading, e *entry) {
	m := e.member
	e.session.entries.remove(e)
	m.entries.remove(e)
	if m.entries.count() > 0 {
		if m.doing != nil {
			m.doing.refresh(c, now)
			m.doing.arm(c)
		}
		return
	}
	if m.doing != nil {
		c.wheel.clear(&m.doing.timer)
	}
	m.engage(-1)
	r := m.room
	last := r.members[len(r.members)-1]
	r.members[m.place], last.place = last, m.place
	r.members[len(r.members)-1] = nil
	r.members = r.members[:len(r.members)-1]
	m.person.members.remove(m)
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
