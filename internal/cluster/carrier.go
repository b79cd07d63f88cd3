package cluster

import (
	"maps"
	"slices"
	"time"

	"tovik.example/tovik/internal/presence"
)

// carrier holds the links that a node carries of one realm.
type carrier struct {
	links    map[presence.LinkID]*carried
	conns    map[ConnID]*carried
	gone     map[presence.LinkID]*carried // ended in the last minute
	requests map[uint64]*waiting
	givenUp  map[uint64]*waiting // requests of clients that were given up in the last minute; the owner may still carry them out
	expires  time.Duration       // when the first of them may expire; 0: none
	forgotAt time.Duration       // when links that ended long ago were forgotten
	refusing bool                // its links were sent away, and it takes no hellos
	// unconfirmed are links whose sessions were not on record when that was looked up last.
	unconfirmed []*carried
}

// carried is a connection, with everything that a report says about its link.
type carried struct {
	conn       ConnID
	open       bool
	link       presence.LinkID // empty: the hello is not answered
	fact       presence.Fact
	heard      time.Duration
	active     time.Duration
	unanswered time.Duration // since when; 0: nothing is
	typing     map[presence.RoomName]*typed
	confirmed  bool // the opening of its session is on record
	ended      time.Duration
	attempts   []uint64 // its requests; some may be answered
}

type typed struct {
	presence.RoomReports
	at time.Duration
}

func newCarrier() carrier {
	return carrier{links: map[presence.LinkID]*carried{}, conns: map[ConnID]*carried{}, gone: map[presence.LinkID]*carried{}, requests: map[uint64]*waiting{}, givenUp: map[uint64]*waiting{}}
}

// toOwner sends a message to the newest owner that this node knows of.
func (n *Node) toOwner(r *realm, what Up) {
	if r.known.Epoch > 0 {
		n.say(r.known.Owner, ToOwner{r.id, what})
	}
}

// Hello handles the hello of a new connection.
func (n *Node) Hello(at presence.Instant, id Realm, conn ConnID, hello presence.Hello) {
	n.runs(at)
	r := n.realms[id]
	switch {
	case r == nil:
		n.do(Close{Conn: conn, Why: CloseGone})
		return
	case n.halted != "":
		n.do(Close{Conn: conn, Why: CloseNotReady})
		return
	case r.carrier.refusing:
		n.do(Close{Conn: conn, Why: CloseMoving})
		return
	}
	if n.wokeAt > 0 && n.mono()-n.wokeAt < n.Timings.Late/2 {
		// It may have arrived during the pause, from a client that has since connected elsewhere.
		n.do(Close{Conn: conn, Why: CloseNotReady})
		return
	}
	c := &carried{conn: conn, open: true, typing: map[presence.RoomName]*typed{}}
	c.fact = presence.Fact{User: hello.User, Profile: hello.Profile, Grants: hello.Grants, Admits: hello.Admits, Unanswered: -1,
		Session: presence.SavedSession{Nonce: hello.Nonce, Issued: hello.Issued, Expires: hello.Expires, NoInput: hello.NoInput, PageHidden: hello.PageHidden, Device: hello.Device}}
	if hello.Stream {
		c.fact.Session.Kind = presence.EventStream
	}
	r.carrier.conns[conn] = c
	n.request(r, c, Request{Attempt: hello.Attempt, Input: hello})
}

// Requested handles a request of a connection; with conn 0, of the back end.
func (n *Node) Requested(at presence.Instant, id Realm, conn ConnID, request Request) {
	n.runs(at)
	r := n.realms[id]
	switch {
	case r == nil:
		n.do(PassAnswer{conn, Answer{Attempt: request.Attempt, Err: ErrNoRealm}})
		return
	case n.halted != "":
		n.do(PassAnswer{conn, Answer{Attempt: request.Attempt, Err: ErrNotReady}})
		return
	}
	c := r.carrier.conns[conn]
	if conn != 0 && (c == nil || c.link.Session == "") {
		n.do(PassAnswer{conn, Answer{Attempt: request.Attempt, Err: ErrNotReady}})
		return
	}
	if c != nil {
		n.notes(r, c, request.Input)
	}
	n.request(r, c, request)
}

// Said handles an input of a connection that needs no answer.
func (n *Node) Said(at presence.Instant, id Realm, conn ConnID, in presence.Input) {
	n.runs(at)
	r := n.realms[id]
	if r == nil {
		return
	}
	c := r.carrier.conns[conn]
	if c == nil || c.link.Session == "" {
		return
	}
	n.toOwner(r, Say{in})
	n.notes(r, c, in)
}

// notes updates what a report says about a link, after an input of its client.
func (n *Node) notes(r *realm, c *carried, in presence.Input) {
	c.heard, c.unanswered = n.mono(), 0
	switch in := in.(type) {
	case presence.Bye:
		n.close(r, c, presence.ReasonBye)
	case presence.Closing:
		n.close(r, c, presence.ReasonClosing)
	case presence.Activity:
		c.active, c.fact.Session.Idle = max(c.active, n.mono()-in.IdleFor), false
	case presence.Idle:
		c.fact.Session.Idle = true
	case presence.PageHidden:
		c.fact.Session.PageHidden = in.Hidden
	case presence.Typing:
		c.types(n.mono(), in.Room, in.Number, in.On)
	case presence.Sent:
		c.types(n.mono(), in.Room, in.Number, false)
	case presence.Doing:
		c.does(in.Room, in.Number, in.Object)
	case presence.Renew:
		c.fact.Profile, c.fact.Grants, c.fact.Admits = in.Profile, in.Grants, in.Admits
		c.fact.Session.Issued, c.fact.Session.Expires = in.Issued, in.Expires
	}
}

// does notes what the client is doing in a room.
func (c *carried) does(room presence.RoomName, number uint64, object string) {
	for i := range c.fact.Session.Rooms {
		if is := &c.fact.Session.Rooms[i]; is.Room == room {
			is.Doing = object
			c.reported(room).Doing = number
		}
	}
}

func (c *carried) reported(room presence.RoomName) *typed {
	if c.typing[room] == nil {
		c.typing[room] = &typed{}
	}
	c.typing[room].Room = room
	return c.typing[room]
}

func (c *carried) types(at time.Duration, room presence.RoomName, number uint64, on bool) {
	is := c.reported(room)
	is.Typing, is.On, is.at = number, on, at
}

// ConnOf returns the connection of a link; 0 if this node does not carry it.
func (n *Node) ConnOf(id Realm, link presence.LinkID) ConnID {
	if r := n.realms[id]; r != nil && r.carrier.links[link] != nil {
		return r.carrier.links[link].conn
	}
	return 0
}

// Pass passes a frame to the clients of links, at any nodes. It may be lost.
func (n *Node) Pass(at presence.Instant, id Realm, p Pass) {
	n.runs(at)
	if r := n.realms[id]; r != nil {
		n.toOwner(r, p)
	}
}

// Beacon handles a closing beacon, which may come to any node.
func (n *Node) Beacon(at presence.Instant, id Realm, in presence.ClosingBeacon) {
	n.runs(at)
	if r := n.realms[id]; r != nil {
		n.toOwner(r, Say{in})
	}
}

// Broke handles the end of a connection.
func (n *Node) Broke(at presence.Instant, id Realm, conn ConnID) {
	n.runs(at)
	if r := n.realms[id]; r != nil && r.carrier.conns[conn] != nil {
		n.lose(r, r.carrier.conns[conn])
	}
}

// lose ends a connection, and reports its link as lost.
func (n *Node) lose(r *realm, c *carried) {
	for _, attempt := range c.attempts {
		q := r.carrier.requests[attempt]
		if q == nil {
			continue
		}
		n.giveUp(r, q)
		if _, hello := q.request.Input.(presence.Hello); !hello { // whoever asked may wait longer than the connection
			n.do(PassAnswer{c.conn, Answer{Attempt: attempt, Err: ErrNotReady}})
		}
	}
	if c.link.Session != "" {
		n.toOwner(r, Say{presence.LinkLost{Link: c.link}})
	}
	n.close(r, c, presence.ReasonLost)
}

// close forgets a connection. Reports include its link for a while.
func (n *Node) close(r *realm, c *carried, why presence.Reason) {
	c.open = false
	delete(r.carrier.conns, c.conn)
	if c.link.Session == "" || r.carrier.links[c.link] != c {
		return
	}
	delete(r.carrier.links, c.link)
	if why != presence.NoReason {
		c.fact.Lost, c.ended = why, n.mono()
		r.carrier.gone[c.link] = c
	}
}

// takeDown handles a message of an owner. Older owners are ignored.
func (n *Node) takeDown(r *realm, from Name, m FromOwner) {
	if m.Epoch < r.known.Epoch {
		return
	}
	n.learn(r, Known{m.Epoch, from})
	switch what := m.What.(type) {
	case WantReport:
		n.report(r)
	case Answer:
		n.answered(r, what)
	case Order:
		n.obey(r, what.Effect)
	case Deliver:
		for _, link := range what.Links {
			if c := r.carrier.links[link]; c != nil {
				n.do(Offer{c.conn, what.Frame})
			}
		}
	default:
		show, missing, ok := r.lists.take(what, n.at.Wall)
		if !ok {
			n.toOwner(r, Want{missing})
		}
		for _, what := range show {
			n.do(Show{r.id, m.Epoch, what})
		}
	}
}

// asks notes asks that the client waits for.
func (c *carried) asks(asks ...presence.OpenAsk) {
	for _, ask := range asks {
		c.asksNoLonger(ask.Room)
		c.fact.Told.Asks = append(c.fact.Told.Asks, ask)
	}
}

func (c *carried) asksNoLonger(room presence.RoomName) {
	c.fact.Told.Asks = slices.DeleteFunc(slices.Clone(c.fact.Told.Asks), func(ask presence.OpenAsk) bool { return ask.Room == room })
}

func (c *carried) enter(rooms ...presence.RoomName) {
	for _, room := range rooms {
		c.leave(room)
		c.fact.Session.Rooms = append(c.fact.Session.Rooms, presence.SavedEntry{Room: room})
	}
}

func (c *carried) leave(room presence.RoomName) {
	c.fact.Session.Rooms = slices.DeleteFunc(slices.Clone(c.fact.Session.Rooms), func(e presence.SavedEntry) bool { return e.Room == room })
	delete(c.typing, room)
}

// carry sends links away if this node cannot reach their owner and others can.
func (n *Node) carry(r *realm) {
	if r.known.Epoch == 0 {
		return
	}
	if r.owner == nil || r.owner.phase == active {
		n.follow(r)
	}
	if r.known.Owner == n.Name {
		if r.owner != nil && !r.owner.frozen {
			r.carrier.refusing = false
		}
		return
	}
	away := n.unreachable(r.known.Owner)
	if away && !r.carrier.refusing {
		n.sendAway(r)
	}
	if !away && n.hears(r.known.Owner) {
		r.carrier.refusing = false
	}
}

// unreachable reports whether this node and an owner do not hear each other although others hear the
// owner, or whether this node hears nobody.
func (n *Node) unreachable(owner Name) bool {
	p := n.of(owner)
	if n.mono()-p.heard <= n.Timings.Away {
		return slices.Contains(p.unheard, n.Name) && n.hears(owner) && n.mono()-p.since > n.Timings.Dead
	}
	alone := true
	for _, other := range n.others() {
		if other == owner || !n.hears(other) {
			continue
		}
		alone = false
		if !slices.Contains(n.peers[other].unheard, owner) {
			return true
		}
	}
	return alone
}

// sendAway closes all links of a realm, so that their clients go to other nodes, and refuses new ones.
func (n *Node) sendAway(r *realm) {
	r.carrier.refusing = true
	for _, conn := range slices.Sorted(maps.Keys(r.carrier.conns)) {
		n.lose(r, r.carrier.conns[conn])
		n.do(Close{Conn: conn, Why: CloseMoving})
	}
}
