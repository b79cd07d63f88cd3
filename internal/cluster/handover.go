package cluster

import "tovik.example/tovik/internal/presence"

// Prepared says that the records were read ahead (see [Prepare]). The previous owner may hand over now.
func (n *Node) Prepared(at presence.Instant, id Realm, epoch Epoch) {
	n.runs(at)
	if r := n.realms[id]; r != nil && r.owner != nil && r.owner.epoch == epoch && r.owner.phase == begins {
		n.toOwner(r, Prepared{epoch})
	}
}

// yield hands over to the owner of an epoch once that has read ahead. It is called whenever the table is read.
func (n *Node) yield(o *owner, to Epoch) {
	if to > o.yields {
		o.yields, o.yieldAt = to, n.mono()+n.Timings.Prepare
	}
	n.yieldIfReady(o)
}

// yieldIfReady hands over if the next owner has read ahead, or had the time to, and no record is on its way, for which
// everybody would have to wait.
func (n *Node) yieldIfReady(o *owner) {
	ready := o.prepared == o.yields || n.mono() >= o.yieldAt
	if o.yields > 0 && ready && o.appending == nil {
		n.handOver(o)
	}
}

// handOver gives the realm to the owner that the table names. The owner takes no more inputs, writes
// everything, and appends its end. An owner that may not speak keeps the realm, because the next one waits for the end.
// It tries again whenever the table is read.
func (n *Node) handOver(o *owner) {
	switch {
	case o.phase == begins:
		n.drop(o.realm)
		return
	case !o.speaks():
		return
	}
	o.engine.StandStill()
	o.phase, o.since, o.realm.handed = ending, n.mono(), o.epoch
	n.do(Owns{o.realm.id, o.realm.log.Name, false})
	n.end(o)
}

func (n *Node) end(o *owner) {
	n.write(o)
	if o.appending == nil {
		r := n.record(KindEnds)
		r.Time = o.engine.Time()
		n.append(o, r)
	}
}
