package presence

import (
	"maps"
	"slices"
	"time"
)

// contest is the dispute over a session: a page claims it while an older link of another page
// seems alive. The old link is asked for a sign of life.
type contest struct {
	hellos   []Hello
	deadline awakeTime
	asked    bool // the probe has been written to the link
}

// maxContest limits the hellos that wait for one probe.
const maxContest = 8

// hello decides whose session it is (docs/design.md §3). The right resume key of the same person
// resumes an unended session if its link is gone (a reload, a lost network), or if the nonce is
// the same (the same page on a new network), in which case the old link is cut. Another page has
// to wait for a probe if the link seems alive: an answer means a duplicated tab, which gets a
// session of its own; silence means a dead link, and the new page takes the session over. A
// lease cannot be probed, so it keeps its session.
func (c *Core) hello(now reading, in Hello, out *Effects) (Reply, error) {
	in.Rooms = unique(in.Rooms)
	if s := c.opened(in); s != nil {
		return c.helloAgain(now, in, s, out)
	}
	s, why := c.resumable(in)
	contested := why == SessionInUse && !s.leased
	if why != "" && !contested {
		s = nil
	}
	if err := c.mayHello(now, in, s, out); err != nil {
		return Reply{}, err
	}
	if contested {
		if c.probe(now, in, out) {
			return Reply{Pending: true}, nil
		}
		s = nil
		if err := c.mayHello(now, in, s, out); err != nil {
			return Reply{}, err
		}
	}
	return c.welcome(now, in, s, why, out), nil
}

// opened returns the session that this very hello has opened before, or nil. Between nodes, a hello
// comes again when its answer was lost.
func (c *Core) opened(in Hello) *session {
	if c.epoch == 0 {
		return nil
	}
	if s := c.sessions.get(in.NewSession); s != nil && in.NewSession != in.Session && s.person.id == in.User && s.nonce == in.Nonce && s.key.is(in.NewKey) {
		return s
	}
	return nil
}

// helloAgain gives a hello its earlier answer again, with a new link.
func (c *Core) helloAgain(now reading, in Hello, s *session, out *Effects) (Reply, error) {
	if err := c.mayHello(now, in, s, out); err != nil {
		return Reply{}, err
	}
	_, why := c.resumable(in)
	if why == "" && in.Session != "" {
		why = SessionInUse
	}
	in.Key = in.NewKey
	reply := c.welcome(now, in, s, why, out)
	reply.Resumed = false
	return reply, nil
}

func (c *Core) resumable(in Hello) (*session, NotResumed) {
	s := c.sessions.get(in.Session)
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

// mayHello checks everything that could refuse a hello, before anything changes. S is the
// session to resume, or nil for a new one.
func (c *Core) mayHello(now reading, in Hello, s *session, out *Effects) error {
	if err := c.policy.CheckPerson(in.User, in.Profile); err != nil {
		return err
	}
	if err := checkText(CodeBadNonce, "nonce", in.Nonce, maxNonceBytes, optional); err != nil {
		return err
	}
	if in.Expires != 0 && in.Expires <= now.wall {
		return expired(in.Expires)
	}
	p := c.people.get(in.User)
	if p != nil && p.removed != nil && in.Issued <= p.removed.altogether {
		return &Refusal{Code: CodeRemoved, Field: "token", Allowed: "a token issued after the removal"}
	}
	if err := c.mayEnterAll(now, p, in, s); err != nil {
		return err
	}
	if err := c.mayReport(in, s); err != nil {
		return err
	}
	if s != nil {
		return nil
	}
	if p == nil {
		return c.mayOpen(now, nil, out)
	}
	if c.policy.SecondSession == RefuseSecond && slices.ContainsFunc(p.sessions.list(), func(s *session) bool { return s.state == Live }) {
		return &Refusal{Code: CodeAlreadyHere, Field: "user", Value: string(in.User), Allowed: "one session per person"}
	}
	if c.policy.SecondSession == AllowSecond && p.sessions.count() >= c.policy.SessionsPerPerson {
		return tooManySessions(c.policy)
	}
	return c.mayOpen(now, p, out)
}

// mayEnterAll checks the rooms of a hello that wants all of them or none. A room that must be
// asked about refuses nothing.
func (c *Core) mayEnterAll(now reading, p *person, in Hello, s *session) error {
	if in.OneByOne {
		return nil
	}
	if len(in.Rooms) > c.policy.RoomsPerSession {
		return tooManyRooms(c.policy)
	}
	if err := c.mayEngageTogether(in.Rooms); err != nil {
		return err
	}
	for _, room := range in.Rooms {
		if err := c.mayEngage(p, room, func(other *session) bool { return other != s && c.policy.SecondSession == AllowSecond }); err != nil {
			return err
		}
		if _, err := c.mayEnter(now, p, in.Issued, in.Admits, room); err != nil {
			return err
		}
	}
	return nil
}

// mayReport checks that the session types, and does something, only in rooms that it will be in.
func (c *Core) mayReport(in Hello, s *session) error {
	if in.Report == nil {
		return nil
	}
	rooms := in.Rooms
	if rooms == nil && s != nil {
		rooms = s.rooms()
	}
	for _, room := range in.Report.Typing {
		if !slices.Contains(rooms, room) {
			return notInRoom("typing", room)
		}
	}
	for _, room := range slices.Sorted(maps.Keys(in.Report.Doing)) {
		if !slices.Contains(rooms, room) {
			return notInRoom("doing", room)
		}
		if err := c.mayDo(room, "doing", in.Report.Doing[room]); err != nil {
			return err
		}
	}
	return nil
}

// welcome gives the hello its session: s, or a new one if s is nil. A continued lease keeps its
// link number, and nothing is saved unless something changed.
func (c *Core) welcome(now reading, in Hello, s *session, why NotResumed, out *Effects) Reply {
	reply := Reply{NotResumed: why, Resumed: s != nil, Key: in.Key}
	p := c.known(in.User)
	if s == nil {
		s = &session{id: in.NewSession, key: secretOf(in.NewKey), person: p, idle: true, opened: now.wall}
		reply.Key = in.NewKey
		s.timer.owner = s
		s.link = c.mint(0)
		c.sessions.put(s)
		out.add(SessionOpened{Link: s.linkID(), User: p.id, Kind: in.kind(), Wanted: wanted(in, why), NotResumed: why})
	} else if s.state == Live && !s.leased {
		out.add(Cut{Link: s.linkID(), Reason: ReasonReplaced})
	}
	goesOn := reply.Resumed && s.state == Live && s.leased && in.Leased
	if goesOn {
		reply.Refused = c.goOn(now, s, in, out)
	} else {
		reply.Refused = c.link(now, s, in, reply.Resumed, out)
	}
	if !reply.Resumed {
		c.sessionsChanged(now, out)
	}
	if in.Report != nil && c.unended(s) { // before older sessions end: what they do and this one goes on doing is not interrupted
		c.report(now, s, *in.Report, out)
	}
	if !reply.Resumed && c.policy.SecondSession != AllowSecond {
		for _, older := range p.sessions.copied() {
			if older != s {
				c.endByForce(now, older, ReasonReplaced, out)
			}
		}
	}
	reply.Link, reply.Opened, reply.Rooms, reply.Hidden = s.linkID(), s.opened, s.rooms(), p.hidden
	reply.Asked, reply.Invitations = c.askedBy(now, s, ""), p.invitations(now)
	if p.set != nil {
		reply.Set = p.set.Appearance
	}
	return reply
}

// wanted returns the session that a hello could not resume. A client may name anything; what is
// too long was never a session.
func wanted(in Hello, why NotResumed) SessionID {
	if why == "" || len(in.Session) > maxNonceBytes {
		return ""
	}
	return in.Session
}

// link puts a session on a new link. Its typing reports are numbered from 1 again.
func (c *Core) link(now reading, s *session, in Hello, resumed bool, out *Effects) (refused []RefusedRoom) {
	gap := time.Duration(0)
	lost := resumed && s.state == Grace
	if lost {
		c.inGrace--
		gap = now.awake - s.lost
	} else if s.leased {
		c.leases--
	}
	wasIdle, active := resumed && s.idle, s.active
	if resumed {
		s.link = c.mint(s.link)
	}
	s.kind = in.kind()
	s.state, s.nonce, s.asked, s.unseated = Live, in.Nonce, 0, false
	if s.leased = in.Leased; s.leased {
		c.leases++
	}
	for _, e := range s.entries.list() {
		if e.typed != nil {
			e.typed.report = 0
		}
		if e.doing != nil {
			e.doing.number = 0
		}
	}
	c.observe(s.person, cause{ReasonLeave, now.wall, s.id}, out, func() {
		if !resumed {
			c.hold(s.person, s)
		}
		refused = c.takeOver(now, s, in, resumed, out)
	})
	c.arm(now, s)
	if resumed {
		out.add(SessionResumed{Link: s.linkID(), User: s.person.id, Kind: s.kind, Gap: gap, Lost: lost})
		if s.contest() != nil { // other pages wait for the page that was just cut
			c.settle(now, s, false, out)
		}
	}
	if c.unended(s) && s.idle != wasIdle {
		out.add(s.idleness(now, active))
	}
	return refused
}

// goOn renews a lease. It marks only changes for saving.
func (c *Core) goOn(now reading, s *session, in Hello, out *Effects) (refused []RefusedRoom) {
	type known struct {
		issued, expires           int64
		noInput, pageHidden, idle bool
		device                    Device
		profile                   Profile
	}
	state := func() known {
		return known{s.issued, s.expires, s.noInput, s.pageHidden, s.idle, s.device, s.person.profile}
	}
	before, rooms, active := state(), s.rooms(), s.active
	c.notice(s.person, cause{ReasonLeave, now.wall, s.id}, out, func() { refused = c.takeOver(now, s, in, true, out) })
	c.arm(now, s)
	if before != state() || !slices.Equal(rooms, s.rooms()) {
		out.touch(s.person)
	}
	if s.idle != before.idle {
		out.add(s.idleness(now, active))
	}
	return refused
}

// takeOver applies what a hello says about the session and its person.
func (c *Core) takeOver(now reading, s *session, in Hello, resumed bool, out *Effects) (refused []RefusedRoom) {
	s.issued, s.expires, s.warned, s.pageHidden = in.Issued, in.Expires, false, in.PageHidden
	s.device = in.Device
	s.setAdmits(in.Admits)
	s.hears(now)
	s.person.profile = in.Profile
	c.wakeAtHello(now, s, in, resumed)
	if in.Rooms != nil {
		refused = c.moveTo(now, s, in, out)
	}
	c.narrow(now, s, in.Grants, out)
	return refused
}

// report applies what has happened at a leased session since its last hello.
func (c *Core) report(now reading, s *session, r Report, out *Effects) {
	if r.Active {
		c.activity(now, s, 0, out)
	}
	if r.Idle {
		c.setIdle(now, s, !s.noInput, s.active, out)
	}
	for _, e := range s.entries.copied() {
		if r.Typing != nil {
			c.types(now, e, slices.Contains(r.Typing, e.room().name), out)
		}
		if object, said := r.Doing[e.room().name]; said {
			c.doesNow(now, e, object, out)
		}
	}
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

// wakeAtHello applies the time since the last activity. Resuming alone is not activity.
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

// mayMoveTo decides about one room of a hello. If the hello wants all of them or none, mayEnterAll
// has done that, and what is left is whether the session must ask.
func (c *Core) mayMoveTo(now reading, s *session, in Hello, room RoomName) (asks bool, err error) {
	if in.OneByOne {
		return c.mayJoin(now, s, in.Issued, in.Admits, room)
	}
	asks, _ = c.mayEnter(now, s.person, in.Issued, in.Admits, room)
	return asks, nil
}

// moveTo puts the session into exactly the rooms of a hello; with OneByOne, only into those that
// it may enter.
func (c *Core) moveTo(now reading, s *session, in Hello, out *Effects) (refused []RefusedRoom) {
	for _, e := range s.entries.copied() {
		if !slices.Contains(in.Rooms, e.room().name) {
			c.exit(now, e)
		}
	}
	c.withdrawAsks(now, s, Withdrawn, out, func(room RoomName) bool { return !slices.Contains(in.Rooms, room) })
	for _, room := range in.Rooms {
		asks, err := c.mayMoveTo(now, s, in, room)
		if err != nil {
			refused = append(refused, RefusedRoom{room, err.(*Refusal)})
			continue
		}
		if asks {
			c.openAsk(now, s, room, in.NewAsk, out)
		} else {
			c.enter(now, s, room)
		}
	}
	return refused
}

// probe lets a hello wait until the old link has been asked. If a waiting page sends another
// hello, only the newest counts. It returns false if too many pages are waiting.
func (c *Core) probe(now reading, in Hello, out *Effects) bool {
	s := c.sessions.get(in.Session)
	if s.contest() == nil {
		s.setContest(&contest{deadline: now.awake + c.policy.Probe})
		out.add(AskBeat{Link: s.linkID(), Probe: true})
		c.arm(now, s)
	}
	for i, other := range s.contest().hellos {
		if other.Attempt == in.Attempt {
			s.contest().hellos[i] = in
			return true
		}
		if in.Nonce != "" && other.Nonce == in.Nonce {
			s.contest().hellos[i] = in
			out.add(Settled{Attempt: other.Attempt, Err: &Refusal{Code: CodeOldLink, Field: "nonce", Value: in.Nonce, Allowed: "one hello per page at a time; a newer one came"}})
			return true
		}
	}
	if len(s.contest().hellos) == maxContest {
		return false
	}
	s.contest().hellos = append(s.contest().hellos, in)
	return true
}

// withdraw removes a pending hello whose connection has ended.
func (c *Core) withdraw(in Withdraw) {
	s := c.sessions.get(in.Session)
	if s == nil || s.contest() == nil {
		return
	}
	s.contest().hellos = slices.DeleteFunc(s.contest().hellos, func(h Hello) bool { return h.Attempt == in.Attempt })
	if len(s.contest().hellos) == 0 {
		s.setContest(nil)
	}
}

// settle ends a contest. If the link has not answered or is gone, the first waiting page takes
// the session over; all others get sessions of their own.
func (c *Core) settle(now reading, s *session, takeOver bool, out *Effects) {
	hellos := s.contest().hellos
	s.setContest(nil)
	for i, in := range hellos {
		heir, why := s, NotResumed("")
		same := c.unended(s) && in.Nonce != "" && in.Nonce == s.nonce // the page has it already, over another link
		if !same && (i > 0 || !takeOver) {
			heir, why = nil, SessionInUse
			if c.sessions.get(in.Session) == nil {
				why = UnknownSession
			}
		}
		settled := Settled{Attempt: in.Attempt}
		if settled.Err = c.mayHello(now, in, heir, out); settled.Err == nil {
			settled.Reply = c.welcome(now, in, heir, why, out)
		}
		out.add(settled)
	}
}

// renew applies a newer token of the same person.
func (c *Core) renew(now reading, s *session, in Renew, out *Effects) error {
	p := s.person
	if err := c.policy.CheckPerson(p.id, in.Profile); err != nil {
		return err
	}
	if in.Expires != 0 && in.Expires <= now.wall {
		return expired(in.Expires)
	}
	s.issued, s.expires, s.warned = in.Issued, in.Expires, false
	c.observe(p, cause{ReasonLeave, now.wall, s.id}, out, func() {
		p.profile = in.Profile
		s.setAdmits(in.Admits)
		c.narrow(now, s, in.Grants, out)
	})
	c.arm(now, s)
	return nil
}

func expired(at int64) error {
	return &Refusal{Code: CodeExpired, Field: "token", Value: stamp(at).Format("2006-01-02T15:04:05Z"), Allowed: "a token whose exp is in the future"}
}
