package presence

import "fmt"

// Quota limits what a realm uses. 0 means no limit.
type Quota struct {
	// People limits the people with a session.
	People int
	// Sessions limits the unended sessions.
	Sessions int
	// Cues limits the cues in a minute of the clock.
	Cues int
}

// QuotaName names a limit of a [Quota].
type QuotaName string

// The quotas.
const (
	QuotaPeople   QuotaName = "people"
	QuotaSessions QuotaName = "sessions"
	QuotaCues     QuotaName = "cues"
)

// QuotaUse is how much of a quota is used.
type QuotaUse struct {
	Quota QuotaName
	Used  int
	Limit int
}

// Near reports whether so much is used that operators are told.
func (u QuotaUse) Near() bool { return u.Limit > 0 && u.Used*100 >= u.Limit*nearPercent }

// calm reports whether so little is used that operators are to be told anew.
func (u QuotaUse) calm() bool { return u.Limit == 0 || u.Used*100 < u.Limit*calmPercent }

// A quota is near from the first percentage on, until less than the second is used: a use that goes up and down in
// between is told once.
const (
	nearPercent = 80
	calmPercent = 70
)

// quotas are what a core knows of the use of its quotas.
type quotas struct {
	told   map[QuotaName]toldUse
	minute int64 // in which cues were last given, in minutes since 1970
	cues   int   // in that minute
}

// toldUse is what operators were told of a quota.
type toldUse int

const (
	toldNothing toldUse = iota
	toldNear
	toldReached
)

const minuteOfClock = 60_000 // milliseconds

// use returns how much of a quota is used.
func (c *Core) use(name QuotaName, wall int64) QuotaUse {
	switch name {
	case QuotaPeople:
		return QuotaUse{name, c.present, c.policy.Quota.People}
	case QuotaSessions:
		return QuotaUse{name, c.sessions.count, c.policy.Quota.Sessions}
	}
	use := QuotaUse{name, c.quotas.cues, c.policy.Quota.Cues}
	if wall/minuteOfClock != c.quotas.minute {
		use.Used = 0
	}
	return use
}

// Quotas returns how much is used of the quotas that have a limit, at an instant.
func (c *Core) Quotas(at Instant) (uses []QuotaUse) {
	for _, name := range []QuotaName{QuotaPeople, QuotaSessions, QuotaCues} {
		if use := c.use(name, at.Wall.UnixMilli()); use.Limit > 0 {
			uses = append(uses, use)
		}
	}
	return uses
}

// within refuses what a quota has no room for. It says so to operators the first time.
func (c *Core) within(now reading, name QuotaName, out *Effects) error {
	use := c.use(name, now.wall)
	if use.Limit == 0 || use.Used < use.Limit {
		return nil
	}
	if c.quotas.told[name] < toldReached {
		c.quotas.tell(name, toldReached)
		out.add(QuotaReached{use})
	}
	allowed := atMost(use.Limit, "person")
	switch name {
	case QuotaSessions:
		allowed = atMost(use.Limit, "session")
	case QuotaCues:
		allowed = atMost(use.Limit, "cue") + " in a minute"
	}
	return &Refusal{Code: CodeQuotaReached, Field: string(name), Value: fmt.Sprint(use.Used), Allowed: allowed + ", in the whole realm"}
}

// uses notes that the use of a quota has changed.
func (c *Core) uses(now reading, name QuotaName, out *Effects) {
	if c.use(name, now.wall).calm() {
		delete(c.quotas.told, name)
	}
	c.nears(now, name, out)
}

// nears tells operators that a quota is near, unless they know.
func (c *Core) nears(now reading, name QuotaName, out *Effects) {
	if use := c.use(name, now.wall); use.Near() && c.quotas.told[name] == toldNothing {
		c.quotas.tell(name, toldNear)
		out.add(QuotaNear{use})
	}
}

func (q *quotas) tell(name QuotaName, what toldUse) {
	if q.told == nil {
		q.told = map[QuotaName]toldUse{}
	}
	q.told[name] = what
}

// mayOpen refuses a session of a person, nil if unknown, beyond a quota. A session that goes on is never refused, nor
// one that takes the place of another.
func (c *Core) mayOpen(now reading, p *person, out *Effects) error {
	if p != nil && p.sessions.count() > 0 {
		if c.policy.SecondSession != AllowSecond {
			return nil
		}
	} else if err := c.within(now, QuotaPeople, out); err != nil {
		return err
	}
	return c.within(now, QuotaSessions, out)
}

// sessionsChanged notes that sessions have opened or ended.
func (c *Core) sessionsChanged(now reading, out *Effects) {
	c.uses(now, QuotaPeople, out)
	c.uses(now, QuotaSessions, out)
}

// givesCue counts a cue, unless the quota has no room for it.
func (c *Core) givesCue(now reading, out *Effects) error {
	if minute := now.wall / minuteOfClock; minute != c.quotas.minute {
		last := QuotaUse{QuotaCues, c.quotas.cues, c.policy.Quota.Cues}
		if minute != c.quotas.minute+1 || last.calm() {
			delete(c.quotas.told, QuotaCues)
		}
		c.quotas.minute, c.quotas.cues = minute, 0
	}
	if err := c.within(now, QuotaCues, out); err != nil {
		return err
	}
	c.quotas.cues++
	out.add(CueGiven{})
	c.nears(now, QuotaCues, out)
	return nil
}
