package presence

import (
	"maps"
	"slices"
)

// standings are what a person may do about rooms that ask: until when a pass admits them, and
// from when on they may ask again after a refusal.
type standings struct {
	person *person
	rooms  map[RoomName]standing
	timer  timer
}

// standing has times in Unix milliseconds; 0 stands for none.
type standing struct{ pass, again int64 }

func (s standing) end() int64 { return max(s.pass, s.again) }

// standing returns what a person may do about a room.
func (p *person) standing(room RoomName) standing {
	if p == nil || p.standings == nil {
		return standing{}
	}
	return p.standings.rooms[room]
}

// setStanding replaces what a person may do about a room.
func (c *Core) setStanding(now reading, p *person, room RoomName, is standing) {
	if p.standings == nil {
		c.ownExtras(p)
		p.standings = &standings{person: p, rooms: map[RoomName]standing{}}
		p.standings.timer.owner = p.standings
	}
	if is.end() <= now.wall {
		delete(p.standings.rooms, room)
	} else {
		p.standings.rooms[room] = is
	}
	p.standings.arm(c, now)
}

// arm waits for the first standing that ends; without any, the person has none.
func (s *standings) arm(c *Core, now reading) {
	if len(s.rooms) == 0 {
		c.wheel.clear(&s.timer)
		s.person.standings = nil
		c.shareExtras(s.person)
		return
	}
	first := int64(1<<63 - 1)
	for _, is := range s.rooms {
		first = min(first, is.end())
	}
	c.wheel.set(&s.timer, now.until(first))
}

// fire forgets what is over.
func (s *standings) fire(c *Core, now reading, out *Effects) {
	for _, room := range slices.Sorted(maps.Keys(s.rooms)) {
		if is := s.rooms[room]; is.end() <= now.wall {
			delete(s.rooms, room)
			if is.pass > 0 {
				c.tellPassEnded(s.person, room, out)
			}
		}
	}
	out.touch(s.person)
	s.arm(c, now)
	c.forget(s.person)
}

// clearStandings forgets all passes of a person.
func (c *Core) clearStandings(p *person) {
	if p.standings != nil {
		c.wheel.clear(&p.standings.timer)
		p.standings = nil
		c.shareExtras(p)
	}
}

// givePass gives a person a pass until a time. If they ask about the room, it lets them in.
func (c *Core) givePass(now reading, p *person, room RoomName, until int64, out *Effects) {
	c.setStanding(now, p, room, standing{pass: until})
	out.touch(p)
	if a := p.ask(room); a != nil && c.hasRoomFor(p, room) == nil {
		c.admit(now, a, "", out)
	}
}

// grantPass applies the word of the back end.
func (c *Core) grantPass(now reading, in GrantPass, out *Effects) error {
	if in.Until <= now.wall {
		return &Refusal{Code: CodeBadPass, Field: "until", Value: stamp(in.Until).Format(timeFormat), Allowed: "a time in the future"}
	}
	c.givePass(now, c.known(in.User), in.Room, in.Until, out)
	return nil
}

// revokePass ends a pass. A member stays in the room.
func (c *Core) revokePass(now reading, in RevokePass, out *Effects) {
	p := c.people.get(in.User)
	if p == nil || p.standing(in.Room).pass <= now.wall {
		return
	}
	c.setStanding(now, p, in.Room, standing{again: p.standing(in.Room).again})
	out.touch(p)
	c.tellPassEnded(p, in.Room, out)
	c.forget(p)
}

func (c *Core) tellPassEnded(p *person, room RoomName, out *Effects) {
	if links := p.links(); links != nil {
		out.add(PassEnded{Links: links, Room: room})
	}
}

// Pass is what admits a person to a room that asks.
type Pass struct {
	User  UserID
	Room  RoomName
	Until int64 // Unix milliseconds
}

// Passes returns the passes of a person that are in force, by room.
func (c *Core) Passes(at Instant, user UserID) (list []Pass) {
	now := c.read(at)
	p := c.people.get(user)
	if p == nil || p.standings == nil {
		return nil
	}
	for _, room := range slices.Sorted(maps.Keys(p.standings.rooms)) {
		if until := p.standings.rooms[room].pass; until > now.wall {
			list = append(list, Pass{user, room, until})
		}
	}
	return list
}
