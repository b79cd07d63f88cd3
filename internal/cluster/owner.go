package cluster

import (
	"maps"
	"slices"
	"time"

	"tovik.example/tovik/internal/presence"
)

// phase is a stage in the life of an owner.
type phase uint8

const (
	begins  phase = iota // its begins is not in the log yet
	barrier              // it has restored the core, and waits for reports
	active               // it answers and seals
	ending               // it takes no more inputs, and hands over
)

// owner runs the core of a realm under one epoch.
type owner struct {
	realm *realm
	epoch Epoch
	phase phase
	core  *presence.Core
	fx    presence.Effects

	since    time.Duration // of the phase
	handover bool          // the previous owner hands over
	beginID  string
	waiting  []queued      // what came while the owner may not answer
	missing  map[Name]bool // nodes whose reports the barrier waits for
	links    map[presence.LinkID]carriedBy
	pending  map[uint64]Name // hellos that wait for a probe, and the carrier to answer
	seated   map[Name]bool   // carriers whose first report has come
	follows  map[Name]bool
	revision uint64
	changes  []Change
	touched  map[presence.UserID]bool
	commands []queued // requests to answer once they are on record
	answered map[uint64]answered

	appending *Record // at most one at a time
	appendAt  time.Duration
	retry     bool

	// A frozen owner stays silent, and its time stands still.
	frozen   bool
	frozenAt time.Duration
	unproven bool   // the node stood still: a mark must prove that it was not replaced
	proof    string // the id of that mark
	sentAway bool
}

// queued is a message of a carrier that waits.
type queued struct {
	from Name
	what Up
}

// carriedBy is the carrier of a link, and the number of the message that gave it the link.
type carriedBy struct {
	carrier Name
	sent    uint64
}

// answered is a recent answer to a hello, in case the hello comes again.
type answered struct {
	Answer
	at time.Duration
}

// begin begins an epoch. Its first record fences the previous owner.
func (n *Node) begin(r *realm, is Ownership) {
	n.drop(r)
	r.begun = is.Epoch
	o := &owner{realm: r, epoch: is.Epoch, since: n.mono(), handover: is.Handover, beginID: n.NewID(), missing: map[Name]bool{},
		links: map[presence.LinkID]carriedBy{}, pending: map[uint64]Name{}, seated: map[Name]bool{}, follows: map[Name]bool{}, touched: map[presence.UserID]bool{},
		answered: map[uint64]answered{}}
	r.owner = o
	n.appendBegins(o)
}

// appendBegins appends the first record, expecting the last one of a lower epoch. In a handover it
// waits for the end of the previous owner first.
func (n *Node) appendBegins(o *owner) {
	to := o.realm.record
	if to.epoch >= o.epoch {
		n.drop(o.realm)
		return
	}
	if o.handover && to.ended != o.epoch-1 && n.mono()-o.since < n.Timings.Wait {
		return // the next pass tries again
	}
	n.append(o, Record{ID: o.beginID, Kind: KindBegins, Realm: o.realm.id, Epoch: o.epoch, Node: n.Name, Wall: n.at.Wall.UnixMilli(), Time: to.mark.Time})
}

// append appends a record, expecting the realm's last record that this node has applied. The log
// refuses it once another owner has begun.
func (n *Node) append(o *owner, r Record) {
	o.appending, o.appendAt, o.retry = &r, n.mono(), false
	n.do(Append{Record: r, After: o.realm.record.last})
}

// appended handles the outcome. A record that was refused, or whose outcome is unknown, is appended
// again under the same id.
func (n *Node) appended(o *owner, outcome Outcome) {
	if outcome != Done {
		o.retry, o.appendAt = true, n.mono()
	}
}

// appliedOwn handles an applied record of this epoch.
func (n *Node) appliedOwn(o *owner, r Record) {
	if o.appending == nil || o.appending.ID != r.ID {
		return
	}
	o.appending = nil
	switch r.Kind {
	case KindBegins:
		n.restore(o)
	case KindEnds:
		n.drop(o.realm)
	case KindBatch:
		for _, c := range o.commands {
			request := c.what.(Request)
			n.down(o, c.from, Answer{Attempt: request.Attempt})
		}
		o.commands = nil
	}
}

// restore makes the core that continues, and begins the barrier: all living nodes report their
// links before the owner says anything.
func (n *Node) restore(o *owner) {
	to := o.realm.record
	o.core = presence.NewCore(n.Policy)
	o.core.SetEpoch(uint32(o.epoch))
	from := presence.Takeover{Time: to.mark.Time, Wall: to.wall, Whole: to.ended == o.epoch-1}
	if err := o.core.Continue(n.at, n.Records.State(o.realm.id), from, &o.fx); err != nil {
		panic("cluster: what is on record does not restore: " + err.Error())
	}
	n.effects(o)
	o.phase, o.since = barrier, n.mono()
	n.learn(o.realm, Known{o.epoch, n.Name})
	for _, name := range n.names {
		if n.hears(name) {
			o.missing[name] = true
			n.down(o, name, WantReport{})
		}
	}
}

// activate ends the barrier. It answers the hellos that waited, lets time run, and seals, in this
// order.
func (n *Node) activate(o *owner) {
	n.note("is active for realm %d in epoch %d; %d carriers have not reported", o.realm.id, o.epoch, len(o.missing))
	o.phase, o.since = active, n.mono()
	o.core.UnseatOthers(n.at, &o.fx)
	n.effects(o)
	if o.frozen {
		return
	}
	n.release(o)
	o.core.GoOn(n.at)
	n.pass(o)
	n.seal(o)
}

// release handles what has waited.
func (n *Node) release(o *owner) {
	waiting := o.waiting
	o.waiting = nil
	for _, a := range waiting {
		n.takeUp(o, a.from, a.what)
	}
}

// speaks reports whether the owner may take inputs, answer and seal.
func (o *owner) speaks() bool { return o.phase == active && !o.frozen }

// pass lets time pass.
func (n *Node) pass(o *owner) {
	switch {
	case o.phase == begins:
		switch {
		case o.appending == nil:
			n.appendBegins(o)
		case o.retry && n.mono()-o.appendAt > n.Timings.Flush:
			n.appendBegins(o)
		}
		return
	case o.phase == barrier && n.mono()-o.since >= n.Timings.Barrier:
		n.activate(o)
	case o.phase == ending:
		n.end(o)
	}
	if !o.speaks() {
		return
	}
	for more := true; more; {
		_, more = o.core.Advance(n.at, 1000, &o.fx)
		n.effects(o)
	}
}

// takeUp handles a message of a carrier.
func (n *Node) takeUp(o *owner, from Name, what Up) {
	if report, ok := what.(Report); ok && o.phase >= barrier && o.phase != ending && (!o.frozen || o.phase == barrier) {
		n.reseat(o, from, report)
		return
	}
	if up, ok := what.(GiveUp); ok {
		o.waiting = slices.DeleteFunc(o.waiting, func(a queued) bool { request, ok := a.what.(Request); return ok && request.Attempt == up.Attempt })
	}
	if !o.speaks() {
		o.waiting = append(o.waiting, queued{from, what})
		return
	}
	switch up := what.(type) {
	case Request:
		n.takeRequest(o, from, up)
	case Say:
		_, _ = o.core.Apply(n.at, up.Input, &o.fx)
	case GiveUp:
		if up.Session != "" {
			_, _ = o.core.Apply(n.at, presence.Withdraw{Session: up.Session, Attempt: up.Attempt}, &o.fx)
		}
		delete(o.pending, up.Attempt)
	case Follow:
		if !o.seated[from] {
			n.down(o, from, WantReport{})
			return
		}
		n.seal(o)
		o.follows[from] = true
		n.down(o, from, Snapshot{o.revision, o.lists()})
	}
	n.effects(o)
}

func (n *Node) takeRequest(o *owner, from Name, request Request) {
	if _, waits := o.pending[request.Attempt]; waits { // the hello comes again
		o.pending[request.Attempt] = from
		return
	}
	if was, ok := o.answered[request.Attempt]; ok { // its answer was lost, or is on its way
		if by, current := o.links[was.Reply.Link]; current && by.carrier == from {
			n.answer(o, from, was.Answer)
			return
		}
	}
	reply, err := o.core.Apply(n.at, request.Input, &o.fx)
	switch in := request.Input.(type) {
	case presence.Hello:
		if reply.Pending {
			o.pending[request.Attempt] = from
			return
		}
	case presence.Remove: // is answered when it is on record
		o.touched[in.User] = true
		o.commands = append(o.commands, queued{from, request})
		return
	}
	n.answer(o, from, Answer{request.Attempt, reply, err})
}

// answer answers a request. The receiver carries the link in the answer.
func (n *Node) answer(o *owner, to Name, a Answer) {
	n.down(o, to, a)
	if a.Err == nil && a.Reply.Link.Session != "" {
		o.links[a.Reply.Link] = carriedBy{to, n.peers[to].sent}
		o.answered[a.Attempt] = answered{a, n.mono()}
	}
}

func (n *Node) down(o *owner, to Name, what Down) {
	n.send(to, FromOwner{Realm: o.realm.id, Epoch: o.epoch, What: what})
}

// effects carries out the effects of the core.
func (n *Node) effects(o *owner) {
	order := func(link presence.LinkID, effect presence.Effect) {
		if by, ok := o.links[link]; ok {
			n.down(o, by.carrier, Order{effect})
		}
	}
	for _, effect := range o.fx.List {
		switch e := effect.(type) {
		case presence.MemberChanged:
			if e.Views.Has(presence.Full) {
				user := e.After.User
				if e.After.Sessions == 0 {
					user = e.Before.User
				}
				o.changes = append(o.changes, Change{e.Room, user, e.After.Sessions, e.Reason})
			}
		case presence.SessionInGrace:
			n.note("%s over %x is in grace: %s", e.Link.Session, e.Link.Number, e.Reason)
		case presence.SessionEnded:
			n.note("%s over %x has ended: %s", e.Link.Session, e.Link.Number, e.Reason)
		case presence.AskBeat:
			order(e.Link, e)
		case presence.Cut:
			order(e.Link, e)
			delete(o.links, e.Link)
		case presence.TakenOut:
			order(e.Link, e)
		case presence.OwnChanged:
			for _, link := range e.Links {
				order(link, presence.OwnChanged{Links: []presence.LinkID{link}, Set: e.Set, Hidden: e.Hidden})
			}
		case presence.Settled:
			if from, ok := o.pending[e.Attempt]; ok {
				delete(o.pending, e.Attempt)
				n.answer(o, from, Answer{e.Attempt, e.Reply, e.Err})
			}
		}
	}
	for _, user := range o.fx.Touched {
		o.touched[user] = true
	}
	o.fx.Reset()
}

// lists returns all lists of the realm.
func (o *owner) lists() Lists {
	lists := Lists{}
	for _, room := range o.core.Rooms(presence.Full) {
		lists[room] = map[presence.UserID]int{}
		for _, m := range o.core.Members(room, presence.Full) {
			lists[room][m.User] = m.Sessions
		}
	}
	return lists
}

// seal sends the changes to the followers.
func (n *Node) seal(o *owner) {
	if !o.speaks() || len(o.changes) == 0 {
		return
	}
	o.revision++
	maps.DeleteFunc(o.answered, func(_ uint64, was answered) bool { return n.mono()-was.at > 2*n.Timings.Wait })
	for _, name := range n.names {
		if o.follows[name] {
			n.down(o, name, Batch{o.revision, o.changes})
		}
	}
	o.changes = nil
}

// write appends the people who have changed. Presence does not wait for it.
func (n *Node) write(o *owner) {
	if o.phase == begins {
		return
	}
	if o.appending != nil {
		if o.retry && n.mono()-o.appendAt > n.Timings.Flush {
			n.append(o, *o.appending)
		}
		return
	}
	if (!o.speaks() && o.phase != ending) || len(o.touched) == 0 {
		return
	}
	r := Record{ID: n.NewID(), Kind: KindBatch, Realm: o.realm.id, Epoch: o.epoch, Node: n.Name, Wall: n.at.Wall.UnixMilli(), Time: o.core.Time()}
	for _, user := range slices.Sorted(maps.Keys(o.touched)) {
		if saved, known := o.core.SavePerson(n.at, user); known {
			r.People = append(r.People, saved)
		} else {
			r.Gone = append(r.Gone, user)
		}
	}
	clear(o.touched)
	n.append(o, r)
}

// handOver gives the realm to the owner that the table names. The owner takes no more inputs, writes
// everything, and appends its end.
func (n *Node) handOver(o *owner) {
	if o.phase == ending {
		return
	}
	if o.phase != active || o.frozen {
		n.drop(o.realm)
		return
	}
	n.seal(o)
	o.core.StandStill(n.at)
	o.phase, o.since = ending, n.mono()
	n.end(o)
}

func (n *Node) end(o *owner) {
	n.write(o)
	if o.appending == nil {
		n.append(o, Record{ID: n.NewID(), Kind: KindEnds, Realm: o.realm.id, Epoch: o.epoch, Node: n.Name, Wall: n.at.Wall.UnixMilli(), Time: o.core.Time()})
	}
}

// suspect freezes an owner. Stood says that the node itself stood still: the time since then does
// not count, and a mark must prove that the owner was not replaced.
func (n *Node) suspect(o *owner, stood bool) {
	if o.phase < barrier {
		return
	}
	o.unproven = o.unproven || stood
	if stood {
		o.proof = ""
	}
	if o.frozen {
		return
	}
	n.note("says nothing for realm %d any more; it stood still: %v", o.realm.id, stood)
	o.frozen, o.frozenAt, o.sentAway = true, n.mono(), false
	if stood {
		o.core.StoodStill(n.at)
	} else {
		o.core.StandStill(n.at)
	}
}

// proven handles a mark that this node has applied, with all records before it.
func (n *Node) proven(mark string) {
	for _, id := range n.order {
		if o := n.realms[id].owner; o != nil && o.unproven && o.proof == mark {
			o.unproven = false
			n.trust(o)
		}
	}
}

// doubt freezes an owner while no majority of the log's nodes answers its heartbeats.
func (n *Node) doubt(o *owner) {
	if o.phase < barrier || o.phase == ending {
		return
	}
	answered := n.majority(func(name Name) bool { return name == n.Name || n.mono()-n.peers[name].echoed < n.Timings.Doubt })
	if !answered {
		n.suspect(o, false)
		if o.frozen && n.mono()-o.frozenAt > n.Timings.Away && !o.sentAway {
			o.sentAway = true
			n.sendAway(o.realm)
		}
		return
	}
	n.trust(o)
	if !o.speaks() {
		return
	}
	for _, name := range n.others() {
		if p := n.peers[name]; !p.silent && n.mono()-p.heard > n.Timings.Away {
			p.silent = true
			for _, id := range n.order {
				if other := n.realms[id].owner; other != nil {
					n.unseat(other, name)
				}
			}
		}
	}
}

// trust lets a frozen owner continue when there is no more reason for doubt.
func (n *Node) trust(o *owner) {
	answered := n.majority(func(name Name) bool { return name == n.Name || n.mono()-n.peers[name].echoed < n.Timings.Doubt })
	if !o.frozen || o.unproven || !answered {
		return
	}
	n.note("goes on with realm %d", o.realm.id)
	o.frozen = false
	o.realm.carrier.refusing = false
	if o.phase == active {
		o.core.GoOn(n.at)
		n.release(o)
		n.pass(o)
	}
}
