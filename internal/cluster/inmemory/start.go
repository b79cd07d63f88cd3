package inmemory

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/presence"
)

// Running is a running node.
type Running struct {
	*cluster.Runner
	// Stop ends the node at once, as a death does.
	Stop func()
}

// Start runs the nodes of a cluster in this process, with one realm, number 1, which the first node owns.
// Stop all of them.
func Start(ctx context.Context, policy presence.Policy, names ...cluster.Name) []*Running {
	broker := NewBroker(map[cluster.Realm]cluster.Ownership{1: {Owner: names[0], Incarnation: 1, Epoch: 1}})
	var ids atomic.Int64
	id := func() string { return fmt.Sprint("n", ids.Add(1)) }
	all := make([]*Running, 0, len(names))
	for _, name := range names {
		records := NewRecords()
		at, start, disconnect := broker.Join(name, records.Put)
		runner := cluster.NewRunner(cluster.Config{Name: name, Incarnation: 1, Nodes: names, LogNodes: names, Realms: []cluster.Realm{1}, Policy: policy, Timings: cluster.DefaultTimings(),
			Records: records, NewMaker: func(cluster.Realm) cluster.Maker { return NewMaker() }, NewID: id, NewRun: func(presence.View) string { return id() }}, at)
		start(runner)
		ctx, cancel := context.WithCancel(ctx)
		go runner.Run(ctx)
		all = append(all, &Running{runner, sync.OnceFunc(func() { cancel(); disconnect() })})
	}
	return all
}
