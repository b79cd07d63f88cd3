package inmemory

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/presence"
)

// Running is a running node.
type Running struct {
	*cluster.Runner
	// Stop ends the node at once, as a death does.
	Stop func()
}

// Table is a node's rows.
type Table interface {
	cluster.Records
	// Put puts the rows of records that apply, and notes the position after them.
	Put(after cluster.Position, fold cluster.Fold, records []cluster.Record) error
	// Maker returns a maker for an owner that begins at a time.
	Maker(cluster.Realm, time.Time) cluster.Maker
}

// Start runs the nodes of a cluster in this process, with one realm, number 1, which the first node owns.
// Stop all of them.
func Start(ctx context.Context, policy presence.Policy, names ...cluster.Name) []*Running {
	return StartWith(ctx, policy, func(cluster.Name) Table { return NewRecords() }, names...)
}

// StartWith is Start with rows of their own. They may be [cluster.Watcher]s.
func StartWith(ctx context.Context, policy presence.Policy, table func(cluster.Name) Table, names ...cluster.Name) []*Running {
	fold := cluster.NewFold("main")
	broker := NewBroker(fold, map[cluster.Realm]cluster.Ownership{1: {Owner: names[0], Incarnation: 1, Epoch: 1}})
	var ids atomic.Int64
	id := func() string { return fmt.Sprint("n", ids.Add(1)) }
	all := make([]*Running, 0, len(names))
	for _, name := range names {
		records := table(name)
		at, start, disconnect := broker.Join(name, records.Put)
		watcher, _ := records.(cluster.Watcher)
		runner := cluster.NewRunner(cluster.Config{Name: name, Incarnation: 1, Nodes: names, LogNodes: names, Fold: fold, Policy: func(string) presence.Policy { return policy }, Timings: cluster.DefaultTimings(),
			Records: records, NewMaker: func(realm cluster.Realm) cluster.Maker { return records.Maker(realm, time.Now()) }, NewID: id, NewRun: func(presence.View) string { return id() }}, at, watcher, cluster.Measures{})
		start(runner)
		ctx, cancel := context.WithCancel(ctx)
		go runner.Run(ctx)
		all = append(all, &Running{runner, sync.OnceFunc(func() { cancel(); disconnect() })})
	}
	return all
}
