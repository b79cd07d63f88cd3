package cluster

import (
	"fmt"
	"time"

	"tovik.example/tovik/internal/presence"
)

// record returns a record of this node.
func (n *Node) record(kind Kind) Record {
	return Record{ID: n.NewID(), Format: n.fold.Format, Kind: kind, Node: n.Name, Wall: n.at.Wall.UnixMilli()}
}

// mark appends a sign of life with the times of the node's realms.
func (n *Node) mark() {
	urgent := false
	for _, id := range n.order {
		urgent = urgent || n.realms[id].owner != nil && n.realms[id].owner.unproven
	}
	if n.markID != "" || n.mono() < n.markAt && !(urgent && n.mono() >= n.markSent+n.Timings.Mark/20) {
		return
	}
	r := n.record(KindMark)
	for _, id := range n.order {
		if o := n.realms[id].owner; o != nil && o.phase >= barrier {
			r.Times = append(r.Times, RealmTime{Realm: id, Epoch: o.epoch, Time: o.engine.Time()})
			o.proof = r.ID
		}
	}
	n.markID, n.markSent, n.markAt = r.ID, n.mono(), n.mono()+n.Timings.Mark
	n.do(Append{Record: r, After: Unfenced})
}

// Appended handles the outcome of an append.
func (n *Node) Appended(at presence.Instant, id string, outcome Outcome) {
	n.runs(at)
	if id == n.markID {
		n.markID = ""
		if outcome != Done {
			n.marksSince = 0
			n.markAt = min(n.markAt, n.mono()+n.Timings.Mark/10)
			return
		}
		n.markAcked = n.mono()
		broker := n.peers[External]
		broker.incarnation, broker.heard, broker.echoed = 1, n.mono(), n.markSent
		if n.marksSince == 0 {
			n.marksSince = n.mono()
		}
		return
	}
	for _, realm := range n.order {
		if o := n.realms[realm].owner; o != nil && o.appending != nil && o.appending.ID == id {
			n.appended(o, outcome)
		}
	}
}

// GatherFor is how long rows that the node does not await may wait for others: many rows that go to the same pages of a
// file cost less when they are put together. With the time of a batch, it is as long as in a service that is alone.
const GatherFor = 75 * time.Millisecond

// Awaits reports whether the driver must put the rows of a record, and all before it, before the node gets the record. A
// node reads rows only after a change of owner, and answers commands only once they are on record.
func (n *Node) Awaits(r *Record) bool {
	switch r.Kind {
	case KindMark:
		return false
	case KindBatch:
		is := n.realms[r.Realm]
		answers := is != nil && is.owner != nil && is.owner.appending != nil && is.owner.appending.ID == r.ID && len(is.owner.settling) > 0
		return answers || len(r.Changes)+len(r.Removed) > 0
	}
	return true
}

// Applied handles a record of the log. If it applies, the driver puts its rows into the node's records: before if the node
// awaits them (see [Node.Awaits]), otherwise within [GatherFor].
func (n *Node) Applied(at presence.Instant, position Position, r Record) Verdict {
	n.runs(at)
	if n.halted != "" {
		return Unreadable
	}
	verdict := n.fold.Take(position, r, n.Knows)
	if verdict == Unreadable {
		n.halt(n.tooOld(r.Format))
	}
	if verdict != Applies {
		return verdict
	}
	switch r.Kind {
	case KindMark:
		if p := n.peers[r.Node]; p != nil {
			p.marked = n.mono()
		}
		n.proven(r.ID)
		return verdict
	case KindFormat:
		return verdict
	case KindMade:
		n.addRealm(n.fold.Number)
		return verdict
	case KindGone:
		n.endRealm(r.Realm)
		return verdict
	}
	to := n.realms[r.Realm]
	switch r.Kind {
	case KindBegins:
		n.learn(to, Known{r.Epoch, r.Node})
	case KindBatch:
		for _, removed := range r.Removed {
			n.do(StopFollowing{r.Realm, removed})
		}
	}
	if o := to.owner; o != nil {
		if r.Epoch > o.epoch {
			n.drop(to)
			return verdict
		}
		n.appliedOwn(o, r)
	}
	return verdict
}

// learn notes a newer owner: the higher epoch is right.
func (n *Node) learn(r *realm, is Known) {
	if is.Epoch <= r.known.Epoch {
		return
	}
	r.known = is
	r.lists.stale()
	if r.owner != nil && r.owner.epoch < is.Epoch {
		n.drop(r)
	}
}

// tooOld says why a node halts that does not know the format in force.
func (n *Node) tooOld(has Format) string {
	return fmt.Sprintf("the log has format %d, and this version knows up to %d: run the newer version", has, n.Knows)
}

// RaiseFormat brings a format into force. It returns an error, and does nothing, unless every node is heard
// and knows it.
func (n *Node) RaiseFormat(at presence.Instant, to Format) error {
	n.runs(at)
	for _, name := range n.names {
		switch p := n.peers[name]; {
		case !n.hears(name):
			return fmt.Errorf("%s is not heard, so nobody knows whether it knows format %d", name, to)
		case p.knows < to:
			return fmt.Errorf("%s knows formats up to %d only, not %d: run the newer version there first", name, p.knows, to)
		}
	}
	r := n.record(KindFormat)
	r.Format = to
	n.do(Append{Record: r, After: Unfenced})
	return nil
}
