package presence

// SessionID is the id of a session, made by the service.
type SessionID string

// LinkNumber tells the links of a session apart; a newer link has a higher one. On one node it
// counts them from 1. With an epoch it is (epoch, count), 32 bits each, and never minted twice in
// the realm.
type LinkNumber uint64

// LinkID identifies a link for ever. Every input says over which link it came; an input over an
// older link than the current one changes nothing.
type LinkID struct {
	Session SessionID
	Number  LinkNumber
}

// State is the state of a session: it goes from live to grace and back, and from both to its
// end. An ended session is forgotten, so it never revives, and needs no state.
type State uint8

const (
	Live  State = iota // has a link
	Grace              // its link is gone; it still counts, and may return
)

func (s State) String() string { return [...]string{"live", "grace"}[s] }

// Reason says why a session ended, or why somebody left a room. String returns the word for it.
type Reason uint8

const (
	NoReason       Reason = iota
	ReasonLeave           // left this room on request; the session continues
	ReasonBye             // ended on request
	ReasonClosing         // the page closed and did not return in time
	ReasonLost            // the link was lost and did not return in time
	ReasonSilent          // no answer over a connected link, or a lease ran out
	ReasonExpired         // the token expired and no newer one came in time
	ReasonRemoved         // by an operator or the back end
	ReasonReplaced        // another link or session of the person took over
)

func (r Reason) String() string {
	return [...]string{"", "leave", "bye", "closing", "lost", "silent", "expired", "removed", "replaced"}[r]
}

// LinkKind is the kind of connection of a session.
type LinkKind uint8

const (
	WebSocket LinkKind = iota
	EventStream
	HTTPBeats // no connection: the client sends a hello within each lease
)

func (k LinkKind) String() string { return [...]string{"websocket", "stream", "beats"}[k] }

type session struct {
	id      SessionID
	key     secret // of its resume key
	nonce   string
	person  *person
	entries few[entry]
	unusual *unusual // nil: nothing

	issued, expires int64 // of the token, Unix milliseconds; expires 0: never
	heardWall       int64 // the last evidence of life, Unix milliseconds
	opened          int64 // Unix milliseconds

	heard    awakeTime // the same
	active   awakeTime // the last activity
	asked    awakeTime // live: when a beat was last asked for
	unheard  awakeTime // live: when the first unanswered beat request was written, or 0
	deadline awakeTime // in grace: the end of the session
	lost     awakeTime // in grace: since when

	link       LinkNumber
	kind       LinkKind
	state      State
	reason     Reason // in grace: the reason if it ends
	leased     bool
	noInput    bool
	idle       bool
	pageHidden bool
	warned     bool // of the expiry of its token
	restored   bool // as another core recorded it; nothing was heard of it since
	unseated   bool // no carrier of its link is heard
	device     Device

	timer   timer
	indexed link[session]
}

func (s *session) name() SessionID { return s.id }

func (s *session) chain() *link[session] { return &s.indexed }

// unusual is what few sessions have.
type unusual struct {
	contest *contest  // hellos that wait for a probe of the link, or nil
	admits  []Pattern // rooms into which it may let others; immutable
}

// contest returns the hellos that wait for a probe of the link, or nil.
func (s *session) contest() *contest {
	if s.unusual == nil {
		return nil
	}
	return s.unusual.contest
}

// admits returns the rooms into which the session may let others.
func (s *session) admits() []Pattern {
	if s.unusual == nil {
		return nil
	}
	return s.unusual.admits
}

func (s *session) setContest(with *contest) { s.setUnusual(unusual{with, s.admits()}) }

func (s *session) setAdmits(rooms []Pattern) { s.setUnusual(unusual{s.contest(), rooms}) }

func (s *session) setUnusual(is unusual) {
	s.unusual = nil
	if is.contest != nil || len(is.admits) > 0 {
		kept := is
		s.unusual = &kept
	}
}

func (s *session) linkID() LinkID { return LinkID{s.id, s.link} }

func (s *session) hears(now reading) {
	s.heard, s.heardWall, s.unheard, s.restored = now.awake, now.wall, 0, false
}

// from returns the live session whose current link this is. It is the fence: a frame over an
// older link, or after the page said that it is closing, is refused.
func (c *Core) from(link LinkID) (*session, error) {
	s := c.sessions.get(link.Session)
	switch {
	case s == nil:
		return nil, &Refusal{Code: CodeNoSession, Field: "session", Value: string(link.Session),
			Allowed: "a session that has not ended"}
	case s.link != link.Number || s.state != Live:
		return nil, &Refusal{Code: CodeOldLink, Field: "session", Value: string(link.Session),
			Allowed: "requests over the newest link of the session"}
	}
	return s, nil
}

// heard is from, and notes the sign of life. Every frame is one, even if its request is refused,
// but not if the token has expired.
func (c *Core) heard(now reading, link LinkID, out *Effects) (*session, error) {
	s, err := c.from(link)
	if err != nil {
		return nil, err
	}
	if s.expires != 0 && now.wall >= s.expires {
		c.expire(now, s, out)
		return nil, expired(s.expires)
	}
	c.seated(s, out)
	s.hears(now)
	return s, nil
}

// speaks is heard, and answers a probe of the link. Frames that were under way before the probe was
// written do not answer it: a page that has gone may have sent them.
func (c *Core) speaks(now reading, link LinkID, out *Effects) (*session, error) {
	s, err := c.heard(now, link, out)
	if err != nil {
		return nil, err
	}
	if s.contest() != nil && s.contest().asked {
		c.settle(now, s, false, out)
		return c.from(link) // a waiting page's session may have replaced this one
	}
	return s, nil
}

// unended reports whether the session is still alive. Ending a session may admit hellos that
// waited for it, and those may end others.
func (c *Core) unended(s *session) bool { return c.sessions.get(s.id) == s }

// hold adds a session to a person.
func (c *Core) hold(p *person, s *session) {
	if p.sessions.count() == 0 {
		c.present++
	}
	p.sessions.add(s)
}

// end ends a session. There is no other way.
func (c *Core) end(now reading, s *session, reason Reason, out *Effects) {
	c.wheel.clear(&s.timer)
	c.sessions.remove(s)
	lost := s.state == Grace
	if lost {
		c.inGrace--
	} else if s.leased {
		c.leases--
	}
	p := s.person
	bound := p.set != nil && p.set.session == s.id
	c.observe(p, cause{reason, s.heardWall, s.id}, out, func() {
		if bound {
			c.clearStatus(p)
		}
		s.becomeIdle(true) // so that it no longer counts as active
		if p.sessions.remove(s); p.sessions.count() == 0 {
			c.present--
		}
		for _, e := range s.entries.copied() {
			c.exit(now, e)
		}
	})
	if bound {
		c.tellOwn(p, out)
	}
	out.add(SessionEnded{Link: s.linkID(), User: p.id, Kind: s.kind, Reason: reason, LastSeen: s.heardWall, Opened: s.opened, Lost: lost})
	c.sessionsChanged(now, out)
	if s.contest() != nil {
		c.settle(now, s, false, out)
	}
	c.withdrawAsks(now, s, Gone, out, func(RoomName) bool { return true })
	c.closeInvitations(now, p.inviting, Gone, out, func(i *invitation) bool { return i.session == s })
	c.forget(p)
}

// endByForce ends a session, and cuts its link if it has one.
func (c *Core) endByForce(now reading, s *session, reason Reason, out *Effects) {
	if !c.unended(s) {
		return
	}
	link, carried := s.linkID(), s.state == Live && !s.leased
	c.end(now, s, reason, out)
	if carried {
		out.add(Cut{Link: link, Reason: reason, Ended: true})
	}
}

// endAll ends all sessions of a person.
func (c *Core) endAll(now reading, p *person, reason Reason, out *Effects) {
	for _, s := range p.sessions.copied() {
		c.endByForce(now, s, reason, out)
	}
}
