package presence

import (
	"cmp"
	"time"
)

// Profile is what a person's token says of them besides their id.
type Profile struct {
	Name    string // may be empty
	Picture string // the address of a picture, may be empty
}

// Status is what others see of a person.
type Status string

const (
	Online  Status = "online"  // has a session at which somebody is awake
	Away    Status = "away"    // has sessions, all of them idle; or says so
	Busy    Status = "busy"    // says so
	Offline Status = "offline" // has no unended session
)

// Appearance is what others see of a person as such. Note and Until go with a set
// status.
type Appearance struct {
	Status Status
	Note   string
	Until  int64 // Unix milliseconds; 0 stands for no end
}

// person is known to the core while they have an unended session, or something
// that outlives sessions: a set status, that they hide, that they were removed.
type person struct {
	id       UserID
	profile  Profile
	sessions []*session
	members  []*member
	awake    int // unended sessions that are not idle
	set      *setStatus
	hidden   bool
	removed  *removal
}

// setStatus is a status that a person has set, until its end.
type setStatus struct {
	Appearance
	person *person
	timer  timer
}

// removal is what tokens are refused for: those issued up to these times, in Unix
// milliseconds.
type removal struct {
	altogether int64
	rooms      map[RoomName]int64
}

// CheckPerson tells whether a person can be known by this id and profile. Its
// error is a [*Refusal] that names the field.
func (p *Policy) CheckPerson(user UserID, profile Profile) error {
	return cmp.Or(
		CheckUser(user),
		checkText(CodeBadProfile, "name", profile.Name, p.NameBytes, optional),
		checkText(CodeBadProfile, "picture", profile.Picture, p.PictureBytes, optional),
	)
}

// CheckUser tells whether somebody can be known by this id. Its error is a
// [*Refusal].
func CheckUser(user UserID) error {
	return checkText(CodeBadUser, "user", string(user), maxUserID, required)
}

// known returns the person, who from now on is known until forgotten.
func (c *Core) known(user UserID) *person {
	p := c.people[user]
	if p == nil {
		p = &person{id: user}
		c.people[user] = p
	}
	return p
}

// forget lets a person go of whom there is nothing left to know.
func (c *Core) forget(p *person) {
	if len(p.sessions) == 0 && p.set == nil && !p.hidden && p.removed == nil {
		delete(c.people, p.id)
	}
}

// appearance resolves a person's status; the first that applies wins (DESIGN.md
// §3, Status).
//
//  1. no unended session: offline;
//  2. the person set busy or away: that;
//  3. a session that is not idle: online;
//  4. else away.
func (p *person) appearance(view View) Appearance {
	appearance, _ := p.resolve(view)
	return appearance
}

func (p *person) resolve(view View) (Appearance, Rule) {
	switch {
	case len(p.sessions) == 0:
		return Appearance{Status: Offline}, RuleNoSession
	case view == Open && p.hidden:
		return Appearance{Status: Offline}, RuleHidden
	case p.set != nil:
		return p.set.Appearance, RuleSet
	case p.awake > 0:
		return Appearance{Status: Online}, RuleAwake
	}
	return Appearance{Status: Away}, RuleIdle
}

// setStatus changes a set status. It is announced only if what others see
// changes; that of somebody offline waits for their return.
func (c *Core) setStatus(now reading, in SetStatus, out *Effects) error {
	if in.Status != "" && in.Status != Busy && in.Status != Away {
		return &Refusal{Code: CodeBadStatus, Field: "status", Value: string(in.Status), Allowed: "busy, away, or empty to follow the sessions"}
	}
	if err := checkText(CodeBadNote, "note", in.Note, maxNoteBytes, optional); err != nil {
		return err
	}
	if in.Until != 0 && in.Until <= now.wall {
		return &Refusal{Code: CodeBadStatus, Field: "until", Value: stamp(in.Until).Format(time.RFC3339), Allowed: "a time in the future"}
	}
	p := c.known(in.User)
	c.observe(p, leaving{}, out, func() {
		if p.set != nil {
			c.wheel.clear(&p.set.timer)
			p.set = nil
		}
		if in.Status != "" {
			c.putStatus(now, p, Appearance{Status: in.Status, Note: in.Note, Until: in.Until})
		}
	})
	c.tellOwn(p, out)
	c.forget(p)
	return nil
}

func (c *Core) putStatus(now reading, p *person, status Appearance) {
	p.set = &setStatus{Appearance: status, person: p}
	p.set.timer.owner = p.set
	if status.Until != 0 {
		c.wheel.set(&p.set.timer, now.until(status.Until))
	}
}

// fire ends a set status whose time has come by the wall clock.
func (s *setStatus) fire(c *Core, now reading, out *Effects) {
	if now.wall < s.Until {
		c.wheel.set(&s.timer, now.until(s.Until))
		return
	}
	c.observe(s.person, leaving{}, out, func() { s.person.set = nil })
	c.tellOwn(s.person, out)
	c.forget(s.person)
}

// hide takes a person out of the open view: there it is a plain leave of every
// room, and the return a plain join, with a since of its own. Who hides takes no
// place there, so a room may be full when they want to return.
func (c *Core) hide(now reading, in Hide, out *Effects) error {
	p := c.known(in.User)
	defer c.forget(p)
	if p.hidden == in.Hidden {
		return nil
	}
	if !in.Hidden {
		for _, m := range p.members {
			if !m.room.hasPlace() {
				return roomFull(m.room.name, m.room.policy)
			}
		}
	}
	c.observe(p, leaving{ReasonLeave, now.wall}, out, func() {
		p.hidden = in.Hidden
		for _, m := range p.members {
			m.since[Open] = now.wall
		}
	})
	c.tellOwn(p, out)
	return nil
}

// tellOwn has all links of a person told what the person has set.
func (c *Core) tellOwn(p *person, out *Effects) {
	own := OwnChanged{Hidden: p.hidden}
	if p.set != nil {
		own.Set = p.set.Appearance
	}
	for _, s := range p.sessions {
		if s.state == Live && !s.leased {
			own.Links = append(own.Links, s.linkID())
		}
	}
	if own.Links != nil {
		out.add(own)
	}
}
