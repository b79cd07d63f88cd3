package nodes

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/presence"
)

// gate is the room into which people must be let.
const gate presence.RoomName = "gate.lower-lock"

// policy is the default policy, with a gate and shorter waits.
func policy() presence.Policy {
	p := presence.DefaultPolicy()
	room := p.RoomPolicy
	room.Entry, room.AskWaits, room.AskAgain = presence.EntryAsk, 20*time.Second, time.Second
	p.Rooms = append(p.Rooms, presence.PatternPolicy{Pattern: "gate.*", RoomPolicy: room})
	p.InvitationWaits = 15 * time.Second
	p.Lease = 40 * time.Second
	return p
}

// meets does something of what people do beside coming and going.
func (g *page) meets(c *connection, link presence.LinkID) {
	w := g.world
	room := g.rooms[w.random.IntN(len(g.rooms))]
	switch w.random.IntN(8) {
	case 0:
		g.says(c, presence.Activity{From: link})
	case 1:
		g.says(c, presence.Idle{From: link})
	case 2, 3:
		g.reports[room]++
		g.says(c, presence.Typing{From: link, Room: room, Number: g.reports[room], On: w.chance(0.7)})
	case 4:
		g.reports[room]++
		g.says(c, presence.Doing{From: link, Room: room, Number: g.reports[room], Object: fmt.Sprintf(`{"gauge":%d}`, w.random.IntN(9))})
	case 5, 6:
		id := presence.AskID(fmt.Sprint("ask-", w.id()))
		if slices.Contains(g.rooms, gate) {
			return
		}
		w.tell("page %d (%s) asks to be let in: %s", g.number, g.person.id, id)
		g.requests(c, presence.Join{From: link, Room: gate, NewAsk: id}, func(a cluster.Answer) {
			switch {
			case a.Err != nil:
			case len(a.Reply.Asked) > 0:
				w.count("asks")
				g.knows.asks[a.Reply.Asked[0].Ask] = true
				w.in(w.between(0, 25*time.Second), func() { w.decide(g.person.realm, a.Reply.Asked[0].Ask) })
			default:
				g.isIn(c, gate)
			}
		})
	default:
		other := w.people[w.random.IntN(len(w.people))]
		if other.realm != g.person.realm || other == g.person {
			return
		}
		w.tell("%s invites %s", g.person.id, other.id)
		g.requests(c, presence.Invite{From: link, To: other.id, Room: room, New: presence.InvitationID(fmt.Sprint("invitation-", w.id())), Anywhere: true}, func(a cluster.Answer) {
			if a.Err == nil {
				w.count("invitations")
			}
		})
	}
}

// requests asks the host of a connection for something.
func (g *page) requests(c *connection, in presence.Input, done func(cluster.Answer)) {
	attempt := g.world.id()
	g.world.answers[attempt] = func(a cluster.Answer) {
		if g.conn == c {
			done(a)
		}
	}
	c.toHost(func() {
		c.host.node.Requested(c.host.at(), g.person.realm, c.id, cluster.Request{Attempt: attempt, Input: in})
	})
}

// isIn notes that the page is in another room.
func (g *page) isIn(c *connection, room presence.RoomName) {
	if g.conn == c && !slices.Contains(g.rooms, room) {
		g.rooms, g.want, g.since = append(slices.Clone(g.rooms), room), append(slices.Clone(g.want), room), g.world.now
	}
}

// told takes what the node tells about the page's link.
func (g *page) told(c *connection, effect presence.Effect) {
	w := g.world
	if g.conn != c || !g.linked {
		return
	}
	switch e := effect.(type) {
	case presence.AskAnswered:
		w.count("asks " + string(e.Outcome))
		delete(g.knows.asks, e.Ask)
		if e.Outcome == presence.Admitted {
			g.isIn(c, e.Room)
		}
	case presence.TakenOut:
		g.rooms = slices.DeleteFunc(slices.Clone(g.rooms), func(room presence.RoomName) bool { return room == e.Room })
		g.want = slices.Clone(g.rooms)
		w.shown[g.place(e.Room)] = w.now
	case presence.InvitationAnswered:
		w.count("invitations " + string(e.Outcome))
	case presence.OwnChanged:
		g.knows.own = e
	case presence.InvitationsChanged:
		g.knows.invitations = e.IDs()
		for _, i := range e.Received {
			if w.answered[i.Invitation] {
				continue
			}
			w.answered[i.Invitation] = true
			w.in(w.between(100*time.Millisecond, 20*time.Second), func() { g.answers(i) })
		}
	}
}

// answers answers an invitation.
func (g *page) answers(i presence.Invitation) {
	w := g.world
	c := g.conn
	if !g.linked || w.chance(0.3) {
		return
	}
	link := presence.LinkID{Session: g.session, Number: g.link}
	if w.chance(0.4) {
		g.requests(c, presence.Decline{From: link, Invitation: i.Invitation}, func(cluster.Answer) {})
		return
	}
	g.requests(c, presence.Accept{From: link, Invitation: i.Invitation}, func(a cluster.Answer) {
		if a.Err == nil {
			g.isIn(c, a.Reply.Rooms[0])
		}
	})
}

// demand asks any host for something, as a back end does, until it is answered.
func (w *world) demand(realm cluster.Realm, in presence.Input, done func(a cluster.Answer, repeated bool)) {
	attempt, tries, over := w.id(), 0, false
	w.answers[attempt] = func(a cluster.Answer) {
		if !over && !errors.Is(a.Err, cluster.ErrNotReady) && (!errors.Is(a.Err, cluster.ErrNoRealm) || w.isGone(realm)) {
			over = true
			done(a, tries > 1)
		}
	}
	var try func()
	try = func() {
		if over || w.isGone(realm) {
			return
		}
		tries++
		if h := w.hosts[w.random.IntN(len(w.hosts))]; h.runs() {
			h.run(func() { h.node.Requested(h.at(), realm, 0, cluster.Request{Attempt: attempt, Input: in}) })
		}
		w.in(3500*time.Millisecond, try)
	}
	try()
}

// remove removes a person.
func (w *world) remove(p *person) {
	w.tell("%s is to be removed", p.id)
	w.count("removals")
	p.removing = true
	w.demand(p.realm, presence.Remove{User: p.id}, func(cluster.Answer, bool) {
		// With a slow clock, only tokens that are in use are sure to be refused.
		if !slices.ContainsFunc(w.hosts, func(h *host) bool { return h.skew < -time.Second }) {
			w.removed[p] = w.now
		}
		w.tell("the removal of %s is answered", p.id)
	})
}

// decide answers an ask.
func (w *world) decide(realm cluster.Realm, ask presence.AskID) {
	w.demand(realm, presence.DecideAsk{Ask: ask, Admit: w.chance(0.6)}, func(cluster.Answer, bool) {})
}

// set sets a status of a person, or hides them.
func (w *world) set(p *person) {
	if w.still {
		return
	}
	w.in(w.between(5*time.Second, 40*time.Second), func() { w.set(p) })
	w.setNow(p)
}

func (w *world) setNow(p *person) {
	if p.setting || p.removing || w.isGone(p.realm) {
		return
	}
	p.setting = true
	note, hide, hidden := fmt.Sprint("note ", w.id()), w.chance(0.2), w.chance(0.5)
	var in presence.Input = presence.SetStatus{User: p.id, Status: presence.Busy, Note: note}
	if hide {
		in = presence.Hide{User: p.id, Hidden: hidden}
	}
	w.demand(p.realm, in, func(a cluster.Answer, repeated bool) {
		p.setting, p.unsure = false, p.unsure || repeated
		switch {
		case a.Err != nil:
			p.unsure = true
		case hide:
			p.hidden = hidden
		default:
			p.note = note
		}
		w.count("set")
	})
}
