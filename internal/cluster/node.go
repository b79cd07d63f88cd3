package cluster

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"tovik.example/tovik/internal/presence"
)

// Timings are the times of the rules in docs/cluster.md.
type Timings struct {
	Heartbeat time.Duration // between two
	Dead      time.Duration // a node that nobody reachable hears for so long
	Doubt     time.Duration // an owner whom no majority answers for so long says nothing more
	Away      time.Duration // links are sent away when owner and carrier do not hear each other for so long
	Stuck     time.Duration // an owner that has appended no mark for so long
	Steady    time.Duration // a node is given realms of living owners when all have heard it for so long
	Mark      time.Duration // between two marks
	Barrier   time.Duration // an owner that begins waits at most for so long for reports
	Late      time.Duration // a node that was not run for so long stood still
	Request   time.Duration // a request waits at most for so long
	Flush     time.Duration // between two seals or batches of an owner
	Remember  time.Duration // links that have ended are reported for so long
}

// DefaultTimings returns the timings of docs/cluster.md.
func DefaultTimings() Timings {
	return Timings{
		Heartbeat: 500 * time.Millisecond, Dead: 2 * time.Second, Doubt: 1500 * time.Millisecond, Away: 4 * time.Second,
		Stuck: 10 * time.Second, Steady: 30 * time.Second, Mark: time.Second, Barrier: 2 * time.Second, Late: time.Second,
		Request: 3 * time.Second, Flush: 25 * time.Millisecond, Remember: time.Minute,
	}
}

// Records is a node's own copy of the records.
type Records interface {
	// State returns what is on record of a realm.
	State(Realm) presence.Saved
	// Confirmed reports whether the opening of a session is on record.
	Confirmed(Realm, presence.SessionID) bool
}

// Config makes a node.
type Config struct {
	Name        Name
	Incarnation Incarnation
	Nodes       []Name // all, with this one
	LogNodes    []Name // those of them that keep the log
	Realms      []Realm
	Policy      presence.Policy
	Timings     Timings
	Records     Records
	// NewID returns an id that no record has yet.
	NewID func() string
	// Tell is told what the node does, for a story of it; nil: nobody.
	Tell func(format string, args ...any)
}

// Node is the machine of one node. Its methods are given the instant and what has happened, and
// [Node.Acts] returns what to do. It is not safe for concurrent use.
type Node struct {
	Config
	at      presence.Instant
	acts    []Act
	peers   map[Name]*peer // with itself
	names   []Name         // sorted
	realms  map[Realm]*realm
	order   []Realm // sorted
	beatAt  time.Duration
	flushAt time.Duration
	alone   time.Duration // when it last heard no majority

	table      Owners
	swapping   bool
	markAt     time.Duration // when the next mark is due
	markID     string        // of the mark that is being appended, or empty
	markSent   time.Duration
	markAcked  time.Duration
	marksSince time.Duration // since when all its marks were appended; 0: the last one was not
}

// peer is another node, as this one knows it.
type peer struct {
	incarnation Incarnation
	heard       time.Duration // when the last heartbeat came
	since       time.Duration // since when it is heard
	unheard     []Name        // whom it does not hear
	sent, got   uint64        // messages
	echoed      time.Duration // when the newest answered heartbeat was sent
	silent      bool          // its links were unseated
	marked      time.Duration // when its last mark was applied
}

// realm is what a node knows of a realm.
type realm struct {
	id      Realm
	known   Known
	begun   Epoch // the newest epoch that this node has begun
	record  record
	owner   *owner // nil: another node runs its core
	carrier carrier
}

// record is what the applied log says about a realm.
type record struct {
	last  Position // of the realm's last record
	epoch Epoch    // the highest
	kind  Kind     // of the last record
	ended Epoch    // the last owner that handed over
	mark  RealmTime
	wall  int64
}

// NewNode returns a node that has just started. It has heard of nobody.
func NewNode(config Config, at presence.Instant) *Node {
	n := &Node{Config: config, at: at, peers: map[Name]*peer{}, realms: map[Realm]*realm{}, alone: at.Mono, beatAt: at.Mono, markAt: at.Mono}
	n.names = slices.Sorted(slices.Values(config.Nodes))
	for _, name := range n.names {
		n.peers[name] = &peer{heard: at.Mono, echoed: at.Mono, marked: at.Mono} // counted from here
	}
	n.peers[n.Name].incarnation = config.Incarnation
	n.order = slices.Sorted(slices.Values(config.Realms))
	for _, id := range n.order {
		n.realms[id] = &realm{id: id, carrier: newCarrier()}
	}
	return n
}

// Acts returns what is to be done, in order, and forgets it.
func (n *Node) Acts() []Act {
	acts := n.acts
	n.acts = nil
	return acts
}

func (n *Node) tell(format string, args ...any) {
	if n.Config.Tell != nil {
		n.Config.Tell(format, args...)
	}
}

func (n *Node) do(act Act) { n.acts = append(n.acts, act) }

// mono is the node's clock.
func (n *Node) mono() time.Duration { return n.at.Mono }

// runs notes the instant, and whether the node stood still.
func (n *Node) runs(at presence.Instant) {
	gap := at.Mono - n.at.Mono
	before := n.at
	n.at = at
	if gap > n.Timings.Late {
		n.late(before)
	}
}

// late is called after the node stood still. It judges nobody for what it did not hear, drops what
// clients have long given up, and says nothing as an owner until the log has shown that it still
// is one.
func (n *Node) late(before presence.Instant) {
	for _, name := range n.names {
		if p := n.peers[name]; name != n.Name {
			p.heard, p.since = n.mono(), n.mono()
		}
	}
	n.alone = n.mono()
	n.marksSince = 0
	for _, id := range n.order {
		r := n.realms[id]
		if r.owner != nil {
			n.suspect(r.owner, true)
		}
		n.dropWaiting(r)
	}
}

// Owned is a realm whose core this node runs.
type Owned struct {
	Epoch Epoch
	Core  *presence.Core
	// Speaks says that it answers and seals now.
	Speaks bool
}

// Owned returns what the node owns of a realm, and false if it owns nothing.
func (n *Node) Owned(id Realm) (Owned, bool) {
	o := n.realms[id].owner
	if o == nil || o.core == nil {
		return Owned{}, false
	}
	return Owned{o.epoch, o.core, o.speaks()}, true
}

// Known returns the newest owner of a realm that the node has heard of.
func (n *Node) Known(id Realm) Known { return n.realms[id].known }

// Refuses reports whether the node sends the links of a realm away.
func (n *Node) Refuses(id Realm) bool { return n.realms[id].carrier.refusing }

// others returns the other nodes, by name.
func (n *Node) others() []Name {
	return slices.DeleteFunc(slices.Clone(n.names), func(name Name) bool { return name == n.Name })
}

func (n *Node) hears(name Name) bool {
	return name == n.Name || n.mono()-n.peers[name].heard < n.Timings.Dead && n.peers[name].incarnation > 0
}

// majority reports whether most of the log's nodes satisfy a condition.
func (n *Node) majority(is func(Name) bool) bool {
	count := 0
	for _, name := range n.LogNodes {
		if is(name) {
			count++
		}
	}
	return 2*count > len(n.LogNodes)
}

// Tick does what is due. Call it every few milliseconds.
func (n *Node) Tick(at presence.Instant) {
	n.runs(at)
	if n.mono() >= n.beatAt {
		n.beatAt = n.mono() + n.Timings.Heartbeat
		n.heartbeat()
	}
	n.mark()
	for _, id := range n.order {
		r := n.realms[id]
		n.expireRequests(r)
		if r.owner != nil {
			n.pass(r.owner)
		}
	}
	if n.mono() >= n.flushAt {
		n.flushAt = n.mono() + n.Timings.Flush
		for _, id := range n.order {
			if o := n.realms[id].owner; o != nil {
				n.seal(o)
				n.write(o)
			}
		}
	}
}

// heartbeat tells all others that the node lives, and judges them.
func (n *Node) heartbeat() {
	beat := Heartbeat{Sent: n.mono(), Owners: map[Realm]Known{}}
	for _, name := range n.others() {
		if !n.hears(name) {
			beat.Unheard = append(beat.Unheard, name)
		}
	}
	for _, id := range n.order {
		beat.Owners[id] = n.realms[id].known
	}
	for _, name := range n.others() {
		beat.Said = n.peers[name].sent
		n.send(name, beat)
	}
	if !n.majority(n.hears) {
		n.alone = n.mono()
	}
	n.do(ReadTable{})
	for _, id := range n.order {
		r := n.realms[id]
		if r.owner != nil {
			n.doubt(r.owner)
		}
		n.carry(r)
	}
}

// send numbers a message. Heartbeats and echoes only repeat the last number.
func (n *Node) send(to Name, m Message) {
	p := n.peers[to]
	switch m.(type) {
	case Heartbeat, Echo:
	default:
		p.sent++
	}
	n.do(Send{To: to, Envelope: Envelope{From: n.Name, Sender: n.Incarnation, To: p.incarnation, Seq: p.sent, Message: m}})
}

// Receive takes a message from the bus. A gap in the numbers means that some were lost.
func (n *Node) Receive(at presence.Instant, e Envelope) {
	n.runs(at)
	p := n.peers[e.From]
	if p == nil || e.Sender < p.incarnation {
		return
	}
	beat, isBeat := e.Message.(Heartbeat)
	if e.Sender > p.incarnation {
		if !isBeat {
			return // its heartbeat will introduce it
		}
		p.incarnation, p.got, p.sent = e.Sender, 0, 0
		n.newcomer(e.From)
	}
	mine := e.To == n.Incarnation
	switch m := e.Message.(type) {
	case Heartbeat:
		n.send(e.From, Echo{m.Sent})
		n.hear(e.From, beat, mine)
		return
	case Echo:
		if mine {
			p.echoed = max(p.echoed, m.Sent)
		}
		return
	}
	if !mine {
		return
	}
	if e.Seq != p.got+1 {
		n.gap(e.From)
	}
	p.got = e.Seq
	switch m := e.Message.(type) {
	case TableChanged:
		n.do(ReadTable{})
	case ToOwner:
		if r := n.realms[m.Realm]; r != nil && r.owner != nil {
			n.takeUp(r.owner, e.From, m.What)
		}
	case FromOwner:
		if r := n.realms[m.Realm]; r != nil {
			n.takeDown(r, e.From, m)
		}
	}
}

// hear takes a heartbeat.
func (n *Node) hear(from Name, beat Heartbeat, mine bool) {
	p := n.peers[from]
	back := n.mono()-p.heard > n.Timings.Dead
	if back {
		p.since = n.mono()
	}
	p.heard, p.unheard = n.mono(), beat.Unheard
	for _, id := range n.order {
		n.learn(n.realms[id], beat.Owners[id])
	}
	if mine && beat.Said > p.got {
		n.gap(from)
		p.got = beat.Said
	}
	if back || p.silent {
		p.silent = false
		n.repair(from)
	}
}

// newcomer is called when a node has a new incarnation: what the old one carried is silent, and
// what it was told is forgotten.
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

// gap is called when messages of a node were lost.
func (n *Node) gap(name Name) { n.repair(name) }

// repair re-seats everything between this node and another one. It is the one and only repair.
func (n *Node) repair(name Name) {
	for _, id := range n.order {
		r := n.realms[id]
		if r.owner != nil && r.owner.phase >= barrier {
			n.down(r.owner, name, AskReport{})
		}
		if r.known.Owner == name && name != n.Name {
			n.report(r)
		}
	}
}

// learn notes a newer owner: the higher epoch is right.
func (n *Node) learn(r *realm, is Known) {
	if is.Epoch <= r.known.Epoch {
		return
	}
	r.known = is
	r.carrier.following = false
	if r.owner != nil && r.owner.epoch < is.Epoch {
		n.drop(r)
	}
}

// drop gives a realm up that another node owns.
func (n *Node) drop(r *realm) {
	if r.owner != nil {
		n.tell("gives up realm %d, epoch %d", r.id, r.owner.epoch)
	}
	r.owner = nil
}

// mark appends the node's sign of life, with the times of its realms.
func (n *Node) mark() {
	urgent := false
	for _, id := range n.order {
		urgent = urgent || n.realms[id].owner != nil && n.realms[id].owner.unproven
	}
	if n.markID != "" || n.mono() < n.markAt && !(urgent && n.mono() >= n.markSent+n.Timings.Mark/20) {
		return
	}
	r := Record{ID: n.NewID(), Kind: KindMark, Node: n.Name, Wall: n.at.Wall.UnixMilli()}
	for _, id := range n.order {
		if o := n.realms[id].owner; o != nil && o.phase >= barrier {
			r.Times = append(r.Times, RealmTime{Realm: id, Epoch: o.epoch, Time: o.core.Time()})
			o.proof = r.ID
		}
	}
	n.markID, n.markSent, n.markAt = r.ID, n.mono(), n.mono()+n.Timings.Mark
	n.do(Append{Record: r, After: Unfenced})
}

// Appended takes the outcome of an append.
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

// Applied takes a record that the driver has put into the node's records, with its position. A
// record of an epoch below the highest before it has no rows. One that the log has twice is given
// once; its second place goes to [Node.Passed].
func (n *Node) Applied(at presence.Instant, position Position, r Record) {
	n.runs(at)
	if r.Kind == KindMark {
		for _, is := range r.Times {
			to := &n.realms[is.Realm].record
			if is.Epoch > to.mark.Epoch || is.Epoch == to.mark.Epoch && is.Time > to.mark.Time {
				to.mark, to.wall = is, r.Wall
			}
		}
		n.peers[r.Node].marked = n.mono()
		n.proven(r.ID)
		return
	}
	to := n.realms[r.Realm]
	to.record.last = position
	if r.Epoch < to.record.epoch {
		return
	}
	to.record.epoch, to.record.kind = r.Epoch, r.Kind
	switch r.Kind {
	case KindEnds:
		to.record.ended = r.Epoch
		to.record.mark, to.record.wall = RealmTime{r.Realm, r.Epoch, r.Time}, r.Wall
	case KindBegins:
		n.learn(to, Known{r.Epoch, r.Node})
	}
	if o := to.owner; o != nil {
		if r.Epoch > o.epoch {
			n.drop(to)
			return
		}
		n.appliedOwn(o, r)
	}
}

// Table takes the table as it was read.
func (n *Node) Table(at presence.Instant, owners Owners, ok bool) {
	n.runs(at)
	if !ok {
		return
	}
	n.table = owners
	for _, id := range n.order {
		is, r := owners.Realms[id], n.realms[id]
		mine := is.Owner == n.Name && is.Incarnation == n.Incarnation
		if mine && is.Epoch > r.begun {
			n.begin(r, is)
		}
		if o := r.owner; o != nil && is.Epoch > o.epoch {
			if is.Handover {
				n.handOver(o)
			} else {
				n.drop(r)
			}
		}
	}
	n.judge()
}

// judge changes the table when somebody must not own realms any more, or a plan is more even.
func (n *Node) judge() {
	if n.swapping || n.mono()-n.alone < n.Timings.Dead {
		return // it was late or heard no majority: it starts counting again
	}
	var living []Candidate
	for _, name := range n.names {
		incarnation := n.incarnation(name)
		if incarnation == 0 || n.dead(name) || n.cutOff(name) || n.stuck(name) {
			continue
		}
		living = append(living, Candidate{Name: name, Incarnation: incarnation, Steady: n.steady(name)})
	}
	// A realm is given only to whom this node hears now.
	next := Plan(n.table, slices.DeleteFunc(slices.Clone(living), func(c Candidate) bool {
		return !n.hears(c.Name) && !n.owns(c.Name)
	}))
	if next.Equal(n.table) {
		return
	}
	n.swapping = true
	n.do(SwapTable{Version: n.table.Version, To: next})
}

// incarnation returns the newest incarnation of a node that this node knows of: from its
// heartbeats, or, of one that only others hear, from the table.
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

// dead reports whether no reachable node has heard a node for some time.
func (n *Node) dead(name Name) bool {
	if n.mono()-n.peers[name].heard < n.Timings.Dead || name == n.Name {
		return false
	}
	for _, other := range n.others() {
		if other != name && n.hears(other) && !slices.Contains(n.peers[other].unheard, name) {
			return false
		}
	}
	return true
}

// cutOff reports whether a node that is heard does not hear a majority of the log's nodes.
func (n *Node) cutOff(name Name) bool {
	p := n.peers[name]
	if name == n.Name || !n.hears(name) || n.mono()-p.since < n.Timings.Dead {
		return false
	}
	return !n.majority(func(other Name) bool { return other == name || !slices.Contains(p.unheard, other) })
}

// stuck reports whether a node has appended no mark for long, while this one's have all been
// appended.
func (n *Node) stuck(name Name) bool {
	return name != n.Name && n.owns(name) && n.marksSince > 0 && n.mono()-n.marksSince > n.Timings.Stuck && n.mono()-n.markAcked < 2*n.Timings.Mark &&
		n.mono()-n.peers[name].marked > n.Timings.Stuck
}

// steady reports whether all living nodes have heard a node for long.
func (n *Node) steady(name Name) bool {
	for _, other := range n.others() {
		p := n.peers[other]
		if !n.hears(other) || slices.Contains(p.unheard, name) || other == name && n.mono()-p.since < n.Timings.Steady {
			return false
		}
	}
	return n.mono()-n.alone > n.Timings.Steady
}

// Swapped takes the outcome of a change of the table.
func (n *Node) Swapped(at presence.Instant, outcome Outcome) {
	n.runs(at)
	n.swapping = false
	n.do(ReadTable{})
	if outcome == Done {
		for _, name := range n.others() {
			n.send(name, TableChanged{})
		}
	}
}

func compareLinks(a, b presence.LinkID) int {
	return cmp.Or(cmp.Compare(a.Session, b.Session), cmp.Compare(a.Number, b.Number))
}

func sortedLinks[T any](links map[presence.LinkID]T) []presence.LinkID {
	return slices.SortedFunc(maps.Keys(links), compareLinks)
}

// Passed says that the log has a record of the realm at the position that was applied before.
func (n *Node) Passed(at presence.Instant, position Position, id Realm) {
	n.runs(at)
	n.realms[id].record.last = position
}
