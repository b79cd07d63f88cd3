package presence

import (
	"slices"
	"time"
)

// contest is about whose session it is: a page claims it while an older link of
// another page seems alive. That link is asked for a sign of life.
type contest struct {
	hellos   []Hello
	deadline awakeTime
}

// maxContest bounds the hellos that wait for one probe.
const maxContest = 8

// hello decides whose session it is (DESIGN.md §3). The right key of an unended
// session of the same person resumes it when its link is gone (a reload, a lost
// network), or when it is the same page that comes again (the same nonce, on a new
// network); then the older link is cut. Another page, while the link seems alive,
// waits for a probe of it: an answer means a duplicated tab, which gets a session
// of its own; silence means a half-dead link, and the new page takes over. A lease
// cannot be probed, and is left alone.
func (c *Core) hello(now reading, in Hello, out *Effects) (Reply, error) {
	in.Rooms = unique(in.Rooms)
	s, why := c.resumable(in)
	contested := why == SessionInUse && !s.leased
	if why != "" && !contested {
		s = nil
	}
	if err := c.mayHello(now, in, s); err != nil {
		return Reply{}, err
	}
	if contested {
		if c.probe(now, in, out) {
			return Reply{Pending: true}, nil
		}
		s = nil
		if err := c.mayHello(now, in, s); err != nil {
			return Reply{}, err
		}
	}
	return c.welcome(now, in, s, why, out), nil
}

func (c *Core) resumable(in Hello) (*session, NotResumed) {
	s := c.sessions[in.Session]
	switch {
	case in.Session == "":
		return nil, ""
	case s == nil || s.person.id != in.User || !s.key.is(in.Key):
		return nil, UnknownSession
	case s.state == Live && (in.Nonce == "" || s.nonce != in.Nonce):
		return s, SessionInUse
	}
	return s, ""
}

// mayHello checks all that could refuse a hello, before anything is changed. S is
// the session to resume, or nil for a new one.
func (c *Core) mayHello(now reading, in Hello, s *session) error {
	if err := c.policy.CheckPerson(in.User, in.Profile); err != nil {
		return err
	}
	if err := checkText(CodeBadNonce, "nonce", in.Nonce, maxNonceBytes, optional); err != nil {
		return err
	}
	if in.Expires != 0 && in.Expires <= now.wall {
		return expired(in.Expires)
	}
	if len(in.Rooms) > c.policy.RoomsPerSession {
		return tooManyRooms(c.policy)
	}
	p := c.people[in.User]
	if p != nil && p.removed != nil && in.Issued <= p.removed.altogether {
		return &Refusal{Code: CodeRemoved, Field: "token", Allowed: "a token issued after the removal"}
	}
	for _, room := range in.Rooms {
		if err := c.mayEnter(p, in.Issued, room); err != nil {
			return err
		}
	}
	if s != nil || p == nil {
		return nil
	}
	if c.policy.SecondSession == RefuseSecond && slices.ContainsFunc(p.sessions, func(s *session) bool { return s.state == Live }) {
		return &Refusal{Code: CodeAlreadyHere, Field: "user", Value: string(in.User), Allowed: "one session for one person"}
	}
	if c.policy.SecondSession == AllowSecond && len(p.sessions) >= c.policy.SessionsPerPerson {
		return tooManySessions(c.policy)
	}
	return nil
}

// welcome gives the hello its session: s, or a new one when s is nil.
func (c *Core) welcome(now reading, in Hello, s *session, why NotResumed, out *Effects) Reply {
	reply := Reply{NotResumed: why, Resumed: s != nil, Key: in.Key}
	p := c.known(in.User)
	if s == nil {
		s = &session{id: in.NewSession, key: secretOf(in.NewKey), person: p, idle: true, opened: now.wall}
		reply.Key = in.NewKey
		s.timer.owner = s
		c.sessions[s.id] = s
		out.add(SessionOpened{Link: LinkID{s.id, 1}, User: p.id, Kind: in.kind()})
	} else if s.state == Live && !s.leased {
		out.add(Cut{Link: s.linkID(), Reason: ReasonReplaced})
	}
	gap := time.Duration(0)
	if reply.Resumed && s.state == Grace {
		c.inGrace--
		gap = now.awake - s.lost
	} else if s.leased {
		c.leases--
	}
	wasIdle := reply.Resumed && s.idle
	s.link++
	s.kind = in.kind()
	s.state, s.nonce, s.asked = Live, in.Nonce, 0
	s.issued, s.expires, s.warned = in.Issued, in.Expires, false
	if s.leased, s.pageHidden = in.Leased, in.PageHidden; s.leased {
		c.leases++
	}
	s.hears(now)
	c.observe(p, leaving{ReasonLeave, now.wall}, out, func() {
		p.profile = in.Profile
		if !reply.Resumed {
			c.hold(p, s)
		}
		c.wakeAtHello(now, s, in, reply.Resumed)
		if in.Rooms != nil {
			c.moveTo(now, s, in.Rooms)
		}
	})
	c.arm(now, s)
	if reply.Resumed {
		out.add(SessionResumed{Link: s.linkID(), User: p.id, Kind: s.kind, Gap: gap})
		if s.contest != nil { // others wait for the page that has just been cut
			c.settle(now, s, false, out)
		}
	} else if c.policy.SecondSession != AllowSecond {
		for _, older := range slices.Clone(p.sessions) {
			if older != s {
				c.endByForce(now, older, ReasonReplaced, out)
			}
		}
	}
	if c.unended(s) && s.idle != wasIdle {
		out.add(SessionIdle{Link: s.linkID(), User: p.id, Idle: s.idle})
	}
	reply.Link, reply.Rooms, reply.Hidden = s.linkID(), s.rooms(), p.hidden
	if p.set != nil {
		reply.Set = p.set.Appearance
	}
	return reply
}

func (in *Hello) kind() LinkKind {
	switch {
	case in.Leased:
		return HTTPBeats
	case in.Stream:
		return EventStream
	}
	return WebSocket
}

// wakeAtHello takes over how long there has been no activity. Resuming is none.
func (c *Core) wakeAtHello(now reading, s *session, in Hello, resumed bool) {
	changed := s.noInput != in.NoInput
	s.noInput = in.NoInput
	switch {
	case in.IdleFor != nil:
		s.active = now.awake - *in.IdleFor
	case !resumed:
		s.active = now.awake
	}
	if in.IdleFor != nil || !resumed || changed {
		s.becomeIdle(!s.noInput && now.awake-s.active >= c.policy.IdleAfter)
	}
}

// moveTo puts the session into exactly these rooms.
func (c *Core) moveTo(now reading, s *session, rooms []RoomName) {
	for _, e := range slices.Clone(s.entries) {
		if !slices.Contains(rooms, e.room().name) {
			c.exit(e)
		}
	}
	for _, room := range rooms {
		c.enter(now, s, room)
	}
}

// probe lets a hello wait until the older link has been asked. It is false when
// too many wait already.
func (c *Core) probe(now reading, in Hello, out *Effects) bool {
	s := c.sessions[in.Session]
	if s.contest == nil {
		s.contest = &contest{deadline: now.awake + c.policy.Probe}
		out.add(AskBeat{Link: s.linkID(), Probe: true})
		c.arm(now, s)
	}
	if len(s.contest.hellos) == maxContest {
		return false
	}
	s.contest.hellos = append(s.contest.hellos, in)
	return true
}

// settle ends a contest. When the link has not answered, or is gone, the first
// page that waits takes the session over; all others get their own.
func (c *Core) settle(now reading, s *session, takeOver bool, out *Effects) {
	hellos := s.contest.hellos
	s.contest = nil
	for i, in := range hellos {
		heir, why := s, NotResumed("")
		if i > 0 || !takeOver {
			heir, why = nil, SessionInUse
			if c.sessions[in.Session] == nil {
				why = UnknownSession
			}
		}
		settled := Settled{Attempt: in.Attempt}
		if settled.Err = c.mayHello(now, in, heir); settled.Err == nil {
			settled.Reply = c.welcome(now, in, heir, why, out)
		}
		out.add(settled)
	}
}

// renew takes a newer token of the same person.
func (c *Core) renew(now reading, s *session, in Renew, out *Effects) error {
	p := s.person
	if err := c.policy.CheckPerson(p.id, in.Profile); err != nil {
		return err
	}
	if in.Expires != 0 && in.Expires <= now.wall {
		return expired(in.Expires)
	}
	s.issued, s.expires, s.warned = in.Issued, in.Expires, false
	c.observe(p, leaving{}, out, func() { p.profile = in.Profile })
	c.arm(now, s)
	return nil
}

func expired(at int64) error {
	return &Refusal{Code: CodeExpired, Field: "token", Value: stamp(at).Format("2006-01-02T15:04:05Z"), Allowed: "a token whose exp is in the future"}
}
