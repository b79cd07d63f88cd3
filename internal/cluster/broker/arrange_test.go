package broker_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/broker"
	"tovik.example/tovik/internal/cluster/clustertest"
)

// fleet are servers that can be restarted as keepers of the log, or as others.
type fleet struct {
	t         *testing.T
	names     []cluster.Name
	addresses []string
	dirs      map[cluster.Name]string
	servers   map[cluster.Name]*broker.Server
	conns     map[cluster.Name]*nats.Conn
}

func newFleet(t *testing.T, names ...cluster.Name) *fleet {
	f := &fleet{t: t, names: names, addresses: clustertest.FreeAddresses(t, len(names)), dirs: map[cluster.Name]string{}, servers: map[cluster.Name]*broker.Server{}, conns: map[cluster.Name]*nats.Conn{}}
	for _, name := range names {
		f.dirs[name] = t.TempDir()
	}
	t.Cleanup(func() {
		for name := range f.servers {
			f.stop(name)
		}
	})
	return f
}

func (f *fleet) run(name cluster.Name, keepers ...cluster.Name) {
	i := slices.Index(f.names, name)
	s, err := broker.StartServer(broker.ServerOptions{Cluster: "aldermoor", Node: name, Dir: f.dirs[name], Listen: f.addresses[i], Peers: slices.Delete(slices.Clone(f.addresses), i, i+1),
		KeepsLog: slices.Contains(keepers, name), Votes: slices.Contains(broker.Voters(f.names, keepers), name), Password: "the routes of one test"})
	require.NoError(f.t, err)
	conn, err := s.Connect()
	require.NoError(f.t, err)
	f.servers[name] = s
	f.conns[name] = conn
}

func (f *fleet) stop(name cluster.Name) {
	f.conns[name].Close()
	f.servers[name].Stop()
	delete(f.servers, name)
}

func (f *fleet) broker(name cluster.Name) *broker.Broker {
	ctx, cancel := context.WithTimeout(f.t.Context(), 2*time.Minute)
	defer cancel()
	b, err := broker.Open(ctx, broker.Options{Conn: f.conns[name], Cluster: "aldermoor", Node: name, Tagged: true, Identity: "the log of one test"})
	require.NoError(f.t, err)
	return b
}

// copies returns the servers' own copies.
func (f *fleet) copies() map[string]broker.Copies {
	has := map[string]broker.Copies{}
	for name, server := range f.servers {
		has[string(name)] = server.Copies("aldermoor")
	}
	return has
}

// complete reports whether an operator is told that all is well.
func (f *fleet) complete(b *broker.Broker, keepers []cluster.Name) bool {
	s, err := b.State()
	if err != nil || s.Copies != len(keepers) {
		return false
	}
	for _, server := range f.servers {
		if !server.Complete() {
			return false
		}
	}
	has := f.copies()
	return !slices.ContainsFunc(keepers, func(name cluster.Name) bool { return !s.Complete(has[string(name)]) })
}

// arrange has nodes keep the log, and waits until they do.
func (f *fleet) arrange(keepers ...cluster.Name) {
	b := f.broker(keepers[0])
	var last string
	defer func() {
		if f.t.Failed() {
			f.t.Log(last)
		}
	}()
	require.Eventually(f.t, func() bool {
		changed, err := b.Arrange(texts(keepers), f.copies())
		last = fmt.Sprintf("%q, %v, %v", changed, err, f.copies())
		return err == nil && changed == "" && f.complete(b, keepers)
	}, 2*time.Minute, changeEvery)
}

// changeEvery is shorter than the pause of a node between two changes.
const changeEvery = 200 * time.Millisecond

func texts(names []cluster.Name) (list []string) {
	for _, name := range names {
		list = append(list, string(name))
	}
	return list
}

// TestWhatACompleteCopyMayLack compares copies with logs of several lengths.
func TestWhatACompleteCopyMayLack(t *testing.T) {
	t.Parallel()
	for _, is := range []struct {
		last     uint64
		has      broker.Copies
		complete bool
	}{
		{63, broker.Copies{"log": 63, "table": 0}, true},
		{63, broker.Copies{"log": 62, "table": 0}, true},
		{63, broker.Copies{"log": 0, "table": 0}, false},
		{63, broker.Copies{"log": 63}, false},
		{0, broker.Copies{"log": 0, "table": 0}, true},
		{0, nil, false},
		{5000, broker.Copies{"log": 4000, "table": 0}, true},
		{5000, broker.Copies{"log": 3999, "table": 0}, false},
	} {
		require.Equal(t, is.complete, broker.State{Last: is.last}.Complete(is.has), "%v of %d", is.has, is.last)
	}
}

// TestACompleteCopyIsEnough has one node keep the log, then three, and stops the first as soon as all copies are complete.
func TestACompleteCopyIsEnough(t *testing.T) {
	t.Parallel()
	f := newFleet(t, "dipper", "heron", "kestrel")
	for _, name := range f.names {
		f.run(name, "dipper")
	}
	f.arrange("dipper")
	for range 50 {
		f.write("dipper", "early")
	}
	for _, name := range f.names {
		f.stop(name)
		f.run(name, f.names...)
	}
	b := f.broker("dipper")
	changed := time.Time{}
	require.Eventually(t, func() bool {
		if time.Since(changed) > changeEvery {
			_, _ = b.Arrange(texts(f.names), f.copies()) // it may have to wait
			changed = time.Now()
		}
		return f.complete(b, f.names)
	}, 2*time.Minute, time.Millisecond)
	for _, name := range f.names {
		require.Equal(t, 2*2, f.servers[name].Routes(), "an idle connection costs pings")
	}
	f.stop("dipper")
	f.write("heron", "late")
	s, err := f.broker("kestrel").State()
	require.NoError(t, err)
	require.EqualValues(t, 51, s.Last)
}

func (f *fleet) write(by cluster.Name, id string) {
	require.Eventually(f.t, func() bool {
		done := make(chan cluster.Outcome, 1)
		f.broker(by).Append(cluster.Record{ID: id, Kind: cluster.KindMark}, cluster.Unfenced, func(o cluster.Outcome) { done <- o })
		return <-done == cluster.Done
	}, time.Minute, 100*time.Millisecond)
}

// TestTheLogMovesToOtherNodes has one node keep the log, then three, then five, then three others, of which one loses its disk. The servers are
// restarted one after the other, as nodes are whose configuration is changed.
func TestTheLogMovesToOtherNodes(t *testing.T) {
	t.Parallel()
	f := newFleet(t, "dipper", "heron", "kestrel", "merlin", "plover")
	for _, name := range f.names {
		f.run(name, "dipper")
	}
	f.arrange("dipper")
	f.write("dipper", "first")
	for _, keepers := range [][]cluster.Name{f.names[:3], f.names, f.names[2:]} {
		for _, name := range f.names {
			f.stop(name)
			f.run(name, keepers...)
			f.write(name, string(name))
		}
		f.arrange(keepers...)
	}
	f.stop("merlin")
	f.dirs["merlin"] = t.TempDir() // as on a new machine
	f.run("merlin", f.names[2:]...)
	f.arrange(f.names[2:]...)
	f.stop("dipper")
	f.stop("heron")
	f.write("plover", "last")
	ctx, cancel := context.WithCancel(t.Context())
	reader := &node{}
	var reading sync.WaitGroup
	reading.Go(func() { require.NoError(t, f.broker("merlin").Serve(ctx, reader, rows{})) })
	written := append([]string{"first", "last"}, strings.Fields(strings.Repeat("dipper heron kestrel merlin plover ", 3))...)
	require.Eventually(t, func() bool {
		reader.mu.Lock()
		defer reader.mu.Unlock()
		counts := map[string]int{}
		for _, r := range reader.records {
			counts[r.ID]++
		}
		for _, id := range written {
			counts[id]--
		}
		for _, n := range counts {
			if n < 0 { // more often is possible: a write of unknown outcome is repeated
				return false
			}
		}
		return true
	}, time.Minute, 10*time.Millisecond, "nothing is lost")
	cancel()
	reading.Wait()
}
