package presence

import "slices"

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

// State is where a session is in its life: live → grace → ended, or straight from
// live to ended, or back from grace to live. A session that has ended is
// forgotten, so it never revives and needs no state.
type State uint8

const (
	Live  State = iota // has a link
	Grace              // its link is gone; it still counts, and may return
)

func (s State) String() string { return [...]string{"live", "grace"}[s] }

// Reason says why a session ended, or why somebody left a room. It is shown as the
// word that String gives.
type Reason uint8

const (
	NoReason       Reason = iota
	ReasonLeave           // left this room by word; the session goes on
	ReasonBye             // ended by word
	ReasonClosing         // the page closed and did not return in time
	ReasonLost            // the link was lost and did not return in time
	ReasonSilent          // nobody answered, though the link was up; or a lease ran out
	ReasonExpired         // the token expired and no newer one came in time
	ReasonRemoved         // by an operator or the back end
	ReasonReplaced        // another link or session of the person took over
)

func (r Reason) String() string {
	return [...]string{"", "leave", "bye", "closing", "lost", "silent", "expired", "removed", "replaced"}[r]
}

// LinkKind is what kind of connection carries a session.
type LinkKind uint8

const (
	WebSocket LinkKind = iota
	EventStream
	HTTPBeats // no connection: the session comes again within its lease
)

func (k LinkKind) String() string { return [...]string{"websocket", "stream", "beats"}[k] }

type session struct {
	id      SessionID
	key     secret // of its resume key
	nonce   string
	person  *person
	entries []*entry
	contest *contest // the hellos that wait for a probe of the link; nil when none does

	issued, expires int64 // of the token, Unix milliseconds; expires 0: never
	heardWall       int64 // the last evidence of life, Unix milliseconds
	opened          int64 // Unix milliseconds

	heard    awakeTime // the same
	active   awakeTime // the last activity
	asked    awakeTime // live: when last asked for a beat
	unheard  awakeTime // live: when the first unanswered request was written, or 0
	deadline awakeTime // in grace: when it ends
	lost     awakeTime // in grace: since when

	link       LinkNumber
	kind       LinkKind
	state      State
	reason     Reason // in grace: what it ends with
	leased     bool
	noInput    bool
	idle       bool
	pageHidden bool
	warned     bool // of the expiry of its token

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
	case s.link != link.Number || s.state != Live:
		return nil, &Refusal{Code: CodeOldLink, Field: "session", Value: string(link.Session),
			Allowed: "only the newest link of a session speaks for it"}
	}
	return s, nil
}

// heard finds the session of the link and notes the sign of life: any frame is
// one, also a frame whose request is refused. A frame whose token has expired is
// none.
func (c *Core) heard(now reading, link LinkID, out *Effects) (*session, error) {
	s, err := c.from(link)
	if err != nil {
		return nil, err
	}
	if s.expires != 0 && now.wall >= s.expires {
		c.expire(now, s, out)
		return nil, expired(s.expires)
	}
	s.hears(now)
	return s, nil
}

// speaks is heard, and the answer to a probe of the link.
func (c *Core) speaks(now reading, link LinkID, out *Effects) (*session, error) {
	s, err := c.heard(now, link, out)
	if err != nil {
		return nil, err
	}
	if s.contest != nil {
		c.settle(now, s, false, out)
		return c.from(link) // a session that others were given may have replaced this one
	}
	return s, nil
}

// unended tells whether the session still lives. To end one may let hellos in that
// waited for it, and those may end others.
func (c *Core) unended(s *session) bool { return c.sessions[s.id] == s }

// hold gives a person one more session.
func (c *Core) hold(p *person, s *session) {
	if len(p.sessions) == 0 {
		c.present++
	}
	p.sessions = append(p.sessions, s)
}

// end is the only way out of life for a session.
func (c *Core) end(now reading, s *session, reason Reason, out *Effects) {
	c.wheel.clear(&s.timer)
	delete(c.sessions, s.id)
	if s.state == Grace {
		c.inGrace--
	} else if s.leased {
		c.leases--
	}
	p := s.person
	c.observe(p, leaving{reason, s.heardWall}, out, func() {
		s.becomeIdle(true) // so that it no longer counts as awake
		if p.sessions = without(p.sessions, s); len(p.sessions) == 0 {
			c.present--
		}
		for _, e := range slices.Clone(s.entries) {
			c.exit(e)
		}
	})
	out.add(SessionEnded{Link: s.linkID(), User: p.id, Kind: s.kind, Reason: reason, LastSeen: s.heardWall, Opened: s.opened})
	if s.contest != nil {
		c.settle(now, s, false, out)
	}
	c.forget(p)
}

// endByForce ends a session that may have a link, which is cut.
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
	for _, s := range slices.Clone(p.sessions) {
		c.endByForce(now, s, reason, out)
	}
}
