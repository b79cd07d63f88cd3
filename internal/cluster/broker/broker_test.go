package broker_test

import (
	"context"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/broker"
	"tovik.example/tovik/internal/cluster/clustertest"
)

// three starts three servers that keep the log, and connects to each.
func three(t *testing.T, names ...cluster.Name) map[cluster.Name]*broker.Broker {
	addresses := clustertest.FreeAddresses(t, len(names))
	servers := make([]*broker.Server, len(names))
	for i, name := range names {
		peers := slices.Delete(slices.Clone(addresses), i, i+1)
		s, err := broker.StartServer(broker.ServerOptions{Cluster: "aldermoor", Node: name, Dir: t.TempDir(), Listen: addresses[i], Peers: peers, KeepsLog: true, Password: "the routes of one test"})
		require.NoError(t, err)
		t.Cleanup(s.Stop)
		servers[i] = s
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	brokers := map[cluster.Name]*broker.Broker{}
	for i, name := range names {
		conn, err := servers[i].Connect()
		require.NoError(t, err)
		t.Cleanup(conn.Close)
		b, err := broker.Open(ctx, broker.Options{Conn: conn, Cluster: "aldermoor", Node: name, Replicas: len(names), Identity: map[cluster.Name]string{"dipper": "the log of one test"}[name]})
		require.NoError(t, err)
		t.Cleanup(b.Close)
		brokers[name] = b
	}
	return brokers
}

// node notes what it is told.
type node struct {
	mu       sync.Mutex
	records  []clustertest.Placed
	received []cluster.Envelope
}

func (n *node) Receive(e cluster.Envelope) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.received = append(n.received, e)
}

func (n *node) Applied(at cluster.Position, r cluster.Record) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.records = append(n.records, clustertest.Placed{At: at, Record: r})
}

func (n *node) Awaits(*cluster.Record) bool { return true }

// rows are those of a node that keeps none.
type rows struct{}

func (rows) Fold() cluster.Fold                                         { return cluster.NewFold("main", "drill") }
func (rows) Read() cluster.Position                                     { return 0 }
func (rows) Put(cluster.Position, cluster.Fold, []cluster.Record) error { return nil }

// external has three nodes connect to an external broker.
func external(t *testing.T, names ...cluster.Name) map[cluster.Name]*broker.Broker {
	address := clustertest.StartBroker(t, "aldermoor", nil).Addr().String()
	brokers := map[cluster.Name]*broker.Broker{}
	for _, name := range names {
		conn, err := broker.Dial("nats://"+clustertest.User+":"+clustertest.Password+"@"+address, "", nil, slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		t.Cleanup(conn.Close)
		b, err := broker.Open(t.Context(), broker.Options{Conn: conn, Cluster: "aldermoor", Node: name, Replicas: 1, Identity: map[cluster.Name]string{"dipper": "the log of one test"}[name]})
		require.NoError(t, err)
		t.Cleanup(b.Close)
		brokers[name] = b
	}
	return brokers
}

func TestTheBrokerKeepsItsContracts(t *testing.T) {
	t.Run("embedded", func(t *testing.T) { keepsContracts(t, three(t, "dipper", "heron", "kestrel"), 3) })
	t.Run("external", func(t *testing.T) { keepsContracts(t, external(t, "dipper", "heron", "kestrel"), 1) })
}

// TestABrokerThatDoesNotFitIsNamed has brokers that refuse a node, or cannot serve it.
func TestABrokerThatDoesNotFitIsNamed(t *testing.T) {
	const noStreams = "it needs JetStream"
	open := func(user, cluster string, more func(*server.Options)) error {
		conn, err := broker.Dial("nats://"+user+"@"+clustertest.StartBroker(t, "aldermoor", more).Addr().String(), "", nil, slog.New(slog.DiscardHandler))
		if err != nil {
			return err
		}
		t.Cleanup(conn.Close)
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		waits := &lines{}
		go func() { // it might have streams later: the test need not wait
			for ctx.Err() == nil && !strings.Contains(waits.String(), noStreams) {
				time.Sleep(10 * time.Millisecond)
			}
			cancel()
		}()
		_, err = broker.Open(ctx, broker.Options{Conn: conn, Cluster: cluster, Node: "dipper", Identity: "the log of one test", Log: slog.New(slog.NewTextHandler(waits, nil))})
		return err
	}
	right := clustertest.User + ":" + clustertest.Password
	require.ErrorContains(t, open("tovik:a-guess", "aldermoor", nil), "the broker refuses this node: nats: Authorization Violation")
	require.ErrorContains(t, open(right, "aldermoor", func(o *server.Options) { o.MaxPayload = 1 << 20 }), "set max_payload to 8388608 there")
	require.ErrorContains(t, open(right, "aldermoor", func(o *server.Options) { o.JetStream = false }), noStreams)
	require.ErrorContains(t, open(right, "millwater", nil), "$JS.API.STREAM.INFO.millwater-log")
}

func keepsContracts(t *testing.T, brokers map[cluster.Name]*broker.Broker, copies int) {
	require.Equal(t, "the log of one test", brokers["kestrel"].Identity)
	_, err := broker.Open(t.Context(), broker.Options{Conn: brokers["heron"].Conn, Cluster: "aldermoor", Node: "plover", Replicas: copies, Identity: "another log"})
	require.ErrorContains(t, err, "the records here are of the log another log, and the cluster follows the log the log of one test")
	nodes := map[cluster.Name]*node{}
	var serving sync.WaitGroup
	ctx, stop := context.WithCancel(t.Context())
	for name, b := range brokers {
		n := &node{}
		nodes[name] = n
		serving.Go(func() { require.NoError(t, b.Serve(ctx, n, rows{})) })
	}
	t.Cleanup(func() { stop(); serving.Wait() })
	from := brokers["dipper"]
	settle := func() { // a record of no realm comes after all others that have an answer
		from.Wait()
		mark := cluster.Record{ID: time.Now().String(), Kind: cluster.KindMark}
		for outcome := cluster.Unknown; outcome != cluster.Done; {
			done := make(chan cluster.Outcome, 1)
			from.Append(mark, cluster.Unfenced, func(o cluster.Outcome) { done <- o })
			outcome = <-done
		}
		require.Eventually(t, func() bool {
			for _, n := range nodes {
				n.mu.Lock()
				here := slices.ContainsFunc(n.records, func(r clustertest.Placed) bool { return r.ID == mark.ID })
				n.mu.Unlock()
				if !here {
					return false
				}
			}
			return true
		}, time.Minute, time.Millisecond)
	}
	clustertest.Check(t, clustertest.Broker{Log: from, Table: from, Bus: from, Settle: settle,
		Records: func() []clustertest.Placed {
			nodes["kestrel"].mu.Lock()
			defer nodes["kestrel"].mu.Unlock()
			return slices.DeleteFunc(slices.Clone(nodes["kestrel"].records), func(r clustertest.Placed) bool { return r.Kind == cluster.KindMark })
		},
		Received: func(name cluster.Name) []cluster.Envelope {
			nodes[name].mu.Lock()
			defer nodes[name].mu.Unlock()
			return slices.Clone(nodes[name].received)
		},
	}, "heron")
}
