package cluster

import (
	"cmp"
	"errors"
	"maps"
	"math"
	"slices"
	"time"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// Records is a node's own copy of the records.
type Records interface {
	// Prepare reads ahead what State will return soon. Unlike Confirmed, both may take their time.
	Prepare(Realm)
	// State returns the recorded state of a realm.
	State(Realm) presence.Saved
	// Confirmed returns those of the sessions whose opening is on record, in any order.
	Confirmed(Realm, []presence.SessionID) []presence.SessionID
}

// Maker makes rows of what an engine reports, for the log.
type Maker interface {
	engine.Recorder
	// Pending reports whether there is something to make rows of at a time.
	Pending(at time.Time) bool
	// Rows returns the rows of everything since the last call. Save returns what must survive of a
	// person; false: nothing.
	Rows(at time.Time, save func(presence.UserID) (presence.SavedPerson, bool)) any
}

// External stands for an external broker where nodes that keep the log are meant. A node hears it while the log takes
// its marks, which shows that the broker has a majority.
const External Name = "the broker"

// Config is what a node is made from.
type Config struct {
	Name        Name
	Incarnation Incarnation
	Nodes       []Name // all of the cluster, including this one
	LogNodes    []Name // those that keep the log; empty: an external broker keeps it
	// Fold is what the log says up to where the node's records are.
	Fold Fold
	// Knows is the newest format that this node knows; 0 stands for [Newest].
	Knows Format
	// Policy returns the policy of a realm, by its name.
	Policy  func(realm string) presence.Policy
	Timings Timings
	// Credit is how many bytes may be on their way to a node; 0 stands for [DefaultCredit].
	Credit  int
	Records Records
	// NewMaker returns the maker of a realm that this node begins to own.
	NewMaker func(Realm) Maker
	// NewID returns an id that no record has yet, and NewRun a run that no list of the view has had.
	NewID  func() string
	NewRun func(presence.View) string
	// Story receives a line of text for each decision, for a human reader. It may be nil.
	Story func(format string, args ...any)
}

// Node is the state machine of one node. Each method takes the instant and something that has
// happened; [Node.Acts] then returns what to do. A Node is not safe for concurrent use.
type Node struct {
	Config
	at      presence.Instant
	acts    []Act
	peers   map[Name]*peer // with itself
	names   []Name         // sorted
	rest    []Name         // all but this one
	fold    Fold
	realms  map[Realm]*realm
	order   []Realm // sorted
	halted  string  // why; empty: it has not
	beatAt  time.Duration
	beats   int // heartbeats so far
	flushAt time.Duration
	alone   time.Duration // when it last heard no majority
	wokeAt  time.Duration // when it had stood still last; 0: never
	began   Beginnings

	table      Owners
	swapping   bool
	markAt     time.Duration // when the next mark is due
	markID     string        // of the mark that is being appended, or empty
	markSent   time.Duration
	markAcked  time.Duration
	marksSince time.Duration // since when all its marks were appended; 0: the last one was not
}

// realm is what a node knows of a realm.
type realm struct {
	id     Realm
	known  Known
	begun  Epoch            // the newest epoch that this node has begun
	log    *Folded          // what the log says about it
	policy *presence.Policy // that was set since; nil: that of Config.Policy
	owner  *owner           // nil: another node runs its core
	handed Epoch            // in which this node has owned and handed it over last; 0: it has not
	// reported is the epoch whose owner was sent the last whole report, and the number of its last message.
	reported struct {
		epoch Epoch
		last  uint64
	}
	carrier carrier
	lists   lists
}

// NewNode returns a node that has just started. It has heard of nobody.
func NewNode(config Config, at presence.Instant) *Node {
	config.Credit = cmp.Or(config.Credit, DefaultCredit)
	n := &Node{Config: config, at: at, peers: map[Name]*peer{}, realms: map[Realm]*realm{}, alone: at.Mono, beatAt: at.Mono, markAt: at.Mono}
	n.names = slices.Sorted(slices.Values(config.Nodes))
	n.rest = slices.DeleteFunc(slices.Clone(n.names), func(name Name) bool { return name == n.Name })
	if len(n.LogNodes) == 0 {
		n.LogNodes = []Name{External}
	}
	for _, name := range append(slices.Clone(n.names), External) {
		n.peers[name] = &peer{heard: at.Mono, echoed: at.Mono, marked: at.Mono, out: newStream(config.Credit)} // counted from here
	}
	n.Knows = cmp.Or(config.Knows, Newest)
	n.fold = config.Fold.Clone()
	n.peers[n.Name].incarnation, n.peers[n.Name].knows = config.Incarnation, n.Knows
	for _, id := range n.fold.order() {
		n.addRealm(id)
	}
	if n.fold.Format > n.Knows {
		n.halt(n.tooOld(n.fold.Format))
	}
	return n
}

// addRealm adds a realm that the log has.
func (n *Node) addRealm(id Realm) {
	is := n.fold.Realms[id]
	n.realms[id] = &realm{id: id, log: is, known: Known{is.Epoch, is.Owner}, carrier: newCarrier(), lists: newLists()}
	n.order = append(n.order, id) // numbers only grow
	n.do(RealmMade{id, is.Name})
}

// endRealm forgets a realm. Its connections are closed, and requests refused.
func (n *Node) endRealm(id Realm) {
	r := n.realms[id]
	n.drop(r)
	for _, conn := range slices.Sorted(maps.Keys(r.carrier.conns)) {
		n.do(Close{Conn: conn, Why: CloseGone})
	}
	for _, attempt := range slices.Sorted(maps.Keys(r.carrier.requests)) {
		if q := r.carrier.requests[attempt]; q.conn == nil {
			n.do(PassAnswer{0, Answer{Attempt: attempt, Err: ErrNoRealm}})
		}
	}
	delete(n.realms, id)
	n.order = slices.DeleteFunc(n.order, func(other Realm) bool { return other == id })
	for _, name := range n.names {
		n.peers[name].out.forget(id)
	}
	n.do(RealmGone{id})
}

// ErrNoRealm says that the realm has ended, and ErrRealmExists that there is one of the name.
var (
	ErrNoRealm     = engine.ErrNoRealm
	ErrRealmExists = errors.New("there is a realm of this name")
)

// SetPolicy puts another policy in force, should this node own the realm later.
func (n *Node) SetPolicy(id Realm, policy presence.Policy) {
	if r := n.realms[id]; r != nil {
		r.policy = &policy
	}
}

func (n *Node) policyOf(r *realm) presence.Policy {
	if r.policy != nil {
		return *r.policy
	}
	return n.Policy(r.log.Name)
}

// Named returns the number of a realm.
func (n *Node) Named(name string) (Realm, error) {
	for _, id := range n.order {
		if n.realms[id].log.Name == name {
			return id, nil
		}
	}
	return 0, ErrNoRealm
}

// halt stops the node. From then on it owns, sends and writes nothing, and refuses all requests.
func (n *Node) halt(why string) {
	if n.halted != "" {
		return
	}
	n.halted = why
	for _, id := range n.order {
		r := n.realms[id]
		n.drop(r)
		n.refuseAll(r)
	}
	n.do(Halt{why})
}

// Leave prepares a stop: other nodes take over the realms of this one. When it owns none ([Node.OwnsNone]) and their
// owners answer, send its links away ([Node.SendAllAway]) and stop it.
func (n *Node) Leave(at presence.Instant) {
	n.runs(at)
	n.peers[n.Name].leaving = true
	n.beatAt = n.mono() // others should know, and the table is read
}

// OwnsNone reports whether the node owns no realm, the table gives it none, and those that it has handed over have
// begun elsewhere and have its report: without it, they would wait for one.
func (n *Node) OwnsNone() bool {
	for _, id := range n.order {
		if r := n.realms[id]; r.owner != nil || r.known.Owner == n.Name || r.handed > 0 && !n.hasReported(r) {
			return false
		}
	}
	return !n.owns(n.Name)
}

// hasReported reports whether the owner after this node has its report.
func (n *Node) hasReported(r *realm) bool {
	return r.reported.epoch > r.handed && r.reported.epoch == r.known.Epoch && n.of(r.known.Owner).out.acked >= r.reported.last
}

// HasHeir reports whether another node could take this one's realms over.
func (n *Node) HasHeir() bool {
	return n.majority(n.hears) && slices.ContainsFunc(n.others(), func(name Name) bool { return n.hears(name) && !n.peers[name].leaving })
}

// SendAllAway closes all links, so that their clients go to other nodes, and refuses new ones.
func (n *Node) SendAllAway(at presence.Instant) {
	n.runs(at)
	for _, id := range n.order {
		n.sendAway(n.realms[id])
	}
}

// Acts returns the acts since its last call, in order. Call it after each other method.
func (n *Node) Acts() []Act {
	n.flushOthers() // first, since others wait for it
	n.readOwn()
	n.flushOthers()
	acts := n.acts
	n.acts = nil
	if n.halted != "" {
		acts = slices.DeleteFunc(acts, outward)
	}
	return acts
}

// outward reports whether an act concerns other nodes, or what they share.
func outward(act Act) bool {
	switch act.(type) {
	case Send, Append, ReadTable, SwapTable:
		return true
	}
	return false
}

func (n *Node) note(format string, args ...any) {
	if n.Story != nil {
		n.Story(format, args...)
	}
}

func (n *Node) do(act Act) { n.acts = append(n.acts, act) }

// mono is the node's clock.
func (n *Node) mono() time.Duration { return n.at.Mono }

// runs sets the instant, and notices if the node stood still.
func (n *Node) runs(at presence.Instant) {
	gap := at.Mono - n.at.Mono
	n.at = at
	if gap > n.Timings.Late {
		n.late()
	}
}

// late is called when this node has stood still. It counts heartbeats anew, and drops the requests
// that wait, because their clients have given up. As an owner, the node stays silent until the log proves
// that it still is one.
func (n *Node) late() {
	for _, name := range n.names {
		p := n.peers[name]
		if name != n.Name {
			p.heard, p.since = n.mono(), n.mono()
		}
		p.out.drop() // it was to be said before
	}
	n.alone, n.wokeAt = n.mono(), n.mono()
	n.marksSince = 0
	for _, id := range n.order {
		r := n.realms[id]
		if r.owner != nil {
			n.suspect(r.owner, true)
		}
		n.dropWaiting(r)
	}
}

// Known returns the newest owner of a realm that the node has heard of.
func (n *Node) Known(id Realm) Known {
	if r := n.realms[id]; r != nil {
		return r.known
	}
	return Known{}
}

// Refuses reports whether the node refuses links of a realm, and sends them away.
func (n *Node) Refuses(id Realm) bool { return n.realms[id] != nil && n.realms[id].carrier.refusing }

// Tick does what is due. Call it at [Node.Due].
func (n *Node) Tick(at presence.Instant) {
	n.runs(at)
	if n.halted != "" {
		return
	}
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
				n.write(o)
			}
		}
	}
	for _, name := range n.others() {
		n.acknowledge(name)
	}
}

// Due returns when Tick has something to do next. It changes with everything that happens.
func (n *Node) Due() time.Duration {
	if n.halted != "" {
		return never
	}
	due := n.beatAt
	if len(n.peers[n.Name].out.waiting) > 0 {
		return n.mono()
	}
	for _, name := range n.others() {
		p := n.peers[name]
		if len(p.out.waiting) > 0 && p.out.inFlight < n.Credit && p.incarnation > 0 {
			due = min(due, p.out.sentAt+n.Timings.Parcel)
		}
		if p.unacknowledged > 0 {
			due = min(due, p.acknowledgeAt)
		}
	}
	if n.markID == "" {
		due = min(due, n.markAt)
	}
	for _, id := range n.order {
		r := n.realms[id]
		if r.carrier.expires > 0 {
			due = min(due, r.carrier.expires)
		}
		if o := r.owner; o != nil {
			due = min(due, n.dueOwner(o))
		}
	}
	return max(due, n.mono())
}

// dueOwner returns when an owner has something to do next.
func (n *Node) dueOwner(o *owner) time.Duration {
	switch {
	case o.phase == begins || o.phase == ending || o.retry || o.unproven:
		return n.mono() + n.Timings.Flush
	case o.phase == reading:
		return never
	case o.phase == barrier:
		return o.since + n.Timings.Barrier
	case o.frozen:
		return never
	case o.appending == nil && n.lacksRecord(o):
		return min(o.passAt, max(n.flushAt, n.mono()))
	}
	return o.passAt
}

const never = time.Duration(math.MaxInt64)

// drop gives up a realm that another node owns.
func (n *Node) drop(r *realm) {
	if r.owner != nil {
		n.do(Owns{r.id, r.log.Name, false})
		n.note("gives up realm %d, epoch %d", r.id, r.owner.epoch)
	}
	r.owner = nil
}

func compareLinks(a, b presence.LinkID) int {
	return cmp.Or(cmp.Compare(a.Session, b.Session), cmp.Compare(a.Number, b.Number))
}

func sortedLinks[T any](links map[presence.LinkID]T) []presence.LinkID {
	return slices.SortedFunc(maps.Keys(links), compareLinks)
}

// place is the node's place among all, by name.
func (n *Node) place() uint64 { return uint64(slices.Index(n.names, n.Name)) + 1 }
