package presence

import "time"

// saveDoingEvery is how often what a member is doing is saved at most.
const saveDoingEvery = 5 * time.Second

// doing is what a member is doing in a room (docs/design.md §3, Doing). Each session has its own
// object or none; others see that of the session that set one last and is still there. They see
// a change at most once per DoingEvery of the room's policy; of several changes in between they
// see the last.
type doing struct {
	member  *member
	shown   string    // what others see
	changed awakeTime // when they saw the last change
	saved   awakeTime // when the person was last marked for saving because of it
	unsaved bool
	reports uint64 // counts what the sessions have set
	timer   timer
}

// done is what a session is doing in a room.
type done struct {
	object string // JSON, empty for none
	order  uint64 // by the member's count of reports
	number uint64 // of the last report over the current link
}

// does applies one report of what a session is doing in a room.
func (c *Core) does(now reading, s *session, in Doing, out *Effects) (Reply, error) {
	e := s.entry(in.Room)
	if e == nil {
		return Reply{}, notInRoom("room", in.Room)
	}
	if err := c.mayDo(in.Room, "data", in.Object); err != nil {
		return Reply{}, err
	}
	if e.doing == nil {
		e.doing = &done{}
	}
	if in.Number != 0 && in.Number <= e.doing.number {
		return Reply{Stale: true}, nil
	}
	e.doing.number = max(e.doing.number, in.Number)
	c.doesNow(now, e, in.Object, out)
	return Reply{}, nil
}

// mayDo checks the size of what somebody is doing in a room.
func (c *Core) mayDo(room RoomName, field, object string) error {
	if most := c.policyOf(room).DoingBytes; len(object) > most {
		return &Refusal{Code: CodeBadDoing, Field: field, Value: object[:min(len(object), 64)], Allowed: atMost(most, "byte") + " of JSON"}
	}
	return nil
}

// doesNow notes what a session is doing in a room.
func (c *Core) doesNow(now reading, e *entry, object string, out *Effects) {
	if e.doing == nil {
		e.doing = &done{}
	}
	if e.doing.object == object && object == "" {
		return
	}
	d := c.doingOf(now, e.member)
	d.reports++
	e.doing.object, e.doing.order = object, d.reports
	c.notice(e.session.person, cause{}, out, func() { d.refresh(c, now) })
	d.unsaved = true
	d.save(now, out)
	d.arm(c)
}

// doingOf returns the doing of a member, creating it if needed.
func (c *Core) doingOf(now reading, m *member) *doing {
	if m.doing == nil {
		m.doing = &doing{member: m, changed: now.awake - m.room.policy.DoingEvery, saved: now.awake - saveDoingEvery}
		m.doing.timer.owner = m.doing
	}
	return m.doing
}

// newest returns the object that a session has set last, of those that are still there.
func (m *member) newest() (object string) {
	order := uint64(0)
	for _, e := range m.entries.list() {
		if e.doing != nil && e.doing.object != "" && e.doing.order > order {
			object, order = e.doing.object, e.doing.order
		}
	}
	return object
}

// refresh lets others see the newest object, if they may see another one already. The caller
// observes the person.
func (d *doing) refresh(c *Core, now reading) {
	newest := d.member.newest()
	if newest != d.shown && now.awake >= d.changed+d.member.room.policy.DoingEvery {
		d.shown, d.changed = newest, now.awake
	}
}

func (d *doing) save(now reading, out *Effects) {
	if d.unsaved && now.awake >= d.saved+saveDoingEvery {
		d.unsaved, d.saved = false, now.awake
		out.touch(d.member.person)
	}
}

func (d *doing) arm(c *Core) {
	at := never
	if d.member.newest() != d.shown {
		at = d.changed + d.member.room.policy.DoingEvery
	}
	if d.unsaved {
		at = min(at, d.saved+saveDoingEvery)
	}
	if at != never {
		c.wheel.set(&d.timer, at)
	}
}

// fire shows and saves what is due.
func (d *doing) fire(c *Core, now reading, out *Effects) {
	c.notice(d.member.person, cause{}, out, func() { d.refresh(c, now) })
	d.save(now, out)
	d.arm(c)
}
