package cluster_test

import (
	"context"
	"encoding/json"
	"fmt"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/inmemory"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/engine/enginetest"
	"tovik.example/tovik/internal/presence"
)

// TestAFoldFollowsTheRules draws logs, and compares with the rules as they are said: a record applies
// unless its realm is gone, a newer owner has begun, or it was there before. A fold that was kept as text
// goes on the same.
func TestAFoldFollowsTheRules(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		fold := cluster.NewFold("main", "drill")
		names := map[cluster.Realm]string{1: "main", 2: "drill"}
		highest, last := map[cluster.Realm]cluster.Epoch{}, map[cluster.Realm]string{}
		number, format := cluster.Realm(2), cluster.Format(1)
		kinds := []cluster.Kind{cluster.KindBegins, cluster.KindBatch, cluster.KindEnds, cluster.KindMark, cluster.KindMade, cluster.KindGone, cluster.KindFormat}
		for at := range cluster.Position(40) {
			r := cluster.Record{ID: fmt.Sprint("record-", rapid.IntRange(0, 30).Draw(t, "id")), Kind: rapid.SampledFrom(kinds).Draw(t, "kind"), Format: 1,
				Realm: cluster.Realm(rapid.IntRange(1, 5).Draw(t, "realm")), Epoch: cluster.Epoch(rapid.IntRange(1, 4).Draw(t, "epoch"))}
			if r.Kind == cluster.KindMade {
				r.Realm, r.Epoch, r.Name = 0, 0, rapid.SampledFrom([]string{"main", "drill", "levee"}).Draw(t, "name")
			}
			if r.Kind == cluster.KindFormat {
				r.Realm, r.Format = 0, cluster.Format(rapid.IntRange(1, 2).Draw(t, "format"))
			}
			if rapid.IntRange(0, 5).Draw(t, "restarts") == 0 {
				text, err := json.Marshal(&fold)
				require.NoError(t, err)
				fold = cluster.Fold{}
				require.NoError(t, json.Unmarshal(text, &fold))
			}
			want := cluster.Passes
			_, is := names[r.Realm]
			switch {
			case r.Format > 1 && at%2 == 1: // read by a node that knows the first one
				want = cluster.Unreadable
			case r.Kind == cluster.KindMark:
				want = cluster.Applies
			case r.Kind == cluster.KindFormat:
				want, format = cluster.Applies, max(format, r.Format)
			case r.Kind == cluster.KindMade:
				taken := false
				for _, name := range names {
					taken = taken || name == r.Name
				}
				if !taken {
					number++
					want, names[number] = cluster.Applies, r.Name
				}
			case r.Kind == cluster.KindGone && is:
				want = cluster.Applies
				delete(names, r.Realm)
			case is && r.Epoch >= highest[r.Realm] && r.ID != last[r.Realm]:
				want, highest[r.Realm], last[r.Realm] = cluster.Applies, r.Epoch, r.ID
			}
			before := fold.Clone()
			got := fold.Take(at+1, r, 2-cluster.Format(at%2))
			require.Equal(t, want, got, "%+v", r)
			if got == cluster.Unreadable {
				require.Equal(t, before, fold)
			}
			has := map[cluster.Realm]string{}
			for id, is := range fold.Realms {
				has[id] = is.Name
				require.Equal(t, highest[id], is.Epoch)
			}
			require.Equal(t, names, has)
			require.Equal(t, format, fold.Format)
		}
	})
}

// TestARealmIsMadeAndEndedWhileRunning makes a realm at one node, uses it at another, ends it at a third,
// and makes one of its name: nothing is left of the first.
func TestARealmIsMadeAndEndedWhileRunning(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		tables := map[cluster.Name]*inmemory.Records{}
		all := inmemory.StartWith(t.Context(), presence.DefaultPolicy(), func(name cluster.Name) inmemory.Table {
			tables[name] = inmemory.NewRecords()
			return tables[name]
		}, "dipper", "heron", "kestrel")
		defer func() {
			for _, node := range all {
				node.Stop()
			}
		}()
		_, err := all[0].MakeRealm(t.Context(), "main")
		require.ErrorIs(t, err, cluster.ErrRealmExists)
		drill, err := all[0].MakeRealm(t.Context(), "drill")
		require.NoError(t, err)
		time.Sleep(3 * time.Second) // the next plan gives it an owner
		hello := presence.Hello{User: "bram", Issued: 1, NewSession: "session-bram", NewKey: "key", Nonce: "bram", Rooms: []presence.RoomName{"desk.night"}}
		here := all[1].Core(drill, nobody{}, enginetest.NoLinks{})
		_, err = here.Do(t.Context(), hello)
		require.NoError(t, err)
		_, err = here.Do(t.Context(), presence.SetStatus{User: "bram", Status: presence.Busy, Note: "at the pumps"})
		require.NoError(t, err)
		require.Equal(t, 1, here.Size().Sessions)

		require.NoError(t, all[2].EndRealm(t.Context(), drill))
		require.ErrorIs(t, all[2].EndRealm(t.Context(), drill), cluster.ErrNoRealm)
		time.Sleep(time.Second)
		synctest.Wait()
		for _, rows := range tables {
			require.NotContains(t, rows.Text(), "bram")
		}
		_, err = here.Do(t.Context(), hello)
		require.ErrorIs(t, err, cluster.ErrNoRealm)
		_, err = here.Do(t.Context(), presence.SetStatus{User: "bram", Status: presence.Away})
		require.ErrorIs(t, err, cluster.ErrNoRealm)
		require.ErrorIs(t, all[0].Change(t.Context(), drill, "a change"), cluster.ErrNoRealm)

		again, err := all[2].MakeRealm(t.Context(), "drill")
		require.NoError(t, err)
		require.Greater(t, again, drill)
		time.Sleep(3 * time.Second)
		there := all[0].Core(again, nobody{}, enginetest.NoLinks{})
		require.Zero(t, there.Size())
		require.Equal(t, presence.Offline, there.SightNow(engine.Subject{User: "bram", View: presence.Full}).Status)
		reply, err := there.Do(t.Context(), hello)
		require.NoError(t, err)
		require.False(t, reply.Resumed)
		require.Empty(t, reply.Set)
	})
}

// TestAFormatIsRaisedOnceAllNodesKnowIt has nodes that know the newest format only. One of them gets a record
// of a later one.
func TestAFormatIsRaisedOnceAllNodesKnowIt(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		all := nodes(t, "dipper", "heron", "kestrel")
		time.Sleep(time.Second)
		require.NoError(t, all[0].RaiseFormat(cluster.Newest))
		require.EqualError(t, all[0].RaiseFormat(cluster.Newest+1), "dipper knows formats up to 1 only, not 2: run the newer version there first")
		all[2].Stop()
		time.Sleep(3 * time.Second)
		require.EqualError(t, all[0].RaiseFormat(cluster.Newest), "kestrel is not heard, so nobody knows whether it knows format 1")
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		defer cancel()
		all[1].Applied(1000, cluster.Record{ID: "of-a-later-version", Kind: cluster.KindFormat, Format: cluster.Newest + 1})
		require.ErrorIs(t, all[1].Change(ctx, 1, "a change"), cluster.ErrNotReady, "a halted node refuses requests")
	})
}

// nobody is a sink.
type nobody struct{}

func (nobody) Take(*engine.Batch)         {}
func (nobody) TakeUnchanged(engine.Topic) {}
func (nobody) TakeTypists(engine.Typists) {}
func (nobody) TakeAsks(engine.Asks)       {}
func (nobody) TakeSight(engine.Sight)     {}
