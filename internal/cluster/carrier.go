package cluster

import (
	"maps"
	"slices"
	"time"

	"tovik.example/tovik/internal/presence"
)

// carrier is a node in its role of holding links of a realm.
type carrier struct {
	links    map[presence.LinkID]*carried
	conns    map[ConnID]*carried
	gone     map[presence.LinkID]*carried // ended in the last minute
	requests map[uint64]*request
	refusing bool // its links were sent away, and it takes no hellos

	// What the node shows its receivers.
	following bool
	run       Epoch
	revision  uint64
}

// carried is a connection, and everything that a report says about its link.
type carried struct {
	conn       ConnID
	open       bool
	link       presence.LinkID // empty: the hello is not answered
	fact       presence.Fact
	heard      time.Duration
	active     time.Duration
	unanswered time.Duration // since when; 0: nothing is
	typing     map[presence.RoomName]*typed
	ended      time.Duration
}

type typed struct {
	presence.Reports
	at time.Duration
}

// request waits for an answer.
type request struct {
	ask   Ask
	conn  *carried // nil: of the back end
	since time.Duration
}

func newCarrier() carrier {
	return carrier{links: map[presence.LinkID]*carried{}, conns: map[ConnID]*carried{}, gone: map[presence.LinkID]*carried{}, requests: map[uint64]*request{}}
}

// toOwner tells the owner, whoever it is as far as this node knows.
func (n *Node) toOwner(r *realm, what Up) {
	if r.known.Epoch > 0 {
		n.send(r.known.Owner, ToOwner{r.id, what})
	}
}

// Hello takes the hello of a new connection.
func (n *Node) Hello(at presence.Instant, id Realm, conn ConnID, hello presence.Hello) {
	n.runs(at)
	r := n.realms[id]
	if r.carrier.refusing {
		n.do(Closes{conn, CloseMoving})
		return
	}
	c := &carried{conn: conn, open: true, typing: map[presence.RoomName]*typed{}}
	c.fact = presence.Fact{User: hello.User, Profile: hello.Profile, Grants: hello.Grants, Admits: hello.Admits, Unanswered: -1,
		Session: presence.SavedSession{Nonce: hello.Nonce, Issued: hello.Issued, Expires: hello.Expires, NoInput: hello.NoInput, PageHidden: hello.PageHidden, Device: hello.Device}}
	if hello.Stream {
		c.fact.Session.Kind = presence.EventStream
	}
	r.carrier.conns[conn] = c
	n.ask(r, c, Ask{hello.Attempt, hello})
}

// Ask takes a request of a connection, or with conn 0 of the back end.
func (n *Node) Ask(at presence.Instant, id Realm, conn ConnID, ask Ask) {
	n.runs(at)
	r := n.realms[id]
	c := r.carrier.conns[conn]
	if conn != 0 && (c == nil || c.link.Session == "") {
		return
	}
	if c != nil {
		c.heard, c.unanswered = n.mono(), 0
	}
	n.ask(r, c, ask)
}

func (n *Node) ask(r *realm, c *carried, ask Ask) {
	r.carrier.requests[ask.Attempt] = &request{ask, c, n.mono()}
	n.toOwner(r, ask)
}

// Tell takes an input of a connection that has no answer.
func (n *Node) Tell(at presence.Instant, id Realm, conn ConnID, in presence.Input) {
	n.runs(at)
	r := n.realms[id]
	c := r.carrier.conns[conn]
	if c == nil || c.link.Session == "" {
		return
	}
	c.heard, c.unanswered = n.mono(), 0
	n.toOwner(r, Tell{in})
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
	}
}

func (c *carried) types(at time.Duration, room presence.RoomName, number uint64, on bool) {
	if c.typing[room] == nil {
		c.typing[room] = &typed{}
	}
	c.typing[room].Reports = presence.Reports{Room: room, Typing: number, On: on}
	c.typing[room].at = at
}

// Beacon takes what a page says beside its link, at whatever node.
func (n *Node) Beacon(at presence.Instant, id Realm, in presence.ClosingBeacon) {
	n.runs(at)
	n.toOwner(n.realms[id], Tell{in})
}

// Broke takes the end of a connection.
func (n *Node) Broke(at presence.Instant, id Realm, conn ConnID) {
	n.runs(at)
	if r := n.realms[id]; r.carrier.conns[conn] != nil {
		n.lose(r, r.carrier.conns[conn])
	}
}

// lose ends a connection, and reports its link as lost.
func (n *Node) lose(r *realm, c *carried) {
	for _, attempt := range slices.Sorted(maps.Keys(r.carrier.requests)) {
		if q := r.carrier.requests[attempt]; q.conn == c {
			n.giveUp(r, q)
		}
	}
	if c.link.Session != "" {
		n.toOwner(r, Tell{presence.LinkLost{Link: c.link}})
	}
	n.close(r, c, presence.ReasonLost)
}

// close forgets a connection. Its link is remembered for reports for a while.
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

// giveUp withdraws a request whose client does not wait any more.
func (n *Node) giveUp(r *realm, q *request) {
	delete(r.carrier.requests, q.ask.Attempt)
	if hello, ok := q.ask.Input.(presence.Hello); ok {
		n.toOwner(r, GiveUp{q.ask.Attempt, hello.Session})
	}
}

// expireRequests refuses what has waited too long.
func (n *Node) expireRequests(r *realm) {
	if len(r.carrier.requests) > 0 {
		for _, attempt := range slices.Sorted(maps.Keys(r.carrier.requests)) {
			if q := r.carrier.requests[attempt]; n.mono()-q.since >= n.Timings.Request {
				n.refuse(r, q)
			}
		}
	}
	for link, c := range r.carrier.gone {
		if n.mono()-c.ended > n.Timings.Remember {
			delete(r.carrier.gone, link)
		}
	}
}

func (n *Node) refuse(r *realm, q *request) {
	n.giveUp(r, q)
	if q.conn == nil {
		return
	}
	if _, hello := q.ask.Input.(presence.Hello); hello {
		n.close(r, q.conn, presence.NoReason)
		n.do(Closes{q.conn.conn, CloseNotReady})
	}
}

// dropWaiting drops hellos after the node stood still: their clients have given up.
func (n *Node) dropWaiting(r *realm) {
	for _, attempt := range slices.Sorted(maps.Keys(r.carrier.requests)) {
		n.refuse(r, r.carrier.requests[attempt])
	}
	if r.known.Epoch > 0 {
		n.report(r)
	}
}

// takeDown takes what an owner says. What an older one says is ignored.
func (n *Node) takeDown(r *realm, from Name, m FromOwner) {
	if m.Epoch < r.known.Epoch {
		return
	}
	n.learn(r, Known{m.Epoch, from})
	switch what := m.What.(type) {
	case AskReport:
		n.report(r)
	case Answer:
		n.answered(r, what)
	case Order:
		n.obey(r, what.Effect)
	case Snapshot:
		r.carrier.following, r.carrier.run, r.carrier.revision = true, m.Epoch, what.Revision
		n.do(Shows{r.id, m.Epoch, what})
	case Batch:
		switch {
		case !r.carrier.following || m.Epoch == r.carrier.run && what.Revision <= r.carrier.revision:
		case m.Epoch != r.carrier.run || what.Revision != r.carrier.revision+1:
			r.carrier.following = false
			n.toOwner(r, Follow{})
		default:
			r.carrier.revision = what.Revision
			n.do(Shows{r.id, m.Epoch, what})
		}
	}
}

// answered passes an answer on. A link whose client has gone meanwhile is lost.
func (n *Node) answered(r *realm, a Answer) {
	q := r.carrier.requests[a.Attempt]
	link := a.Reply.Link
	if q == nil {
		if a.Err == nil && link.Session != "" && r.carrier.links[link] == nil {
			n.toOwner(r, Tell{presence.LinkLost{Link: link}})
		}
		return
	}
	delete(r.carrier.requests, a.Attempt)
	if q.conn == nil {
		n.do(Tells{0, a})
		return
	}
	c := q.conn
	switch in := q.ask.Input.(type) {
	case presence.Hello:
		if a.Err != nil {
			n.do(Tells{c.conn, a})
			n.close(r, c, presence.NoReason)
			n.do(Closes{c.conn, CloseRefused})
			return
		}
		is := &c.fact.Session
		is.ID, is.Link, is.Key, is.Opened = link.Session, link.Number, presence.KeyHash(a.Reply.Key), a.Reply.Opened
		c.link, c.fact.Hidden, c.heard, c.active = link, a.Reply.Hidden, n.mono(), n.mono()
		c.enter(a.Reply.Rooms...)
		r.carrier.links[link] = c
	case presence.Join:
		if a.Err == nil && len(a.Reply.Asked) == 0 {
			c.enter(in.Room)
		}
	case presence.Leave:
		if a.Err == nil {
			c.leave(in.Room)
		}
	}
	n.do(Tells{c.conn, a})
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

// obey carries out an order about a link.
func (n *Node) obey(r *realm, effect presence.Effect) {
	switch e := effect.(type) {
	case presence.Cut:
		if c := r.carrier.links[e.Link]; c != nil {
			why, remember := CloseCut, presence.ReasonLost
			if e.Ended {
				why, remember = CloseEnded, presence.NoReason
			}
			n.close(r, c, remember)
			n.do(Closes{c.conn, why})
		}
	case presence.AskBeat:
		c := r.carrier.links[e.Link]
		if c == nil {
			n.toOwner(r, Tell{presence.LinkLost{Link: e.Link}})
			return
		}
		if c.unanswered == 0 {
			c.unanswered = n.mono()
		}
		n.toOwner(r, Tell{presence.BeatWritten{To: e.Link, Probe: e.Probe}})
		n.do(Asks{c.conn, e.Probe})
	case presence.TakenOut:
		if c := r.carrier.links[e.Link]; c != nil {
			c.leave(e.Room)
		}
	case presence.OwnChanged:
		if c := r.carrier.links[e.Links[0]]; c != nil {
			c.fact.Hidden = e.Hidden
		}
	}
}

// report re-seats: the owner is told everything that this node carries, and what waits is asked
// again.
func (n *Node) report(r *realm) {
	report := Report{Read: n.peers[r.known.Owner].got}
	for _, links := range []map[presence.LinkID]*carried{r.carrier.gone, r.carrier.links} {
		for _, link := range sortedLinks(links) {
			report.Facts = append(report.Facts, n.fact(r, links[link]))
		}
	}
	n.toOwner(r, report)
	for _, attempt := range slices.Sorted(maps.Keys(r.carrier.requests)) {
		n.toOwner(r, r.carrier.requests[attempt].ask)
	}
	r.carrier.following = false
	n.toOwner(r, Follow{})
}

func (n *Node) fact(r *realm, c *carried) presence.Fact {
	f := c.fact
	f.Heard, f.Active, f.Unanswered = n.mono()-c.heard, n.mono()-c.active, -1
	if c.unanswered > 0 {
		f.Unanswered = n.mono() - c.unanswered
	}
	f.Session.Rooms = slices.Clone(f.Session.Rooms)
	f.Reports = nil
	for _, room := range slices.Sorted(maps.Keys(c.typing)) {
		is := c.typing[room].Reports
		is.Ago = n.mono() - c.typing[room].at
		f.Reports = append(f.Reports, is)
	}
	f.Confirmed = n.Records.Confirmed(r.id, f.Session.ID)
	return f
}

// carry sends links away whose owner cannot be reached from here, but from elsewhere.
func (n *Node) carry(r *realm) {
	if r.known.Epoch == 0 {
		return
	}
	if !r.carrier.following && (r.owner == nil || r.owner.phase == active) {
		n.toOwner(r, Follow{})
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

// unreachable reports whether this node and an owner do not hear each other, while others hear the
// owner or nobody is heard.
func (n *Node) unreachable(owner Name) bool {
	p := n.peers[owner]
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

// sendAway sends all links of a realm to other nodes, and takes no more.
func (n *Node) sendAway(r *realm) {
	r.carrier.refusing = true
	for _, conn := range slices.Sorted(maps.Keys(r.carrier.conns)) {
		n.lose(r, r.carrier.conns[conn])
		n.do(Closes{conn, CloseMoving})
	}
}
