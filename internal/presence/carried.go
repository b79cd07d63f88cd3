package presence

import "slices"

// Carried is a session that has a connection now, and the link that it is.
type Carried struct {
	Link LinkID
	User UserID
	// Seen tells whether the view that was asked for sees the person. Whoever is
	// not seen may be told something, but must not be counted.
	Seen bool
}

func (s *session) carried(view View) (Carried, bool) {
	return Carried{s.linkID(), s.person.id, view == Full || !s.person.hidden}, s.state == Live && !s.leased
}

// LinksIn returns the links of a room, in no particular order.
func (c *Core) LinksIn(room RoomName, view View) []Carried {
	var links []Carried
	if r := c.rooms[room]; r != nil {
		for _, m := range r.members {
			for _, e := range m.entries {
				if link, ok := e.session.carried(view); ok {
					links = append(links, link)
				}
			}
		}
	}
	return links
}

// LinksOf returns the links of a person.
func (c *Core) LinksOf(user UserID, view View) []Carried {
	var links []Carried
	if p := c.people[user]; p != nil {
		for _, s := range p.sessions {
			if link, ok := s.carried(view); ok {
				links = append(links, link)
			}
		}
	}
	return links
}

// LinkOf returns the link of a session, and false when it has none.
func (c *Core) LinkOf(session SessionID, view View) (Carried, bool) {
	s := c.sessions[session]
	if s == nil {
		return Carried{}, false
	}
	return s.carried(view)
}

// RoomsOver returns the rooms that the session of a link is in; none when it is not the
// session's present link.
func (c *Core) RoomsOver(link LinkID) []RoomName {
	s, err := c.from(link)
	if err != nil {
		return nil
	}
	return s.rooms()
}

// RoomsOf returns the rooms in which a view sees a person.
func (c *Core) RoomsOf(user UserID, view View) []RoomName {
	p := c.people[user]
	if p == nil || (view == Open && p.hidden) {
		return nil
	}
	rooms := make([]RoomName, len(p.members))
	for i, m := range p.members {
		rooms[i] = m.room.name
	}
	return rooms
}

// Near tells whether a view sees a person in a room in which another one is, whether that
// one is seen there or not.
func (c *Core) Near(user, other UserID, view View) bool {
	return c.together(user, other, view, func(RoomName) bool { return true })
}

// together tells whether a view sees a person in one of some rooms in which another one is.
func (c *Core) together(user, other UserID, view View, among func(RoomName) bool) bool {
	here := c.RoomsOf(other, Full)
	return slices.ContainsFunc(c.RoomsOf(user, view), func(room RoomName) bool { return among(room) && slices.Contains(here, room) })
}

// CueTo is whom a cue is for: exactly one of a room, a person and a session.
type CueTo struct {
	Room    RoomName
	User    UserID
	Session SessionID
	// Own lets a cue for a room also go to the link that gives it.
	Own bool
}

// Cue returns over which links a cue goes that a session gives over a link. Its person may
// give cues in the rooms of some patterns: to a room that they are in, or to somebody who
// is seen in such a room. Somebody who is not there is refused like somebody out of reach.
// A person who hides gives no cues: that would show them.
func (c *Core) Cue(from LinkID, to CueTo, may []Pattern) ([]Carried, error) {
	s, err := c.from(from)
	if err != nil {
		return nil, err
	}
	links, err := c.addressees(s.person.id, to, may)
	if err != nil {
		return nil, err
	}
	if s.person.hidden {
		return nil, &Refusal{Code: CodeHiding, Field: "type", Value: "cue", Allowed: "hide with on false first"}
	}
	if !to.Own {
		links = slices.DeleteFunc(links, func(l Carried) bool { return l.Link == from })
	}
	return links, nil
}

func (c *Core) addressees(giver UserID, to CueTo, may []Pattern) ([]Carried, error) {
	granted := func(room RoomName) bool {
		return slices.ContainsFunc(may, func(p Pattern) bool { return p.Match(room) })
	}
	if to.Room != "" {
		switch {
		case !granted(to.Room):
			return nil, &Refusal{Code: CodeNotGranted, Field: "room", Value: string(to.Room)}
		case !slices.Contains(c.RoomsOf(giver, Full), to.Room):
			return nil, &Refusal{Code: CodeNotInRoom, Field: "room", Value: string(to.Room), Allowed: "a room that this session is in"}
		}
		return c.LinksIn(to.Room, Open), nil
	}
	links, user, refusal := c.LinksOf(to.User, Open), to.User, Refusal{Code: CodeNotGranted, Field: "user", Value: string(to.User)}
	if to.Session != "" {
		refusal.Field, refusal.Value = "session", string(to.Session)
		if link, ok := c.LinkOf(to.Session, Open); ok {
			links, user = []Carried{link}, link.User
		}
	}
	if !c.together(user, giver, Open, granted) {
		return nil, &refusal
	}
	return links, nil
}
