package presence

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
