package nodes

import (
	"fmt"
	"slices"
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/presence"
)

// person is somebody with pages.
type person struct {
	id       presence.UserID
	realm    cluster.Realm
	issued   int64
	removing bool
	setting  bool   // the back end is setting a status, or hiding them
	note     string // of the status that was set last
	hidden   bool
	unsure   bool // a request was repeated, so that an older one may have come after a newer one
}

// page is a page of a person, which behaves like the client libraries.
type page struct {
	world   *world
	number  int
	person  *person
	rooms   []presence.RoomName // that it was told to be in, and still wants
	want    []presence.RoomName
	session presence.SessionID
	key     string
	nonce   string
	conn    *connection
	linked  bool // its hello was answered over conn
	alive   bool

	since     time.Duration // of its session and rooms
	lost      time.Duration // when it lost its link
	less      time.Duration // for how long its realm had been ownerless then
	grace     time.Duration // within which it may come back
	beat      time.Duration // when it last said something
	heard     time.Duration // when it last heard something
	gone      time.Duration // when it went for good
	link      presence.LinkNumber
	atNode    *host     // that gave the link
	byOwn     bool      // the node was the owner's
	exception exception // that applied last

	atIncarnation cluster.Incarnation

	linkedAt time.Duration
	excused  time.Duration // until when it may be shown to leave, because its link before was unrecorded
	reports  map[presence.RoomName]uint64
	knows    known
}

// known is what a page knows because it was told.
type known struct {
	own         presence.OwnChanged
	asks        map[presence.AskID]bool
	invitations []presence.InvitationID
}

// connection is a connection of a page to a host; its two ends may differ.
type connection struct {
	id                  cluster.ConnID
	page                *page
	host                *host
	incarnation         cluster.Incarnation
	openThere, openHere bool          // at the page, at the host
	half                bool          // the page's network is gone
	sent, came          time.Duration // when the last from and for the page arrives, so that order is kept
}

func (w *world) open(p *person) {
	if w.still || p.removing {
		return
	}
	g := &page{world: w, number: len(w.pages), person: p, alive: true, reports: map[presence.RoomName]uint64{}, lost: w.now, nonce: fmt.Sprint("nonce-", w.id())}
	g.choose()
	w.pages = append(w.pages, g)
	g.connect(nil)
	g.listen()
	w.in(w.between(time.Second, 20*time.Second), g.act)
}

// choose chooses rooms.
func (g *page) choose() {
	w := g.world
	for _, room := range append(slices.Clone(g.rooms), g.want...) {
		w.shown[g.place(room)] = w.now + 5*time.Second
	}
	g.want = nil
	for range 1 + w.random.IntN(3) {
		room := presence.RoomName([]string{"basin.upper-weir", "desk.night", "sluice.mill-lane", "levee.north-bank"}[w.random.IntN(4)])
		if !slices.Contains(g.want, room) {
			g.want = append(g.want, room)
		}
	}
	g.rooms = slices.DeleteFunc(slices.Clone(g.rooms), func(room presence.RoomName) bool { return !slices.Contains(g.want, room) })
}

// place is somebody in a room.
type place struct {
	realm cluster.Realm
	room  presence.RoomName
	user  presence.UserID
}

func (g *page) place(room presence.RoomName) place { return place{g.person.realm, room, g.person.id} }

// connect says hello at any host except one.
func (g *page) connect(not *host) {
	w := g.world
	if !g.alive || g.conn != nil {
		return
	}
	hosts := slices.DeleteFunc(slices.Clone(w.hosts), func(h *host) bool {
		return !h.up || h == not && len(w.hosts) > 1 || h.node.Refuses(g.person.realm) && w.chance(0.8)
	})
	if len(hosts) == 0 {
		w.in(time.Second, func() { g.connect(nil) })
		return
	}
	h := hosts[w.random.IntN(len(hosts))]
	c := &connection{id: cluster.ConnID(w.id()), page: g, host: h, incarnation: h.incarnation, openThere: true, openHere: true}
	g.conn, g.linked = c, false
	id := w.id()
	hello := presence.Hello{Attempt: id, User: g.person.id, Issued: g.person.issued, Session: g.session, Key: g.key, Nonce: g.nonce,
		NewSession: presence.SessionID(fmt.Sprint("session-", id)), NewKey: fmt.Sprint("key-", id), Rooms: slices.Clone(g.want), OneByOne: true, NewAsk: presence.AskID(fmt.Sprint("ask-", id))}
	c.toHost(func() {
		h.conns[c.id] = c
		h.node.Hello(h.at(), g.person.realm, c.id, hello)
	})
	w.in(5*time.Second, func() {
		if g.conn == c && !g.linked {
			g.hang(false)
			g.connect(h)
		}
	})
}

// toHost brings something to the host, unless the connection is broken.
func (c *connection) toHost(do func()) {
	w := c.page.world
	if c.half {
		return
	}
	c.sent = max(c.sent, w.now+w.between(time.Millisecond, 10*time.Millisecond))
	w.in(c.sent-w.now, func() {
		c.host.runAs(c.incarnation, func() {
			if c.openHere {
				do()
			}
		})
	})
}

func (c *connection) toPage(do func()) {
	w := c.page.world
	c.came = max(c.came, w.now+w.between(time.Millisecond, 10*time.Millisecond))
	w.in(c.came-w.now, func() {
		if c.openThere && !c.half {
			do()
		}
	})
}

// breaks ends the host's end.
func (c *connection) breaks() {
	c.host.runAs(c.incarnation, func() {
		if c.openHere {
			c.openHere = false
			delete(c.host.conns, c.id)
			c.host.node.Broke(c.host.at(), c.page.person.realm, c.id)
		}
	})
}

// hang closes the page's end. Silently: the host does not notice.
func (g *page) hang(silently bool) {
	c := g.conn
	if c == nil {
		return
	}
	g.conn, g.linked, c.openThere = nil, false, false
	if silently {
		c.half = true
	} else if !c.half {
		g.world.in(g.world.between(time.Millisecond, 10*time.Millisecond), c.breaks)
	}
}

// loses is called when the page notices that its link is gone.
func (g *page) loses(c *connection, why string) {
	if g.conn != c {
		return
	}
	if g.linked {
		g.mayReturn(g.world.policy.GraceLost)
		g.world.tell("page %d (%s) loses its link at %s: %s", g.number, g.person.id, c.host.name, why)
	}
	g.hang(why == "silence")
	not := c.host
	if why == string(cluster.CloseCut) {
		not = nil
	}
	g.world.in(g.world.between(10*time.Millisecond, 800*time.Millisecond), func() { g.connect(not) })
}

func (g *page) mayReturn(grace time.Duration) {
	g.lost, g.less, g.grace = g.world.now, g.world.less[g.person.realm].total, grace
}

// closed is called when the host ends the connection.
func (g *page) closed(c *connection, why cluster.CloseReason) {
	if g.conn != c {
		return
	}
	w := g.world
	if why == cluster.CloseNotReady {
		w.count("refusals")
	}
	switch {
	case why == cluster.CloseEnded || why == cluster.CloseGone && w.isGone(g.person.realm):
		g.hang(false)
		g.stop()
	case g.linked:
		g.loses(c, string(why))
	default: // before its hello was answered
		g.hang(false)
		if why == cluster.CloseRefused && g.person.removing {
			g.stop()
			return
		}
		w.in(w.between(200*time.Millisecond, 1500*time.Millisecond), func() { g.connect(c.host) })
	}
}

func (g *page) stop() { g.alive, g.gone = false, g.world.now }

// answered takes an answer on its way to the page.
func (c *connection) answered(a cluster.Answer) {
	if done := c.page.world.answers[a.Attempt]; done != nil {
		delete(c.page.world.answers, a.Attempt)
		c.toPage(func() { done(a) })
		return
	}
	if a.Err != nil || a.Reply.Link.Session == "" {
		return
	}
	w, g := c.page.world, c.page
	holder := fmt.Sprint("connection ", c.id)
	if other, ok := w.holders[a.Reply.Link]; ok && other != holder {
		w.breaks(LinksOnce, "%v of %s: %s and %s", a.Reply.Link, g.person.id, other, holder)
	}
	w.holders[a.Reply.Link] = holder
	c.toPage(func() { g.welcomed(c, a.Reply) })
}

func (g *page) welcomed(c *connection, r presence.Reply) {
	w := g.world
	if g.conn != c {
		return
	}
	if g.session != "" && !r.Resumed && g.session != r.Link.Session && g.remains() && !w.unrecorded(g) {
		w.breaks(WhoReturns, "page %d of %s lost %s %v ago (grace %v): %s", g.number, g.person.id, g.session, w.now-g.lost, g.grace, r.NotResumed)
	}
	w.tell("page %d (%s) has %s over link %x at %s, resumed: %v %s", g.number, g.person.id, r.Link.Session, r.Link.Number, c.host.name, r.Resumed, r.NotResumed)
	if !slices.Contains(r.Rooms, gate) { // it may have to ask again
		g.want = slices.DeleteFunc(slices.Clone(g.want), func(room presence.RoomName) bool { return room == gate })
	}
	if r.Link.Session != g.session || !slices.Equal(g.rooms, g.want) {
		g.since = w.now
	}
	if g.session != "" && w.unrecorded(g, g.rooms...) {
		g.excused = w.now + time.Second
	}
	g.session, g.key, g.link = r.Link.Session, r.Key, r.Link.Number
	g.linked, g.linkedAt, g.heard, g.beat, g.rooms = true, w.now, w.now, w.now, slices.Clone(g.want)
	g.atIncarnation = c.incarnation
	g.atNode, g.byOwn = c.host, c.host.node.Known(g.person.realm).Owner == c.host.name
	g.knows = known{presence.OwnChanged{Set: r.Set, Hidden: r.Hidden}, map[presence.AskID]bool{}, r.Invitations.IDs()}
	for _, ask := range r.Asked {
		g.knows.asks[ask.Ask] = true
	}
	w.count("links")
}

// asked answers a beat request.
func (g *page) asked(c *connection) {
	g.heard, g.beat = g.world.now, g.world.now
	g.says(c, presence.Beat{From: presence.LinkID{Session: g.session, Number: g.link}})
}

func (g *page) says(c *connection, in presence.Input) {
	c.toHost(func() {
		c.host.node.Said(c.host.at(), g.person.realm, c.id, in)
		switch in.(type) {
		case presence.Bye, presence.Closing:
			c.openHere = false
			delete(c.host.conns, c.id)
		}
	})
}

// listen notices when the service has been silent for too long.
func (g *page) listen() {
	w := g.world
	if !g.alive {
		return
	}
	if g.linked && w.now-g.heard > w.policy.BeatEvery*3/2 {
		w.count("silences")
		g.loses(g.conn, "silence")
	}
	w.in(2*time.Second, g.listen)
}

// stands reports whether the page has a link whose connection is whole.
func (g *page) stands() bool {
	if !g.linked {
		return false
	}
	c := g.conn
	return c.openHere && !c.half && c.host.up && c.host.incarnation == c.incarnation
}

// remains reports whether, by the rules, the session cannot have ended.
func (g *page) remains() bool {
	w := g.world
	if g.session == "" || g.person.removing {
		return false
	}
	if g.linked {
		if g.stands() {
			return true
		}
		return w.now < g.beat+w.policy.BeatEvery+w.policy.Silence()
	}
	return w.now < g.lost+g.grace-200*time.Millisecond
}

// act does something that people do.
func (g *page) act() {
	w := g.world
	if !g.alive {
		return
	}
	defer w.in(w.between(2*time.Second, 18*time.Second), g.act)
	if w.still || !g.linked {
		return
	}
	c, link := g.conn, presence.LinkID{Session: g.session, Number: g.link}
	closing := func() {
		if w.chance(0.5) {
			g.says(c, presence.Closing{From: link})
			return
		}
		h, in := w.hosts[w.random.IntN(len(w.hosts))], presence.ClosingBeacon{Session: g.session, Key: g.key, Nonce: g.nonce}
		w.in(w.between(time.Millisecond, 10*time.Millisecond), func() { h.run(func() { h.node.Beacon(h.at(), g.person.realm, in) }) })
	}
	leave := func() {
		g.conn, g.linked, c.openThere = nil, false, false
		w.in(20*time.Millisecond, c.breaks)
	}
	goes := func() {
		leave()
		g.stop()
		w.in(w.between(5*time.Second, 40*time.Second), func() { w.open(g.person) })
	}
	switch x := w.random.Float64(); {
	case x < 0.45:
		w.tell("page %d (%s) reloads", g.number, g.person.id)
		g.mayReturn(w.policy.GraceClosing)
		if w.chance(0.2) { // it cannot say so
			g.mayReturn(w.policy.GraceLost)
		} else {
			closing()
		}
		leave()
		g.nonce = fmt.Sprint("nonce-", w.id())
		if w.chance(0.3) {
			g.choose()
		}
		w.in(w.between(100*time.Millisecond, 2300*time.Millisecond), func() { g.connect(nil) })
	case x < 0.55:
		w.tell("page %d (%s) says bye", g.number, g.person.id)
		g.says(c, presence.Bye{From: link})
		goes()
	case x < 0.65:
		w.tell("page %d (%s) closes", g.number, g.person.id)
		if w.chance(0.7) {
			closing()
		}
		goes()
	case x < 0.8:
		w.tell("page %d (%s) loses its network", g.number, g.person.id)
		g.mayReturn(w.policy.GraceLost)
		g.hang(true)
		w.in(w.between(100*time.Millisecond, 8*time.Second), func() { g.connect(nil) })
	case x < 0.83:
		g.loses(c, "reset")
	default:
		g.meets(c, link)
	}
}
