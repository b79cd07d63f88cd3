package presence

import (
	"cmp"
	"encoding/hex"
	"slices"
	"time"
)

// Fact is a carrier's report of one link that it carries, or has lost a moment ago.
type Fact struct {
	User    UserID
	Profile Profile
	Hidden  bool // the person hides
	// Session is the link's session as [Core.SavePerson] saves it. Live, Leased, LastHeard,
	// LastActive and the core's own times are not used.
	Session SavedSession
	Grants  []Pattern // as in [Hello]
	Admits  []Pattern // as in [Hello]

	// Heard and Active are the times since the session was last heard and active. Unanswered is
	// the time since the first unanswered beat request was written; negative: there is none.
	Heard, Active, Unanswered time.Duration
	// Told is what the client has been told last, beside its rooms and whether its person hides.
	Told Told
	// Reported are the newest reports over the link, by room.
	Reported []RoomReports
	// Confirmed says that the opening of the session is on record.
	Confirmed bool
	// Lost is the reason why the link has ended, or NoReason. ReasonBye ends the session too.
	Lost Reason
}

// Told is what the client of a link has been told.
type Told struct {
	Set         Appearance
	Asks        []OpenAsk // of its session, in any order
	Invitations []InvitationID
}

// RoomReports are the newest typing and doing reports of a link about one room.
type RoomReports struct {
	Room          RoomName
	Typing, Doing uint64        // their numbers; 0: none
	On            bool          // the person is typing
	Ago           time.Duration // since the typing report
}

// KeyHash returns the hash of a resume key that is saved.
func KeyHash(key string) string {
	hash := secretOf(key)
	return hex.EncodeToString(hash[:])
}

// Seat is the core's decision about a reported link.
type Seat string

// The decisions.
const (
	SeatKept    Seat = "kept"    // the session is on this link
	SeatAdopted Seat = "adopted" // the session moves to this link, which is newer than the one known
	SeatCreated Seat = "created" // the session was unknown
	SeatOlder   Seat = "older"   // the session is on a newer link: close this one
	SeatEnded   Seat = "ended"   // the session has ended: close the link
	SeatGone    Seat = "gone"    // the link has ended on both sides
)

// Reseat applies a carrier's report of one link (docs/cluster.md, Re-seating). It repairs every
// disagreement between the core and the carrier, and asks for the client to be told what it has
// missed. Of two links of a session, the one with the higher number lives, in any order of the
// reports. About the same link, the carrier's report replaces what was restored, but not what the
// core has learned itself.
func (c *Core) Reseat(at Instant, f Fact, out *Effects) Seat {
	now := c.passes(at, out)
	before := len(out.List)
	seat := c.reseat(now, f, out)
	switch seat {
	case SeatKept, SeatAdopted, SeatCreated:
		if s := c.sessions.get(f.Session.ID); s != nil && s.link == f.Session.Link {
			c.tellMissed(now, s, f, out.List[before:], out)
		}
	}
	return seat
}

func (c *Core) reseat(now reading, f Fact, out *Effects) Seat {
	s := c.sessions.get(f.Session.ID)
	switch {
	case s == nil && (f.Confirmed || c.gave(f.Session.Link) || f.Lost == ReasonBye || !c.mayReopen(f)):
		return SeatEnded
	case s == nil:
		return c.unlessLost(now, c.reopen(now, f, out), f, SeatCreated, out)
	case s.person.id != f.User || f.Session.Link < s.link:
		return SeatOlder
	case f.Session.Link > s.link:
		return c.adopt(now, s, f, out)
	case s.state == Grace:
		return c.revive(now, s, f, out)
	}
	if s.restored {
		c.seat(now, s, f, out)
	} else {
		c.seated(s, out)
		s.hearsOf(now, f)
	}
	c.arm(now, s)
	return c.unlessLost(now, s, f, SeatKept, out)
}

// gave reports whether this core has given a link, and so knows what has become of its session.
func (c *Core) gave(link LinkNumber) bool { return link>>32 == LinkNumber(c.epoch) }

// adopt moves a session to a newer link.
func (c *Core) adopt(now reading, s *session, f Fact, out *Effects) Seat {
	switch {
	case s.state == Grace:
		c.inGrace--
	case s.leased:
		c.leases--
	default:
		out.add(Cut{Link: s.linkID(), Reason: ReasonReplaced})
	}
	gap, lost := now.awake-s.lost, s.state == Grace
	if !lost {
		gap = 0
	}
	s.state, s.leased = Live, false
	c.seat(now, s, f, out)
	out.add(SessionResumed{Link: s.linkID(), User: s.person.id, Kind: s.kind, Gap: gap, Lost: lost})
	if s.contest() != nil && f.Lost == NoReason { // other pages wait for the page that was just cut
		c.settle(now, s, false, out)
	}
	if !c.unended(s) {
		return SeatEnded
	}
	c.arm(now, s)
	return c.unlessLost(now, s, f, SeatAdopted, out)
}

// revive brings back a link that was restored in grace, because its carrier still has it. A link is
// over if its page said that it is closing, or if this core has lost it.
func (c *Core) revive(now reading, s *session, f Fact, out *Effects) Seat {
	if f.Lost != NoReason {
		return c.unlessLost(now, s, f, SeatGone, out) // a second sign of loss
	}
	if !s.restored || s.reason == ReasonClosing || s.leased {
		return SeatOlder
	}
	c.inGrace--
	s.state = Live
	out.touch(s.person)
	c.seat(now, s, f, out)
	out.add(SessionResumed{Link: s.linkID(), User: s.person.id, Kind: s.kind, Gap: now.awake - s.lost, Lost: true})
	c.arm(now, s)
	return SeatKept
}

// unlessLost returns the seat, or loses the link if the carrier has lost it.
func (c *Core) unlessLost(now reading, s *session, f Fact, seat Seat, out *Effects) Seat {
	if f.Lost == NoReason {
		return seat
	}
	if f.Lost == ReasonBye {
		c.end(now, s, ReasonBye, out)
	} else {
		c.lose(now, s, f.Lost, out)
	}
	return SeatGone
}

// mayReopen reports whether an unknown session may live: its person was not removed, and it does
// not give way to another session.
func (c *Core) mayReopen(f Fact) bool {
	if c.policy.CheckPerson(f.User, f.Profile) != nil {
		return false
	}
	p := c.people.get(f.User)
	if p == nil {
		return true
	}
	if p.removed != nil && f.Session.Issued <= p.removed.altogether {
		return false
	}
	return !slices.ContainsFunc(p.sessions.list(), func(other *session) bool { return c.outlasts(other, f.Session.Opened) })
}

// outlasts reports whether a session stays when another one of its person, opened at a time, is
// reported. That follows the policy's SecondSession, by the time of opening.
func (c *Core) outlasts(s *session, opened int64) bool {
	switch c.policy.SecondSession {
	case ReplaceFirst:
		return s.opened > opened
	case RefuseSecond:
		return s.opened <= opened && s.state == Live
	}
	return false
}

// reopen opens the session of a fact.
func (c *Core) reopen(now reading, f Fact, out *Effects) *session {
	p := c.people.get(f.User)
	if p == nil { // of somebody on record, the record says whether they hide
		p = c.known(f.User)
		p.hidden = f.Hidden
	}
	s := &session{id: f.Session.ID, person: p, idle: true, opened: f.Session.Opened}
	s.timer.owner = s
	c.sessions.put(s)
	out.add(SessionOpened{Link: LinkID{s.id, f.Session.Link}, User: p.id, Kind: f.Session.Kind})
	c.seat(now, s, f, out)
	for _, other := range p.sessions.copied() {
		if other != s && c.policy.SecondSession != AllowSecond {
			c.endByForce(now, other, ReasonReplaced, out)
		}
	}
	c.sessionsChanged(now, out)
	c.arm(now, s)
	return s
}

// seat gives a live session the state that the carrier of its link reports.
func (c *Core) seat(now reading, s *session, f Fact, out *Effects) {
	is, p := f.Session, s.person
	before, profile := s.lasting(), p.profile
	_, _ = hex.Decode(s.key[:], []byte(is.Key)) // with a broken key, nobody can resume it
	s.link, s.kind, s.nonce, s.device, s.noInput, s.pageHidden = is.Link, is.Kind, is.Nonce, is.Device, is.NoInput, is.PageHidden
	s.issued, s.expires, s.warned = is.Issued, is.Expires, false
	s.setAdmits(f.Admits)
	s.restored, s.unseated, s.asked, s.unheard = false, false, 0, 0
	s.heard, s.heardWall = now.awake-f.Heard, now.wall-f.Heard.Milliseconds()
	s.asks(now, f)
	s.active = now.awake - f.Active
	c.notice(p, cause{ReasonLeave, now.wall, s.id}, out, func() {
		if !slices.Contains(p.sessions.list(), s) {
			c.hold(p, s)
		}
		if !slices.ContainsFunc(p.sessions.list(), func(other *session) bool { return other.issued > s.issued }) {
			p.profile = f.Profile
		}
		s.becomeIdle(is.Idle)
		c.seatIn(now, s, f)
		c.narrow(now, s, f.Grants, out)
	})
	if p.profile != profile || !before.equal(s.lasting()) {
		out.touch(p)
	}
}

// tellMissed asks for the client of a reported link to be told what it has not been told, as far as its
// carrier knows. Told are the effects of the report itself, which need not be repeated.
func (c *Core) tellMissed(now reading, s *session, f Fact, told []Effect, out *Effects) {
	p, links := s.person, []LinkID{s.linkID()}
	isOut := func(room RoomName) bool {
		return slices.ContainsFunc(told, func(e Effect) bool { is, ok := e.(TakenOut); return ok && is.Link == links[0] && is.Room == room })
	}
	isAnswered := func(ask AskID) bool {
		return slices.ContainsFunc(told, func(e Effect) bool { is, ok := e.(AskAnswered); return ok && is.Ask == ask })
	}
	for _, is := range f.Session.Rooms {
		if s.entry(is.Room) == nil && !isOut(is.Room) {
			reason := ReasonLeave
			if c.notRemoved(p, s.issued, is.Room) != nil {
				reason = ReasonRemoved
			}
			out.add(TakenOut{Link: s.linkID(), Room: is.Room, Reason: reason})
		}
	}
	if own := p.own(); own.Set != f.Told.Set || own.Hidden != f.Hidden {
		own.Links = links
		out.add(own)
	}
	for _, ask := range f.Told.Asks {
		if open := c.asks[ask.Ask]; (open == nil || !slices.Contains(open.sessions, s)) && !isAnswered(ask.Ask) {
			answered := AskAnswered{OpenAsk: ask, Outcome: c.outcome(now, s, ask), Links: links}
			if answered.Outcome == Refused {
				answered.Again = p.standing(ask.Room).again
			}
			out.add(answered)
		}
	}
	if open := p.invitations(now); !open.are(f.Told.Invitations) {
		out.add(InvitationsChanged{Links: links, Invitations: open})
	}
}

// outcome returns what has become of an ask of a session. If its end was before a takeover, that has to
// be guessed.
func (c *Core) outcome(now reading, s *session, ask OpenAsk) Outcome {
	was, known := c.past.byID[string(ask.Ask)]
	switch {
	case known && (was.outcome != Admitted || s.entry(ask.Room) != nil):
		return was.outcome
	case s.entry(ask.Room) != nil:
		return Admitted
	case s.person.standing(ask.Room).again > now.wall:
		return Refused
	}
	return Expired
}

// are reports whether these are the invitations with the ids, in any order.
func (i Invitations) are(ids []InvitationID) bool {
	mine := i.IDs()
	return len(mine) == len(ids) && !slices.ContainsFunc(mine, func(id InvitationID) bool { return !slices.Contains(ids, id) })
}

// IDs returns their ids.
func (i Invitations) IDs() []InvitationID {
	var ids []InvitationID
	for _, list := range [][]Invitation{i.Received, i.Sent} {
		for _, one := range list {
			ids = append(ids, one.Invitation)
		}
	}
	return ids
}

// lasting is what is saved of a live session, apart from the times of its last signs.
type lasting struct {
	session struct {
		key                       secret
		nonce                     string
		link                      LinkNumber
		kind                      LinkKind
		idle, noInput, pageHidden bool
		issued, expires           int64
		device                    Device
		silent                    awakeTime
	}
	rooms []SavedEntry
}

func (s *session) lasting() (l lasting) {
	is := &l.session
	is.key, is.nonce, is.link, is.kind, is.device = s.key, s.nonce, s.link, s.kind, s.device
	is.idle, is.noInput, is.pageHidden, is.issued, is.expires = s.idle, s.noInput, s.pageHidden, s.issued, s.expires
	if s.unseated {
		is.silent = s.unheard
	}
	l.rooms = s.saveRooms()
	return l
}

func (l lasting) equal(other lasting) bool {
	return l.session == other.session && slices.Equal(l.rooms, other.rooms)
}

// seatIn puts a session into the rooms of a fact, except those from which its person was removed.
func (c *Core) seatIn(now reading, s *session, f Fact) {
	for _, e := range s.entries.copied() {
		if e.inherited && !slices.ContainsFunc(f.Session.Rooms, func(is SavedEntry) bool { return is.Room == e.room().name }) {
			c.exit(now, e)
		}
	}
	for _, is := range f.Session.Rooms {
		if c.notRemoved(s.person, s.issued, is.Room) != nil {
			continue
		}
		known := s.entry(is.Room) != nil
		c.enter(now, s, is.Room)
		e := s.entry(is.Room)
		e.inherited = e.inherited || !known
		if is.Doing == "" && e.doing == nil {
			continue
		}
		d := c.doingOf(now, e.member)
		order := is.DoingOrder
		switch {
		case order > 0:
		case e.doing != nil && e.doing.object == is.Doing:
			order = e.doing.order // which carriers do not know
		default:
			order = d.reports + 1
		}
		e.doing = &done{object: is.Doing, order: order}
		d.reports = max(d.reports, order)
		d.refresh(c, now)
		d.arm(c)
	}
	for _, is := range f.Reported {
		e := s.entry(is.Room)
		if e == nil {
			continue
		}
		if is.Typing > 0 || is.On || e.typed != nil {
			t := e.typings()
			t.report, t.until = max(t.report, is.Typing), now.awake-is.Ago+e.room().policy.TypingExpires
			t.on = is.On && t.until > now.awake
		}
		if e.doing != nil || is.Doing > 0 {
			if e.doing == nil {
				e.doing = &done{}
			}
			e.doing.number = max(e.doing.number, is.Doing)
		}
	}
}

// hearsOf applies a sign of life that the carrier has had since the core's last one.
func (s *session) hearsOf(now reading, f Fact) {
	if heard := now.awake - f.Heard; heard > s.heard {
		s.heard, s.heardWall, s.unheard = heard, now.wall-f.Heard.Milliseconds(), 0
	}
	if f.Unanswered < 0 && s.unheard == 0 {
		s.asked = 0 // a request that its carrier does not know of was lost
	}
	s.asks(now, f)
}

// asks applies the time since a beat request over the link is unanswered.
func (s *session) asks(now reading, f Fact) {
	if f.Unanswered >= 0 && s.unheard == 0 {
		s.unheard = max(now.awake-f.Unanswered, 1)
		s.asked = s.unheard
	}
}

// Unseat says that the carrier of a link is no longer heard, so that the link may have ended without
// a report. Its silence begins at its last sign of life.
func (c *Core) Unseat(at Instant, link LinkID, out *Effects) {
	now := c.passes(at, out)
	s, err := c.from(link)
	if err != nil || s.leased || s.unseated {
		return
	}
	c.unseat(now, s, out)
}

// UnseatOthers says that all carriers have reported. Restored links that none of them named are
// silent.
func (c *Core) UnseatOthers(at Instant, out *Effects) {
	now := c.passes(at, out)
	for _, link := range c.linksOf(func(s *session) bool { return s.restored && !s.unseated }) {
		c.unseat(now, c.sessions.get(link.Session), out)
	}
}

// unseat begins the silence of a session. It is saved, so that the next core continues it.
func (c *Core) unseat(now reading, s *session, out *Effects) {
	if s.unheard == 0 {
		s.unheard = max(s.heard+c.policy.BeatEvery, now.awake-c.policy.Silence())
		s.asked = max(s.asked, s.unheard)
	}
	s.unseated = true
	out.touch(s.person)
	c.arm(now, s)
}

// seated undoes unseat.
func (c *Core) seated(s *session, out *Effects) {
	if s.unseated {
		s.unseated = false
		out.touch(s.person)
	}
}

// Links returns all links of live sessions, by session.
func (c *Core) Links() []LinkID { return c.linksOf(func(*session) bool { return true }) }

func (c *Core) linksOf(wanted func(*session) bool) []LinkID {
	var links []LinkID
	for s := range c.sessions.all() {
		if s.state == Live && !s.leased && wanted(s) {
			links = append(links, s.linkID())
		}
	}
	slices.SortFunc(links, func(a, b LinkID) int { return cmp.Compare(a.Session, b.Session) })
	return links
}
