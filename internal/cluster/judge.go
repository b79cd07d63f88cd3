package cluster

import (
	"slices"

	"tovik.example/tovik/internal/presence"
)

// Table handles the table as read.
func (n *Node) Table(at presence.Instant, owners Owners, ok bool) {
	n.runs(at)
	if !ok {
		return
	}
	n.table = owners
	for _, id := range n.order {
		is, r := owners.Realms[id], n.realms[id] // a realm that the table has first comes with the log
		mine := is.Owner == n.Name && is.Incarnation == n.Incarnation
		if mine && is.Epoch > r.begun {
			n.begin(r, is)
		}
		if o := r.owner; o != nil && is.Epoch > o.epoch {
			if is.Handover {
				n.yield(o, is.Epoch)
			} else {
				n.drop(r)
			}
		}
	}
	n.judge()
}

// judge replaces the table if the plan differs from it.
func (n *Node) judge() {
	if n.swapping || n.mono()-n.alone < n.Timings.Dead {
		return // a node that was late or heard no majority counts anew
	}
	var living []Candidate
	for _, name := range n.names {
		incarnation := n.incarnation(name)
		if incarnation == 0 || n.dead(name) || n.cutOff(name) || n.stuck(name) {
			continue
		}
		living = append(living, Candidate{Name: name, Incarnation: incarnation, Steady: n.steady(name), Leaving: n.peers[name].leaving})
	}
	// Only nodes that are heard now may be given a realm.
	next := Plan(n.table, n.fold.listing(), slices.DeleteFunc(slices.Clone(living), func(c Candidate) bool {
		return !n.hears(c.Name) && !n.owns(c.Name)
	}))
	if next.Equal(n.table) {
		return
	}
	n.swapping = true
	n.do(SwapTable{Version: n.table.Version, To: next})
}

// incarnation returns the newest known incarnation of a node. The table has it for a node that only
// others hear.
func (n *Node) incarnation(name Name) Incarnation {
	newest := n.peers[name].incarnation
	for _, is := range n.table.Realms {
		if is.Owner == name {
			newest = max(newest, is.Incarnation)
		}
	}
	return newest
}

// owns reports whether the table names a node.
func (n *Node) owns(name Name) bool {
	for _, is := range n.table.Realms {
		if is.Owner == name {
			return true
		}
	}
	return false
}

// dead reports whether no reachable node has heard a node for Timings.Dead.
func (n *Node) dead(name Name) bool {
	if n.mono()-n.of(name).heard < n.Timings.Dead || name == n.Name {
		return false
	}
	for _, other := range n.others() {
		if other != name && n.hears(other) && !slices.Contains(n.peers[other].unheard, name) {
			return false
		}
	}
	return true
}

// cutOff reports whether a node, although heard, hears no majority of the log's nodes.
func (n *Node) cutOff(name Name) bool {
	p := n.peers[name]
	if name == n.Name || !n.hears(name) || n.mono()-p.since < n.Timings.Dead {
		return false
	}
	return !n.majority(func(other Name) bool { return other == name || !slices.Contains(p.unheard, other) })
}

// stuck reports whether a node has appended no mark for Timings.Stuck, in which this node has
// appended all of its own, and reads them.
func (n *Node) stuck(name Name) bool {
	return name != n.Name && n.owns(name) && n.mono()-n.peers[n.Name].marked < 2*n.Timings.Mark && n.marksSince > 0 && n.mono()-n.marksSince > n.Timings.Stuck && n.mono()-n.markAcked < 2*n.Timings.Mark &&
		n.mono()-n.peers[name].marked > n.Timings.Stuck
}

// steady reports whether all living nodes have heard a node for Timings.Steady.
func (n *Node) steady(name Name) bool {
	for _, other := range n.others() {
		p := n.peers[other]
		if !n.hears(other) || slices.Contains(p.unheard, name) || other == name && n.mono()-p.since < n.Timings.Steady {
			return false
		}
	}
	return n.mono()-n.alone > n.Timings.Steady
}

// Swapped handles the outcome of a change of the table.
func (n *Node) Swapped(at presence.Instant, outcome Outcome) {
	n.runs(at)
	n.swapping = false
	n.do(ReadTable{})
	if outcome == Done {
		for _, name := range n.others() {
			n.say(name, TableChanged{})
		}
	}
}
