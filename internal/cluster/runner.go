package cluster

import (
	"context"
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

// Runner runs a [Node] by the clock of the machine: it does what the node wants, and passes on what it
// tells. All methods are safe for concurrent use.
type Runner struct {
	broker Broker
	began  time.Time
	kick   chan struct{} // holds one: the node may be due earlier
	over   chan struct{} // closed when Run has returned: nobody is answered any more

	telling sync.Mutex // held while acts are done, in order; locked before mu
	mu      sync.Mutex
	node    *Node
	acts    []Act
	cores   map[Realm]*Core
	waiting map[uint64]chan Answer // by attempt; each holds one
	conns   map[ConnID]pendingHello
	carried map[ConnID]carriedLink
	next    uint64 // of attempts and connections
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

// NewRunner returns a runner that does nothing yet. Give it what comes from the broker, and Run it.
func NewRunner(config Config, broker Broker) *Runner {
	r := &Runner{broker: broker, began: time.Now(), kick: make(chan struct{}, 1), over: make(chan struct{}), cores: map[Realm]*Core{}, waiting: map[uint64]chan Answer{}, conns: map[ConnID]pendingHello{}, carried: map[ConnID]carriedLink{},
		next: uint64(config.Incarnation) << 32}
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
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
			r.with(func(n *Node, at presence.Instant) { n.Tick(at) })
		case <-r.kick:
		}
		r.mu.Lock()
		due := r.node.Due()
		r.mu.Unlock()
		timer.Reset(max(due-r.at().Mono, 100*time.Microsecond))
	}
}

// with does something with the node, and then what the node wants.
func (r *Runner) with(do func(*Node, presence.Instant)) {
	r.mu.Lock()
	do(r.node, r.at())
	r.acts = append(r.acts, r.node.Acts()...)
	r.mu.Unlock()
	select {
	case r.kick <- struct{}{}:
	default:
	}
	r.telling.Lock()
	defer r.telling.Unlock()
	for {
		r.mu.Lock()
		acts := r.acts
		r.acts = nil
		r.mu.Unlock()
		if len(acts) == 0 {
			return
		}
		for _, act := range acts {
			r.perform(act)
		}
	}
}

// Receive gives the node a message from the bus.
func (r *Runner) Receive(e Envelope) {
	r.with(func(n *Node, at presence.Instant) { n.Receive(at, e) })
}

// Applied says that the rows of a record were put (see [Node.Applied]).
func (r *Runner) Applied(position Position, record Record) {
	r.with(func(n *Node, at presence.Instant) { n.Applied(at, position, record) })
}

// Passed says that the log repeats a record (see [Node.Passed]).
func (r *Runner) Passed(position Position, realm Realm) {
	r.with(func(n *Node, at presence.Instant) { n.Passed(at, position, realm) })
}

func (r *Runner) perform(act Act) {
	switch act := act.(type) {
	case Send:
		r.broker.Bus.Send(act.To, act.Envelope)
	case Append:
		r.broker.Log.Append(act.Record, act.After, func(outcome Outcome) {
			r.with(func(n *Node, at presence.Instant) { n.Appended(at, act.Record.ID, outcome) })
		})
	case ReadTable:
		r.broker.Table.Read(func(owners Owners, ok bool) {
			r.with(func(n *Node, at presence.Instant) { n.Table(at, owners, ok) })
		})
	case SwapTable:
		r.broker.Table.Swap(act.Version, act.To, func(outcome Outcome) {
			r.with(func(n *Node, at presence.Instant) { n.Swapped(at, outcome) })
		})
	case PassAnswer:
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

// answer passes an answer to whoever waits for it.
func (r *Runner) answer(act PassAnswer) {
	r.mu.Lock()
	defer r.mu.Unlock()
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
		hello.answer <- Answer{Err: ErrNotReady}
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
