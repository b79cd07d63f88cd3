package presence

import (
	"slices"
	"strings"
	"time"
)

// Rule is a rule that decides a person's status, as a short code.
type Rule string

// The rules, in the order in which they apply.
const (
	RuleNoSession Rule = "no-session"
	RuleHidden    Rule = "hiding"
	RuleSet       Rule = "set"
	RuleEngaged   Rule = "engaged"
	RuleAwake     Rule = "awake"
	RuleIdle      Rule = "idle"
)

// Rules returns all rules, in the order in which they apply.
func Rules() []Rule {
	return []Rule{RuleNoSession, RuleHidden, RuleSet, RuleEngaged, RuleAwake, RuleIdle}
}

// Statuses returns the statuses to which a rule can lead: more than one if the person chooses.
func (r Rule) Statuses() []Status {
	switch r {
	case RuleSet:
		return []Status{Busy, Away}
	case RuleEngaged:
		return []Status{Busy}
	case RuleAwake:
		return []Status{Online}
	case RuleIdle:
		return []Status{Away}
	}
	return []Status{Offline}
}

// Explanation is the evidence for how a person is seen, or a person in a room, at an instant. It
// is made from the state alone.
type Explanation struct {
	User     UserID
	Room     RoomName // the room of the question, or empty
	Hidden   bool
	Shown    [viewCount]Appearance // by view
	Because  [viewCount]Rule       // by view
	Member   [viewCount]Member     // by view; without sessions if the person is not in the room, or there is no room
	Typing   bool
	Sessions []Evidence // those in the room, or all; oldest first
	All      int        // number of all sessions, because the status is of all of them
	Engaged  []Engagement
	Ask      *OpenAsk // about the room; nil: none
	Admit    int      // people in the room who could answer an ask
	Pass     int64    // for the room, until when; Unix milliseconds, 0: none
	Again    int64    // the same: after a refusal, when they may ask again
	Entry    Entry    // of the room; empty without a room
	Rules    []RuleTried
}

// RuleTried is a rule of the full view, and whether it applies to a person. The first that
// applies decides.
type RuleTried struct {
	Rule  Rule
	Holds bool
}

// Evidence is what the core knows about a session.
type Evidence struct {
	Session      SessionID
	User         UserID
	Kind         LinkKind // of its link; in grace, of its last link
	Opened       time.Time
	Link         LinkNumber
	State        State
	Reason       Reason    // in grace: the reason if it ends
	LostAt       time.Time // in grace: since when
	LastHeard    time.Time
	LastActivity time.Time
	Idle         bool
	NoInput      bool
	Leased       bool
	PageHidden   bool
	Device       Device
	Rooms        []RoomName
	// Next is what will happen to the session if nothing more is heard of it, in order of time.
	Next []Upcoming
}

// Upcoming is something that will happen at a time unless something is heard before.
type Upcoming struct {
	At   time.Time
	Act  Act
	Room RoomName // its room, or empty
}

// Explain says why a person is seen as they are; with a room, why they are or are not in it.
func (c *Core) Explain(at Instant, user UserID, room RoomName) Explanation {
	now := c.read(at)
	x := Explanation{User: user, Room: room}
	p := c.people.get(user)
	if p == nil {
		p = c.newPerson(user)
	}
	x.Hidden, x.All = p.hidden, p.sessions.count()
	x.Rules = []RuleTried{{RuleNoSession, x.All == 0}, {RuleSet, p.set != nil && p.set.Status != ""}, {RuleEngaged, p.engaged > 0}, {RuleAwake, p.awake > 0}, {RuleIdle, x.All > 0 && p.awake == 0}}
	for view := range viewCount {
		x.Shown[view], x.Because[view] = p.resolve(view)
	}
	x.Engaged = p.engagements()
	if room != "" {
		c.explainEntry(now, p, room, &x)
	}
	for _, m := range p.members.list() {
		if m.room.name == room {
			full := m.sight(Full)
			x.Member = [viewCount]Member{full.Member, m.sight(Open).Member}
			x.Typing = full.typing
		}
	}
	for _, s := range p.sessions.list() {
		if room == "" || s.entry(room) != nil {
			x.Sessions = append(x.Sessions, c.evidence(now, s))
		}
	}
	return x
}

// explainEntry says how a person stands with a room that asks.
func (c *Core) explainEntry(now reading, p *person, room RoomName, x *Explanation) {
	x.Entry, x.Admit = c.policyOf(room).Entry, c.admitting(room)
	if a := p.ask(room); a != nil {
		open := a.open(now)
		x.Ask = &open
	}
	is := p.standing(room)
	if is.pass > now.wall {
		x.Pass = is.pass
	}
	if is.again > now.wall {
		x.Again = is.again
	}
}

// Session describes a session to the holder of its resume key. It returns false for a wrong key
// as for an unknown session.
func (c *Core) Session(at Instant, session SessionID, key string) (Evidence, UserID, bool) {
	s := c.sessions.get(session)
	if s == nil || !s.key.is(key) {
		return Evidence{}, "", false
	}
	return c.evidence(c.read(at), s), s.person.id, true
}

func (c *Core) evidence(now reading, s *session) Evidence {
	wall := func(at awakeTime) time.Time {
		return stamp(now.wall).Add(at - now.awake)
	}
	e := Evidence{
		Session: s.id, User: s.person.id, Kind: s.kind, Opened: stamp(s.opened), Link: s.link, State: s.state,
		LastHeard: stamp(s.heardWall), LastActivity: wall(s.active),
		Idle: s.idle, NoInput: s.noInput, Leased: s.leased, PageHidden: s.pageHidden, Device: s.device,
		Rooms: s.rooms(),
	}
	if s.state == Grace {
		e.Reason, e.LostAt = s.reason, wall(s.lost)
	}
	c.deadlines(now, s, func(d deadline) {
		next := Upcoming{At: wall(d.at), Act: d.act}
		if d.entry != nil {
			next.Room = d.entry.room().name
		}
		e.Next = append(e.Next, next)
	})
	slices.SortStableFunc(e.Next, func(a, b Upcoming) int {
		if order := a.At.Compare(b.At); order != 0 {
			return order
		}
		return strings.Compare(string(a.Room), string(b.Room))
	})
	return e
}
