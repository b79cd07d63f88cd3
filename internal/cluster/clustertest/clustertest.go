// Package clustertest checks that a broker keeps the contracts of [cluster.Log], [cluster.Table]
// and [cluster.Bus].
package clustertest

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/local"
)

// Broker is what is checked, as one node reaches it.
type Broker struct {
	Log   cluster.Log
	Table cluster.Table
	Bus   cluster.Bus
	// Settle returns when everything that was begun is done.
	Settle func()
	// Records returns all records, in order.
	Records func() []Placed
	// Received returns the messages that a node has received, in order.
	Received func(cluster.Name) []cluster.Envelope
}

// FreeAddresses is [local.FreeAddresses] for a test.
func FreeAddresses(t *testing.T, n int) []string {
	list, err := local.FreeAddresses(n)
	require.NoError(t, err)
	return list
}

// Placed is a record with its position.
type Placed struct {
	At cluster.Position
	cluster.Record
}

// Check checks a broker without records. It sends to the node named to.
func Check(t *testing.T, b Broker, to cluster.Name) {
	t.Run("log", func(t *testing.T) { checkLog(t, b) })
	t.Run("table", func(t *testing.T) { checkTable(t, b) })
	t.Run("bus", func(t *testing.T) { checkBus(t, b, to) })
}

func checkLog(t *testing.T, b Broker) {
	put := func(id string, realm cluster.Realm, after cluster.Position) cluster.Outcome {
		outcome, answers := cluster.Unknown, 0
		b.Log.Append(cluster.Record{ID: id, Kind: cluster.KindBatch, Realm: realm, Epoch: 1}, after, func(o cluster.Outcome) { outcome, answers = o, answers+1 })
		b.Settle()
		require.Equal(t, 1, answers, "an append is answered once")
		return outcome
	}
	require.Equal(t, cluster.Done, put("first", 1, 0), "a realm without records expects none")
	require.Equal(t, cluster.Done, put("elsewhere", 2, 0), "realms are fenced apart")
	require.Equal(t, cluster.Refused, put("late", 1, 0), "another record came first")
	at := func(id string) cluster.Position {
		for _, r := range b.Records() {
			if r.ID == id {
				return r.At
			}
		}
		t.Fatal("there is no record ", id)
		return 0
	}
	require.Equal(t, cluster.Done, put("second", 1, at("first")))
	require.Equal(t, cluster.Done, put("unfenced", 1, cluster.Unfenced))
	require.Equal(t, cluster.Refused, put("stale", 1, at("second")))
	require.Equal(t, cluster.Done, put("third", 1, at("unfenced")))
	var ids []string
	for _, r := range b.Records() {
		ids = append(ids, r.ID)
	}
	require.Equal(t, []string{"first", "elsewhere", "second", "unfenced", "third"}, ids)
}

func checkTable(t *testing.T, b Broker) {
	read := func() (owners cluster.Owners) {
		b.Table.Read(func(is cluster.Owners, ok bool) {
			require.True(t, ok)
			owners = is
		})
		b.Settle()
		return owners
	}
	swap := func(version uint64, epoch cluster.Epoch) (outcome cluster.Outcome) {
		outcome = cluster.Unknown
		b.Table.Swap(version, cluster.Owners{Realms: map[cluster.Realm]cluster.Ownership{1: {Owner: "heron", Incarnation: 1, Epoch: epoch}}}, func(o cluster.Outcome) { outcome = o })
		b.Settle()
		return outcome
	}
	before := read().Version
	require.Equal(t, cluster.Done, swap(before, 7))
	is := read()
	require.Greater(t, is.Version, before)
	require.Equal(t, cluster.Epoch(7), is.Realms[1].Epoch)
	require.Equal(t, cluster.Refused, swap(before, 8), "somebody else has changed it")
	require.Equal(t, is, read())
}

func checkBus(t *testing.T, b Broker, to cluster.Name) {
	const messages = 100
	for seq := range uint64(messages) {
		b.Bus.Send(to, cluster.Envelope{From: "dipper", Sender: 1, Last: seq + 1, Messages: []cluster.Message{cluster.TableChanged{}}})
	}
	b.Settle()
	require.Eventually(t, func() bool { return len(b.Received(to)) > 0 }, time.Minute, time.Millisecond)
	received := b.Received(to)
	last := uint64(0)
	for _, e := range received {
		require.Greater(t, e.Last, last, "at most once, and in order")
		last = e.Last
	}
}
