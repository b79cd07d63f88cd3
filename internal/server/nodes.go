package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/broker"
	"tovik.example/tovik/internal/cluster/peers"
	"tovik.example/tovik/internal/httpapi"
	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/wire"
)

// Requests that nodes answer about themselves.
const (
	askStatus = "status"
	askDrain  = "drain"
	// askHeard asks which other nodes it has heard, and when. Its answer waits for no disk, as a status may.
	askHeard = "heard"
)

// Limits of what a node knows of others.
const (
	lookEvery  = 10 * time.Second // at the clocks of others, and at the log
	lookIn     = time.Second      // a node that does not answer in time is away
	clockApart = time.Second      // a node whose clock is further from the median is not ready
	mostChange = 50               // changes of owners that are kept
)

// nodeStatus is what a node says about itself.
type nodeStatus struct {
	wire.Node
	Wall   time.Time         `json:"wall"`
	Realms []wire.RealmOwner `json:"realms"` // that it owns
	// Keepers are the nodes that keep the log, by its configuration.
	Keepers []string `json:"keepers"`
	// Copies are its own copies of the log and the table.
	Copies broker.Copies `json:"copies"`
}

// observer notes what goes through a node, for operators.
type observer struct {
	*cluster.Runner
	read    atomic.Uint64
	begun   atomic.Int64 // realms, by this node
	mu      sync.Mutex
	changes []wire.OwnerChange // newest first
	handed  map[cluster.Realm]cluster.Epoch
	clock   time.Duration // ahead of the median
	log     broker.State  // a moment ago
}

// Applied implements [broker.Node].
func (o *observer) Applied(at cluster.Position, r cluster.Record) {
	o.Runner.Applied(at, r)
	o.read.Store(uint64(at))
	switch r.Kind {
	case cluster.KindEnds:
		o.mu.Lock()
		defer o.mu.Unlock()
		o.handed[r.Realm] = r.Epoch
	case cluster.KindBegins:
		for _, is := range o.Status().Realms {
			if is.ID == r.Realm && is.Known.Epoch == r.Epoch { // otherwise the record came too late
				o.note(is.Name, r)
			}
		}
	}
}

func (o *observer) note(name string, r cluster.Record) {
	o.mu.Lock()
	defer o.mu.Unlock()
	change := wire.OwnerChange{Time: wire.Time{Time: time.UnixMilli(r.Wall).UTC()}, Realm: name, Owner: string(r.Node), Epoch: uint64(r.Epoch), Handed: o.handed[r.Realm] > 0}
	delete(o.handed, r.Realm)
	o.changes = slices.Insert(o.changes, 0, change)
	o.changes = o.changes[:min(len(o.changes), mostChange)]
}

// answerPeers sets what this node says about itself to others. Ready reports whether it has begun, and does
// not stop.
func (n *node) answerPeers(ready func() bool, drain func()) {
	n.peers.Answer(askStatus, func(context.Context, json.RawMessage) (any, error) { return n.about(ready()), nil })
	n.peers.Answer(askHeard, func(context.Context, json.RawMessage) (any, error) { return n.observer.Status().Heard, nil })
	n.peers.Answer(askDrain, func(context.Context, json.RawMessage) (any, error) {
		drain()
		return nil, nil
	})
}

// about says what this node knows of itself.
func (n *node) about(ready bool) nodeStatus {
	is := n.observer.Status()
	s := nodeStatus{Wall: time.Now(), Keepers: n.LogNodes, Node: wire.Node{
		Node: n.Cluster.Node, State: wire.NodeReady, Owns: []string{}, Read: n.observer.read.Load(), Keeps: n.keeps(n.Cluster.Node),
		Version: n.world.config.Version, Since: &wire.Time{Time: n.started},
	}}
	for _, name := range is.Unheard {
		if name != cluster.External { // the reason below names it
			s.Unheard = append(s.Unheard, string(name))
		}
	}
	for _, r := range is.Realms {
		if r.Owns {
			s.Owns = append(s.Owns, r.Name)
		}
		if r.Known.Owner == cluster.Name(s.Node.Node) {
			s.Realms = append(s.Realms, wire.RealmOwner{Realm: r.Name, Owner: s.Node.Node, Epoch: uint64(r.Known.Epoch), Answers: r.Speaks})
		}
	}
	if n.server != nil {
		s.Copies = n.server.Copies(n.Name)
	}
	size := n.world.gateway.Size()
	s.Links = size.WebSockets + size.Streams
	why := n.notReady(is)
	switch {
	case is.Leaving:
		s.State, s.Because = wire.NodeLeaving, "it hands over what it owns, and ends"
	case !ready:
		s.State, s.Because = wire.NodeNotReady, "it is starting"
	case why != "":
		s.State, s.Because = wire.NodeNotReady, why
	case n.server != nil && !n.server.Complete():
		s.State, s.Because = wire.NodeNotReady, "its part of the log is not complete yet: stop no other node"
	}
	return s
}

// notReady returns why a load balancer should send no clients to this node; empty if it may.
func (n *node) notReady(is cluster.Status) string {
	n.observer.mu.Lock()
	clock := n.observer.clock
	n.observer.mu.Unlock()
	switch {
	case is.Halted != "":
		return is.Halted
	case is.Apart >= n.apartFor && n.Broker != "":
		return fmt.Sprintf("the broker has taken no record of this node for %s", phrase.Lasting(is.Apart))
	case is.Apart >= n.apartFor:
		return fmt.Sprintf("this node has heard no majority of the nodes that keep the log for %s", phrase.Lasting(is.Apart))
	case clock.Abs() > clockApart:
		return fmt.Sprintf("the clock of this node is %s away from the median of all nodes", phrase.Lasting(clock.Abs()))
	}
	return ""
}

// look asks the other nodes for their clocks, and the log for its state, until ctx is done. It has the log kept by those
// who are to keep it.
func (n *node) look(ctx context.Context) {
	for {
		answers, _ := n.ask(ctx)
		n.compareClocks(answers)
		next := lookEvery
		if n.arranges(answers) {
			has := map[string]broker.Copies{}
			for i := range answers {
				has[answers[i].Node.Node] = answers[i].Copies
			}
			switch changed, err := n.broker.Arrange(n.LogNodes, has); {
			case err != nil:
				n.log.Warn("who keeps the log cannot be changed now", "error", err)
			case changed != "":
				n.log.Info("the log is being moved", "change", changed)
				next = lookIn
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(next):
		}
	}
}

// compareClocks notes how far the clock of this node is from the median of all.
func (n *node) compareClocks(answers []nodeStatus) {
	ahead := []int64{0}
	for i := range answers {
		if answers[i].State != wire.NodeAway && answers[i].Node.Node != n.Cluster.Node {
			ahead = append(ahead, answers[i].Clock)
		}
	}
	slices.Sort(ahead)
	n.observer.mu.Lock()
	defer n.observer.mu.Unlock()
	n.observer.clock = -time.Duration(ahead[len(ahead)/2]) * time.Millisecond
	if len(ahead) == 2 { // of two clocks nobody can say which is wrong
		n.observer.clock = 0
	}
}

// arranges reports whether this node is to have the log kept by the nodes of its configuration: all nodes that answer have
// the same, among them all that are to keep it, and it is the first of them.
func (n *node) arranges(answers []nodeStatus) bool {
	if n.Broker != "" {
		return false
	}
	var keepers []string
	for i := range answers {
		is := &answers[i]
		switch {
		case is.State == wire.NodeAway:
			continue
		case !sameNames(is.Keepers, n.LogNodes):
			return false
		case slices.Contains(n.LogNodes, is.Node.Node):
			keepers = append(keepers, is.Node.Node)
		}
	}
	return len(keepers) == len(n.LogNodes) && keepers[0] == n.Cluster.Node // the answers are sorted
}

func sameNames(a, b []string) bool {
	return slices.Equal(slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b)))
}

// ask asks all nodes about themselves, sorted by name, and the log for its state. The error is that of the log.
func (n *node) ask(ctx context.Context) ([]nodeStatus, error) {
	names := n.peers.All()
	answers := make([]nodeStatus, len(names))
	state := make(chan error, 1)
	go func() {
		is, err := n.broker.State()
		if err == nil {
			n.observer.mu.Lock()
			n.observer.log = is
			n.observer.mu.Unlock()
		}
		state <- err
	}()
	var asking sync.WaitGroup
	for i, name := range names {
		asking.Go(func() {
			ctx, cancel := context.WithTimeout(ctx, lookIn)
			defer cancel()
			began := time.Now()
			if err := n.peers.Ask(ctx, name, askStatus, nil, &answers[i]); err != nil {
				answers[i] = nodeStatus{Node: wire.Node{Node: name, State: wire.NodeAway, Because: n.whyAway(err), Owns: []string{}, Keeps: n.keeps(name)}}
				return
			}
			took := time.Since(began)
			answers[i].Clock = answers[i].Wall.Sub(began.Add(took / 2)).Milliseconds()
		})
	}
	asking.Wait()
	return answers, <-state
}

// list describes all nodes.
func (n *node) list(ctx context.Context) wire.Nodes {
	answers, logless := n.ask(ctx)
	n.observer.mu.Lock()
	defer n.observer.mu.Unlock()
	doc := wire.Nodes{Cluster: n.Name, Asked: n.Cluster.Node, Nodes: []wire.Node{}, Realms: n.owners(answers), Changes: slices.Concat([]wire.OwnerChange{}, n.observer.changes)}
	log := n.observer.log
	doc.Log = wire.LogState{First: log.First, Last: log.Last, Bytes: log.Bytes, Most: log.Most, Copies: log.Copies, Current: log.Current}
	if n.server != nil {
		doc.Log.Current = 0 // counted below: the nodes know their own copies better than the leader does
	}
	for i := range answers {
		of := answers[i].Node
		if n.server != nil && log.Complete(answers[i].Copies) {
			doc.Log.Current++
		}
		if of.State != wire.NodeAway && log.Last > of.Read {
			of.Behind = log.Last - of.Read
		}
		if of.Node == log.LogLeader && logless == nil {
			of.Leads = append(of.Leads, "log")
		}
		if of.Node == log.TableLeader && logless == nil {
			of.Leads = append(of.Leads, "table")
		}
		doc.Nodes = append(doc.Nodes, of)
	}
	if logless != nil {
		doc.Log.Current = 0
	}
	return doc
}

func (n *node) whyAway(err error) string {
	if errors.Is(err, peers.ErrGone) {
		return "it is not connected to this node"
	}
	return "it does not answer this node"
}

// owners returns the owner of each realm: as its owner says, or else as this node has heard.
func (n *node) owners(answers []nodeStatus) []wire.RealmOwner {
	owners := []wire.RealmOwner{}
	for _, is := range n.observer.Status().Realms {
		of := wire.RealmOwner{Realm: is.Name, Owner: string(is.Known.Owner), Epoch: uint64(is.Known.Epoch)}
		for i := range answers {
			for _, said := range answers[i].Realms {
				if said.Realm == of.Realm && said.Epoch >= of.Epoch {
					of = said
				}
			}
		}
		owners = append(owners, of)
	}
	return owners
}

var errAlone = &wire.Problem{Code: wire.CodeAlone, Detail: "this service is no node of a cluster", Allowed: "a service with cluster.node in its configuration"}

// Nodes implements [httpapi.World].
func (w *world) Nodes(ctx context.Context) (wire.Nodes, error) {
	if w.node == nil {
		return wire.Nodes{}, errAlone
	}
	return w.node.list(ctx), nil
}

// Drain implements [httpapi.World].
func (w *world) Drain(ctx context.Context, name string) error {
	if w.node == nil {
		return errAlone
	}
	var none any
	err := w.node.peers.Ask(ctx, name, askDrain, nil, &none)
	if errors.Is(err, peers.ErrAway) {
		detail := "this node does not answer"
		if !slices.Contains(w.node.Cluster.Nodes, name) {
			detail = "the cluster has no such node"
		}
		return &wire.Problem{Code: wire.CodeUnknownNode, Field: "node", Value: wire.Shorten(name), Detail: detail, Allowed: fmt.Sprintf("one of %v", w.node.peers.All())}
	}
	return err
}

// NotReady implements [httpapi.World].
func (w *world) NotReady() string {
	if w.node == nil {
		return ""
	}
	return w.node.notReady(w.node.observer.Status())
}

// Figures implements [httpapi.World].
func (w *world) Figures() (httpapi.NodeFigures, bool) {
	if w.node == nil {
		return httpapi.NodeFigures{}, false
	}
	o := w.node.observer
	is := o.Status()
	f := httpapi.NodeFigures{Heard: len(w.node.Cluster.Nodes) - len(slices.DeleteFunc(is.Unheard, func(name cluster.Name) bool { return name == cluster.External })), Begun: int(o.begun.Load()), BegunLog: is.Began.Log, BegunRecords: is.Began.Records, BegunReports: is.Began.Reports, Apart: is.Apart, Read: o.read.Load()}
	for _, r := range is.Realms {
		if r.Owns {
			f.Owned = append(f.Owned, r.Name)
		}
	}
	if w.node.server != nil {
		f.Refused = w.node.server.Refused()
		t := w.node.server.Traffic()
		f.MessagesIn, f.BytesIn, f.MessagesOut, f.BytesOut = t.MessagesIn, t.BytesIn, t.MessagesOut, t.BytesOut
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	f.Clock, f.LogBytes, f.Most = o.clock, o.log.Bytes, o.log.Most
	if o.log.Last > f.Read {
		f.Behind = o.log.Last - f.Read
	}
	return f, true
}
