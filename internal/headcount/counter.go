package headcount

import "tovik.example/tovik/internal/presence"

// Counter counts the people and sessions in the rooms of a realm, in the full view. It is not
// safe for concurrent use.
type Counter struct {
	realm    string
	heads    map[presence.RoomName]*head // the realm's own under no name
	began    int64                       // Unix milliseconds
	minute   int64                       // that the heads count, the same
	anchored bool                        // the heads have a row of this run
	before   map[presence.RoomName]Row   // of the first minute, by the run before
}

// NewCounter returns a counter that begins at a time, in Unix milliseconds, with an empty realm.
func NewCounter(realm string, at int64) *Counter {
	c := &Counter{realm: realm, heads: map[presence.RoomName]*head{}, began: at, minute: Minute.Begin(at)}
	c.head("")
	return c
}

// Minute returns the minute that is counted, in Unix milliseconds.
func (c *Counter) Minute() int64 { return c.minute }

// Continue adds what an earlier run of the service counted in the present minute.
func (c *Counter) Continue(rows []Row) {
	c.before = make(map[presence.RoomName]Row, len(rows))
	for _, row := range rows {
		c.before[row.Room] = row
	}
}

// Take counts an effect at a time in Unix milliseconds. Call Roll first if a minute has ended
// since. If restored is true the effect counts as if it had happened before the minute began.
func (c *Counter) Take(at int64, effect presence.Effect, restored bool) {
	switch e := effect.(type) {
	case presence.MemberChanged:
		if e.Views.Has(presence.Full) {
			c.change(at, c.head(e.Room), restored, e.After.User, sign(e.After.Sessions)-sign(e.Before.Sessions), e.After.Sessions-e.Before.Sessions)
		}
	case presence.PersonChanged:
		before, after := e.Before.Status != presence.Offline, e.After.Status != presence.Offline
		if e.Views.Has(presence.Full) && before != after {
			people := 1
			if before {
				people = -1
			}
			c.change(at, c.head(""), restored, e.User, people, 0)
		}
	case presence.SessionRestored:
		c.change(at, c.head(""), restored, "", 0, 1)
		c.linked(1-is(e.Lost), restored)
	case presence.SessionOpened:
		c.change(at, c.head(""), restored, "", 0, 1)
		c.linked(1, restored)
	case presence.SessionInGrace:
		c.linked(is(e.Again)-1, restored)
	case presence.SessionResumed:
		c.linked(is(e.Lost), restored)
	case presence.SessionEnded:
		c.change(at, c.head(""), restored, "", 0, -1)
		c.linked(is(e.Lost)-1, restored)
	case presence.CueGiven:
		c.head("").row.Cues++
		c.head("").changed = true
	}
}

// linked counts so many more links of the realm.
func (c *Counter) linked(more int, restored bool) {
	h := c.head("")
	if h.links += more; restored || h.links > h.row.LinksMax {
		h.row.LinksMax = h.links
	}
	h.changed = h.changed || more != 0
}

func is(yes bool) int {
	if yes {
		return 1
	}
	return 0
}

func sign(n int) int { return min(n, 1) }

// change counts so many more people and sessions.
func (c *Counter) change(at int64, h *head, restored bool, user presence.UserID, people, sessions int) {
	h.advance(at)
	h.people += people
	h.sessions += sessions
	if restored {
		h.begin(c.realm, h.row.Room, c.minute, max(c.began, c.minute))
		h.changed = true
		return
	}
	h.note(at, user, people)
}

// head returns the counter of a room.
func (c *Counter) head(room presence.RoomName) *head {
	h := c.heads[room]
	if h == nil {
		h = &head{}
		h.begin(c.realm, room, c.minute, max(c.began, c.minute)) // nobody was there before
		c.heads[room] = h
	}
	return h
}

// Roll ends the minutes up to a time. It calls keep with the rows of minutes with changes, and
// of those that others are filled in from.
func (c *Counter) Roll(at int64, keep func(Row)) {
	minute := Minute.Begin(at)
	if minute <= c.minute {
		return
	}
	anchor := !c.anchored || c.minute%int64(Hour) == 0 || Hour.Begin(minute) != Hour.Begin(c.minute)
	over := c.minute + int64(Minute)
	for room, h := range c.heads {
		h.advance(over)
		if h.changed || anchor {
			keep(c.whole(h))
		}
		if room != "" && h.people == 0 && h.sessions == 0 {
			delete(c.heads, room)
			continue
		}
		h.begin(c.realm, room, minute, minute)
	}
	c.anchored, c.before = true, nil
	c.minute = minute
}

// SoFar calls keep with the rows of the present minute up to a time.
func (c *Counter) SoFar(at int64, keep func(Row)) {
	for _, h := range c.heads {
		h.advance(at)
		if h.changed || !c.anchored {
			keep(c.whole(h))
		}
	}
}

// whole returns the row of the present minute, including what an earlier run counted in it.
func (c *Counter) whole(h *head) Row {
	row := h.closed()
	if before, ok := c.before[row.Room]; ok && before.At == row.At {
		before.Add(&row)
		return before
	}
	return row
}

// head counts those in a room.
type head struct {
	people, sessions int
	links            int // sessions with a link; only of the realm
	row              Row
	upTo             int64 // that the sums of row reach
	changed          bool
	start            int                          // how many people the minute began with
	came             map[presence.UserID]struct{} // of those who were not there then
	went             map[presence.UserID]struct{} // of those who were
}

// begin starts a minute, of which only the part after from is counted.
func (h *head) begin(realm string, room presence.RoomName, minute, from int64) {
	p, s := h.people, h.sessions
	h.row = Row{Realm: realm, Room: room, Step: Minute, At: minute, PeopleMin: p, PeopleMax: p, SessionsMin: s, SessionsMax: s, Peak: from, LinksMax: h.links}
	h.upTo, h.start, h.changed = from, p, false
	h.came, h.went = nil, nil
}

// advance lets time pass without a change.
func (h *head) advance(at int64) {
	if d := at - h.upTo; d > 0 {
		h.row.PeopleTime += int64(h.people) * d
		h.row.SessionsTime += int64(h.sessions) * d
		h.row.Span += d
		h.upTo = at
	}
}

// note counts a change. People is 1 if the person came, -1 if they left, otherwise 0.
func (h *head) note(at int64, user presence.UserID, people int) {
	h.changed = true
	p, s := h.people, h.sessions
	if p > h.row.PeopleMax {
		h.row.PeopleMax, h.row.Peak = p, at
	}
	h.row.PeopleMin = min(h.row.PeopleMin, p)
	h.row.SessionsMin, h.row.SessionsMax = min(h.row.SessionsMin, s), max(h.row.SessionsMax, s)
	switch _, here := h.came[user]; {
	case people > 0:
		h.row.Joins++
		if _, was := h.went[user]; !was {
			h.came = put(h.came, user)
		}
	case people < 0:
		h.row.Leaves++
		if !here {
			h.went = put(h.went, user)
		}
	}
}

func put(set map[presence.UserID]struct{}, user presence.UserID) map[presence.UserID]struct{} {
	if set == nil {
		set = map[presence.UserID]struct{}{}
	}
	set[user] = struct{}{}
	return set
}

// closed returns the row as of now.
func (h *head) closed() Row {
	row := h.row
	row.PeopleClose, row.SessionsClose, row.LinksClose = h.people, h.sessions, h.links
	row.Visitors = h.start + len(h.came)
	return row
}
