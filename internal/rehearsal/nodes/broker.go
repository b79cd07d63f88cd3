package nodes

import (
	"maps"
	"slices"
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/presence"
)

// broker is a broker on the virtual clock: the table, the log and the bus of all hosts. It serves a
// host that reaches a majority of hosts. An external broker serves all hosts that are not cut off.
type broker struct {
	world    *world
	fold     cluster.Fold // what the log says in the end
	begins   cluster.Fold // what it said when it was empty
	table    cluster.Owners
	log      []cluster.Record
	last     map[cluster.Realm]cluster.Position
	known    map[string]cluster.Position // of records, by id
	begun    map[cluster.Realm]cluster.Epoch
	begunAt  map[cluster.Realm]cluster.Position
	marked   map[cluster.Name]mark
	recorded map[presence.LinkID][]presence.RoomName // the rooms of a link by the newest record of its own owner
	stalled  time.Duration                           // until when it answers nobody
	cut      map[[2]int]bool                         // from, to
	off      []*host                                 // an external broker does not reach them
	ready    map[[2]int]time.Duration                // when the last message arrives, so that order is kept
}

// mark is the newest mark of a node.
type mark struct {
	at   cluster.Position
	when time.Duration
}

// port is the broker as one host reaches it: a [cluster.Log], [cluster.Table] and [cluster.Bus].
type port struct {
	*broker
	host *host
}

// Append implements [cluster.Log].
func (p port) Append(r cluster.Record, after cluster.Position, done func(cluster.Outcome)) {
	p.append(p.host, r, after, done)
}

// Read implements [cluster.Table].
func (p port) Read(done func(cluster.Owners, bool)) { p.read(p.host, done) }

// Swap implements [cluster.Table].
func (p port) Swap(version uint64, to cluster.Owners, done func(cluster.Outcome)) {
	p.swap(p.host, version, to, done)
}

// Send implements [cluster.Bus].
func (p port) Send(to cluster.Name, e cluster.Envelope) { p.send(p.host, to, e) }

func newBroker(w *world) broker {
	b := broker{world: w, fold: cluster.NewFold(), table: cluster.Owners{Version: 1, Realms: map[cluster.Realm]cluster.Ownership{}}, last: map[cluster.Realm]cluster.Position{},
		known: map[string]cluster.Position{}, begun: map[cluster.Realm]cluster.Epoch{}, begunAt: map[cluster.Realm]cluster.Position{}, marked: map[cluster.Name]mark{}, recorded: map[presence.LinkID][]presence.RoomName{}, cut: map[[2]int]bool{}, ready: map[[2]int]time.Duration{}}
	b.fold = cluster.NewFold(w.realmNames()...)
	b.begins = b.fold.Clone()
	for i, realm := range w.realms {
		b.table.Realms[realm] = cluster.Ownership{Owner: w.names[(i+int(w.Seed%7))%len(w.names)], Incarnation: 1, Epoch: 1}
	}
	return b
}

// serves reports whether the broker answers a host.
func (b *broker) serves(h *host) bool {
	if b.world.External {
		return !slices.Contains(b.off, h) && b.world.now >= b.stalled
	}
	count := 0
	for _, other := range b.world.hosts {
		if b.world.linked(h, other) {
			count++
		}
	}
	return 2*count > len(b.world.hosts) && b.world.now >= b.stalled
}

// soon is the time of the broker's work and its way back.
func (b *broker) soon() time.Duration {
	return b.world.between(200*time.Microsecond, 2*time.Millisecond)
}

// fails is the time after which the outcome of a request without an answer is unknown.
const fails = time.Second

// request runs work at the broker, now or after a stall, and gives the outcome to the host. If no
// answer comes in time, that is Unknown.
func (b *broker) request(h *host, work func() cluster.Outcome, done func(cluster.Outcome)) {
	w, answered := b.world, false
	answer := func(outcome cluster.Outcome) {
		h.run(func() {
			if !answered {
				answered = true
				done(outcome)
			}
		})
	}
	reach := func() {
		if b.serves(h) {
			outcome := work()
			if !w.loses(0.002) { // an answer can be lost
				w.in(b.soon(), func() {
					if b.serves(h) {
						answer(outcome)
					}
				})
			}
		}
	}
	w.in(b.soon(), func() {
		if w.now < b.stalled && w.chance(0.5) { // it may come through after the stall
			w.in(b.stalled-w.now+w.between(0, 50*time.Millisecond), reach)
			return
		}
		reach()
	})
	w.in(fails, func() { answer(cluster.Unknown) })
}

func (b *broker) append(h *host, r cluster.Record, after cluster.Position, done func(cluster.Outcome)) {
	b.request(h, func() cluster.Outcome {
		if after != cluster.Unfenced && b.last[r.Realm] != after {
			return cluster.Refused
		}
		r = b.world.codedRecord(r)
		b.log = append(b.log, r)
		at := cluster.Position(len(b.log))
		b.takes(at, r)
		if r.Realm != 0 {
			b.last[r.Realm] = at
		}
		if r.Kind == cluster.KindBegins {
			b.begun[r.Realm], b.begunAt[r.Realm] = max(b.begun[r.Realm], r.Epoch), at
		}
		if r.Kind == cluster.KindMark {
			b.marked[r.Node] = mark{at, b.world.now}
		}
		for _, s := range sessionsIn(r) {
			if cluster.Epoch(s.Link>>32) != r.Epoch {
				continue // the next owner has it by a report
			}
			link := presence.LinkID{Session: s.ID, Number: s.Link}
			b.recorded[link] = nil
			for _, e := range s.Rooms {
				b.recorded[link] = append(b.recorded[link], e.Room)
			}
		}
		if b.known[r.ID] == 0 {
			b.known[r.ID] = at
		}
		for _, other := range b.world.hosts {
			other.wake()
		}
		return cluster.Done
	}, done)
}

func (b *broker) read(h *host, done func(cluster.Owners, bool)) {
	var got cluster.Owners
	b.request(h, func() cluster.Outcome {
		got = b.table
		got.Realms = maps.Clone(b.table.Realms)
		return cluster.Done
	}, func(outcome cluster.Outcome) { done(got, outcome == cluster.Done) })
}

func (b *broker) swap(h *host, version uint64, next cluster.Owners, done func(cluster.Outcome)) {
	b.request(h, func() cluster.Outcome {
		if version != b.table.Version {
			return cluster.Refused
		}
		for realm, is := range next.Realms {
			if was := b.table.Realms[realm]; is != was {
				b.world.tell("table: realm %d goes to %s in epoch %d (handover: %v), says %s", realm, is.Owner, is.Epoch, is.Handover, h.name)
				if is.Epoch <= was.Epoch {
					b.world.breaks(EpochsGrow, "realm %d: %v after %v", realm, is, was)
				}
				if !is.Handover {
					b.world.count("takeovers")
				}
			}
		}
		b.table = next
		b.table.Version, b.table.Realms = version+1, maps.Clone(next.Realms)
		return cluster.Done
	}, done)
}

// send carries a message: in order, late, or not at all.
func (b *broker) send(from *host, name cluster.Name, e cluster.Envelope) {
	w, to := b.world, b.world.host(name)
	e = w.codedEnvelope(e)
	if !w.reaches(from, to) || w.loses(0.001) {
		return
	}
	pair := [2]int{from.place, to.place}
	delay := w.between(100*time.Microsecond, 3*time.Millisecond)
	at := max(b.ready[pair], w.now+delay)
	b.ready[pair] = at
	w.in(at-w.now, func() {
		if w.reaches(from, to) && (to.runs() || !to.deaf) {
			to.run(func() { to.receive(e) })
		}
	})
}
