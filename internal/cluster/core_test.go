package cluster_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/inmemory"
	"tovik.example/tovik/internal/deflate"
	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/engine/enginetest"
	"tovik.example/tovik/internal/presence"
)

// nodes starts a cluster in this process. Its first node owns the realm 1.
func nodes(t *testing.T, names ...cluster.Name) []*inmemory.Running {
	all := inmemory.Start(t.Context(), presence.DefaultPolicy(), names...)
	for _, n := range all {
		t.Cleanup(n.Stop)
	}
	return all
}

// slow is a sink that takes its time.
type slow struct{ nobody }

func (slow) Take(*engine.Batch) { time.Sleep(5 * time.Second) }

// noting is a slow sink that notes what it was told.
type noting struct {
	slow
	told chan string
}

func (n noting) Take(b *engine.Batch) { n.slow.Take(b); n.told <- "changes" }

func (n noting) TakeUnchanged(engine.Topic) { n.told <- "unchanged" }

// TestAListIsCurrentOnceItWasTold asks for a list while its first state is being told. Whoever has begun to follow it
// then waits for the next seal, which must come.
func TestAListIsCurrentOnceItWasTold(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		all := nodes(t, "dipper", "heron", "kestrel")
		topic := engine.Topic{Room: "desk.night", View: presence.Full}
		first := all[0].Core(1, nobody{}, enginetest.NoLinks{})
		joins := func(user presence.UserID) {
			_, err := first.Do(t.Context(), presence.Hello{User: user, Issued: 1, NewSession: presence.SessionID(user), NewKey: "key", Rooms: []presence.RoomName{topic.Room}})
			require.NoError(t, err)
			time.Sleep(time.Second)
		}
		joins("ilse")
		sink := noting{told: make(chan string, 10)}
		core := all[1].Core(1, sink, enginetest.NoLinks{})
		core.Follow(presence.Pattern(topic.Room), topic.View)
		time.Sleep(time.Second)
		require.Len(t, core.Sealed(topic).Members, 1, "it is known")
		require.True(t, core.Unsealed(topic), "it is not told yet")
		require.Empty(t, sink.told)
		require.Equal(t, "changes", <-sink.told)
		require.Equal(t, "unchanged", <-sink.told)
		require.False(t, core.Unsealed(topic))
		time.Sleep(6 * time.Second)
		for len(sink.told) > 0 { // a wish may have been answered twice
			<-sink.told
		}
		joins("bram")
		require.True(t, core.Unsealed(topic))
		require.Equal(t, "changes", <-sink.told)
		require.Equal(t, "unchanged", <-sink.told)
		joins("hanne") // and nobody asks
		require.Equal(t, "changes", <-sink.told)
		time.Sleep(time.Second)
		require.Empty(t, sink.told)
	})
}

func TestASlowReceiverHoldsUpNoHeartbeats(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		all := nodes(t, "dipper", "heron", "kestrel")
		all[0].Core(1, slow{}, enginetest.NoLinks{}).Follow("**", presence.Full)
		time.Sleep(time.Second)
		there := all[1].Core(1, nobody{}, enginetest.NoLinks{})
		for i := range 3 {
			name := fmt.Sprint("w-", i)
			_, err := there.Do(t.Context(), presence.Hello{User: presence.UserID(name), Issued: 1, NewSession: presence.SessionID(name), NewKey: "key", Rooms: []presence.RoomName{"desk.night"}})
			require.NoError(t, err)
			time.Sleep(time.Second)
		}
		time.Sleep(20 * time.Second)
		require.Equal(t, cluster.Known{Epoch: 1, Owner: "dipper"}, all[2].Status().Realms[0].Known, "nobody has taken the realm over")
	})
}

func TestACoreElsewhereIsASource(t *testing.T) {
	enginetest.CheckSource(t, func(t *testing.T, sink engine.Sink) (func(context.Context, presence.Input) (presence.Reply, error), enginetest.Source) {
		all := nodes(t, "dipper", "heron", "kestrel")
		core := all[1].Core(1, sink, enginetest.NoLinks{})
		for _, view := range []presence.View{presence.Full, presence.Open} {
			core.Follow("**", view)
			for i := range 5 {
				core.FollowPerson(engine.Subject{User: presence.UserID(fmt.Sprint("w-", i)), View: view})
			}
		}
		time.Sleep(3 * time.Second)
		core.Size()
		require.Zero(t, core.Unanswered())
		return core.Do, core
	})
}

// reader follows a room at a node, as a client does.
type reader struct {
	*delivery.Receiver
	replica client.Replica
	resets  int // how often it got the room whole
}

func readerAt(core func(engine.Sink) *cluster.Core, room presence.Pattern) (*reader, *cluster.Core) {
	policy := presence.DefaultPolicy()
	var c *cluster.Core
	hub := delivery.NewHub(delivery.Options{Policy: &policy, Source: func(sink engine.Sink) delivery.Source { c = core(sink); return c }})
	r := &reader{}
	r.Receiver = hub.NewReceiver(presence.Full, func() {})
	r.Follow(delivery.Watched, room, delivery.How{Detail: delivery.AtMembers})
	return r, c
}

func (r *reader) read(t *testing.T) string {
	for more := true; more; {
		var frames []deflate.Text
		frames, more = r.Next(nil)
		for _, frame := range frames {
			if strings.Contains(string(frame.Plain()), `"type":"snapshot"`) {
				r.resets++
			}
			_, err := r.replica.Apply(frame.Plain())
			require.NoError(t, err)
		}
	}
	var users []string
	for _, m := range r.replica.Members() {
		users = append(users, m.User)
	}
	return strings.Join(users, " ")
}

// TestNobodyIsSeenToLeaveWhenAnOwnerDies has people at three nodes who follow a room. The owner dies.
// Nobody is shown to leave, and the person who was linked to it resumes at another node.
func TestNobodyIsSeenToLeaveWhenAnOwnerDies(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		all := nodes(t, "dipper", "heron", "kestrel")
		var readers []*reader
		var cores []*cluster.Core
		for _, n := range all {
			r, core := readerAt(func(sink engine.Sink) *cluster.Core { return n.Core(1, sink, enginetest.NoLinks{}) }, "desk.night")
			readers, cores = append(readers, r), append(cores, core)
		}
		open := func(core *cluster.Core, user string) presence.Reply {
			reply, err := core.Do(t.Context(), presence.Hello{User: presence.UserID(user), Issued: 1, NewSession: presence.SessionID("session-" + user), NewKey: "key-" + user, Nonce: user, Rooms: []presence.RoomName{"desk.night"}})
			require.NoError(t, err)
			return reply
		}
		for i, user := range []string{"bram", "ilse", "odile"} {
			open(cores[i], user)
		}
		time.Sleep(time.Second)
		for _, r := range readers {
			require.Equal(t, "bram ilse odile", r.read(t))
			r.resets = 0
		}
		all[0].Stop()
		for range 8 { // the next owner is there after 4 s at most
			time.Sleep(500 * time.Millisecond)
			for _, r := range readers[1:] {
				require.Equal(t, "bram ilse odile", r.read(t))
			}
		}
		returned, err := cores[1].Do(t.Context(), presence.Hello{User: "bram", Issued: 1, Session: "session-bram", Key: "key-bram", Nonce: "bram", NewSession: "session-2", NewKey: "key-2"})
		require.NoError(t, err)
		require.True(t, returned.Resumed, "the one who was linked to it has come to another node")
		open(cores[2], "tarn")
		time.Sleep(time.Second)
		for i, r := range readers[1:] {
			require.Equal(t, "bram ilse odile tarn", r.read(t))
			require.Zero(t, r.resets, "it got changes, not the room whole")
			count, exists := cores[i+1].Count(engine.Topic{Room: "desk.night"})
			require.True(t, exists)
			require.Equal(t, 4, count.People)
		}
	})
}
