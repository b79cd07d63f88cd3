package presence

import "cmp"

// mostPast is how many ended asks and invitations are remembered, to tell late answers that they
// are late.
const mostPast = 1024

// past remembers how asks and invitations ended.
type past struct {
	byID  map[string]ending
	order []string // oldest first
}

type ending struct {
	room    RoomName
	outcome Outcome
	parties [2]UserID // of an invitation
}

func (p *past) note(id string, room RoomName, outcome Outcome, parties ...UserID) {
	if p.byID == nil {
		p.byID = map[string]ending{}
	}
	if len(p.order) == mostPast {
		delete(p.byID, p.order[0])
		p.order = p.order[1:]
	}
	e := ending{room: room, outcome: outcome}
	copy(e.parties[:], parties)
	p.byID[id] = e
	p.order = append(p.order, id)
}

// room returns the room of something that has ended; empty if it is not known.
func (p *past) room(id string) RoomName { return p.byID[id].room }

// RoomOfAsk returns the room of an ask that is open or over; empty if the ask is unknown.
func (c *Core) RoomOfAsk(id AskID) RoomName {
	if a := c.asks[id]; a != nil {
		return a.room
	}
	return c.past.room(string(id))
}

// RoomOfInvitation returns the room of an invitation that is open or over; empty if the invitation
// is unknown.
func (c *Core) RoomOfInvitation(id InvitationID) RoomName {
	if i := c.invitations[id]; i != nil {
		return i.room
	}
	return c.past.room(string(id))
}

// over refuses an answer to something that is not open: because it has ended, or was never
// there.
func (p *past) over(code Code, field, id string) error {
	if e, ok := p.byID[id]; ok {
		return unknown(code, field, id, "one that is open; this one is over: "+string(e.outcome))
	}
	return unknown(code, field, id, "one that is open; this one is unknown")
}

func compareOpened(a, b int64, idA, idB string) int {
	return cmp.Or(cmp.Compare(a, b), cmp.Compare(idA, idB))
}
