package server

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/nats-io/nats.go"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/broker"
	"tovik.example/tovik/internal/cluster/peers"
	"tovik.example/tovik/internal/cluster/stored"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
)

// Cluster are the settings of a node of a cluster. Name, Node and Nodes are required, and either Broker and Copies or
// Listen, LogNodes and Password.
type Cluster struct {
	Name     string   // of the cluster
	Node     string   // of this node
	Listen   string   // the address for other nodes, as in 10.0.0.1:8421
	Peers    []string // addresses of other nodes
	Nodes    []string // the names of all nodes
	LogNodes []string // the names of those that keep the log
	Password string   // that all nodes have in common
	TLS      *tls.Config
	// Broker has the addresses of an external broker, instead of one in each node. Credentials is a file for it, and
	// Copies is how many of its servers keep the log when it is made.
	Broker      string
	Credentials string
	Copies      int
	LogBytes    int64            // the log may be so large; 0: 10 GB
	Timings     *cluster.Timings // of the rules; nil: those of docs/cluster.md
}

// keeps reports whether a node keeps the log.
func (c *Cluster) keeps(name string) bool { return c.Broker == "" && slices.Contains(c.LogNodes, name) }

// node is this process as a node of a cluster: the broker, the rows, and what drives them.
type node struct {
	*Cluster
	server *broker.Server
	conn   *nats.Conn
	broker *broker.Broker
	peers  *peers.Peers
	log    *slog.Logger
	at     records.Position // of the records when the node started
	copies *copies          // of the records, that other nodes are taking
	rows   *stored.Records
	runner *cluster.Runner
	// observer is what the broker tells the runner through.
	observer *observer
	started  time.Time
	world    *world
	apartFor time.Duration   // a node that hears no majority for so long is not ready
	events   chan func()     // of the watcher, in order
	owned    map[string]bool // realms; used by events alone

	stop    context.CancelFunc
	serving sync.WaitGroup
	failed  chan error // holds one

	mu     sync.Mutex
	realms map[string]cluster.Realm // that have begun here
	begun  chan struct{}            // closed when a realm begins, then replaced
}

// How long a node waits for the others.
const (
	joinIn  = 5 * time.Minute // a cluster may be starting
	orderIn = 10 * time.Second
)

// joinCluster starts the broker and opens the log. It waits until most of the nodes that keep the log are there.
func joinCluster(ctx context.Context, c *Config) (joined *node, err error) {
	n := &node{Cluster: c.Cluster, log: c.Log, events: make(chan func(), 1024), failed: make(chan error, 1), owned: map[string]bool{}, realms: map[string]cluster.Realm{}, begun: make(chan struct{})}
	if !slices.Contains(n.Nodes, n.Node) {
		return nil, fmt.Errorf("cluster.nodes is %q, and must have this node, %s", n.Nodes, n.Node)
	}
	if c.Data == "" || c.Data == records.Memory {
		return nil, errors.New("a node of a cluster needs a data directory: choose one with --data")
	}
	defer func() {
		if err != nil {
			n.leave()
		}
	}()
	if err := os.MkdirAll(c.Data, 0o700); err != nil {
		return nil, err
	}
	if n.at, err = recordsAt(c.Data); err != nil {
		return nil, err
	}
	if err := n.fits(c.Data); err != nil {
		return nil, err
	}
	if err := n.connect(c.Data); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, joinIn)
	defer cancel()
	n.peers = peers.New(peers.Options{Conn: n.conn, Cluster: n.Name, Node: n.Node, Nodes: n.Nodes, Log: c.Log})
	n.broker, err = broker.Open(ctx, broker.Options{Conn: n.conn, Cluster: n.Name, Node: cluster.Name(n.Node), Identity: n.at.Log, Replicas: n.replicas(), MaxBytes: n.LogBytes, Tagged: n.Broker == "", Log: c.Log})
	if err == nil {
		err = n.isTheOnlyOne(ctx, c.Data)
	}
	return n, err
}

// connect connects to the broker, and starts this node's part of it if it is embedded.
func (n *node) connect(dir string) (err error) {
	if n.Broker != "" {
		n.conn, err = broker.Dial(n.Broker, n.Credentials, n.TLS, n.log)
		return err
	}
	n.server, err = broker.StartServer(broker.ServerOptions{Cluster: n.Name, Node: cluster.Name(n.Node), Dir: dir, Listen: n.Listen, Peers: n.Peers,
		KeepsLog: n.keeps(n.Node), Votes: slices.Contains(broker.Voters(n.Nodes, n.LogNodes), n.Node), Password: n.Password, TLS: n.TLS, Log: n.log})
	if err == nil {
		n.conn, err = n.server.Connect()
	}
	return err
}

// leave ends what joinCluster began.
func (n *node) leave() {
	if n.broker != nil {
		n.broker.Close()
	}
	if n.conn != nil {
		n.conn.Close()
	}
	if n.server != nil {
		n.server.Stop()
	}
}

// change brings a change of the records into the log. It is a [records.Changer].
func (n *node) change(ctx context.Context, c records.Change) error {
	id, err := n.oldest()
	if err != nil {
		return err
	}
	return n.runner.Change(ctx, id, c)
}

// oldest returns the realm whose owner takes what concerns all of them.
func (n *node) oldest() (cluster.Realm, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if id, ok := n.realms[access.Main]; ok {
		return id, nil
	}
	return 0, cluster.ErrNotReady
}

// nodeFile is what a data directory says about its node.
type nodeFile struct {
	Name        string              `json:"name"`
	Incarnation cluster.Incarnation `json:"incarnation"`
	// Single says that the log here is that of a node that has no others: the broker keeps it in another form then.
	Single bool `json:"single,omitempty"`
}

// Names of what a node keeps in its data directory.
const (
	nodeFileName = "node.json"
	logDir       = "log"
)

// readNodeFile reads what a data directory says about its node. The name is empty if it says nothing.
func readNodeFile(dir string) (is nodeFile, err error) {
	path := filepath.Join(dir, nodeFileName)
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return is, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &is)
	}
	if err != nil {
		return is, fmt.Errorf("%s: %w", path, err)
	}
	return is, nil
}

// fits checks that a data directory is that of this node, and that the log in it has the form that it needs.
func (n *node) fits(dir string) error {
	is, err := readNodeFile(dir)
	if err != nil || is.Name == "" {
		return err
	}
	if is.Name != n.Node {
		return fmt.Errorf("%s is the data directory of the node %s, and this one is called %s", dir, is.Name, n.Node)
	}
	if _, err := os.Stat(filepath.Join(dir, logDir)); err != nil || n.Broker != "" || is.Single == n.single() {
		return nil
	}
	forms := map[bool]string{true: "a node without others", false: "one node of several"}
	return fmt.Errorf("the log in %s is that of %s, and cannot go on as that of %s: begin another one with these records (tovik cluster begin --again --data %s)", dir, forms[is.Single], forms[n.single()], dir)
}

// replicas returns how many servers keep the log when it is made.
func (c *Cluster) replicas() int {
	if c.Broker != "" {
		return c.Copies
	}
	return len(c.LogNodes)
}

// single reports whether the node has no others, and its own broker.
func (c *Cluster) single() bool { return c.Broker == "" && len(c.Nodes) == 1 }

// incarnation numbers this start of the node, and notes that in its data directory. Without what an earlier one has noted
// there, it is later still: other nodes may remember it.
func (n *node) incarnation(dir string) (cluster.Incarnation, error) {
	is, err := readNodeFile(dir)
	if err != nil {
		return 0, err
	}
	is.Name, is.Single = n.Node, n.single()
	is.Incarnation = max(is.Incarnation+1, cluster.Incarnation(time.Now().Unix()))
	text, err := json.Marshal(is)
	if err != nil {
		return 0, err
	}
	return is.Incarnation, replaceFile(filepath.Join(dir, nodeFileName), text)
}

// replaceFile writes a file whole or not at all, also if the power fails.
func replaceFile(path string, text []byte) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".new-*")
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		_ = os.Remove(f.Name())
	}
	return err
}

// begin runs the node over its rows: realms begin and end as the log says.
func (n *node) begin(w *world, dir string, rows *stored.Records) error {
	n.world, n.rows = w, rows
	incarnation, err := n.incarnation(dir)
	if err != nil {
		return err
	}
	var ids idSource
	names := func(list []string) (all []cluster.Name) {
		for _, name := range list {
			all = append(all, cluster.Name(name))
		}
		return all
	}
	keepers, timings := names(n.LogNodes), cluster.DefaultTimings()
	if n.Broker != "" {
		keepers, timings = nil, cluster.ExternalTimings()
	}
	if n.Timings != nil {
		timings = *n.Timings
	}
	n.apartFor = timings.Away
	n.runner = cluster.NewRunner(cluster.Config{
		Name: cluster.Name(n.Node), Incarnation: incarnation, Nodes: names(n.Nodes), LogNodes: keepers, Fold: rows.Fold(), Timings: timings,
		Policy: func(realm string) presence.Policy { return *w.policy(realm) }, Records: rows,
		NewMaker: func(realm cluster.Realm) cluster.Maker { return rows.Maker(realm, time.Now()) }, NewID: ids.next, NewRun: func(presence.View) string { return ids.next() },
	}, cluster.Broker{Log: n.broker, Table: n.broker, Bus: n.broker}, n, cluster.Measures{Held: w.measures.Held, Late: w.measures.Late})
	n.observer, n.started = &observer{Runner: n.runner, handed: map[cluster.Realm]cluster.Epoch{}}, time.Now().UTC().Truncate(time.Millisecond)
	n.observer.read.Store(uint64(rows.Read()))
	ctx, stop := context.WithCancel(context.Background())
	n.stop = stop
	n.serving.Go(func() {
		for {
			select {
			case <-ctx.Done():
				return
			case do := <-n.events:
				do()
			}
		}
	})
	n.giveRecords(ctx, rows)
	n.serving.Go(func() {
		if err := n.peers.Run(ctx); err != nil {
			n.fails(err)
		}
	})
	n.serving.Go(func() { n.runner.Run(ctx) })
	n.serving.Go(func() {
		if err := n.broker.Serve(ctx, n.observer, rows); err != nil && ctx.Err() == nil {
			n.fails(err)
		}
	})
	n.serving.Go(func() {
		rows.Tidy(ctx, func() records.Retention { return w.retention() }, n.runner.Speaks, func(err error) { w.config.Log.Warn("deleting old records failed", "error", err) })
	})
	return nil
}

// handOverIn limits how long a stop waits for others to take over the realms of this node.
const handOverIn = 4 * time.Second

// handOver gives the realms of this node to others. Without others they do without.
func (n *node) handOver() {
	ctx, cancel := context.WithTimeout(context.Background(), handOverIn)
	defer cancel()
	if err := n.runner.Leave(ctx); err != nil && len(n.Nodes) > 1 {
		n.world.config.Log.Warn("this node stops without having handed its realms over", "error", err)
	}
}

// end stops the node. Others notice that it is dead.
func (n *node) end() {
	if n.stop != nil {
		n.stop()
		n.serving.Wait()
		n.copies.close()
	}
	n.leave()
}

func (n *node) fails(err error) {
	n.world.config.Log.Error("this node cannot go on", "error", err)
	select {
	case n.failed <- err:
	default:
	}
}

// RealmMade implements [cluster.Watcher].
func (n *node) RealmMade(id cluster.Realm, name string) {
	n.events <- func() {
		n.mu.Lock()
		n.realms[name] = id
		n.mu.Unlock()
		if err := n.world.beginAt(id, name); err != nil {
			n.fails(fmt.Errorf("the realm %s: %w", name, err))
			return
		}
		n.mu.Lock()
		defer n.mu.Unlock()
		close(n.begun)
		n.begun = make(chan struct{})
	}
}

// RealmGone implements [cluster.Watcher].
func (n *node) RealmGone(id cluster.Realm) {
	n.events <- func() {
		n.mu.Lock()
		name := ""
		for known, is := range n.realms {
			if is == id {
				name = known
			}
		}
		delete(n.realms, name)
		n.mu.Unlock()
		n.world.forget(name)
	}
}

// Owns implements [cluster.Watcher].
func (n *node) Owns(_ cluster.Realm, name string, is bool) {
	n.events <- func() {
		if is != n.owned[name] {
			n.owned[name] = is
			if is {
				n.observer.begun.Add(1)
			}
			n.world.config.Log.Info(map[bool]string{true: "this node owns a realm now", false: "this node no longer owns a realm"}[is], "realm", name)
		}
		if err := n.world.hooks.Own(name, is); err != nil {
			n.world.config.Log.Warn("the deliveries of hooks that wait could not be read", "realm", name, "error", err)
		}
	}
}

// Halted implements [cluster.Watcher].
func (n *node) Halted(why string) { n.events <- func() { n.fails(errors.New(why)) } }

// await waits until a realm has begun here.
func (n *node) await(ctx context.Context, name string) error {
	for {
		n.mu.Lock()
		begun := n.begun
		n.mu.Unlock()
		if _, err := n.world.realms.Get(name); err == nil {
			return nil
		}
		select {
		case <-begun:
		case err := <-n.failed:
			return err
		case <-ctx.Done():
			return fmt.Errorf("the realm %s has not begun: %w", name, ctx.Err())
		}
	}
}

// makeRealm makes a realm in the whole cluster.
func (n *node) makeRealm(ctx context.Context, name string) error {
	_, err := n.runner.MakeRealm(ctx, name, records.Change{AddRealm: &records.Realm{Name: name, Created: time.Now().UTC().Truncate(time.Millisecond)}})
	if err == nil {
		err = n.await(ctx, name)
	}
	if errors.Is(err, cluster.ErrRealmExists) {
		return records.ErrExists
	}
	return err
}

// endRealm ends a realm in the whole cluster.
func (n *node) endRealm(name string) error {
	ctx, cancel := context.WithTimeout(context.Background(), orderIn)
	defer cancel()
	n.mu.Lock()
	id, known := n.realms[name]
	n.mu.Unlock()
	if !known {
		return records.ErrNotFound
	}
	err := n.runner.EndRealm(ctx, id, records.Change{DropRealm: name})
	if errors.Is(err, cluster.ErrNoRealm) {
		return records.ErrNotFound
	}
	return err
}
