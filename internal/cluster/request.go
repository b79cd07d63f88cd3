package cluster

import (
	"maps"
	"reflect"
	"slices"
	"time"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// waiting is a request that waits for its answer.
type waiting struct {
	request Request
	conn    *carried // nil: of the back end
	since   time.Duration
}

// ErrNotReady says that no owner has answered in time. The owner may still carry out the request.
var ErrNotReady = engine.ErrNotReady

func (n *Node) request(r *realm, c *carried, request Request) {
	if n.requestHere(r, c, request) {
		return
	}
	r.carrier.requests[request.Attempt] = &waiting{request, c, n.mono()}
	if c != nil {
		c.attempts = append(slices.DeleteFunc(c.attempts, func(attempt uint64) bool { return r.carrier.requests[attempt] == nil }), request.Attempt)
	}
	if r.carrier.expires == 0 {
		r.carrier.expires = n.mono() + n.Timings.Wait
	}
	n.toOwner(r, request)
}

// requestHere has the owner carry out a request if it is at this node and answers at once. It reports whether it has done so.
// A node that owns a realm would otherwise send itself two messages for each request.
func (n *Node) requestHere(r *realm, c *carried, request Request) bool {
	o := r.owner
	if o == nil || !o.speaks() || r.known.Owner != n.Name || len(n.peers[n.Name].out.waiting) > 0 {
		return false
	}
	switch request.Input.(type) {
	case nil, presence.Hello, presence.Erase: // a hello may have to wait for a probe
		return false
	}
	if request.Change != nil || lasts(request.Input) {
		return false
	}
	reply, err := o.engine.Give(request.Input)
	n.passSoon(o)
	n.readOwn() // what the input has brought about is told before its answer
	n.settle(r, &waiting{request, c, n.mono()}, Answer{Attempt: request.Attempt, Reply: reply, Err: err})
	return true
}

// giveUp withdraws a request whose client no longer waits.
func (n *Node) giveUp(r *realm, q *waiting) {
	delete(r.carrier.requests, q.request.Attempt)
	hello, ok := q.request.Input.(presence.Hello)
	if !ok && q.conn != nil {
		r.carrier.givenUp[q.request.Attempt] = q
	}
	n.toOwner(r, GiveUp{q.request.Attempt, hello.Session})
}

// expireRequests refuses requests that have waited too long, and forgets links that ended long ago.
func (n *Node) expireRequests(r *realm) {
	if is := &r.carrier; is.expires > 0 && n.mono() >= is.expires {
		is.expires = 0
		for _, attempt := range slices.Sorted(maps.Keys(is.requests)) {
			q := is.requests[attempt]
			switch at := q.since + n.Timings.Wait; {
			case n.mono() >= at:
				n.refuse(r, q)
			case is.expires == 0 || at < is.expires:
				is.expires = at
			}
		}
	}
	if n.mono()-r.carrier.forgotAt > n.Timings.Heartbeat {
		r.carrier.forgotAt = n.mono()
		maps.DeleteFunc(r.carrier.gone, func(_ presence.LinkID, c *carried) bool { return n.mono()-c.ended > n.Timings.Remember })
		maps.DeleteFunc(r.carrier.givenUp, func(_ uint64, q *waiting) bool { return n.mono()-q.since > n.Timings.Remember })
	}
}

func (n *Node) refuse(r *realm, q *waiting) {
	n.giveUp(r, q)
	answer := Answer{Attempt: q.request.Attempt, Err: ErrNotReady}
	if q.conn == nil {
		n.do(PassAnswer{0, answer})
		return
	}
	if _, hello := q.request.Input.(presence.Hello); hello {
		n.close(r, q.conn, presence.NoReason)
		n.do(Close{Conn: q.conn.conn, Why: CloseNotReady})
		return
	}
	n.do(PassAnswer{q.conn.conn, answer})
}

// dropWaiting refuses all requests that wait, and reports the links.
func (n *Node) dropWaiting(r *realm) {
	n.refuseAll(r)
	if r.known.Epoch > 0 {
		n.report(r)
	}
}

func (n *Node) refuseAll(r *realm) {
	for _, attempt := range slices.Sorted(maps.Keys(r.carrier.requests)) {
		n.refuse(r, r.carrier.requests[attempt])
	}
}

// answered passes an answer to its client. If the client has gone, the link is lost.
func (n *Node) answered(r *realm, a Answer) {
	q := r.carrier.requests[a.Attempt]
	link := a.Reply.Link
	if q == nil {
		if a.Err == nil && link.Session != "" && r.carrier.links[link] == nil {
			n.toOwner(r, Say{presence.LinkLost{Link: link}})
		}
		if q := r.carrier.givenUp[a.Attempt]; q != nil && a.Err == nil {
			delete(r.carrier.givenUp, a.Attempt)
			n.takeBack(r, q, a)
		}
		return
	}
	delete(r.carrier.requests, a.Attempt)
	n.settle(r, q, a)
}

// settle passes an answer to the client that waits for it, and notes what it changes.
func (n *Node) settle(r *realm, q *waiting, a Answer) {
	if q.conn == nil {
		n.do(PassAnswer{0, a})
		return
	}
	c := q.conn
	switch in := q.request.Input.(type) {
	case presence.Hello:
		link := a.Reply.Link
		if a.Err != nil {
			n.do(PassAnswer{c.conn, a})
			n.close(r, c, presence.NoReason)
			n.do(Close{Conn: c.conn, Why: CloseRefused})
			return
		}
		is := &c.fact.Session
		is.ID, is.Link, is.Key, is.Opened = link.Session, link.Number, presence.KeyHash(a.Reply.Key), a.Reply.Opened
		c.link, c.fact.Hidden, c.heard, c.active = link, a.Reply.Hidden, n.mono(), n.mono()
		c.enter(a.Reply.Rooms...)
		c.fact.Told = presence.Told{Set: a.Reply.Set, Asks: a.Reply.Asked, Invitations: a.Reply.Invitations.IDs()}
		r.carrier.links[link] = c
		r.carrier.unconfirmed = append(r.carrier.unconfirmed, c)
	case presence.Join:
		switch {
		case a.Err != nil:
		case len(a.Reply.Asked) > 0:
			c.asks(a.Reply.Asked...)
		default:
			c.enter(in.Room)
		}
	case presence.Accept:
		if a.Err == nil {
			c.enter(a.Reply.Rooms...)
		}
	case presence.Leave:
		if a.Err == nil {
			c.leave(in.Room)
			c.asksNoLonger(in.Room)
		}
	}
	n.do(PassAnswer{c.conn, a})
}

// takeBack handles the answer to a request whose client has been told that it failed. A join is undone, unless the
// client has asked for it again. After a leave, a report has the client told. Nothing else needs repair: signs of life and
// typing are past, and of what a person sets all their clients are told anyway.
func (n *Node) takeBack(r *realm, q *waiting, a Answer) {
	rooms := a.Reply.Rooms
	switch in := q.request.Input.(type) {
	case presence.Join:
		rooms = []presence.RoomName{in.Room}
	case presence.Accept:
	case presence.Leave:
		n.report(r)
		return
	default:
		return
	}
	c := q.conn
	for _, room := range rooms {
		isIn := slices.ContainsFunc(c.fact.Session.Rooms, func(e presence.SavedEntry) bool { return e.Room == room })
		if c.open && !isIn && !r.requests(c, presence.Join{From: c.link, Room: room}) {
			n.toOwner(r, Say{presence.Leave{From: c.link, Room: room}})
		}
	}
}

// leaves reports whether the client waits for the answer to a leave of a room.
func (r *realm) leaves(c *carried, room presence.RoomName) bool {
	return r.requests(c, presence.Leave{From: c.link, Room: room})
}

// requests reports whether a client waits for the answer to a join or leave.
func (r *realm) requests(c *carried, what presence.Input) bool {
	return slices.ContainsFunc(c.attempts, func(attempt uint64) bool {
		q := r.carrier.requests[attempt]
		if q == nil {
			return false
		}
		in := q.request.Input
		if join, ok := in.(presence.Join); ok {
			in = presence.Join{From: join.From, Room: join.Room}
		}
		return reflect.DeepEqual(in, what)
	})
}
