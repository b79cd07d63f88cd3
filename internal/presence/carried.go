package presence

import "slices"

// Carried is a session with a connection, and the link that is its connection.
type Carried struct {
	Link LinkID
	User UserID
	// Seen reports whether the view can see the person. A link whose person is not seen may get
	// a cue, but must not be counted.
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
			for _, e := range m.entries.list() {
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
	if p := c.people.get(user); p != nil {
		for _, s := range p.sessions.list() {
			if link, ok := s.carried(view); ok {
				links = append(links, link)
			}
		}
	}
	return links
}

// LinkOf returns the link of a session, and false when it has none.
func (c *Core) LinkOf(session SessionID, view View) (Carried, bool) {
	s := c.sessions.get(session)
	if s == nil {
		return Carried{}, false
	}
	return s.carried(view)
}

// RoomsOver returns the rooms of the session of a link; none if the link is not the session's
// current one.
func (c *Core) RoomsOver(link LinkID) []RoomName {
	s, err := c.from(link)
	if err != nil {
		return nil
	}
	return s.rooms()
}

// RoomsOf returns the rooms in which a view sees a person.
func (c *Core) RoomsOf(user UserID, view View) []RoomName {
	p := c.people.get(user)
	if p == nil || (view == Open && p.hidden) {
		return nil
	}
	rooms := make([]RoomName, p.members.count())
	for i, m := range p.members.list() {
		rooms[i] = m.room.name
	}
	return rooms
}

// Near reports whether a view sees a person in a room that another person is in, even if the
// other one is hidden there.
func (c *Core) Near(user, other UserID, view View) bool {
	return c.together(user, other, view, func(RoomName) bool { return true })
}

// together reports whether a view sees a person in one of the rooms, and another person is
// there.
func (c *Core) together(user, other UserID, view View, among func(RoomName) bool) bool {
	here := c.RoomsOf(other, Full)
	return slices.ContainsFunc(c.RoomsOf(user, view), func(room RoomName) bool { return among(room) && slices.Contains(here, room) })
}

// CueTo is the receiver of a cue: exactly one of a room, a person and a session.
type CueTo struct {
	Room    RoomName
	User    UserID
	Session SessionID
	// Own also sends a cue for a room to the link that gives it.
	Own bool
}

// Cue gives a cue, and returns the links to which it goes. A cue without a link is the back end's,
// which may give cues to everybody. For others, the grants are the patterns of rooms in which the
// person may give cues: to such a room if they are in it, or to somebody who is seen in such a room
// with them. A receiver who is elsewhere and one who does not exist are refused alike. A hidden
// person gives no cues, because a cue would reveal them.
func (c *Core) Cue(at Instant, from LinkID, to CueTo, may []Pattern, out *Effects) ([]Carried, error) {
	now := c.passes(at, out)
	links, err := c.receivers(from, to, may)
	if err == nil {
		err = c.givesCue(now, out)
	}
	if err != nil {
		return nil, err
	}
	return links, nil
}

func (c *Core) receivers(from LinkID, to CueTo, may []Pattern) ([]Carried, error) {
	if from == (LinkID{}) {
		return c.cueFromBackEnd(to)
	}
	return c.cueFrom(from, to, may)
}

func (c *Core) cueFromBackEnd(to CueTo) ([]Carried, error) {
	switch {
	case to.Room != "":
		return c.LinksIn(to.Room, Full), nil
	case to.User != "":
		return c.LinksOf(to.User, Full), nil
	}
	link, ok := c.LinkOf(to.Session, Full)
	if !ok {
		return nil, &Refusal{Code: CodeNoSession, Field: "session", Value: string(to.Session), Allowed: "a session that has not ended"}
	}
	return []Carried{link}, nil
}

func (c *Core) cueFrom(from LinkID, to CueTo, may []Pattern) ([]Carried, error) {
	s, err := c.from(from)
	if err != nil {
		return nil, err
	}
	links, err := c.addressees(s.person.id, to, may)
	if err != nil {
		return nil, err
	}
	if s.person.hidden {
		return nil, hiding("cue")
	}
	if !to.Own {
		links = slices.DeleteFunc(links, func(l Carried) bool { return l.Link == from })
	}
	return links, nil
}

func (c *Core) addressees(giver UserID, to CueTo, may []Pattern) ([]Carried, error) {
	granted := func(room RoomName) bool { return matches(may, room) }
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
