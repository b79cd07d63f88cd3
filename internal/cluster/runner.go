package cluster

import (
	"context"
	"maps"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// Broker is what a [Runner] needs of a broker.
type Broker struct {
	Log   Log
	Table Table
	Bus   Bus
}

// Measures are told, in seconds, how long the node was locked at a time, and how late its timers ran. Both may be nil.
type Measures struct{ Held, Late engine.Observer }

// Watcher hears of what concerns a node as a whole. It is called without locks, in order.
type Watcher interface {
	RealmMade(Realm, string)
	RealmGone(Realm)
	// Owns says whether this node owns a realm now, and so delivers for it.
	Owns(realm Realm, name string, is bool)
	// Halted says that the node cannot go on, and why.
	Halted(why string)
}

// Runner runs a [Node] by the clock of the machine: it does what the node wants, and passes on what it
// tells. All methods are safe for concurrent use.
type Runner struct {
	broker  Broker
	watcher Watcher // nil: nobody
	measure Measures
	began   time.Time
	over    chan struct{} // closed when Run has returned: nobody is answered any more

	mu      sync.Mutex
	node    *Node
	sends   acts // to other nodes and the broker, with heartbeats; kicked when the node may be due earlier, too
	others  acts
	cores   map[Realm]*Core
	waiting map[uint64]chan Answer // by attempt; each holds one
	conns   map[ConnID]pendingHello
	carried map[ConnID]carriedLink
	applies map[string]chan Verdict // by the id of the record; each holds one
	next    uint64                  // of attempts and connections
	planned time.Duration           // when Run looks next; 0: at once
	stopped bool                    // nothing more is read
	reading sync.WaitGroup          // what reads records
}

// acts are acts that are done in order.
type acts struct {
	doing sync.Mutex // held while they are done; locked before the runner's mu, which guards the rest
	list  []Act
	busy  bool          // somebody holds doing, and will look at the list again
	kick  chan struct{} // holds one: somebody should look at the list
}

func newActs() acts { return acts{kick: make(chan struct{}, 1)} }

func (a *acts) wake() {
	select {
	case a.kick <- struct{}{}:
	default:
	}
}

// pendingHello is a hello that waits for its answer.
type pendingHello struct {
	core   *Core
	answer chan Answer // holds one
}

// carriedLink is the link of a connection.
type carriedLink struct {
	core *Core
	link presence.LinkID
}

// NewRunner returns a runner that does nothing yet. Give it what comes from the broker, and Run it. The
// watcher may be nil.
func NewRunner(config Config, broker Broker, watcher Watcher, measure Measures) *Runner {
	r := &Runner{broker: broker, watcher: watcher, measure: measure, applies: map[string]chan Verdict{}, began: time.Now(), sends: newActs(), others: newActs(), over: make(chan struct{}), cores: map[Realm]*Core{}, waiting: map[uint64]chan Answer{}, conns: map[ConnID]pendingHello{}, carried: map[ConnID]carriedLink{},
		next: rand.Uint64N(1 << 46)} // attempts of an earlier start have other numbers
	r.node = NewNode(config, r.at())
	return r
}

func (r *Runner) at() presence.Instant {
	now := time.Now()
	return presence.Instant{Mono: now.Sub(r.began) + time.Nanosecond, Wall: now}
}

// Run lets time pass until ctx is done. Call it once.
func (r *Runner) Run(ctx context.Context) {
	defer close(r.over)
	var others sync.WaitGroup // what takes long must not hold up heartbeats
	others.Go(func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-r.others.kick:
				r.work(&r.others, false)
			}
		}
	})
	defer others.Wait()
	defer r.stopReading()
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
			r.react(func(n *Node, at presence.Instant) {
				if late := at.Mono - n.Due(); late >= 0 && r.measure.Late != nil {
					r.measure.Late.Observe(late.Seconds())
				}
				n.Tick(at)
			})
		case <-r.sends.kick:
			r.react(func(*Node, presence.Instant) {})
		}
		r.mu.Lock()
		wait := max(r.node.Due()-r.at().Mono, soonest)
		r.planned = r.at().Mono + wait
		r.mu.Unlock()
		timer.Reset(wait)
	}
}

// Limits of what is done for others.
const (
	mostRounds = 16            // that a caller does what others have brought about
	mostActs   = 4096          // if more wait to be done, callers wait, too
	mostLeft   = 16 * mostActs // if more wait to be done, what comes from other nodes waits, too
)

// with does something with the node, and then what the node wants, unless another caller is about to.
func (r *Runner) with(do func(*Node, presence.Instant)) {
	sends, others := r.change(do)
	if sends > 0 {
		r.work(&r.sends, true)
	}
	if others > 0 {
		r.work(&r.others, true)
	}
}

// react lets the node react to what comes from other nodes, the log or the table. Whoever calls it does not wait until
// receivers here are told, and so reads the next heartbeat in time.
func (r *Runner) react(do func(*Node, presence.Instant)) {
	sends, others := r.change(do)
	if sends > 0 {
		r.work(&r.sends, false)
	}
	switch {
	case others > mostLeft:
		r.work(&r.others, true)
	case others > 0:
		r.others.wake()
	}
}

// change does something with the node, and lists what the node wants then. It returns how much is in the lists.
func (r *Runner) change(do func(*Node, presence.Instant)) (sends, others int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	since := r.at()
	do(r.node, since)
	for _, act := range r.node.Acts() {
		answer, is := act.(PassAnswer)
		switch {
		case outward(act):
			r.sends.list = append(r.sends.list, act)
		case is && len(r.others.list) == 0 && !r.others.busy: // nothing is to be told before it
			r.answer(answer)
		default:
			r.others.list = append(r.others.list, act)
		}
	}
	r.hurry()
	if r.measure.Held != nil {
		r.measure.Held.Observe((r.at().Mono - since.Mono).Seconds())
	}
	return len(r.sends.list), len(r.others.list)
}

// work does what is in a list, unless another caller is about to. It may wait for that one if there is too much.
func (r *Runner) work(is *acts, waits bool) {
	r.mu.Lock()
	rests := len(is.list) == 0 || is.busy && !(waits && len(is.list) > mostActs)
	r.mu.Unlock()
	if rests {
		return
	}
	is.doing.Lock()
	defer is.doing.Unlock()
	r.mu.Lock()
	is.busy = true
	for round := 0; len(is.list) > 0; round++ {
		if round == mostRounds {
			is.wake()
			break
		}
		list := is.list
		is.list = nil
		r.mu.Unlock()
		for _, act := range list {
			r.perform(act)
		}
		r.mu.Lock()
	}
	is.busy = false
	r.mu.Unlock()
}

// soonest is how soon Run looks again at most.
const soonest = 100 * time.Microsecond

// hurry has Run look again if the node is due before Run would. The lock is held.
func (r *Runner) hurry() {
	if r.node.Due()+soonest < r.planned {
		r.wake()
	}
}

// wake has Run look now. The lock is held.
func (r *Runner) wake() {
	r.planned = 0
	r.sends.wake()
}

// Receive gives the node a message from the bus.
func (r *Runner) Receive(e Envelope) {
	r.react(func(n *Node, at presence.Instant) { n.Receive(at, e) })
}

// Applied gives the node a record of the log (see [Node.Applied]).
func (r *Runner) Applied(position Position, record Record) {
	r.react(func(n *Node, at presence.Instant) {
		verdict := n.Applied(at, position, record)
		select {
		case r.applies[record.ID] <- verdict: // of a record that the log has twice, the first counts
		default:
		}
	})
}

// Awaits reports whether a record must have its rows put before it is applied (see [Node.Awaits]).
func (r *Runner) Awaits(record *Record) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.node.Awaits(record)
}

// MakeRealm makes a realm, with changes of the records, and returns its number once this node has it.
// Its error may be [ErrRealmExists].
func (r *Runner) MakeRealm(ctx context.Context, name string, changes ...any) (id Realm, err error) {
	if err := r.append(ctx, Record{Kind: KindMade, Name: name, Changes: changes}, ErrRealmExists); err != nil {
		return 0, err
	}
	r.with(func(n *Node, _ presence.Instant) { id, err = n.Named(name) })
	return id, err
}

// EndRealm ends a realm, with changes of the records. It returns once this node has forgotten it. Its error
// may be [ErrNoRealm].
func (r *Runner) EndRealm(ctx context.Context, id Realm, changes ...any) error {
	return r.append(ctx, Record{Kind: KindGone, Realm: id, Changes: changes}, ErrNoRealm)
}

// Leave hands the realms of this node over, and returns when it owns none and their next owners answer, or ctx is done.
// If there is no node that could take them, the error is [ErrNotReady].
func (r *Runner) Leave(ctx context.Context) error {
	r.with(func(n *Node, at presence.Instant) { n.Leave(at) })
	ticker := time.NewTicker(10 * time.Millisecond)
	defer ticker.Stop()
	for {
		r.mu.Lock()
		none, heir, cores := r.node.OwnsNone(), r.node.HasHeir(), slices.Collect(maps.Values(r.cores))
		r.mu.Unlock()
		switch {
		case none:
			for _, c := range cores { // clients that come back before would slow the next owner down
				_, _ = c.request(ctx, presence.LinkID{}, Request{Question: &Question{Method: "Size"}}) // for some seconds at most
			}
			return nil
		case !heir:
			return ErrNotReady
		}
		select {
		case <-ticker.C:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// Status returns what the node knows now.
func (r *Runner) Status() Status {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.node.Status(r.at())
}

// Speaks reports whether this node owns a realm and answers for it now.
func (r *Runner) Speaks(id Realm) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	is, ok := r.node.Owned(id)
	return ok && is.Speaks
}

// RaiseFormat brings a format into force (see [Node.RaiseFormat]). It is in force once the log says so.
func (r *Runner) RaiseFormat(to Format) (err error) {
	r.with(func(n *Node, at presence.Instant) { err = n.RaiseFormat(at, to) })
	return err
}

// appendAgain is the pause before a record is appended again whose outcome is unknown.
const appendAgain = 200 * time.Millisecond

// append appends a record of no owner, and returns when this node has applied it. If the record changes
// nothing, the error is passes.
func (r *Runner) append(ctx context.Context, record Record, passes error) error {
	applied := make(chan Verdict, 1)
	r.with(func(n *Node, _ presence.Instant) {
		is := n.record(record.Kind)
		is.Name, is.Realm, is.Changes = record.Name, record.Realm, record.Changes
		record = is
		r.applies[is.ID] = applied
	})
	defer func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		delete(r.applies, record.ID)
	}()
	for {
		outcomes := make(chan Outcome, 1)
		r.broker.Log.Append(record, Unfenced, func(outcome Outcome) { outcomes <- outcome })
		again := time.NewTimer(appendAgain)
		for waits := true; waits; {
			select {
			case verdict := <-applied:
				again.Stop()
				switch verdict {
				case Applies:
					return nil
				case Passes:
					return passes
				}
				return ErrNotReady // this node has halted
			case outcome := <-outcomes:
				if outcome == Done {
					again.Stop() // it will come
				}
			case <-again.C:
				waits = false
			case <-ctx.Done():
				again.Stop()
				return ctx.Err()
			case <-r.over:
				again.Stop()
				return ErrNotReady
			}
		}
	}
}

// read reads records while everything else goes on. Run returns only when it is done.
func (r *Runner) read(do func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !r.stopped {
		r.reading.Go(do)
	}
}

// stopReading waits until nothing reads records any more.
func (r *Runner) stopReading() {
	r.mu.Lock()
	r.stopped = true
	r.mu.Unlock()
	r.reading.Wait()
}

func (r *Runner) perform(act Act) {
	switch act := act.(type) {
	case Send:
		r.broker.Bus.Send(act.To, act.Envelope)
	case Append:
		r.broker.Log.Append(act.Record, act.After, func(outcome Outcome) {
			r.react(func(n *Node, at presence.Instant) { n.Appended(at, act.Record.ID, outcome) })
		})
	case Prepare:
		r.read(func() {
			r.node.Records.Prepare(act.Realm)
			r.react(func(n *Node, at presence.Instant) { n.Prepared(at, act.Realm, act.Epoch) })
		})
	case ReadSaved:
		r.read(func() {
			is := r.node.Records.State(act.Realm)
			r.react(func(n *Node, at presence.Instant) { n.Saved(at, act.Realm, act.Epoch, is) })
		})
	case Continue:
		r.read(func() {
			act.Run()
			r.react(func(n *Node, at presence.Instant) { n.Continued(at, act.Realm, act.Epoch, act.Engine) })
		})
	case ReadTable:
		r.broker.Table.Read(func(owners Owners, ok bool) {
			r.react(func(n *Node, at presence.Instant) { n.Table(at, owners, ok) })
		})
	case SwapTable:
		r.broker.Table.Swap(act.Version, act.To, func(outcome Outcome) {
			r.react(func(n *Node, at presence.Instant) { n.Swapped(at, outcome) })
		})
	case PassAnswer:
		r.mu.Lock()
		defer r.mu.Unlock()
		r.answer(act)
	case WriteBeat:
		r.ofConn(act.Conn, func(c *Core, link presence.LinkID) { c.links.AskBeat(presence.AskBeat{Link: link, Probe: act.Probe}) })
	case Close:
		r.closed(act)
	case Offer:
		r.ofConn(act.Conn, func(c *Core, link presence.LinkID) {
			if to, ok := c.links.(FrameTaker); ok {
				to.Offer(link, act.Frame)
			}
		})
	case StopFollowing:
		r.mu.Lock()
		c := r.cores[act.Realm]
		r.mu.Unlock()
		if c == nil {
			return
		}
		if to, ok := c.links.(Remover); ok {
			to.PersonRemoved(act.Removed)
		}
	case RealmMade:
		if r.watcher != nil {
			r.watcher.RealmMade(act.Realm, act.Name)
		}
	case RealmGone:
		r.mu.Lock()
		delete(r.cores, act.Realm)
		r.mu.Unlock()
		if r.watcher != nil {
			r.watcher.RealmGone(act.Realm)
		}
	case Owns:
		if r.watcher != nil {
			r.watcher.Owns(act.Realm, act.Name, act.Is)
		}
	case Halt:
		if r.watcher != nil {
			r.watcher.Halted(act.Why)
		}
	case Tell:
		r.ofConn(act.Conn, func(c *Core, _ presence.LinkID) { c.tell(act.Effect) })
	case Show:
		r.mu.Lock()
		c := r.cores[act.Realm]
		r.mu.Unlock()
		if c != nil {
			c.show(act.What)
		}
	}
}

// answer passes an answer to whoever waits for it. The lock is held.
func (r *Runner) answer(act PassAnswer) {
	to := r.waiting[act.Answer.Attempt]
	delete(r.waiting, act.Answer.Attempt)
	if hello, waits := r.conns[act.Conn]; waits {
		delete(r.conns, act.Conn)
		to = hello.answer
		if act.Answer.Err == nil { // before any order about the link
			r.carried[act.Conn] = carriedLink{hello.core, act.Answer.Reply.Link}
		}
	}
	if to != nil {
		to <- act.Answer
	}
}

// Remover are links that end what a removed person follows.
type Remover interface {
	PersonRemoved(presence.PersonRemoved)
}

// FrameTaker are links that take frames for clients; false if the link is gone or has too much unread.
type FrameTaker interface {
	Offer(presence.LinkID, []byte) bool
}

// closed ends a connection: its hello is refused, or its link is cut.
func (r *Runner) closed(act Close) {
	r.mu.Lock()
	hello, waits := r.conns[act.Conn]
	delete(r.conns, act.Conn)
	r.mu.Unlock()
	if waits {
		hello.answer <- Answer{Err: errorOf(act.Why)}
		return
	}
	r.ofConn(act.Conn, func(c *Core, link presence.LinkID) {
		cut := act.Cut
		cut.Link = link
		c.links.Cut(cut)
		r.mu.Lock()
		defer r.mu.Unlock()
		delete(r.carried, act.Conn)
	})
}

// errorOf returns why a hello is not answered.
func errorOf(why CloseReason) error {
	if why == CloseGone {
		return ErrNoRealm
	}
	return ErrNotReady
}

// ofConn does something for the link of a connection.
func (r *Runner) ofConn(conn ConnID, do func(*Core, presence.LinkID)) {
	r.mu.Lock()
	is, carried := r.carried[conn]
	r.mu.Unlock()
	if carried {
		do(is.core, is.link)
	}
}

var _ engine.Links = (*owner)(nil)
