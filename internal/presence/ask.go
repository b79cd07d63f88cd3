package presence

import (
	"fmt"
	"slices"
)

// AskID is the id of an ask, made by the service.
type AskID string

// Outcome says how an ask or an invitation ended.
type Outcome string

// The outcomes.
const (
	Admitted  Outcome = "admitted"  // of an ask
	Refused   Outcome = "refused"   // of an ask
	Accepted  Outcome = "accepted"  // of an invitation
	Declined  Outcome = "declined"  // of an invitation
	Withdrawn Outcome = "withdrawn" // by the one who asked or invited, or because they may no longer
	Expired   Outcome = "expired"   // nobody answered in time
	Gone      Outcome = "gone"      // the session that asked or invited has ended
)

// Outcomes returns all outcomes.
func Outcomes() []Outcome {
	return []Outcome{Admitted, Refused, Accepted, Declined, Withdrawn, Expired, Gone}
}

// ask is a person who asks to be let into a room (docs/design.md §3, Asking to be let in): one
// for all their sessions that ask. It ends with an answer, with the last of these sessions, or
// when nobody answers in time.
type ask struct {
	id       AskID
	room     RoomName
	person   *person
	sessions []*session
	opened   int64 // Unix milliseconds
	until    awakeTime
	ends     wallTime // the same
	timer    timer
}

// OpenAsk is an ask that waits for an answer.
type OpenAsk struct {
	Ask     AskID
	Room    RoomName
	User    UserID
	Profile Profile
	Since   int64 // Unix milliseconds
	Until   int64 // the same: when it expires
}

// ask returns the open ask of the person about a room, or nil.
func (p *person) ask(room RoomName) *ask {
	if p != nil {
		for _, a := range p.asks {
			if a.room == room {
				return a
			}
		}
	}
	return nil
}

// asking returns how many rooms a session asks about.
func (s *session) asking() (n int) {
	for _, a := range s.person.asks {
		if slices.Contains(a.sessions, s) {
			n++
		}
	}
	return n
}

// mustAsk reports whether a person has to ask to be let into a room: its policy says so, they
// have no pass, and may not admit others. An error says that they may not even ask.
func (c *Core) mustAsk(now reading, p *person, admits []Pattern, name RoomName) (bool, error) {
	if c.policyOf(name).Entry != EntryAsk || matches(admits, name) {
		return false, nil
	}
	is := p.standing(name)
	switch {
	case is.pass > now.wall:
		return false, nil
	case p != nil && p.hidden:
		return false, hiding("join")
	case is.again > now.wall:
		return false, &Refusal{Code: CodeAskedBefore, Field: "room", Value: string(name),
			Allowed: "another ask from " + stamp(is.again).Format(timeFormat) + " on, because the last one was refused"}
	}
	return true, nil
}

// openAsk lets a session ask to be let into a room.
func (c *Core) openAsk(now reading, s *session, name RoomName, id AskID, out *Effects) {
	p := s.person
	out.touch(p)
	if a := p.ask(name); a != nil {
		if !slices.Contains(a.sessions, s) {
			a.sessions = append(a.sessions, s)
		}
		return
	}
	first := id
	for n := 2; c.asks[id] != nil; n++ { // of an earlier room of the same hello
		id = AskID(fmt.Sprintf("%s-%d", first, n))
	}
	a := &ask{id: id, room: name, person: p, sessions: []*session{s}, opened: now.wall}
	a.until, a.ends = now.in(c.policyOf(name).AskWaits)
	c.holdAsk(a)
	out.add(AskOpened{OpenAsk: a.open(now)})
}

func (c *Core) holdAsk(a *ask) {
	a.timer.owner = a
	c.wheel.set(&a.timer, a.until)
	c.asks[a.id] = a
	c.asked[a.room] = append(c.asked[a.room], a)
	c.ownExtras(a.person)
	a.person.asks = append(a.person.asks, a)
}

func (a *ask) open(now reading) OpenAsk {
	return OpenAsk{Ask: a.id, Room: a.room, User: a.person.id, Profile: a.person.profile, Since: a.opened,
		Until: a.ends.at(now)}
}

// closeAsk ends an ask with an outcome. By is who answered, or empty.
func (c *Core) closeAsk(now reading, a *ask, outcome Outcome, by UserID, out *Effects) {
	c.wheel.clear(&a.timer)
	delete(c.asks, a.id)
	if c.asked[a.room] = without(c.asked[a.room], a); len(c.asked[a.room]) == 0 {
		delete(c.asked, a.room)
	}
	a.person.asks = without(a.person.asks, a)
	c.shareExtras(a.person)
	c.past.note(string(a.id), a.room, outcome)
	out.touch(a.person)
	answered := AskAnswered{OpenAsk: a.open(now), Outcome: outcome, By: by}
	if outcome == Refused {
		answered.Again = a.person.standing(a.room).again
	}
	for _, s := range a.sessions {
		if s.state == Live && !s.leased && c.unended(s) {
			answered.Links = append(answered.Links, s.linkID())
		}
	}
	out.add(answered)
}

// withdrawAsk takes a session out of an ask, which ends with its last session.
func (c *Core) withdrawAsk(now reading, a *ask, s *session, outcome Outcome, out *Effects) {
	if !slices.Contains(a.sessions, s) {
		return
	}
	if len(a.sessions) == 1 {
		c.closeAsk(now, a, outcome, "", out)
		return
	}
	a.sessions = without(a.sessions, s)
	out.touch(a.person)
}

// withdrawAsks withdraws the asks of a session about rooms that no longer concern it.
func (c *Core) withdrawAsks(now reading, s *session, outcome Outcome, out *Effects, over func(RoomName) bool) {
	for _, a := range slices.Clone(s.person.asks) {
		if over(a.room) {
			c.withdrawAsk(now, a, s, outcome, out)
		}
	}
}

// fire ends an ask that nobody answered.
func (a *ask) fire(c *Core, now reading, out *Effects) { c.closeAsk(now, a, Expired, "", out) }

// answerAsk applies the answer of a member who may admit. To everybody else the ask is unknown.
func (c *Core) answerAsk(now reading, s *session, in AnswerAsk, out *Effects) error {
	a := c.asks[in.Ask]
	switch {
	case a != nil && s.mayAdmit(a.room):
	case a == nil && s.mayAdmit(c.past.room(string(in.Ask))):
		return c.past.over(CodeNoAsk, "ask", string(in.Ask))
	default:
		return unknown(CodeNoAsk, "ask", string(in.Ask), "the id of an ask that you may answer")
	}
	if s.person.hidden {
		return hiding("admit")
	}
	return c.decide(now, a, in.Admit, s.person.id, out)
}

// decideAsk applies the answer of the back end.
func (c *Core) decideAsk(now reading, in DecideAsk, out *Effects) error {
	a := c.asks[in.Ask]
	if a == nil {
		return c.past.over(CodeNoAsk, "ask", string(in.Ask))
	}
	return c.decide(now, a, in.Admit, "", out)
}

// decide admits the person of an ask, or refuses them. Admitted, the sessions that asked are in
// the room at once, and the person has a pass.
func (c *Core) decide(now reading, a *ask, admit bool, by UserID, out *Effects) error {
	policy := c.policyOf(a.room)
	if !admit {
		c.setStanding(now, a.person, a.room, standing{again: now.wall + policy.AskAgain.Milliseconds()})
		c.closeAsk(now, a, Refused, by, out)
		return nil
	}
	if err := c.hasRoomFor(a.person, a.room); err != nil {
		return err
	}
	c.setStanding(now, a.person, a.room, standing{pass: now.wall + policy.AskPass.Milliseconds()})
	c.admit(now, a, by, out)
	return nil
}

// admit lets the sessions of an ask in. One that is in its grace comes in when its client
// returns. By is empty if the person has got a pass in another way.
func (c *Core) admit(now reading, a *ask, by UserID, out *Effects) {
	c.closeAsk(now, a, Admitted, by, out)
	c.observe(a.person, cause{}, out, func() {
		for _, s := range a.sessions {
			if s.state == Live {
				c.enter(now, s, a.room)
			}
		}
	})
}

// hasRoomFor reports whether a person could be in a room: it has a place for them, and nothing
// else engages them.
func (c *Core) hasRoomFor(p *person, name RoomName) error {
	if err := c.mayEngage(p, name, func(*session) bool { return true }); err != nil {
		return err
	}
	r := c.rooms[name]
	if r == nil || p.member(r) != nil || p.hidden || r.hasPlace() {
		return nil
	}
	return roomFull(name, r.policy)
}

// mayAdmit reports whether a session may let others into a room: its token allows that, and it
// is there.
func (s *session) mayAdmit(name RoomName) bool {
	return name != "" && matches(s.admits(), name) && s.entry(name) != nil
}

// LetsWatch reports whether a person may watch a room as far as its entry is concerned, with a
// token that admits others to some rooms. To watch a room needs what joining it needs; its count
// may be open to anyone.
func (c *Core) LetsWatch(at Instant, user UserID, admits []Pattern, room RoomName, countOnly bool) bool {
	now := c.read(at)
	if countOnly && c.policyOf(room).WatchCount == CountAnyone {
		return true
	}
	p := c.people.get(user)
	if r := c.rooms[room]; r != nil && p.member(r) != nil {
		return true
	}
	return c.policyOf(room).Entry != EntryAsk || matches(admits, room) || p.standing(room).pass > now.wall
}

// Asks returns the open asks of a room, the oldest first.
func (c *Core) Asks(at Instant, room RoomName) []OpenAsk {
	now := c.read(at)
	list := make([]OpenAsk, len(c.asked[room]))
	for i, a := range c.asked[room] {
		list[i] = a.open(now)
	}
	return list
}

// AllAsks returns the open asks of the realm, the oldest first.
func (c *Core) AllAsks(at Instant) []OpenAsk {
	now := c.read(at)
	list := make([]OpenAsk, 0, len(c.asks))
	for _, a := range c.asks {
		list = append(list, a.open(now))
	}
	slices.SortFunc(list, func(a, b OpenAsk) int { return compareOpened(a.Since, b.Since, string(a.Ask), string(b.Ask)) })
	return list
}

// admitting returns how many people in a room could answer its asks, in the full view.
func (c *Core) admitting(name RoomName) (people int) {
	r := c.rooms[name]
	if r == nil {
		return 0
	}
	for _, m := range r.members {
		if slices.ContainsFunc(m.entries.list(), func(e *entry) bool { return e.session.mayAdmit(name) }) {
			people++
		}
	}
	return people
}

func matches(patterns []Pattern, room RoomName) bool {
	return slices.ContainsFunc(patterns, func(p Pattern) bool { return p.Match(room) })
}

func hiding(act string) error {
	return &Refusal{Code: CodeHiding, Field: "type", Value: act, Allowed: "hide with on: false first"}
}

func unknown(code Code, field, value, allowed string) error {
	return &Refusal{Code: code, Field: field, Value: value, Allowed: allowed}
}
