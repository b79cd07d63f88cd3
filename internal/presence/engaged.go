package presence

import (
	"cmp"
	"maps"
	"slices"
	"time"
)

// A person is engaged while they are in a room whose policy says engages, as a call or a
// handover (docs/design.md §3, Inviting and being engaged). Others see them busy, unless the
// person has set another status.

// engage counts a membership that begins (by 1) or ends (by -1) in a room that engages.
func (m *member) engage(by int16) {
	if m.room.policy.Engages {
		m.person.engaged += by
	}
}

// Engagement is a room that engages a person, and since when they are in it.
type Engagement struct {
	Room  RoomName
	Since time.Time
}

// engagements returns the rooms that engage the person, by name.
func (p *person) engagements() (list []Engagement) {
	for _, m := range p.members.list() {
		if m.room.policy.Engages {
			list = append(list, Engagement{m.room.name, stamp(m.since[Full])})
		}
	}
	slices.SortFunc(list, func(a, b Engagement) int { return cmp.Compare(a.Room, b.Room) })
	return list
}

// mayEngage refuses a second room that engages. The sessions that staying accepts keep their
// rooms; a hello replaces those of the others.
func (c *Core) mayEngage(p *person, name RoomName, staying func(*session) bool) error {
	policy := c.policyOf(name)
	if p == nil || !policy.Engages {
		return nil
	}
	for _, m := range p.members.list() {
		if !m.room.policy.Engages || m.room.name == name || (policy.EngagesSeveral && m.room.policy.EngagesSeveral) {
			continue
		}
		if slices.ContainsFunc(m.entries.list(), func(e *entry) bool { return staying(e.session) }) {
			return engagedIn(name, m.room.name)
		}
	}
	return nil
}

// mayEngageTogether refuses rooms of one hello that engage and do not allow several.
func (c *Core) mayEngageTogether(rooms []RoomName) error {
	var first RoomName
	several := true
	for _, name := range rooms {
		policy := c.policyOf(name)
		switch {
		case !policy.Engages:
			continue
		case first != "" && !(several && policy.EngagesSeveral):
			return engagedIn(name, first)
		}
		first, several = name, several && policy.EngagesSeveral
	}
	return nil
}

func engagedIn(name, other RoomName) error {
	return &Refusal{Code: CodeEngaged, Field: "room", Value: string(name), Allowed: "one room at a time that engages; leave " + string(other) + " first"}
}

// policyOf returns the policy of a room, whether it exists or not.
func (c *Core) policyOf(name RoomName) *RoomPolicy {
	if r := c.rooms[name]; r != nil {
		return r.policy
	}
	return c.policy.For(name)
}

// setPolicies gives each room its policy. Where a room engages from now on, or no longer, others
// see its members change.
func (c *Core) setPolicies(out *Effects) {
	for _, name := range slices.Sorted(maps.Keys(c.rooms)) { // in a reproducible order
		r := c.rooms[name]
		before, policy := r.policy, c.policy.For(name)
		if before.Engages == policy.Engages {
			r.policy = policy
			continue
		}
		members := slices.Clone(r.members)
		slices.SortFunc(members, func(a, b *member) int { return cmp.Compare(a.person.id, b.person.id) })
		for _, m := range members {
			c.notice(m.person, cause{}, out, func() {
				r.policy = before
				m.engage(-1)
				r.policy = policy
				m.engage(1)
			})
		}
		r.policy = policy
	}
}
