package cluster

import (
	"fmt"
	"slices"
	"time"

	"tovik.example/tovik/internal/presence"
)

// peer is what a node knows of another one.
type peer struct {
	incarnation    Incarnation
	heard          time.Duration // when the last heartbeat came, or this node went on after it had stood still
	beat           time.Duration // when the last heartbeat came
	since          time.Duration // since when it has been heard without a gap
	unheard        []Name        // the nodes that it does not hear
	out            stream
	got            uint64 // the number of the newest message that has come
	unacknowledged int    // bytes
	acknowledgeAt  time.Duration
	echoed         time.Duration // when the newest answered heartbeat was sent
	silent         bool          // its links were unseated
	marked         time.Duration // when its last mark was applied
	knows          Format        // the newest format that it knows
	leaving        bool          // it is about to stop
	stranger       bool          // the configuration of this node does not have it
	listed         Position      // up to where it knows which realms there are
}

// of returns a peer. The log may name a node that the configuration of this node does not have. Such a node counts as
// never heard.
func (n *Node) of(name Name) *peer {
	p := n.peers[name]
	if p == nil {
		long := n.mono() - n.Timings.Remember
		p = &peer{stranger: true, heard: long, echoed: long, marked: long, out: newStream(n.Credit)}
		n.peers[name] = p
	}
	return p
}

// others returns the other nodes, by name.
func (n *Node) others() []Name { return n.rest }

func (n *Node) hears(name Name) bool {
	p := n.of(name)
	return name == n.Name || n.mono()-p.heard < n.Timings.Dead && p.incarnation > 0
}

// unheard returns the nodes that this one does not hear, and the external broker if it does not hear that.
func (n *Node) unheard() []Name {
	heard := slices.Clone(n.others())
	if n.LogNodes[0] == External {
		heard = append(heard, External)
	}
	return slices.DeleteFunc(heard, n.hears)
}

// majority reports whether a condition holds for most of the log's nodes.
func (n *Node) majority(is func(Name) bool) bool {
	count := 0
	for _, name := range n.LogNodes {
		if is(name) {
			count++
		}
	}
	return 2*count > len(n.LogNodes)
}

// heartbeat sends a heartbeat to all others, and applies the rules that depend on theirs.
func (n *Node) heartbeat() {
	beat := Heartbeat{Sent: n.mono(), Knows: n.Knows, Leaving: n.peers[n.Name].leaving, Listed: n.fold.Listed, Owners: map[Realm]Known{}}
	beat.Unheard = n.unheard()
	for _, id := range n.order {
		beat.Owners[id] = n.realms[id].known
	}
	for _, name := range n.others() {
		n.envelope(name, []Message{beat})
	}
	if !n.majority(n.hears) {
		n.alone = n.mono()
	}
	if n.beats++; n.beats%calmReads == 0 || !n.calm() {
		n.do(ReadTable{})
	}
	for _, id := range n.order {
		r := n.realms[id]
		if r.owner != nil {
			n.doubt(r.owner)
		}
		n.carry(r)
		n.confirmAhead(r)
	}
}

// calmReads is with every how many heartbeats the table is read in calm times. Whoever changes it tells the others; that it
// was not heard is found here. Each read wakes all nodes that keep the table.
const calmReads = 4

// calm reports whether nothing suggests that the table has changed, or should: all nodes hear each other and go on, and the
// owners are those of the table as it was read last.
func (n *Node) calm() bool {
	if n.swapping || n.table.Listed != n.fold.Listed || n.mono()-n.alone < n.Timings.Steady {
		return false
	}
	for _, name := range n.names {
		p := n.peers[name]
		if p.leaving || n.mono()-p.marked > 2*n.Timings.Mark {
			return false
		}
		if name != n.Name && (n.mono()-p.since < n.Timings.Steady || n.mono()-p.heard > 2*n.Timings.Heartbeat || len(p.unheard) > 0) {
			return false
		}
	}
	for _, id := range n.order {
		if is := n.table.Realms[id]; n.realms[id].known != (Known{is.Epoch, is.Owner}) || n.peers[is.Owner] == nil || is.Incarnation != n.peers[is.Owner].incarnation {
			return false
		}
	}
	return true
}

// Receive handles a parcel from the bus. A gap in the numbers means that messages were lost.
func (n *Node) Receive(at presence.Instant, e Envelope) {
	n.runs(at)
	p := n.peers[e.From]
	if p == nil || p.stranger || e.Sender < p.incarnation {
		return
	}
	if e.To > n.Incarnation {
		n.halt(fmt.Sprintf("another process is the node %s, and has started later: no two may have one name", n.Name))
		return
	}
	var first Message
	if len(e.Messages) > 0 {
		first = e.Messages[0]
	}
	beat, isBeat := first.(Heartbeat)
	if e.Sender > p.incarnation {
		if !isBeat {
			return // its heartbeat will introduce it
		}
		p.incarnation, p.got, p.out, p.unacknowledged = e.Sender, 0, newStream(n.Credit), 0
		n.newcomer(e.From)
	}
	mine := e.To == n.Incarnation
	if mine {
		p.out.acknowledged(e.Read)
	}
	numbered := false
	switch m := first.(type) {
	case nil: // an acknowledgement
	case Heartbeat:
		n.envelope(e.From, []Message{Echo{m.Sent}})
		n.hear(e.From, beat)
	case Echo:
		if mine {
			p.echoed = max(p.echoed, m.Sent)
		}
	default:
		numbered = true
	}
	switch {
	case !mine:
		return
	case !numbered:
		if e.Last > p.got {
			p.got = e.Last
			n.repair(e.From)
		}
		return
	}
	if before := e.Last - uint64(len(e.Messages)); before != p.got {
		p.got = before // what is lost will not be read: a report judges it
		n.repair(e.From)
	}
	if p.unacknowledged == 0 {
		p.acknowledgeAt = n.mono() + n.Timings.Heartbeat/10
	}
	for i, m := range e.Messages {
		p.got = e.Last - uint64(len(e.Messages)-1-i)
		p.unacknowledged += weight(m)
		n.read(e.From, m)
	}
	n.acknowledge(e.From)
}

// read handles a message.
func (n *Node) read(from Name, m Message) {
	switch m := m.(type) {
	case TableChanged:
		n.do(ReadTable{})
	case ToOwner:
		if r := n.realms[m.Realm]; r != nil && r.owner != nil {
			n.takeUp(r.owner, from, m.What)
		}
	case FromOwner:
		if r := n.realms[m.Realm]; r != nil {
			n.takeDown(r, from, m)
		}
	}
}

// readOwn reads what the node says to itself, which goes over no bus.
func (n *Node) readOwn() {
	p := n.peers[n.Name]
	for {
		n.refresh(n.Name)
		if p.out.dropped {
			p.out.dropped, p.got = false, p.out.sent
			n.repair(n.Name)
		}
		messages := p.out.next(n.mono())
		if len(messages) == 0 {
			return
		}
		p.out.acknowledged(p.out.sent)
		for i, m := range messages {
			p.got = p.out.sent - uint64(len(messages)-1-i)
			n.read(n.Name, m)
		}
	}
}

func (n *Node) flushOthers() {
	for _, name := range n.others() {
		n.flush(name)
	}
}

// hear handles a heartbeat.
func (n *Node) hear(from Name, beat Heartbeat) {
	p := n.peers[from]
	back := n.mono()-p.heard > n.Timings.Dead
	if back {
		p.since = n.mono()
	}
	p.heard, p.beat, p.unheard, p.knows, p.leaving, p.listed = n.mono(), n.mono(), beat.Unheard, beat.Knows, beat.Leaving, beat.Listed
	for _, id := range n.order {
		n.learn(n.realms[id], beat.Owners[id])
	}
	if back || p.silent {
		p.silent = false
		n.repair(from)
	}
}

// newcomer handles a new incarnation of a node: the links of the old one are silent.
func (n *Node) newcomer(name Name) {
	for _, id := range n.order {
		if o := n.realms[id].owner; o != nil {
			n.unseat(o, name)
			o.forget(name)
		}
	}
	n.peers[name].since = n.mono()
	n.repair(name)
}

// repair re-seats all links between this node and another one. It is the only repair.
func (n *Node) repair(name Name) {
	for _, id := range n.order {
		r := n.realms[id]
		if o := r.owner; o != nil && o.mayAsk() {
			n.down(o, name, WantReport{})
		}
		if r.known.Owner == name && name != n.Name {
			n.report(r)
		}
	}
}
