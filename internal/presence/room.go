package presence

import "time"

// Member is what is seen of a person in a room. Two members with equal fields
// look the same to everybody.
type Member struct {
	User     UserID
	Profile  Profile
	Status   Status
	Since    time.Time // of the person, not of their oldest tab
	Sessions int       // in this room; 0 stands for no member
}

// Count says how many are in a room. A person with three tabs is one person and
// three sessions.
type Count struct{ People, Sessions int }

// room exists while somebody is in it.
type room struct {
	name     RoomName
	members  map[UserID]*member
	sessions int
}

// member is the merge of a person's entries in a room.
type member struct {
	room    *room
	person  *person
	since   int64 // Unix milliseconds
	entries []*entry
}

// entry is one session in one room.
type entry struct {
	session *session
	member  *member
}

func (m *member) shown() Member {
	return Member{
		User:     m.person.id,
		Profile:  m.person.profile,
		Status:   m.person.status(),
		Since:    stamp(m.since),
		Sessions: len(m.entries),
	}
}

func (s *session) entry(name RoomName) *entry {
	for _, e := range s.entries {
		if e.member.room.name == name {
			return e
		}
	}
	return nil
}

// rooms lists the rooms that the session is in, in the order of joining.
func (s *session) rooms() []RoomName {
	names := make([]RoomName, len(s.entries))
	for i, e := range s.entries {
		names[i] = e.member.room.name
	}
	return names
}

func (c *Core) join(now reading, s *session, name RoomName, out *Effects) error {
	if s.entry(name) == nil && len(s.entries) >= c.policy.RoomsPerSession {
		return tooManyRooms(c.policy)
	}
	c.enter(now, s, name, out)
	return nil
}

// enter puts a session into a room, which comes into being if need be.
func (c *Core) enter(now reading, s *session, name RoomName, out *Effects) {
	if s.entry(name) != nil {
		return
	}
	r := c.rooms[name]
	if r == nil {
		r = &room{name: name, members: map[UserID]*member{}}
		c.rooms[name] = r
	}
	m := r.members[s.person.id]
	var before Member
	if m == nil {
		m = &member{room: r, person: s.person, since: now.wall}
		r.members[s.person.id] = m
		s.person.members = append(s.person.members, m)
	} else {
		before = m.shown()
	}
	e := &entry{session: s, member: m}
	m.entries = append(m.entries, e)
	s.entries = append(s.entries, e)
	r.sessions++
	out.add(MemberChanged{Room: name, Before: before, After: m.shown()})
}

// leave takes the session out of one room by its own word.
func (c *Core) leave(s *session, name RoomName, out *Effects) error {
	e := s.entry(name)
	if e == nil {
		return &Refusal{Code: CodeNotInRoom, Field: "room", Value: string(name),
			Allowed: "a room that this session is in"}
	}
	c.leaveRoom(s, e, e.member.shown(), ReasonLeave, out)
	return nil
}

// leaveRoom removes an entry of a member who was seen as before. The person leaves
// with their last entry, and the room ends with its last member.
func (c *Core) leaveRoom(s *session, e *entry, before Member, reason Reason, out *Effects) {
	m := e.member
	r := m.room
	s.entries = without(s.entries, e)
	m.entries = without(m.entries, e)
	r.sessions--
	if len(m.entries) == 0 {
		delete(r.members, m.person.id)
		m.person.members = without(m.person.members, m)
	}
	if len(r.members) == 0 {
		delete(c.rooms, r.name)
	}
	out.add(MemberChanged{Room: r.name, Before: before, After: m.shown(),
		Reason: reason, LastSeen: s.heardWall})
}

func tooManyRooms(p Policy) error {
	return &Refusal{Code: CodeTooManyRooms, Field: "rooms",
		Allowed: plural(p.RoomsPerSession, "room") + " at once in one session"}
}
