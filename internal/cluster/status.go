package cluster

import (
	"cmp"
	"slices"
	"time"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// Owned describes a realm whose engine this node runs.
type Owned struct {
	Epoch  Epoch
	Engine *engine.Engine
	// Speaks says that the owner answers and seals now.
	Speaks bool
}

// Owned returns the engine of a realm, and false if this node does not run it.
func (n *Node) Owned(id Realm) (Owned, bool) {
	r := n.realms[id]
	if r == nil || r.owner == nil || r.owner.engine == nil {
		return Owned{}, false
	}
	o := r.owner
	return Owned{o.epoch, o.engine, o.speaks()}, true
}

// Beginnings says how long this node has taken to begin to own realms, over all of them.
type Beginnings struct {
	Log     time.Duration // until its begins was in the log
	Records time.Duration // until the records were read, and the core was restored
	Reports time.Duration // until the nodes had reported
}

// Status is what a node knows of itself and of others, for operators.
type Status struct {
	Halted  string // why; empty: it has not
	Leaving bool
	// Apart is how long the node has heard no majority of the nodes that keep the log; 0: it hears one.
	Apart   time.Duration
	Unheard []Name
	Heard   map[Name]LastHeard // other nodes that it has ever heard
	Began   Beginnings
	Realms  []RealmStatus
}

// LastHeard is the incarnation of another node that was heard last, and how long ago its last heartbeat came.
type LastHeard struct {
	Incarnation Incarnation   `json:"incarnation"`
	Ago         time.Duration `json:"ago"` // nanoseconds
}

// RealmStatus is what a node knows of a realm.
type RealmStatus struct {
	ID     Realm
	Name   string
	Known  Known
	Owns   bool // this node runs the core
	Speaks bool // and answers for it now
}

// Status returns what the node knows at an instant.
func (n *Node) Status(at presence.Instant) Status {
	s := Status{Halted: n.halted, Leaving: n.peers[n.Name].leaving, Heard: map[Name]LastHeard{}, Began: n.began}
	for _, name := range n.others() {
		if p := n.peers[name]; p.incarnation > 0 {
			s.Heard[name] = LastHeard{p.incarnation, at.Mono - p.beat}
		}
	}
	var heard []time.Duration // by the nodes that keep the log, latest first
	for _, name := range n.LogNodes {
		last := n.peers[name].heard
		if name == n.Name {
			last = at.Mono
		}
		heard = append(heard, last)
	}
	slices.SortFunc(heard, func(a, b time.Duration) int { return cmp.Compare(b, a) })
	if !n.majority(n.hears) {
		s.Apart = at.Mono - heard[len(heard)/2]
	}
	for _, name := range n.others() {
		if !n.hears(name) {
			s.Unheard = append(s.Unheard, name)
		}
	}
	for _, id := range n.order {
		r := n.realms[id]
		is, owns := n.Owned(id)
		s.Realms = append(s.Realms, RealmStatus{ID: id, Name: r.log.Name, Known: r.known, Owns: owns, Speaks: owns && is.Speaks})
	}
	return s
}

// Carriers returns the links of a realm that this node owns, with the nodes that carry them as far as
// it knows.
func (n *Node) Carriers(id Realm) map[presence.LinkID]Name {
	carriers := map[presence.LinkID]Name{}
	if r := n.realms[id]; r != nil && r.owner != nil {
		for link, by := range r.owner.links {
			carriers[link] = by.carrier
		}
	}
	return carriers
}

// Carries reports whether this node carries a link.
func (n *Node) Carries(id Realm, link presence.LinkID) bool {
	return n.realms[id] != nil && n.realms[id].carrier.links[link] != nil
}

// RoomsOver returns the rooms that the client of a link has been told to be in, and false if this node does not
// carry the link.
func (n *Node) RoomsOver(id Realm, link presence.LinkID) (rooms []presence.RoomName, carries bool) {
	if !n.Carries(id, link) {
		return nil, false
	}
	for _, e := range n.realms[id].carrier.links[link].fact.Session.Rooms {
		rooms = append(rooms, e.Room)
	}
	return rooms, true
}
