package cluster

import "slices"

// doubt freezes an owner while no majority of the log's nodes answers its heartbeats.
func (n *Node) doubt(o *owner) {
	if o.phase < barrier || o.phase == ending {
		return
	}
	answered := n.majority(func(name Name) bool { return name == n.Name || n.mono()-n.peers[name].echoed < n.Timings.Doubt })
	if !answered {
		n.suspect(o, false)
		if o.frozen && !o.unproven && n.mono()-o.frozenAt > n.Timings.Dead { // others may have replaced it, and forgotten that
			o.unproven, o.proof = true, ""
		}
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

// suspect freezes an owner. Stood says that the node itself stood still: the time since then does
// not count, and a mark must prove that the owner was not replaced.
func (n *Node) suspect(o *owner, stood bool) {
	o.unproven = o.unproven || stood
	if stood {
		o.proof = ""
	}
	if o.frozen || o.phase < barrier { // an owner that still begins will start frozen
		return
	}
	n.note("says nothing for realm %d any more; it stood still: %v", o.realm.id, stood)
	o.frozen, o.frozenAt, o.sentAway = true, n.mono(), false
	if stood {
		o.engine.StoodStill()
	} else {
		o.engine.StandStill()
	}
}

// trust lets a frozen owner continue when there is no more reason for doubt.
func (n *Node) trust(o *owner) {
	answered := n.majority(func(name Name) bool { return name == n.Name || n.mono()-n.peers[name].echoed < n.Timings.Doubt })
	if !o.frozen || o.unproven || !answered || n.lacksListing() {
		return
	}
	n.note("goes on with realm %d", o.realm.id)
	o.frozen = false
	o.realm.carrier.refusing = false
	o.overflow = false
	if o.phase == barrier {
		o.since = n.mono()
	}
	n.wantReports(o) // what came meanwhile may be lost
	n.answerRecorded(o)
	if o.phase == active {
		o.engine.GoOn()
		n.release(o)
		n.pass(o)
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

// lacksListing reports whether another node has read further about which realms there are. A realm of this
// node may have ended.
func (n *Node) lacksListing() bool {
	return slices.ContainsFunc(n.others(), func(name Name) bool { return n.peers[name].listed > n.fold.Listed })
}
