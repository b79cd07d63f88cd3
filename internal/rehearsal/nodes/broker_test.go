package nodes

import (
	"container/heap"
	"math/rand/v2"
	"testing"
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/clustertest"
)

func TestTheBrokerKeepsItsContracts(t *testing.T) {
	w := &world{Options: Options{Length: -time.Hour}, random: rand.New(rand.NewPCG(1, 19)), now: time.Second, result: Result{Counts: map[string]int{}}, names: []cluster.Name{"dipper", "heron"}}
	w.broker = newBroker(w)
	for i, name := range w.names {
		w.hosts = append(w.hosts, &host{world: w, name: name, place: i, up: true, applying: true, node: cluster.NewNode(cluster.Config{Name: name, Nodes: w.names, Fold: cluster.NewFold()}, (&host{world: w}).at())})
	}
	received := map[cluster.Name][]cluster.Envelope{}
	for _, h := range w.hosts {
		h.tap = func(e cluster.Envelope) { received[h.name] = append(received[h.name], e) }
	}
	settle := func() {
		for len(w.queue) > 0 {
			e := heap.Pop(&w.queue).(*event)
			w.now = e.at
			e.run()
		}
	}
	at := port{&w.broker, w.hosts[0]}
	clustertest.Check(t, clustertest.Broker{Log: at, Table: at, Bus: at, Settle: settle,
		Records: func() (all []clustertest.Placed) {
			for i, r := range w.broker.log {
				all = append(all, clustertest.Placed{At: cluster.Position(i + 1), Record: r})
			}
			return all
		},
		Received: func(name cluster.Name) []cluster.Envelope { return received[name] },
	}, "heron")
}
