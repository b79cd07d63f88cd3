package nodes

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// host is a machine with a node: its clock, its records, its connections and what its receivers see.
type host struct {
	world       *world
	name        cluster.Name
	place       int
	skew        time.Duration // of its time of day
	incarnation cluster.Incarnation
	up          bool
	began       time.Duration // when it started last
	paused      time.Duration // until when it stands still
	stood       time.Duration // for how long
	deaf        bool          // what comes while it stands still is lost, as when its buffers are full
	node        *cluster.Node
	records     *replica
	read        cluster.Position // up to where it has read the log
	fold        cluster.Fold     // what the log says there
	waiting     []cluster.Record // whose rows are to be put
	putBy       time.Duration    // when that must be done, if there are any
	applying    bool
	planned     bool // it ticks next at tickAt
	tickAt      time.Duration
	plans       int
	conns       map[cluster.ConnID]*connection
	seen        map[cluster.Realm]*sight
	knows       cluster.Format // the newest that its version knows
	older       bool           // an older version was started on purpose
	tap         func(cluster.Envelope)
}

// sight is what the receivers of a host see of a realm.
type sight struct {
	epoch  cluster.Epoch
	wishes []cluster.Wish
	people []engine.Subject
	topics map[engine.Topic]*seen
	sights map[engine.Subject]engine.Sight
}

// seen is a list as receivers have it, from batches alone.
type seen struct {
	revision engine.Revision
	members  map[presence.UserID]presence.Member
	typists  []presence.UserID
}

// replica is what a host has of the log. Its rows may survive the node.
type replica struct {
	table
	position cluster.Position
	fold     cluster.Fold
}

func (w *world) newReplica() *replica {
	return &replica{table: w.newTable(), fold: w.broker.begins.Clone()}
}

func (h *host) at() presence.Instant {
	return presence.Instant{Mono: h.world.now, Wall: h.world.wall(h.skew)}
}

// receive gives the node a message, unless a test wants it.
func (h *host) receive(e cluster.Envelope) {
	if h.tap != nil {
		h.tap(e)
		return
	}
	h.node.Receive(h.at(), e)
}

func (h *host) runs() bool { return h.up && h.paused <= h.world.now }

// start begins an incarnation, with its old records or with none.
func (h *host) start(disk bool) {
	w := h.world
	h.incarnation++
	h.up, h.began, h.paused, h.applying, h.planned = true, w.now, 0, false, false
	switch {
	case h.records == nil:
		h.records = w.newReplica()
	case !disk:
		h.records.close()
		h.records = w.newReplica()
	}
	h.read, h.fold, h.waiting = h.records.position, h.records.fold.Clone(), nil
	h.conns, h.seen = map[cluster.ConnID]*connection{}, map[cluster.Realm]*sight{}
	keepers, timings := w.names[:min(3, len(w.names))], cluster.DefaultTimings()
	if w.External {
		keepers, timings = nil, cluster.ExternalTimings()
	}
	h.node = cluster.NewNode(cluster.Config{Name: h.name, Incarnation: h.incarnation, Nodes: w.names, LogNodes: keepers, Fold: h.fold.Clone(), Knows: h.knows,
		Policy: func(string) presence.Policy { return w.policy }, Timings: timings, Credit: w.credit, Records: h.records, NewMaker: func(realm cluster.Realm) cluster.Maker { return h.records.maker(realm, h.world.wall(h.skew)) }, NewID: func() string { return fmt.Sprint("record-", w.id()) }, NewRun: w.newRun,
		Story: func(format string, args ...any) {
			if w.Story {
				w.tell("%s "+format, append([]any{h.name}, args...)...)
			}
		}}, h.at())
	h.run(func() {})
	h.wake()
}

// follow follows lists and people of a realm.
func (h *host) follow(realm cluster.Realm) {
	w := h.world
	is := &sight{topics: map[engine.Topic]*seen{}, sights: map[engine.Subject]engine.Sight{}, wishes: []cluster.Wish{{Pattern: "**", View: presence.Full}, {Pattern: "desk.night", View: presence.Open}}}
	for range 3 {
		subject := engine.Subject{User: w.people[w.random.IntN(len(w.people))].id, View: presence.View(w.random.IntN(2))}
		if !slices.Contains(is.people, subject) {
			is.people = append(is.people, subject)
		}
	}
	h.seen[realm] = is
	h.node.Follow(h.at(), realm, cluster.Follow{Wishes: is.wishes, People: is.people})
}

// later runs something on this incarnation after a while.
func (h *host) later(d time.Duration, do func()) {
	incarnation := h.incarnation
	h.world.in(d, func() { h.runAs(incarnation, do) })
}

// run runs something on the node now, or when it stands still no longer.
func (h *host) run(do func()) { h.runAs(h.incarnation, do) }

func (h *host) runAs(incarnation cluster.Incarnation, do func()) {
	switch {
	case !h.up || h.incarnation != incarnation:
	case h.paused > h.world.now:
		h.world.in(h.paused-h.world.now, func() { h.runAs(incarnation, do) })
	default:
		do()
		h.acts()
		h.plan()
	}
}

// plan plans the next tick.
func (h *host) plan() {
	w := h.world
	due := h.node.Due()
	if h.tap != nil || h.planned && h.tickAt <= due {
		return
	}
	h.planned, h.tickAt = true, due
	h.plans++ // plans of before are void
	plan := h.plans
	w.in(max(due-w.now, 0)+w.between(50*time.Microsecond, time.Millisecond), func() {
		if plan == h.plans {
			h.run(func() {
				h.planned = false
				h.node.Tick(h.at())
			})
		}
	})
}

// acts does what the node wants.
func (h *host) acts() {
	for acts := h.node.Acts(); len(acts) > 0; acts = h.node.Acts() {
		for _, act := range acts {
			if !h.up {
				return
			}
			h.act(act)
		}
	}
}

func (h *host) act(act cluster.Act) {
	w := h.world
	var log cluster.Log = port{&w.broker, h}
	var table cluster.Table = port{&w.broker, h}
	var bus cluster.Bus = port{&w.broker, h}
	switch act := act.(type) {
	case cluster.Send:
		h.mayNotSay(act.Envelope)
		bus.Send(act.To, act.Envelope)
	case cluster.Append:
		log.Append(act.Record, act.After, func(outcome cluster.Outcome) { h.node.Appended(h.at(), act.Record.ID, outcome) })
	case cluster.Prepare:
		h.records.Prepare(act.Realm)
		h.later(w.between(0, 1500*time.Millisecond), func() { h.node.Prepared(h.at(), act.Realm, act.Epoch) })
	case cluster.ReadSaved:
		is := h.records.State(act.Realm)
		h.later(w.between(0, 300*time.Millisecond), func() { h.node.Saved(h.at(), act.Realm, act.Epoch, is) })
	case cluster.Continue:
		act.Run()
		h.later(w.between(0, 300*time.Millisecond), func() { h.node.Continued(h.at(), act.Realm, act.Epoch, act.Engine) })
	case cluster.ReadTable:
		table.Read(func(owners cluster.Owners, ok bool) { h.node.Table(h.at(), owners, ok) })
	case cluster.SwapTable:
		table.Swap(act.Version, act.To, func(outcome cluster.Outcome) { h.node.Swapped(h.at(), outcome) })
	case cluster.PassAnswer:
		if act.Conn == 0 {
			if done := w.answers[act.Answer.Attempt]; done != nil {
				done(act.Answer)
			}
		} else if c := h.conns[act.Conn]; c != nil {
			c.answered(act.Answer)
		}
	case cluster.WriteBeat:
		if c := h.conns[act.Conn]; c != nil {
			c.toPage(func() { c.page.asked(c) })
		}
	case cluster.Close:
		if c := h.conns[act.Conn]; c != nil {
			delete(h.conns, act.Conn)
			c.openHere = false
			if act.Why == cluster.CloseNotReady && c.page.session == "" { // another one may wait for a probe
				w.notReady(h, c.page.person.realm)
			}
			c.toPage(func() { c.page.closed(c, act.Why) })
		}
	case cluster.Show:
		h.show(act)
	case cluster.Tell:
		if c := h.conns[act.Conn]; c != nil {
			c.toPage(func() { c.page.told(c, act.Effect) })
		}
	case cluster.RealmMade:
		h.follow(act.Realm)
	case cluster.RealmGone:
		delete(h.seen, act.Realm)
	case cluster.Halt:
		w.halts(h, act.Why)
	}
}

// wake lets the host apply what is new in the log, soon.
func (h *host) wake() {
	if h.applying || !h.up {
		return
	}
	h.applying = true
	d := h.world.between(300*time.Microsecond, 8*time.Millisecond)
	if h.world.chance(0.01) { // a slow disk
		d = h.world.between(0, 800*time.Millisecond)
	}
	h.later(d, func() {
		h.applying = false
		if !h.world.broker.serves(h) {
			h.later(100*time.Millisecond, h.wake)
			return
		}
		h.apply(cluster.Position(len(h.world.broker.log)))
	})
}

// apply applies the log up to a position. It puts the rows of the records that apply before, or later if the node does
// not await them; a node that dies meanwhile reads them again. The rows depend on the log alone.
func (h *host) apply(upTo cluster.Position) {
	from, now := h.read, false
	for h.read < upTo {
		r := h.world.broker.log[h.read]
		verdict := h.fold.Take(h.read+1, r, h.knows)
		if verdict == cluster.Unreadable {
			now = true
			break
		}
		h.read++
		if verdict == cluster.Applies && r.HasRows() {
			if len(h.waiting) == 0 {
				h.putBy = h.world.now + cluster.GatherFor
				h.later(cluster.GatherFor, h.putDue)
			}
			h.waiting = append(h.waiting, r)
		}
		now = now || h.node.Awaits(&r)
	}
	if now {
		h.put()
	}
	for at := from; at < upTo && h.up; at++ {
		h.node.Applied(h.at(), at+1, h.world.broker.log[at])
	}
}

func (h *host) putDue() {
	if h.world.now >= h.putBy {
		h.put()
	}
}

// put puts the rows that are waiting.
func (h *host) put() {
	if len(h.waiting) == 0 {
		return
	}
	to := h.records
	to.position, to.fold = h.read, h.fold.Clone()
	if err := to.Put(to.position, to.fold, h.waiting); err != nil {
		panic(err)
	}
	h.waiting = nil
}

// die ends the node. Its clients notice it at once, or only by silence.
func (h *host) die(reset bool) {
	h.up = false
	for _, id := range slices.Sorted(maps.Keys(h.conns)) {
		c := h.conns[id]
		c.openHere = false
		if reset {
			h.world.in(h.world.between(0, 50*time.Millisecond), func() {
				if c.openThere {
					c.page.loses(c, "reset")
				}
			})
		}
	}
	h.conns = nil
}

// show shows changes to the receivers of this host.
func (h *host) show(act cluster.Show) {
	w, to := h.world, h.seen[act.Realm]
	if to == nil {
		w.breaks(RealmsEnd, "%s shows something of realm %d, which has ended there", h.name, act.Realm)
		return
	}
	if act.Epoch < to.epoch {
		w.breaks(NobodyGoesBack, "%s was at epoch %d of realm %d and is shown %d", h.name, to.epoch, act.Realm, act.Epoch)
	}
	to.epoch = act.Epoch
	switch what := act.What.(type) {
	case *engine.Batch:
		h.change(act.Realm, to, what)
	case engine.Typists:
		if is := to.topics[what.Topic]; is != nil {
			is.typists = what.Users
		}
	case engine.Sight:
		to.sights[what.Subject] = what
	}
}

func (h *host) change(realm cluster.Realm, to *sight, b *engine.Batch) {
	w := h.world
	is := to.topics[b.Topic]
	if is == nil {
		is = &seen{members: map[presence.UserID]presence.Member{}}
		to.topics[b.Topic] = is
	} else if b.Follows() != is.revision {
		w.breaks(ChangesFollow, "%s has %v of %v and gets %v after %v", h.name, is.revision, b.Topic, b.Revision, b.Follows())
	}
	is.revision = b.Revision
	for _, list := range [][]presence.Member{b.Joined, b.Changed, b.Doing} {
		for _, m := range list {
			_, was := is.members[m.User]
			is.members[m.User] = m
			if !was && b.View == presence.Full {
				w.sawJoin(h, realm, b.Room, m.User)
			}
		}
	}
	for _, d := range b.Left {
		delete(is.members, d.User)
		if b.View == presence.Full {
			w.sawLeave(h, realm, b.Room, d.User)
		}
	}
	if b.Ended {
		delete(to.topics, b.Topic)
	}
}
