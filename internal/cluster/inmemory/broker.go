// Package inmemory is a broker and the records of nodes in the memory of one process, for clusters
// that live and end with it.
package inmemory

import (
	"maps"
	"sync"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/coding"
)

// Broker keeps the table and the log, and carries messages, which take the form that they have on a bus. It
// loses nothing.
type Broker struct {
	mu    sync.Mutex
	fold  cluster.Fold
	table cluster.Owners
	log   []cluster.Record
	last  map[cluster.Realm]cluster.Position
	nodes map[cluster.Name]*member
}

// NewBroker returns a broker with the realms and owners that begin.
func NewBroker(fold cluster.Fold, owners map[cluster.Realm]cluster.Ownership) *Broker {
	return &Broker{fold: fold, table: cluster.Owners{Version: 1, Realms: owners}, last: map[cluster.Realm]cluster.Position{}, nodes: map[cluster.Name]*member{}}
}

// Node is what a broker tells a node, in order, from one goroutine. A [cluster.Runner] is one, apart
// from the rows.
type Node interface {
	Receive(cluster.Envelope)
	Applied(cluster.Position, cluster.Record)
}

// member is a node at the broker.
type member struct {
	node    Node
	put     func(cluster.Position, cluster.Fold, []cluster.Record) error
	mu      sync.Mutex
	waiting []func()
	wake    chan struct{} // holds one
	applied cluster.Position
	fold    cluster.Fold
}

// Join connects a node. Its rows are put before it is told a record. Stop disconnects it.
func (b *Broker) Join(name cluster.Name, put func(cluster.Position, cluster.Fold, []cluster.Record) error) (broker cluster.Broker, start func(Node), stop func()) {
	m := &member{put: put, wake: make(chan struct{}, 1), fold: b.fold.Clone()}
	at := port{b, m}
	over, running := make(chan struct{}), sync.WaitGroup{}
	start = func(node Node) {
		m.node = node
		b.mu.Lock()
		b.nodes[name] = m
		b.mu.Unlock()
		m.later(func() { b.apply(m) })
		running.Go(func() { m.run(over) })
	}
	stop = func() {
		b.mu.Lock()
		delete(b.nodes, name)
		b.mu.Unlock()
		close(over)
		running.Wait()
	}
	return cluster.Broker{Log: at, Table: at, Bus: at}, start, stop
}

func (m *member) later(do func()) {
	m.mu.Lock()
	m.waiting = append(m.waiting, do)
	m.mu.Unlock()
	select {
	case m.wake <- struct{}{}:
	default:
	}
}

func (m *member) run(over <-chan struct{}) {
	for {
		m.mu.Lock()
		waiting := m.waiting
		m.waiting = nil
		m.mu.Unlock()
		for _, do := range waiting {
			do()
		}
		select {
		case <-over:
			return
		case <-m.wake:
		}
	}
}

// apply gives a node the records that it lacks.
func (b *Broker) apply(m *member) {
	for {
		b.mu.Lock()
		if int(m.applied) >= len(b.log) {
			b.mu.Unlock()
			return
		}
		r := b.log[m.applied]
		m.applied++
		b.mu.Unlock()
		verdict := m.fold.Take(m.applied, r, cluster.Newest)
		if verdict == cluster.Applies && r.HasRows() {
			if err := m.put(m.applied, m.fold, []cluster.Record{r}); err != nil {
				panic(err)
			}
		}
		m.node.Applied(m.applied, r)
	}
}

// port is the broker as one node reaches it.
type port struct {
	*Broker
	at *member
}

// Append implements [cluster.Log].
func (p port) Append(r cluster.Record, after cluster.Position, done func(cluster.Outcome)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if after != cluster.Unfenced && p.last[r.Realm] != after {
		p.at.later(func() { done(cluster.Refused) })
		return
	}
	p.log = append(p.log, r)
	if r.Realm != 0 {
		p.last[r.Realm] = cluster.Position(len(p.log))
	}
	p.at.later(func() { done(cluster.Done) })
	for _, m := range p.nodes {
		m.later(func() { p.apply(m) })
	}
}

// Read implements [cluster.Table].
func (p port) Read(done func(cluster.Owners, bool)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	is := p.table
	is.Realms = maps.Clone(p.table.Realms)
	p.at.later(func() { done(is, true) })
}

// Swap implements [cluster.Table].
func (p port) Swap(version uint64, to cluster.Owners, done func(cluster.Outcome)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	outcome := cluster.Refused
	if version == p.table.Version {
		outcome = cluster.Done
		p.table = to
		p.table.Version, p.table.Realms = version+1, maps.Clone(to.Realms)
	}
	p.at.later(func() { done(outcome) })
}

// Send implements [cluster.Bus].
func (p port) Send(to cluster.Name, e cluster.Envelope) {
	p.mu.Lock()
	m := p.nodes[to]
	p.mu.Unlock()
	if m == nil {
		return
	}
	text, err := coding.Envelope(e)
	if err == nil {
		e, err = coding.ReadEnvelope(text)
	}
	if err != nil {
		panic(err)
	}
	m.later(func() { m.node.Receive(e) })
}
