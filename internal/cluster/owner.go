package cluster

import (
	"maps"
	"time"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// phase is a stage in the life of an owner.
type phase uint8

const (
	begins  phase = iota // its begins is not in the log yet
	reading              // its node's records are read, and an engine continues with them
	barrier              // it waits for reports
	active               // it answers and seals
	ending               // it takes no more inputs, and hands over
)

// owner runs the core of a realm under one epoch.
type owner struct {
	realm   *realm
	epoch   Epoch
	phase   phase
	node    *Node
	engine  *engine.Engine   // nil before the barrier
	savedAt presence.Instant // when it began to continue
	passAt  time.Duration    // when the engine has something to do

	since    time.Duration // of the phase
	handover bool          // the previous owner hands over
	yields   Epoch         // whose owner gets the realm from this one; 0: none
	yieldAt  time.Duration // when it gets it at the latest
	prepared Epoch         // whose owner has read ahead
	beginID  string
	early    []queued      // reports that came before the core was restored
	waiting  []queued      // what came while the owner may not answer
	missing  map[Name]bool // nodes whose reports the barrier waits for
	links    map[presence.LinkID]carriedBy
	orphans  []presence.LinkID                 // live links that no node is known to carry: they are silent
	pending  map[uint64]Name                   // hellos that wait for a probe, and the carrier to answer
	seated   map[Name]bool                     // carriers whose first report has come
	reported map[Name]map[presence.LinkID]bool // reports under way: the links in them, and whether they are carried
	follows  map[Name]*follower
	maker    Maker
	commands []command                // to answer once they are on record
	settling []command                // those that the record on its way has
	recorded []command                // those that are on record
	removed  []presence.PersonRemoved // since the last record
	answered map[uint64]answered
	forgotAt time.Duration // when old answers were forgotten
	overflow bool          // something that waited was dropped

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

// command is a request that is answered when it is on record, with its answer and what it changes in
// the records beside its consequences.
type command struct {
	from   Name
	answer Answer
	change any
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
	o := &owner{node: n, realm: r, epoch: is.Epoch, since: n.mono(), handover: is.Handover, beginID: n.NewID(), missing: map[Name]bool{},
		links: map[presence.LinkID]carriedBy{}, pending: map[uint64]Name{}, seated: map[Name]bool{}, reported: map[Name]map[presence.LinkID]bool{}, follows: map[Name]*follower{},
		answered: map[uint64]answered{}}
	r.owner = o
	if o.handover {
		n.do(Prepare{r.id, o.epoch})
	}
	n.appendBegins(o)
}

// appendBegins appends the first record, expecting the last one of a lower epoch. In a handover it
// waits for the end of the previous owner first.
func (n *Node) appendBegins(o *owner) {
	to := o.realm.log
	if to.Epoch >= o.epoch {
		n.drop(o.realm)
		return
	}
	if o.handover && to.Ended != o.epoch-1 && n.mono()-o.since < n.Timings.Wait {
		return // the next pass tries again
	}
	r := n.record(KindBegins)
	r.ID, r.Time = o.beginID, to.Time
	n.append(o, r)
}

// append appends a record, expecting the realm's last record that this node has applied. The log
// refuses it once another owner has begun.
func (n *Node) append(o *owner, r Record) {
	r.Realm, r.Epoch = o.realm.id, o.epoch
	o.appending, o.appendAt, o.retry = &r, n.mono(), false
	n.do(Append{Record: r, After: o.realm.log.Last})
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
		n.readSaved(o)
	case KindEnds:
		n.drop(o.realm)
	case KindBatch:
		o.recorded, o.settling = append(o.recorded, o.settling...), nil
		n.answerRecorded(o)
		n.yieldIfReady(o)
	}
}

// answerRecorded answers the commands that are on record.
func (n *Node) answerRecorded(o *owner) {
	if o.frozen {
		return
	}
	for _, c := range o.recorded {
		n.down(o, c.from, c.answer)
	}
	o.recorded = nil
}

// readSaved has the records read, and asks all living nodes to report their links meanwhile.
func (n *Node) readSaved(o *owner) {
	n.began.Log += n.mono() - o.since
	o.phase, o.since = reading, n.mono()
	n.learn(o.realm, Known{o.epoch, n.Name})
	n.do(ReadSaved{o.realm.id, o.epoch})
	for _, name := range n.names {
		// A node that has just started, or was cut off a moment ago, has not heard from all living nodes yet.
		if !n.dead(name) {
			o.missing[name] = true
			if !o.unproven {
				n.down(o, name, WantReport{})
			}
		}
	}
}

// Saved takes the recorded state of a realm that this node has begun to own (see [ReadSaved]), and has an engine continue
// with it.
func (n *Node) Saved(at presence.Instant, id Realm, epoch Epoch, is presence.Saved) {
	n.runs(at)
	o := n.reads(id, epoch)
	if o == nil {
		return
	}
	o.maker, o.savedAt = n.NewMaker(id), n.at
	next := engine.New(engine.Options{Policy: n.policyOf(o.realm), Sink: o, Links: o, Recorder: o, Epoch: uint32(o.epoch), Now: o.now,
		NewRun: func(view presence.View) string { return runOf(o.epoch, n.NewRun(view)) }})
	to := o.realm.log
	first := to.Marks == 0
	n.do(Continue{id, epoch, next, is, presence.Takeover{Time: to.Time, Wall: to.Wall, Whole: !first && to.Ended == o.epoch-1, First: first}})
}

// Run has the engine continue. Nothing else may use the engine until this is done.
func (c Continue) Run() {
	if err := c.Engine.Continue(c.Saved, c.From); err != nil {
		panic("cluster: what is on record does not restore: " + err.Error())
	}
}

// Continued takes the engine of a realm once it has continued (see [Continue]), and begins the barrier: all living nodes
// report their links before the owner says anything.
func (n *Node) Continued(at presence.Instant, id Realm, epoch Epoch, with *engine.Engine) {
	n.runs(at)
	o := n.reads(id, epoch)
	if o == nil {
		return
	}
	o.engine = with
	n.began.Records += n.mono() - o.since
	o.phase, o.since = barrier, n.mono()
	o.frozen, o.frozenAt = o.unproven, n.mono()
	early := o.early
	o.early = nil
	for _, q := range early {
		n.takeUp(o, q.from, q.what)
	}
}

// reads returns the owner of a realm if it has begun an epoch and has no engine yet.
func (n *Node) reads(id Realm, epoch Epoch) *owner {
	r := n.realms[id]
	if r == nil || r.owner == nil || r.owner.epoch != epoch || r.owner.phase != reading {
		return nil
	}
	return r.owner
}

// now is the engine's clock. It stands still until the engine has continued, because the node's goes on meanwhile.
func (o *owner) now() presence.Instant {
	if o.engine == nil {
		return o.savedAt
	}
	return o.node.at
}

// activate ends the barrier. It answers the hellos that waited, lets time run, and seals, in this
// order.
func (n *Node) activate(o *owner) {
	n.note("is active for realm %d in epoch %d; %d carriers have not reported", o.realm.id, o.epoch, len(o.missing))
	n.began.Reports += n.mono() - o.since
	o.phase, o.since = active, n.mono()
	n.do(Owns{o.realm.id, o.realm.log.Name, true})
	o.engine.UnseatOthers()
	o.engine.SealAll()
	if o.frozen {
		return
	}
	n.release(o)
	o.engine.GoOn()
	n.pass(o)
}

// mostQueued limits what waits for an owner that may not answer.
const mostQueued = 100_000

// wait keeps a message until the owner may answer. Beyond the limit, and for reports, which age, the owner
// asks for reports instead.
func (o *owner) wait(q queued) {
	_, report := q.what.(Report)
	if report || len(o.waiting) >= mostQueued {
		o.overflow = true
		return
	}
	o.waiting = append(o.waiting, q)
}

// release handles what has waited.
func (n *Node) release(o *owner) {
	if o.overflow {
		o.overflow = false
		n.wantReports(o)
	}
	waiting := o.waiting
	o.waiting = nil
	withdrawn := map[uint64]bool{}
	for _, a := range waiting {
		if up, ok := a.what.(GiveUp); ok {
			withdrawn[up.Attempt] = true
		}
	}
	for _, a := range waiting {
		if request, ok := a.what.(Request); !ok || !withdrawn[request.Attempt] {
			n.takeUp(o, a.from, a.what)
		}
	}
}

// mayAsk reports whether the owner may ask a node for a report.
func (o *owner) mayAsk() bool {
	switch o.phase {
	case begins:
		return false
	case reading, barrier:
		return !o.unproven
	}
	return !o.frozen
}

// wantReports asks all nodes that are heard for a report.
func (n *Node) wantReports(o *owner) {
	for _, name := range n.names {
		if n.hears(name) {
			n.down(o, name, WantReport{})
		}
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
	wait := time.Duration(0)
	for wait == 0 {
		wait = o.engine.Pass()
		for _, link := range o.orphans {
			o.engine.Unseat(link)
			wait = 0
		}
		o.orphans = nil
	}
	o.passAt = never
	if wait < never-n.mono() {
		o.passAt = n.mono() + wait
	}
}

// passSoon has the next Tick let time pass if something is due. With many messages, what becomes due meanwhile is done at once.
func (n *Node) passSoon(o *owner) {
	o.passAt = o.engine.Due()
	if len(o.orphans) > 0 {
		o.passAt = n.mono()
	}
}

// takeUp handles a message of a carrier.
func (n *Node) takeUp(o *owner, from Name, what Up) {
	if up, ok := what.(Prepared); ok {
		o.prepared = up.Epoch
		n.yieldIfReady(o)
		return
	}
	if report, ok := what.(Report); ok {
		switch {
		case o.phase == reading && len(o.early) < mostQueued:
			o.early = append(o.early, queued{from, report})
			return
		case o.phase == barrier || o.phase == active && !o.frozen:
			n.reseat(o, from, report)
			return
		}
	}
	if !o.speaks() {
		o.wait(queued{from, what})
		return
	}
	switch up := what.(type) {
	case Request:
		n.takeRequest(o, from, up)
	case Say:
		_, _ = o.engine.Give(up.Input)
	case GiveUp:
		if up.Session != "" {
			_, _ = o.engine.Give(presence.Withdraw{Session: up.Session, Attempt: up.Attempt})
		}
		delete(o.pending, up.Attempt)
	case Pass:
		o.passOn(up)
	case Follow, Unfollow, Want:
		n.takeFollow(o, from, up)
	}
	n.passSoon(o)
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
	var reply presence.Reply
	var err error
	if q := request.Question; q != nil {
		n.down(o, from, Answer{Attempt: request.Attempt, Method: q.Method, Values: q.ask(o.engine)})
		return
	}
	if erase, ok := request.Input.(presence.Erase); ok {
		o.engine.Erase(erase.User)
	} else if request.Input != nil {
		o.pending[request.Attempt] = from // it may be settled at once
		if reply, err = o.engine.Give(request.Input); reply.Pending {
			return
		}
		delete(o.pending, request.Attempt)
	}
	if err == nil && (request.Change != nil || lasts(request.Input)) {
		o.commands = append(o.commands, command{from, Answer{Attempt: request.Attempt, Reply: reply}, request.Change})
		return
	}
	n.answer(o, from, Answer{Attempt: request.Attempt, Reply: reply, Err: err})
}

// lasts reports whether the answer to an input promises that its outcome outlasts everything.
func lasts(in presence.Input) bool {
	switch in.(type) {
	case presence.Remove, presence.SetStatus, presence.Hide, presence.Erase, presence.GrantPass, presence.RevokePass, presence.Declare, presence.SignOut,
		presence.AnswerAsk, presence.DecideAsk:
		return true
	}
	return false
}

// answer answers a request. The receiver carries the link in the answer.
func (n *Node) answer(o *owner, to Name, a Answer) {
	sent := n.down(o, to, a)
	if a.Err == nil && a.Reply.Link.Session != "" {
		o.links[a.Reply.Link] = carriedBy{to, sent}
		if n.mono()-o.forgotAt > n.Timings.Wait { // not for each of many hellos
			o.forgotAt = n.mono()
			maps.DeleteFunc(o.answered, func(_ uint64, was answered) bool { return n.mono()-was.at > 2*n.Timings.Wait })
		}
		o.answered[a.Attempt] = answered{a, n.mono()}
	}
}

// down sends a message to a carrier, and returns its number.
func (n *Node) down(o *owner, to Name, what Down) uint64 {
	return n.say(to, FromOwner{Realm: o.realm.id, Epoch: o.epoch, What: what})
}

// write appends the people who have changed. Presence does not wait for it.
func (n *Node) write(o *owner) {
	if o.phase < barrier {
		return
	}
	if o.appending != nil {
		if o.retry && n.mono()-o.appendAt > n.Timings.Flush {
			n.append(o, *o.appending)
		}
		return
	}
	if (!o.speaks() && o.phase != ending) || !n.lacksRecord(o) {
		return
	}
	r := n.record(KindBatch)
	r.Time = o.engine.Time()
	r.Rows = o.maker.Rows(n.at.Wall, o.engine.Save)
	for _, c := range o.commands {
		if c.change != nil {
			r.Changes = append(r.Changes, c.change)
		}
	}
	o.settling, o.commands = o.commands, nil
	r.Removed, o.removed = o.removed, nil
	n.append(o, r)
}

// lacksRecord reports whether something is not on record, or on its way there.
func (n *Node) lacksRecord(o *owner) bool {
	return o.maker.Pending(n.at.Wall) || len(o.commands) > 0
}
