package presence

import (
	"slices"
	"time"
)

// InvitationID is the id of an invitation, made by the service.
type InvitationID string

const timeFormat = time.RFC3339

// invitation is one person's invitation of another into a room (docs/design.md §3, Inviting and
// being engaged).
type invitation struct {
	id       InvitationID
	room     RoomName
	from, to *person
	session  *session // that it came from; nil: from the back end
	opened   int64    // Unix milliseconds
	until    awakeTime
	ends     wallTime // the same
	timer    timer
}

// Invitation is an invitation that waits for an answer.
type Invitation struct {
	Invitation  InvitationID
	Room        RoomName
	From, To    UserID
	FromProfile Profile
	ToProfile   Profile
	Since       int64 // Unix milliseconds
	Until       int64 // the same: when it expires
}

// Invitations are the open invitations of a person, the oldest first.
type Invitations struct{ Received, Sent []Invitation }

// invite applies an invitation of a session. People whom the inviter may not see count as
// offline.
func (c *Core) invite(now reading, s *session, in Invite, out *Effects) (Reply, error) {
	p := s.person
	if p.hidden {
		return Reply{}, hiding("invite")
	}
	if in.To == p.id {
		return Reply{}, notOneself(in.To)
	}
	asks, err := c.mayEnter(now, p, s.issued, s.admits(), in.Room)
	if err != nil {
		return Reply{}, err
	}
	if asks {
		return Reply{}, &Refusal{Code: CodeMustAsk, Field: "room", Value: string(in.Room), Allowed: "a room that you are in or may enter without asking"}
	}
	if !in.Anywhere && !c.Near(in.To, p.id, Open) {
		return Reply{}, isOffline(in.To)
	}
	return c.openInvitation(now, p, s, in.To, in.Room, in.New, out)
}

// inviteFor applies an invitation of the back end, on behalf of a person.
func (c *Core) inviteFor(now reading, in InviteFor, out *Effects) (Reply, error) {
	if in.To == in.User {
		return Reply{}, notOneself(in.To)
	}
	from := c.known(in.User)
	defer c.forget(from)
	if from.hidden {
		return Reply{}, hiding("invite")
	}
	return c.openInvitation(now, from, nil, in.To, in.Room, in.New, out)
}

func (c *Core) openInvitation(now reading, from *person, s *session, user UserID, room RoomName, id InvitationID, out *Effects) (Reply, error) {
	to := c.people.get(user)
	switch {
	case to == nil || to.appearance(Open).Status == Offline:
		return Reply{}, isOffline(user)
	case c.rooms[room] != nil && to.member(c.rooms[room]) != nil:
		return Reply{}, &Refusal{Code: CodeAlreadyHere, Field: "user", Value: string(user), Allowed: "somebody who is not in the room"}
	}
	for _, i := range to.invited {
		if i.from == from && i.room == room {
			return Reply{Invitation: i.id}, nil // asked for again
		}
	}
	switch {
	case to.engaged > 0:
		return Reply{}, &Refusal{Code: CodeEngaged, Field: "user", Value: string(user), Allowed: "somebody who is not engaged"}
	case to.set != nil && to.set.Status == Busy && c.policy.InvitationBusy != AllowBusy:
		return Reply{}, &Refusal{Code: CodeSetBusy, Field: "user", Value: string(user), Allowed: "somebody who has not set busy"}
	case len(to.invited) >= c.policy.InvitationsMax:
		return Reply{}, &Refusal{Code: CodeTooManyInvitations, Field: "user", Value: string(user), Allowed: atMost(c.policy.InvitationsMax, "open invitation") + " of one person"}
	}
	i := &invitation{id: id, room: room, from: from, to: to, session: s, opened: now.wall}
	i.until, i.ends = now.in(c.policy.InvitationWaits)
	c.holdInvitation(i)
	out.touch(from)
	out.touch(to)
	out.add(InvitationOpened{Invitation: i.open(now)})
	c.tellInvitations(now, from, out)
	c.tellInvitations(now, to, out)
	return Reply{Invitation: id}, nil
}

func (c *Core) holdInvitation(i *invitation) {
	i.timer.owner = i
	c.wheel.set(&i.timer, i.until)
	c.invitations[i.id] = i
	c.ownExtras(i.to)
	c.ownExtras(i.from)
	i.to.invited = append(i.to.invited, i)
	i.from.inviting = append(i.from.inviting, i)
}

func (i *invitation) open(now reading) Invitation {
	return Invitation{Invitation: i.id, Room: i.room, From: i.from.id, To: i.to.id, FromProfile: i.from.profile, ToProfile: i.to.profile,
		Since: i.opened, Until: i.ends.at(now)}
}

// closeInvitation ends an invitation, and tells both sides its outcome.
func (c *Core) closeInvitation(now reading, i *invitation, outcome Outcome, out *Effects) {
	c.wheel.clear(&i.timer)
	delete(c.invitations, i.id)
	i.to.invited, i.from.inviting = without(i.to.invited, i), without(i.from.inviting, i)
	c.shareExtras(i.to)
	c.shareExtras(i.from)
	c.past.note(string(i.id), i.room, outcome, i.from.id, i.to.id)
	out.touch(i.from)
	out.touch(i.to)
	out.add(InvitationAnswered{Invitation: i.open(now), Outcome: outcome, Links: append(i.from.links(), i.to.links()...)})
	c.tellInvitations(now, i.from, out)
	c.tellInvitations(now, i.to, out)
	c.forget(i.from)
	c.forget(i.to)
}

// closeInvitations ends those of the invitations that an act concerns.
func (c *Core) closeInvitations(now reading, list []*invitation, outcome Outcome, out *Effects, over func(*invitation) bool) {
	for _, i := range slices.Clone(list) {
		if over(i) {
			c.closeInvitation(now, i, outcome, out)
		}
	}
}

// fire ends an invitation that was not answered in time.
func (i *invitation) fire(c *Core, now reading, out *Effects) {
	c.closeInvitation(now, i, Expired, out)
}

// invitationOf returns an open invitation that a person received, or with sent one that they
// sent. The refusal says whether it is over, somebody else's, or unknown.
func (c *Core) invitationOf(p *person, id InvitationID, sent bool) (*invitation, error) {
	i := c.invitations[id]
	if i == nil {
		return nil, c.pastInvitation(p.id, id)
	}
	whose := i.to
	if sent {
		whose = i.from
	}
	if whose != p {
		return nil, unknown(CodeNoInvitation, "invitation", string(id), "an invitation of your own; this one is somebody else's")
	}
	return i, nil
}

func (c *Core) pastInvitation(user UserID, id InvitationID) error {
	if e, ok := c.past.byID[string(id)]; ok && !slices.Contains(e.parties[:], user) {
		return unknown(CodeNoInvitation, "invitation", string(id), "an invitation of your own; this one is somebody else's")
	}
	return c.past.over(CodeNoInvitation, "invitation", string(id))
}

// accept lets the session into the room of an invitation, and gives the person a pass for it.
func (c *Core) accept(now reading, s *session, in Accept, out *Effects) (Reply, error) {
	p := s.person
	i, err := c.invitationOf(p, in.Invitation, false)
	if err != nil {
		return Reply{}, err
	}
	if p.hidden {
		return Reply{}, hiding("accept")
	}
	if s.entry(i.room) == nil && s.entries.count()+s.asking() >= c.policy.RoomsPerSession && p.ask(i.room) == nil {
		return Reply{}, tooManyRooms(c.policy)
	}
	if err := c.notRemoved(p, s.issued, i.room); err != nil {
		return Reply{}, err
	}
	if err := c.hasRoomFor(p, i.room); err != nil {
		return Reply{}, err
	}
	c.closeInvitation(now, i, Accepted, out)
	c.givePass(now, p, i.room, now.wall+c.policyOf(i.room).AskPass.Milliseconds(), out)
	c.observe(p, cause{session: s.id}, out, func() { c.enter(now, s, i.room) })
	return Reply{Rooms: []RoomName{i.room}}, nil
}

// decline ends an invitation that the person received; withdraw one that they sent.
func (c *Core) decline(now reading, s *session, in Decline, out *Effects) error {
	i, err := c.invitationOf(s.person, in.Invitation, false)
	if err == nil && s.person.hidden {
		err = hiding("decline")
	}
	if err == nil {
		c.closeInvitation(now, i, Declined, out)
	}
	return err
}

func (c *Core) takeBack(now reading, s *session, in TakeBack, out *Effects) error {
	i, err := c.invitationOf(s.person, in.Invitation, true)
	if err == nil {
		c.closeInvitation(now, i, Withdrawn, out)
	}
	return err
}

// endInvitation withdraws an invitation at the word of the back end.
func (c *Core) endInvitation(now reading, in EndInvitation, out *Effects) error {
	i := c.invitations[in.Invitation]
	if i == nil {
		return c.past.over(CodeNoInvitation, "invitation", string(in.Invitation))
	}
	c.closeInvitation(now, i, Withdrawn, out)
	return nil
}

// tellInvitations asks for all links of a person to be told their open invitations.
func (c *Core) tellInvitations(now reading, p *person, out *Effects) {
	if links := p.links(); links != nil {
		out.add(InvitationsChanged{Links: links, Invitations: p.invitations(now)})
	}
}

func (p *person) invitations(now reading) (all Invitations) {
	for _, i := range p.invited {
		all.Received = append(all.Received, i.open(now))
	}
	for _, i := range p.inviting {
		all.Sent = append(all.Sent, i.open(now))
	}
	return all
}

// Invitations returns the open invitations of a person.
func (c *Core) Invitations(at Instant, user UserID) Invitations {
	if p := c.people.get(user); p != nil {
		return p.invitations(c.read(at))
	}
	return Invitations{}
}

// AllInvitations returns the open invitations of the realm, the oldest first.
func (c *Core) AllInvitations(at Instant) []Invitation {
	now := c.read(at)
	list := make([]Invitation, 0, len(c.invitations))
	for _, i := range c.invitations {
		list = append(list, i.open(now))
	}
	slices.SortFunc(list, func(a, b Invitation) int {
		return compareOpened(a.Since, b.Since, string(a.Invitation), string(b.Invitation))
	})
	return list
}

// InvitationRoom returns the room of an open invitation that a person received, so that the
// caller can check what only it knows. The error says why they have none.
func (c *Core) InvitationRoom(user UserID, id InvitationID) (RoomName, error) {
	p := c.people.get(user)
	if p == nil {
		p = c.newPerson(user)
	}
	i, err := c.invitationOf(p, id, false)
	if err != nil {
		return "", err
	}
	return i.room, nil
}

func isOffline(user UserID) error {
	return &Refusal{Code: CodeOffline, Field: "user", Value: string(user), Allowed: "somebody who is here now"}
}

func notOneself(user UserID) error {
	return &Refusal{Code: CodeBadUser, Field: "user", Value: string(user), Allowed: "somebody else than the one who invites"}
}
