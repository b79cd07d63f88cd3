package cluster

import (
	"maps"
	"reflect"
	"slices"
	"time"

	"tovik.example/tovik/internal/engine"
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

// waiting is a request that waits for its answer.
type waiting struct {
	request Request
	conn    *carried // nil: of the back end
	since   time.Duration
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

func (n *Node) request(r *realm, c *carried, request Request) {
	r.carrier.requests[request.Attempt] = &waiting{request, c, n.mono()}
	if c != nil {
		c.attempts = append(slices.DeleteFunc(c.attempts, func(attempt uint64) bool { return r.carrier.requests[attempt] == nil }), request.Attempt)
	}
	if r.carrier.expires == 0 {
		r.carrier.expires = n.mono() + n.Timings.Wait
	}
	n.toOwner(r, request)
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

// ErrNotReady says that no owner has answered in time. The owner may still carry out the request.
var ErrNotReady = engine.ErrNotReady

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

// Follow follows lists and people of a realm, from now on.
func (n *Node) Follow(at presence.Instant, id Realm, f Follow) {
	n.runs(at)
	r := n.realms[id]
	if r == nil {
		return
	}
	for _, wish := range f.Wishes {
		r.lists.wishes.add(wish)
	}
	for _, subject := range f.People {
		r.lists.people[subject] = false
	}
	n.toOwner(r, f)
}

// Unfollow ends that.
func (n *Node) Unfollow(at presence.Instant, id Realm, u Unfollow) {
	n.runs(at)
	r := n.realms[id]
	if r == nil {
		return
	}
	for _, wish := range u.Wishes {
		r.lists.wishes.remove(wish)
	}
	for _, subject := range u.People {
		delete(r.lists.people, subject)
	}
	r.lists.forget()
	n.toOwner(r, u)
}

// List returns a followed list, which is not to be changed. It returns false if the owner has not told it yet.
func (n *Node) List(id Realm, topic engine.Topic) (engine.Snapshot, bool) {
	r := n.realms[id]
	if r == nil {
		return engine.Snapshot{}, false
	}
	return r.lists.snapshot(topic)
}

// Follows reports whether a list is followed.
func (n *Node) Follows(id Realm, topic engine.Topic) bool {
	r := n.realms[id]
	return r != nil && r.lists.wishes.want(topic)
}

// Revision returns the revision of a followed list, zero if there is no such room. It returns false if the owner has not
// told it yet.
func (n *Node) Revision(id Realm, topic engine.Topic) (engine.Revision, bool) {
	r := n.realms[id]
	if r == nil {
		return engine.Revision{}, false
	}
	return r.lists.known(topic)
}

// Sight returns a followed person. It returns false if the owner has not told them yet.
func (n *Node) Sight(id Realm, subject engine.Subject) (engine.Sight, bool) {
	r := n.realms[id]
	if r == nil {
		return engine.Sight{}, false
	}
	return r.lists.sights[subject], r.lists.people[subject]
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
	if q.conn == nil {
		n.do(PassAnswer{0, a})
		return
	}
	c := q.conn
	switch in := q.request.Input.(type) {
	case presence.Hello:
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
			n.do(Close{Conn: c.conn, Why: why, Cut: e})
		}
	case presence.AskBeat:
		c := r.carrier.links[e.Link]
		if c == nil {
			n.toOwner(r, Say{presence.LinkLost{Link: e.Link}})
			return
		}
		if c.unanswered == 0 {
			c.unanswered = n.mono()
		}
		n.toOwner(r, Say{presence.BeatWritten{To: e.Link, Probe: e.Probe}})
		n.do(WriteBeat{c.conn, e.Probe})
	case presence.TakenOut:
		if c := r.carrier.links[e.Link]; c != nil {
			c.leave(e.Room)
			if !r.leaves(c, e.Room) { // otherwise the answer says so
				n.do(Tell{c.conn, e})
			}
		}
	case presence.WarnExpiry:
		n.tellOne(r, e.Link, e)
	case presence.OwnChanged:
		for _, c := range n.tellAll(r, e.Links, e) {
			c.fact.Hidden, c.fact.Told.Set = e.Hidden, e.Set
		}
	case presence.AskAnswered:
		for _, c := range n.tellAll(r, e.Links, e) {
			c.asksNoLonger(e.Room)
			if e.Outcome == presence.Admitted {
				c.enter(e.Room)
			}
		}
	case presence.InvitationAnswered:
		n.tellAll(r, e.Links, e)
	case presence.PassEnded:
		n.tellAll(r, e.Links, e)
	case presence.InvitationsChanged:
		for _, c := range n.tellAll(r, e.Links, e) {
			c.fact.Told.Invitations = e.IDs()
		}
	}
}

// tellOne tells the client of a link an effect. It returns nil if the link is gone.
func (n *Node) tellOne(r *realm, link presence.LinkID, effect presence.Effect) *carried {
	c := r.carrier.links[link]
	if c != nil {
		n.do(Tell{c.conn, effect})
	}
	return c
}

func (n *Node) tellAll(r *realm, links []presence.LinkID, effect presence.Effect) (told []*carried) {
	for _, link := range links {
		if c := n.tellOne(r, link, effect); c != nil {
			told = append(told, c)
		}
	}
	return told
}

// reporting is a report of a realm's links that is sent in parts.
type reporting struct {
	realm *realm
	owner Known
	links []*carried // that are not reported yet
	read  uint64
	begun bool
}

// report begins to report all links to the owner. When it has, it repeats the requests that wait.
func (n *Node) report(r *realm) {
	is := &reporting{realm: r, owner: r.known, read: n.of(r.known.Owner).got}
	for _, links := range []map[presence.LinkID]*carried{r.carrier.gone, r.carrier.links} {
		for _, link := range sortedLinks(links) {
			is.links = append(is.links, links[link])
		}
	}
	out := &n.of(r.known.Owner).out
	out.reports = slices.DeleteFunc(out.reports, func(other *reporting) bool { return other.realm == r })
	out.reports = append(out.reports, is)
	r.lists.stale()
}

// reportPart sends the next part of a report. It returns true after the last one.
func (n *Node) reportPart(to Name, is *reporting) (over bool) {
	r := is.realm
	if r.known != is.owner {
		return true // it will be reported to the next owner
	}
	part := is.links[:min(len(is.links), 1+n.Credit/8/factWeight)]
	is.links = is.links[len(part):]
	report := Report{Read: is.read, First: !is.begun, Last: len(is.links) == 0}
	is.begun = true
	for _, c := range part {
		report.Facts = append(report.Facts, n.fact(r, c))
	}
	last := n.say(to, ToOwner{r.id, report})
	if !report.Last {
		return false
	}
	r.reported.epoch, r.reported.last = is.owner.Epoch, last
	for _, attempt := range slices.Sorted(maps.Keys(r.carrier.requests)) {
		n.toOwner(r, r.carrier.requests[attempt].request)
	}
	n.follow(r)
	return true
}

// follow asks for what is followed and not answered.
func (n *Node) follow(r *realm) {
	if f := r.lists.unanswered(); len(f.Wishes)+len(f.People) > 0 {
		n.toOwner(r, f)
	}
}

func (n *Node) fact(r *realm, c *carried) presence.Fact {
	f := c.fact
	f.Heard, f.Active, f.Unanswered = n.mono()-c.heard, n.mono()-c.active, -1
	if c.unanswered > 0 {
		f.Unanswered = n.mono() - c.unanswered
	}
	f.Session.Rooms = slices.Clone(f.Session.Rooms)
	f.Reported = nil
	for _, room := range slices.Sorted(maps.Keys(c.typing)) {
		is := c.typing[room].RoomReports
		is.Ago = n.mono() - c.typing[room].at
		f.Reported = append(f.Reported, is)
	}
	f.Confirmed = n.confirms(r, c)
	return f
}

func (n *Node) confirms(r *realm, c *carried) bool {
	c.confirmed = c.confirmed || n.Records.Confirmed(r.id, c.link.Session)
	return c.confirmed
}

// mostConfirmed is how many openings are looked up between two heartbeats.
const mostConfirmed = 200

// confirm looks up openings ahead of the next report, which must be quick.
func (n *Node) confirm(r *realm) {
	for range min(mostConfirmed, len(r.carrier.unconfirmed)) {
		c := r.carrier.unconfirmed[0]
		r.carrier.unconfirmed = r.carrier.unconfirmed[1:]
		if r.carrier.links[c.link] == c && !n.confirms(r, c) {
			r.carrier.unconfirmed = append(r.carrier.unconfirmed, c)
		}
	}
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
