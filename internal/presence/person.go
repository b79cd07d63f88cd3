package presence

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

// Profile is what a person's token says about them besides their id.
type Profile struct {
	Name    string // may be empty
	Picture string // URL of a picture; may be empty
}

// Status is what others see of a person.
type Status string

const (
	Online  Status = "online"  // has an active session
	Away    Status = "away"    // all sessions are idle; or set by the person
	Busy    Status = "busy"    // set by the person
	Offline Status = "offline" // has no unended session
)

// Appearance is how others see a person, apart from rooms. Note and Until are what the person has
// set; as something that is set, an empty Status follows the sessions.
type Appearance struct {
	Status Status
	Note   string
	Until  int64 // Unix milliseconds; 0: no end
	// Label is the application's own word for the status, from the policy.
	Label string
	// Engaged says that the status is Busy because the person is in a room that engages.
	Engaged bool
}

// person exists in the core while they have an unended session, or something that outlives
// sessions: a set status, hiding, a removal.
type person struct {
	id       UserID
	profile  Profile
	sessions few[session]
	members  few[member]
	awake    int32 // unended sessions that are not idle
	engaged  int16 // members in rooms that engage
	hidden   bool
	*extras
	indexed link[person]
}

func (p *person) name() UserID { return p.id }

func (p *person) chain() *link[person] { return &p.indexed }

// extras are what few people have. The others share the core's empty ones.
type extras struct {
	set       *setStatus
	removed   *removal
	standings *standings // nil: no pass, and free to ask
	asks      []*ask
	invited   []*invitation // received
	inviting  []*invitation // sent
}

func (c *Core) newPerson(user UserID) *person { return &person{id: user, extras: c.none} }

// ownExtras gives a person extras of their own, to be changed.
func (c *Core) ownExtras(p *person) *extras {
	if p.extras == c.none {
		p.extras = &extras{}
	}
	return p.extras
}

// shareExtras undoes ownExtras once there is nothing in them.
func (c *Core) shareExtras(p *person) {
	if x := p.extras; x.set == nil && x.removed == nil && x.standings == nil && len(x.asks)+len(x.invited)+len(x.inviting) == 0 {
		p.extras = c.none
	}
}

// setStatus is a status, or a note alone, that a person has set.
type setStatus struct {
	Appearance
	session SessionID // that it ends with; empty: none
	person  *person
	timer   timer
}

// removal refuses tokens issued until these times, in Unix milliseconds.
type removal struct {
	altogether int64
	rooms      map[RoomName]int64
}

// CheckPerson checks a user id and a profile. Its error is a [*Refusal] that names the field.
func (p *Policy) CheckPerson(user UserID, profile Profile) error {
	return cmp.Or(
		CheckUser(user),
		checkText(CodeBadProfile, "name", profile.Name, p.NameBytes, optional),
		checkText(CodeBadProfile, "picture", profile.Picture, p.PictureBytes, optional),
	)
}

// CheckUser checks a user id. Its error is a [*Refusal].
func CheckUser(user UserID) error {
	return checkText(CodeBadUser, "user", string(user), maxUserID, required)
}

// known returns the person, creating them if needed.
func (c *Core) known(user UserID) *person {
	p := c.people.get(user)
	if p == nil {
		p = c.newPerson(user)
		c.people.put(p)
	}
	return p
}

// forget deletes a person about whom nothing is left to know.
func (c *Core) forget(p *person) {
	if p.sessions.count()+len(p.invited)+len(p.inviting) == 0 && p.set == nil && !p.hidden && p.removed == nil && p.standings == nil {
		c.people.remove(p)
	}
}

// appearance returns a person's status. The first rule that applies decides (docs/design.md §3,
// Status):
//
//  1. no unended session: offline;
//  2. the person set busy or away: that;
//  3. engaged, by a room that says so: busy;
//  4. a session that is not idle: online;
//  5. otherwise away.
//
// A note goes with any status but offline.
func (p *person) appearance(view View) Appearance {
	appearance, _ := p.resolve(view)
	return appearance
}

func (p *person) resolve(view View) (Appearance, Rule) {
	switch {
	case p.sessions.count() == 0:
		return Appearance{Status: Offline}, RuleNoSession
	case view == Open && p.hidden:
		return Appearance{Status: Offline}, RuleHidden
	case p.set != nil && p.set.Status != "":
		return p.set.Appearance, RuleSet
	case p.engaged > 0:
		engaged := p.noted(Busy)
		engaged.Engaged = true
		return engaged, RuleEngaged
	case p.awake > 0:
		return p.noted(Online), RuleAwake
	}
	return p.noted(Away), RuleIdle
}

// noted adds the note that the person has set, and to Online its label.
func (p *person) noted(status Status) Appearance {
	if p.set == nil {
		return Appearance{Status: status}
	}
	noted := Appearance{Status: status, Note: p.set.Note, Until: p.set.Until}
	if status == Online {
		noted.Label = p.set.Label
	}
	return noted
}

// setStatus changes a set status. It is announced only if others see a difference; while the
// person is offline they do not.
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
	if labels, status := c.policy.labels(in.Status); in.Label != "" && !slices.Contains(labels, in.Label) {
		return &Refusal{Code: CodeBadStatus, Field: "label", Value: in.Label, Allowed: allowedLabels(labels, status)}
	}
	if s := c.sessions.get(in.Session); in.Session != "" && (s == nil || s.person.id != in.User) {
		return &Refusal{Code: CodeNoSession, Field: "session", Value: string(in.Session), Allowed: "a session of the person that has not ended"}
	}
	p := c.known(in.User)
	c.observe(p, cause{}, out, func() {
		c.clearStatus(p)
		if in.Status != "" || in.Note != "" || in.Label != "" {
			c.putStatus(now, p, Appearance{Status: in.Status, Note: in.Note, Until: in.Until, Label: in.Label}, in.Session)
		}
	})
	c.tellOwn(p, out)
	c.forget(p)
	return nil
}

// labels returns the policy's words for a status that is set; without one, for Online.
func (p *Policy) labels(status Status) ([]string, Status) {
	if status == "" {
		status = Online
	}
	return p.Labels[status], status
}

func allowedLabels(labels []string, status Status) string {
	if len(labels) == 0 {
		return "none: the policy has no labels for this status"
	}
	return strings.Join(labels, ", ") + ", for " + string(status)
}

// clearStatus removes what a person has set.
func (c *Core) clearStatus(p *person) {
	if p.set != nil {
		c.wheel.clear(&p.set.timer)
		p.set = nil
		c.shareExtras(p)
	}
}

// putStatus sets a status, which ends with the session if there is one.
func (c *Core) putStatus(now reading, p *person, status Appearance, session SessionID) {
	c.ownExtras(p).set = &setStatus{Appearance: status, session: session, person: p}
	p.set.timer.owner = p.set
	if status.Until != 0 {
		c.wheel.set(&p.set.timer, now.until(status.Until))
	}
}

// fire ends a set status when the wall clock reaches its end.
func (s *setStatus) fire(c *Core, now reading, out *Effects) {
	if now.wall < s.Until {
		c.wheel.set(&s.timer, now.until(s.Until))
		return
	}
	c.observe(s.person, cause{}, out, func() {
		s.person.set = nil
		c.shareExtras(s.person)
	})
	c.tellOwn(s.person, out)
	c.forget(s.person)
}

// hide hides a person in the open view, which sees a plain leave of every room; coming back is a
// plain join, with a new since. A hidden person takes no place in the open view, so a room may
// be full when they come back.
func (c *Core) hide(now reading, in Hide, out *Effects) error {
	p := c.known(in.User)
	defer c.forget(p)
	if p.hidden == in.Hidden {
		return nil
	}
	if !in.Hidden {
		for _, m := range p.members.list() {
			if !m.room.hasPlace() {
				return roomFull(m.room.name, m.room.policy)
			}
		}
	}
	c.observe(p, cause{reason: ReasonLeave, lastSeen: now.wall}, out, func() {
		p.hidden = in.Hidden
		for _, m := range p.members.list() {
			m.since[Open] = now.wall
		}
	})
	if in.Hidden { // who hides cannot ask or invite
		for _, a := range slices.Clone(p.asks) {
			c.closeAsk(now, a, Withdrawn, "", out)
		}
		c.closeInvitations(now, p.inviting, Withdrawn, out, func(*invitation) bool { return true })
	}
	c.tellOwn(p, out)
	return nil
}

// own returns what the person has set.
func (p *person) own() OwnChanged {
	own := OwnChanged{Hidden: p.hidden}
	if p.set != nil {
		own.Set = p.set.Appearance
	}
	return own
}

// tellOwn asks for all links of a person to be told what the person has set.
func (c *Core) tellOwn(p *person, out *Effects) {
	own := p.own()
	if own.Links = p.links(); own.Links != nil {
		out.add(own)
	}
}

// links returns the links of a person's sessions.
func (p *person) links() (links []LinkID) {
	for _, s := range p.sessions.list() {
		if s.state == Live && !s.leased {
			links = append(links, s.linkID())
		}
	}
	return links
}
