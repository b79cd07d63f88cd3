package nodes

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"tovik.example/tovik/internal/cluster"
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
	paused      time.Duration // until when it stands still
	deaf        bool          // what comes while it stands still is lost, as when its buffers are full
	node        *cluster.Node
	records     *records
	applying    bool
	conns       map[cluster.ConnID]*connection
	seen        map[cluster.Realm]*sight
	tap         func(cluster.Envelope)
}

// sight has the lists of a realm that the receivers of a host see.
type sight struct {
	epoch cluster.Epoch
	lists cluster.Lists
	first bool // a snapshot has come
}

// records are a host's rows.
type records struct {
	position cluster.Position
	applied  map[string]bool
	highest  map[cluster.Realm]cluster.Epoch
	people   map[cluster.Realm]map[presence.UserID]presence.SavedPerson
	sessions map[presence.SessionID]bool
}

func newRecords() *records {
	return &records{applied: map[string]bool{}, highest: map[cluster.Realm]cluster.Epoch{}, people: map[cluster.Realm]map[presence.UserID]presence.SavedPerson{}, sessions: map[presence.SessionID]bool{}}
}

// State implements [cluster.Records].
func (r *records) State(realm cluster.Realm) presence.Saved {
	saved := presence.Saved{Version: presence.SavedVersion}
	for _, user := range slices.Sorted(maps.Keys(r.people[realm])) {
		saved.People = append(saved.People, r.people[realm][user])
	}
	return saved
}

// Confirmed implements [cluster.Records].
func (r *records) Confirmed(_ cluster.Realm, session presence.SessionID) bool {
	return r.sessions[session]
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
	h.up, h.paused, h.applying = true, 0, false
	if !disk || h.records == nil {
		h.records = newRecords()
	}
	h.conns, h.seen = map[cluster.ConnID]*connection{}, map[cluster.Realm]*sight{}
	for _, realm := range w.realms {
		h.seen[realm] = &sight{lists: cluster.Lists{}}
	}
	h.node = cluster.NewNode(cluster.Config{Name: h.name, Incarnation: h.incarnation, Nodes: w.names, LogNodes: w.names[:min(3, len(w.names))], Realms: w.realms,
		Policy: w.policy, Timings: cluster.DefaultTimings(), Records: h.records, NewID: func() string { return fmt.Sprint("record-", w.id()) },
		Story: func(format string, args ...any) {
			if w.Story {
				w.tell("%s "+format, append([]any{h.name}, args...)...)
			}
		}}, h.at())
	if h.records.position > 0 { // what it has is known to the node
		known := h.records
		h.records = newRecords()
		h.node.Records = h.records
		for h.records.position < known.position {
			h.apply()
		}
	}
	var tick func()
	tick = func() {
		h.node.Tick(h.at())
		h.later(25*time.Millisecond, tick)
	}
	h.later(w.between(0, 500*time.Millisecond), tick)
	h.wake()
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
	}
}

// acts does what the node wants.
func (h *host) acts() {
	w := h.world
	var log cluster.Log = port{&w.broker, h}
	var table cluster.Table = port{&w.broker, h}
	var bus cluster.Bus = port{&w.broker, h}
	for _, act := range h.node.Acts() {
		switch act := act.(type) {
		case cluster.Send:
			bus.Send(act.To, act.Envelope)
		case cluster.Append:
			log.Append(act.Record, act.After, func(outcome cluster.Outcome) { h.node.Appended(h.at(), act.Record.ID, outcome) })
		case cluster.ReadTable:
			table.Read(func(owners cluster.Owners, ok bool) { h.node.Table(h.at(), owners, ok) })
		case cluster.SwapTable:
			table.Swap(act.Version, act.To, func(outcome cluster.Outcome) { h.node.Swapped(h.at(), outcome) })
		case cluster.PassAnswer:
			if act.Conn == 0 {
				w.removalDone(act.Answer.Attempt)
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
				c.toPage(func() { c.page.closed(c, act.Why) })
			}
		case cluster.Show:
			h.show(act)
		}
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
		for int(h.records.position) < len(h.world.broker.log) {
			h.apply()
		}
	})
}

// apply puts the rows of the next record. They depend on the log alone.
func (h *host) apply() {
	r := h.world.broker.log[h.records.position]
	h.records.position++
	to := h.records
	if to.applied[r.ID] {
		if r.Realm != 0 {
			h.node.Passed(h.at(), to.position, r.Realm)
		}
		return
	}
	to.applied[r.ID] = true
	if r.Kind != cluster.KindMark && r.Epoch >= to.highest[r.Realm] {
		to.highest[r.Realm] = r.Epoch
		if to.people[r.Realm] == nil {
			to.people[r.Realm] = map[presence.UserID]presence.SavedPerson{}
		}
		for _, p := range r.People {
			to.people[r.Realm][p.User] = p
			for _, s := range p.Sessions {
				to.sessions[s.ID] = true
			}
		}
		for _, user := range r.Gone {
			delete(to.people[r.Realm], user)
		}
	}
	h.node.Applied(h.at(), to.position, r)
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

// show shows a list, or its changes, to the receivers of this host.
func (h *host) show(act cluster.Show) {
	w, to := h.world, h.seen[act.Realm]
	if act.Epoch < to.epoch {
		w.breaks(NobodyGoesBack, "%s was at epoch %d of realm %d and is shown %d", h.name, to.epoch, act.Realm, act.Epoch)
	}
	to.epoch = act.Epoch
	set := func(room presence.RoomName, user presence.UserID, sessions int) {
		was := to.lists[room][user]
		switch {
		case sessions == 0:
			delete(to.lists[room], user)
		default:
			if to.lists[room] == nil {
				to.lists[room] = map[presence.UserID]int{}
			}
			to.lists[room][user] = sessions
		}
		if was > 0 && sessions == 0 {
			w.sawLeave(h, act.Realm, room, user)
		}
		if was == 0 && sessions > 0 {
			w.sawJoin(h, room, user)
		}
	}
	switch what := act.What.(type) {
	case cluster.Snapshot:
		for _, room := range slices.Sorted(maps.Keys(to.lists)) {
			for _, user := range slices.Sorted(maps.Keys(to.lists[room])) {
				if what.Lists[room][user] == 0 {
					set(room, user, 0)
				}
			}
		}
		for _, room := range slices.Sorted(maps.Keys(what.Lists)) {
			for _, user := range slices.Sorted(maps.Keys(what.Lists[room])) {
				set(room, user, what.Lists[room][user])
			}
		}
		to.first = true
	case cluster.Batch:
		for _, c := range what.Changes {
			set(c.Room, c.User, c.Sessions)
		}
	}
}
