package presence

import (
	"slices"
	"time"
)

// SessionID is the id of a session, minted by the service.
type SessionID string

// LinkNumber counts the links of one session, from 1.
type LinkNumber uint32

// LinkID names one link for ever. Whatever arrives says which link it came over,
// and what comes from an older link than the present one changes nothing.
type LinkID struct {
	Session SessionID
	Number  LinkNumber
}

// state is where a session is in its life: live → grace → ended, or straight
// from live to ended, or back from grace to live. A session that has ended is
// forgotten, so it never revives and needs no state.
type state uint8

const (
	live  state = iota // has a link
	grace              // its link is gone; it still counts, and may return
)

// Reason says why a session ended, or why somebody left a room.
type Reason string

const (
	ReasonLeave    Reason = "leave"    // left this room by word; the session goes on
	ReasonBye      Reason = "bye"      // ended by word
	ReasonClosing  Reason = "closing"  // the page closed and did not return in time
	ReasonLost     Reason = "lost"     // the link was lost and did not return in time
	ReasonSilent   Reason = "silent"   // the link was up but nobody answered on it
	ReasonReplaced Reason = "replaced" // another link of the same page took over
)

type session struct {
	id      SessionID
	key     string
	nonce   string
	person  *person
	link    LinkNumber
	state   state
	reason  Reason // in grace: what it ends with
	entries []*entry

	heard     time.Duration // awake time of the last evidence of life
	heardWall int64         // the same in Unix milliseconds
	asked     time.Duration // live: when last asked for a beat
	unheard   time.Duration // live: when the first unanswered request was written, or 0
	deadline  time.Duration // in grace: when it ends

	timer timer
}

func (s *session) linkID() LinkID { return LinkID{s.id, s.link} }

func (s *session) hears(now reading) {
	s.heard, s.heardWall, s.unheard = now.awake, now.wall, 0
}

// from finds the live session that a link carries now. The fence: a frame of an
// older link, or one that comes after the page said that it is going away, is
// refused.
func (c *Core) from(link LinkID) (*session, error) {
	s := c.sessions[link.Session]
	switch {
	case s == nil:
		return nil, &Refusal{Code: CodeNoSession, Field: "session", Value: string(link.Session),
			Allowed: "a session that has not ended"}
	case s.link != link.Number || s.state != live:
		return nil, &Refusal{Code: CodeOldLink, Field: "session", Value: string(link.Session),
			Allowed: "only the newest link of a session speaks for it"}
	}
	return s, nil
}

// hello decides whose session it is (DESIGN.md §3). The right key of an unended
// session of the same person resumes it when its link is gone (a reload, a lost
// network) or when it is the same page that comes again (the same nonce, on a
// new network); then the older link is cut. Another page while the link is live
// is a duplicated tab and gets a session of its own.
func (c *Core) hello(now reading, in Hello, out *Effects) (Reply, error) {
	if err := CheckPerson(in.User, in.Profile); err != nil {
		return Reply{}, err
	}
	if err := checkText(CodeBadNonce, "nonce", in.Nonce, maxNonce, optional); err != nil {
		return Reply{}, err
	}
	rooms := unique(in.Rooms)
	if len(rooms) > c.policy.RoomsPerSession {
		return Reply{}, tooManyRooms(c.policy)
	}
	s, why := c.resumable(in)
	reply := Reply{NotResumed: why, Resumed: s != nil}
	if s == nil {
		if p := c.people[in.User]; p != nil && len(p.sessions) >= c.policy.SessionsPerPerson {
			return Reply{}, tooManySessions(c.policy)
		}
		s = c.open(in)
		out.add(SessionOpened{Link: LinkID{s.id, 1}, User: in.User})
	} else if s.state == live {
		out.add(Cut{Link: s.linkID(), Reason: ReasonReplaced})
	}
	s.link++
	s.state, s.nonce, s.asked = live, in.Nonce, 0
	s.hears(now)
	c.arm(s)
	if reply.Resumed {
		out.add(SessionResumed{Link: s.linkID()})
	}
	c.setProfile(s.person, in.Profile, out)
	if in.Rooms != nil {
		c.moveTo(now, s, rooms, out)
	}
	reply.Link, reply.Key, reply.Rooms = s.linkID(), s.key, s.rooms()
	return reply, nil
}

func (c *Core) resumable(in Hello) (*session, NotResumed) {
	s := c.sessions[in.Session]
	switch {
	case in.Session == "":
		return nil, ""
	case s == nil || s.person.id != in.User || !sameSecret(s.key, in.Key):
		return nil, UnknownSession
	case s.state == live && (in.Nonce == "" || s.nonce != in.Nonce):
		return nil, SessionInUse
	}
	return s, ""
}

func (c *Core) open(in Hello) *session {
	p := c.people[in.User]
	if p == nil {
		p = &person{id: in.User, profile: in.Profile}
		c.people[in.User] = p
	}
	s := &session{id: in.NewSession, key: in.NewKey, person: p}
	s.timer.session = s
	p.sessions = append(p.sessions, s)
	c.sessions[s.id] = s
	return s
}

// moveTo puts the session into exactly these rooms.
func (c *Core) moveTo(now reading, s *session, rooms []RoomName, out *Effects) {
	wanted := make(map[RoomName]bool, len(rooms))
	for _, room := range rooms {
		wanted[room] = true
	}
	for _, room := range s.rooms() {
		if !wanted[room] {
			e := s.entry(room)
			c.leaveRoom(s, e, e.member.shown(), ReasonLeave, out)
		}
	}
	for _, room := range rooms {
		c.enter(now, s, room, out)
	}
}

// end is the only way out of life for a session.
func (c *Core) end(s *session, reason Reason, out *Effects) {
	c.wheel.clear(&s.timer)
	delete(c.sessions, s.id)
	p := s.person
	before := make([]Member, len(s.entries))
	for i, e := range s.entries {
		before[i] = e.member.shown()
	}
	p.sessions = without(p.sessions, s)
	if len(p.sessions) == 0 {
		delete(c.people, p.id)
	}
	for i, e := range slices.Clone(s.entries) {
		c.leaveRoom(s, e, before[i], reason, out)
	}
	out.add(SessionEnded{Link: s.linkID(), User: p.id, Reason: reason, LastSeen: s.heardWall})
}
