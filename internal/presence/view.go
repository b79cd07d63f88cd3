package presence

import (
	"slices"
	"time"
)

// View is a way to see rooms and people. The full view, for operators and back ends, has
// everybody. The open view has everybody who does not hide, and nothing in it depends on those
// who do (docs/design.md §3, Hiding).
type View uint8

const (
	Full View = iota
	Open
	viewCount
)

// Views is a set of views.
type Views uint8

// Has reports whether the set contains the view.
func (v Views) Has(view View) bool { return v&(1<<view) != 0 }

const (
	inFull Views = 1 << Full
	inOpen Views = 1 << Open
	inBoth       = inFull | inOpen
)

// Member is how a view sees a person in a room. Members with equal fields look the same to
// everybody.
type Member struct {
	User    UserID
	Profile Profile
	Appearance
	Since    time.Time // of the person, not of their oldest tab
	Sessions int       // in this room; 0 stands for no member
	Doing    string    // JSON of what they are doing here; empty: nothing
	Devices  Devices   // the kinds of their sessions here
}

// Count is the number of people and sessions in a room. A person with three tabs is one person
// and three sessions.
type Count struct {
	People, Sessions   int
	Online, Away, Busy Tally // the same by the status of the person
}

// Tally counts people and their sessions.
type Tally struct{ People, Sessions int }

// add adds a member (sign 1) or removes one (-1).
func (c *Count) add(m Member, sign int) {
	if m.Sessions == 0 {
		return
	}
	part := &c.Online
	switch m.Status {
	case Away:
		part = &c.Away
	case Busy:
		part = &c.Busy
	}
	c.People += sign
	c.Sessions += sign * m.Sessions
	part.People += sign
	part.Sessions += sign * m.Sessions
}

// CountOf returns the count of some members.
func CountOf(members []Member) (c Count) {
	for _, m := range members {
		c.add(m, 1)
	}
	return c
}

// sight is how one view sees a person in a room.
type sight struct {
	Member
	typing bool
}

// sight returns how a view sees the member now.
func (m *member) sight(view View) sight {
	p := m.person
	seen := sight{Member: Member{User: p.id, Profile: p.profile, Appearance: p.appearance(view)}}
	if view == Open && p.hidden {
		return seen
	}
	seen.Since, seen.Sessions = stamp(m.since[view]), m.entries.count()
	for _, e := range m.entries.list() {
		seen.typing = seen.typing || e.types()
		seen.Devices |= e.session.device.set()
	}
	if m.doing != nil {
		seen.Doing = m.doing.shown
	}
	return seen
}

// sights returns how each view sees the member now. For most people both views see the same.
func (m *member) sights() [viewCount]sight {
	full := m.sight(Full)
	open := full
	switch {
	case m.person.hidden:
		open = m.sight(Open)
	case m.since[Open] != m.since[Full]:
		open.Since = stamp(m.since[Open])
	}
	return [viewCount]sight{full, open}
}

// seenMember is a member with how the views saw it before a change.
type seenMember struct {
	member *member
	before [viewCount]sight
}

// cause is what is told about a change: of a leave why, and when the person was last seen; and
// which session came or went.
type cause struct {
	reason   Reason
	lastSeen int64
	session  SessionID
}

// observe calls act, which may change anything about one person, and then tells what each view
// sees differently, room by room and of the person. Everything that others see, and every count,
// is made here; so nothing is told that nobody can see, and nothing is counted that is not seen.
// Act must not call observe.
func (c *Core) observe(p *person, why cause, out *Effects, act func()) {
	out.touch(p)
	c.notice(p, why, out, act)
}

// notice is observe for changes that need not be saved.
func (c *Core) notice(p *person, why cause, out *Effects, act func()) {
	if c.looked++; c.looked == 0 { // that of a member nobody has looked at
		c.looked++
	}
	seen := c.seen[:0]
	for _, m := range p.members.list() {
		m.looked = c.looked
		seen = append(seen, seenMember{m, m.sights()})
	}
	before := [viewCount]Appearance{p.appearance(Full), p.appearance(Open)}
	act()
	for _, s := range seen {
		c.tell(s.member, s.before, why, out)
	}
	for _, m := range p.members.list() {
		if m.looked != c.looked {
			c.tell(m, [viewCount]sight{}, why, out)
		}
	}
	c.tellPerson(p, before, why, out)
	clear(seen)
	c.seen = seen
}

// tell compares how a member was seen with how it is seen now, updates the counts, and tells
// both views at once if they see the same.
func (c *Core) tell(m *member, before [viewCount]sight, why cause, out *Effects) {
	r := m.room
	after := m.sights()
	if before == after {
		return
	}
	for view, was := range before {
		r.counts[view].add(was.Member, -1)
		r.counts[view].add(after[view].Member, 1)
		if was.typing != after[view].typing {
			r.type_(View(view), m.person.id, after[view].typing)
		}
	}
	changed := func(view View) bool {
		was, is := before[view].Member, after[view].Member
		return was != is && (was.Sessions > 0 || is.Sessions > 0)
	}
	say := func(views Views, view View) {
		effect := MemberChanged{Views: views, Room: r.name, Engages: r.policy.Engages, Before: before[view].Member, After: after[view].Member, Session: why.session}
		if effect.After.Sessions < effect.Before.Sessions {
			effect.Reason = why.reason
		}
		if effect.After.Sessions == 0 {
			effect.LastSeen = why.lastSeen
		}
		out.add(effect)
	}
	switch same := before[Full].Member == before[Open].Member && after[Full].Member == after[Open].Member; {
	case same && changed(Full):
		say(inBoth, Full)
	case !same:
		if changed(Full) {
			say(inFull, Full)
		}
		if changed(Open) {
			say(inOpen, Open)
		}
	}
	var views Views
	for view := range before {
		if before[view].typing != after[view].typing {
			views |= 1 << view
		}
	}
	if views != 0 {
		// A hidden person never types in the open view, so if both views change, they change
		// alike.
		view := Full
		if views == inOpen {
			view = Open
		}
		out.add(TypingChanged{Views: views, Room: r.name, User: m.person.id, On: after[view].typing, Expired: why.reason == ReasonSilent})
	}
}

func (c *Core) tellPerson(p *person, before [viewCount]Appearance, why cause, out *Effects) {
	after := [viewCount]Appearance{p.appearance(Full), p.appearance(Open)}
	say := func(views Views, view View) {
		effect := PersonChanged{Views: views, User: p.id, Profile: p.profile, Before: before[view], After: after[view]}
		if effect.After.Status == Offline {
			effect.LastSeen = why.lastSeen
		}
		out.add(effect)
	}
	full, open := before[Full] != after[Full], before[Open] != after[Open]
	switch {
	case full && open && before[Full] == before[Open] && after[Full] == after[Open]:
		say(inBoth, Full)
	default:
		if full {
			say(inFull, Full)
		}
		if open {
			say(inOpen, Open)
		}
	}
}

// type_ keeps the typists of a view, in the order in which they began.
func (r *room) type_(view View, user UserID, on bool) {
	if on {
		r.typists[view] = append(r.typists[view], user)
		return
	}
	if i := slices.Index(r.typists[view], user); i >= 0 {
		r.typists[view] = slices.Delete(r.typists[view], i, i+1)
	}
}
