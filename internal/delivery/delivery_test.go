package delivery_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

type noLinks struct{}

func (noLinks) AskBeat(presence.LinkID)               {}
func (noLinks) Cut(presence.Cut)                      {}
func (noLinks) WarnExpiry(presence.LinkID, time.Time) {}

// inService runs a test against an engine whose time is the bubble's.
func inService(t *testing.T, test func(t *testing.T, e *engine.Engine, hub *delivery.Hub)) {
	synctest.Test(t, func(t *testing.T) {
		policy := presence.DefaultPolicy()
		hub := delivery.NewHub(&policy)
		e := engine.New(engine.Options{Policy: policy, Sink: hub, Links: noLinks{}})
		hub.Use(e)
		go e.Run(t.Context())
		test(t, e, hub)
	})
}

func open(t *testing.T, e *engine.Engine, user, session string, rooms ...presence.RoomName) presence.LinkID {
	t.Helper()
	reply, err := e.Do(t.Context(), presence.Hello{User: presence.UserID(user),
		NewSession: presence.SessionID(session), NewKey: "k", Rooms: rooms})
	require.NoError(t, err)
	return reply.Link
}

// reader is a client that fetches when it likes and keeps a replica of each room.
type reader struct {
	*delivery.Receiver
	woken    atomic.Bool
	replicas map[string]*client.Replica
	counts   map[string]wire.CountFrame
	types    []string
}

func newReader(hub *delivery.Hub) *reader {
	r := &reader{replicas: map[string]*client.Replica{}, counts: map[string]wire.CountFrame{}}
	r.Receiver = hub.NewReceiver(presence.Full, func() { r.woken.Store(true) })
	return r
}

// all fetches until there is nothing more.
func (r *reader) all() [][]byte {
	var all [][]byte
	for {
		r.woken.Store(false)
		frames, more := r.Next(nil)
		all = append(all, frames...)
		if !more && !r.woken.Load() {
			return all
		}
	}
}

func (r *reader) read(t *testing.T) {
	t.Helper()
	r.woken.Store(false)
	for _, data := range r.all() {
		var frame wire.CountFrame
		require.NoError(t, json.Unmarshal(data, &frame))
		r.types = append(r.types, frame.Type)
		if frame.Type == wire.TypeCount {
			r.counts[frame.Room] = frame
			continue
		}
		replica := r.replicas[frame.Room]
		if replica == nil {
			replica = &client.Replica{}
			r.replicas[frame.Room] = replica
		}
		_, err := replica.Apply(data) // fails when a revision is missing
		require.NoError(t, err)
	}
}

func TestReceiversOfAnyPaceEndWithTheServicesList(t *testing.T) {
	rooms := []presence.RoomName{"basin.upper-weir", "basin.fen-end", "desk.night"}
	for seed := range uint64(40) {
		inService(t, func(t *testing.T, e *engine.Engine, hub *delivery.Hub) {
			random := rand.New(rand.NewPCG(seed, 1))
			byName, byPattern, counting := newReader(hub), newReader(hub), newReader(hub)
			byName.Follow(delivery.Joined, "basin.upper-weir", delivery.AtMembers)
			byPattern.Follow(delivery.Watched, "**", delivery.AtMembers)
			counting.Follow(delivery.Watched, "basin.*", delivery.AtCount)
			readers := []*reader{byName, byPattern, counting}
			live := map[presence.LinkID]bool{}
			for step := range 400 {
				room := rooms[random.IntN(len(rooms))]
				if random.IntN(3) == 0 {
					live[open(t, e, fmt.Sprint("w-", random.IntN(6)), fmt.Sprint("s-", step), room)] = true
				}
				for link := range live {
					in := []presence.Input{presence.Bye{From: link}, presence.Leave{From: link, Room: room},
						presence.Join{From: link, Room: room}}[random.IntN(3)]
					_, _ = e.Do(t.Context(), in) // leaving a room one is not in is refused, and that is fine
					if _, bye := in.(presence.Bye); bye {
						delete(live, link)
					}
					break
				}
				time.Sleep(time.Duration(random.IntN(30)) * time.Millisecond)
				if random.IntN(20) == 0 { // as after a reconnect: the present state once more
					byPattern.Follow(delivery.Watched, "**", delivery.AtMembers)
				}
				if random.IntN(8) == 0 {
					r := readers[random.IntN(len(readers))]
					r.read(t)
				}
			}
			time.Sleep(time.Second)
			for _, r := range readers {
				r.read(t)
			}
			for _, room := range rooms {
				snapshot := e.SnapshotNow(engine.Topic{Room: room, View: presence.Full})
				want := delivery.Document(snapshot)
				if replica := byPattern.replicas[string(room)]; replica != nil {
					requireSame(t, want, replica)
				}
				if room == "basin.upper-weir" {
					requireSame(t, want, byName.replicas[string(room)])
				}
				if room != "desk.night" {
					require.Equal(t, want.Count, counting.counts[string(room)].Count)
				}
			}
		})
	}
}

func requireSame(t *testing.T, want wire.Members, got *client.Replica) {
	t.Helper()
	list, err := json.Marshal(got.Members())
	require.NoError(t, err)
	wanted, err := json.Marshal(want.Members)
	require.NoError(t, err)
	require.JSONEq(t, string(wanted), string(list))
	if want.Rev != "" {
		require.Equal(t, want.Rev, got.Rev())
	}
}

func TestWhoLagsBehindTheRingGetsASnapshot(t *testing.T) {
	inService(t, func(t *testing.T, e *engine.Engine, hub *delivery.Hub) {
		fast, slow := newReader(hub), newReader(hub)
		open(t, e, "ilse", "s-1", "desk.night")
		for _, r := range []*reader{fast, slow} {
			r.Follow(delivery.Watched, "desk.night", delivery.AtMembers)
			r.read(t)
		}
		for i := range 40 {
			open(t, e, fmt.Sprint("w-", i), fmt.Sprint("s-w", i), "desk.night")
			time.Sleep(50 * time.Millisecond)
			fast.read(t)
		}
		slow.read(t)
		require.Equal(t, []string{"snapshot", "snapshot"}, slow.types)
		require.Len(t, fast.types, 41, "one snapshot, then each change")
		requireSame(t, mustSnapshot(e, "desk.night"), slow.replicas["desk.night"])
	})
}

func mustSnapshot(e *engine.Engine, room presence.RoomName) wire.Members {
	snapshot := e.SnapshotNow(engine.Topic{Room: room, View: presence.Full})
	return delivery.Document(snapshot)
}

func TestOppositeChangesWithinTheWindowCancel(t *testing.T) {
	inService(t, func(t *testing.T, e *engine.Engine, hub *delivery.Hub) {
		open(t, e, "ilse", "s-1", "desk.night")
		time.Sleep(time.Second)
		r := newReader(hub)
		r.Follow(delivery.Watched, "desk.night", delivery.AtMembers)
		r.read(t)
		second := open(t, e, "ilse", "s-2", "desk.night")
		_, err := e.Do(t.Context(), presence.Bye{From: second})
		require.NoError(t, err)
		time.Sleep(time.Second)
		require.False(t, r.woken.Load(), "one session more and one less is the same member")
	})
}

func TestAPatternCatchesRoomsThatAppearLaterAndLetsThemGo(t *testing.T) {
	inService(t, func(t *testing.T, e *engine.Engine, hub *delivery.Hub) {
		r := newReader(hub)
		r.Follow(delivery.Watched, "basin.*", delivery.AtCount)
		r.read(t)
		require.Empty(t, r.types)
		for life := range 2 {
			link := open(t, e, "ilse", fmt.Sprint("s-", life), "basin.fen-end", "desk.night")
			time.Sleep(time.Second)
			r.read(t)
			require.Equal(t, 1, r.counts["basin.fen-end"].People)
			_, err := e.Do(t.Context(), presence.Bye{From: link})
			require.NoError(t, err)
			time.Sleep(time.Second)
			r.read(t)
			require.Equal(t, 0, r.counts["basin.fen-end"].People, "the last count of a room is none")
		}
		require.NotContains(t, r.counts, "desk.night")
	})
}

func TestCountsAreToldNoMoreOftenThanThePolicySays(t *testing.T) {
	inService(t, func(t *testing.T, e *engine.Engine, hub *delivery.Hub) {
		open(t, e, "ilse", "s-0", "desk.night")
		time.Sleep(time.Second)
		r := newReader(hub)
		r.Follow(delivery.Watched, "desk.*", delivery.AtCount)
		r.read(t)
		r.types = nil
		for i := range 100 { // one each 30 ms, for three seconds
			open(t, e, fmt.Sprint("w-", i), fmt.Sprint("s-w", i), "desk.night")
			time.Sleep(30 * time.Millisecond)
			if r.woken.Load() {
				r.read(t)
			}
		}
		require.InDelta(t, 13, len(r.types), 1, "3 s / 250 ms, and the first at once")
		time.Sleep(time.Second)
		r.read(t)
		require.Equal(t, 101, r.counts["desk.night"].People, "the last is told in any case")
	})
}

func TestWhoComesBackGetsWhatItMissed(t *testing.T) {
	inService(t, func(t *testing.T, e *engine.Engine, hub *delivery.Hub) {
		full := func(room presence.RoomName) engine.Revision {
			return e.SnapshotNow(engine.Topic{Room: room, View: presence.Full}).Revision
		}
		link := open(t, e, "ilse", "s-0", "desk.night", "basin.fen-end", "basin.upper-weir")
		stays := newReader(hub) // so that the rings are kept
		stays.Follow(delivery.Watched, "**", delivery.AtMembers)
		time.Sleep(time.Second)
		stays.read(t)
		had := map[presence.RoomName]engine.Revision{
			"desk.night": full("desk.night"), "basin.fen-end": full("basin.fen-end"), "basin.upper-weir": full("basin.upper-weir"),
			"sluice.mill-lane": {Run: "before", Number: 3}, "levee.south": {Run: "before", Number: 1},
		}
		open(t, e, "tobin", "s-1", "basin.fen-end")
		time.Sleep(time.Second)
		for i := range 40 {
			open(t, e, fmt.Sprint("w-", i), fmt.Sprint("s-w", i), "basin.upper-weir")
			time.Sleep(50 * time.Millisecond)
		}
		r := newReader(hub)
		for _, pattern := range []presence.Pattern{"desk.night", "basin.*", "sluice.*"} {
			r.Follow(delivery.Watched, pattern, delivery.AtMembers)
		}
		require.Equal(t, map[presence.RoomName]delivery.Resumption{
			"desk.night": delivery.Current, "basin.fen-end": delivery.Changes, "basin.upper-weir": delivery.Whole, "sluice.mill-lane": delivery.OtherRun,
		}, r.Resume(had))
		got := map[string]string{}
		for _, data := range r.all() {
			var frame struct{ Type, Room string }
			require.NoError(t, json.Unmarshal(data, &frame))
			got[frame.Room] += frame.Type
		}
		require.Equal(t, map[string]string{"basin.fen-end": "changes", "basin.upper-weir": "snapshot", "sluice.mill-lane": "snapshot"}, got)
		_, err := e.Do(t.Context(), presence.Leave{From: link, Room: "desk.night"})
		require.NoError(t, err)
		time.Sleep(time.Second)
		require.Len(t, r.all(), 1, "and goes on from there")
	})
}

func TestUnfollowKeepsTheOtherReason(t *testing.T) {
	inService(t, func(t *testing.T, e *engine.Engine, hub *delivery.Hub) {
		r := newReader(hub)
		r.Follow(delivery.Joined, "desk.night", delivery.AtMembers)
		r.Follow(delivery.Watched, "desk.*", delivery.AtCount)
		open(t, e, "ilse", "s-1", "desk.night")
		time.Sleep(time.Second)
		r.read(t)
		require.True(t, r.Unfollow(delivery.Joined, "desk.night"))
		require.False(t, r.Unfollow(delivery.Joined, "desk.night"))
		open(t, e, "tobin", "s-2", "desk.night")
		time.Sleep(time.Second)
		r.types = nil
		r.read(t)
		require.Equal(t, []string{"count"}, r.types)
		r.Close()
		open(t, e, "hanne", "s-3", "desk.night")
		time.Sleep(time.Second)
		r.types = nil
		r.read(t)
		require.Empty(t, r.types)
	})
}

func TestFollowingARoomThatIsNotThereCreatesNothing(t *testing.T) {
	inService(t, func(t *testing.T, e *engine.Engine, hub *delivery.Hub) {
		r := newReader(hub)
		r.Follow(delivery.Watched, "desk.night", delivery.AtMembers)
		r.read(t)
		require.Equal(t, []string{"snapshot"}, r.types)
		require.Empty(t, r.replicas["desk.night"].Rev())
		require.Empty(t, e.Rooms(presence.Full))
		open(t, e, "ilse", "s-1", "desk.night")
		time.Sleep(time.Second)
		r.read(t)
		require.Equal(t, []string{"snapshot", "snapshot"}, r.types, "a new life of the room is a new run")
		require.Len(t, r.replicas["desk.night"].Members(), 1)
	})
}

// TestOpenFramesTellNothingOfWhoHides plays each script twice, in one of them with a
// person who hides and comes and goes as they like. Everybody without the right to
// see them gets the same frames, to the byte.
func TestOpenFramesTellNothingOfWhoHides(t *testing.T) {
	rooms := []presence.RoomName{"basin.upper-weir", "basin.fen-end", "desk.night"}
	play := func(seed uint64, withGhost bool) (frames string) {
		synctest.Test(t, func(t *testing.T) {
			policy := presence.DefaultPolicy()
			policy.CountEvery += 37 * time.Microsecond // so that it never falls together with a seal
			hub := delivery.NewHub(&policy)
			runs := map[presence.View]int{}
			e := engine.New(engine.Options{Policy: policy, Sink: hub, Links: noLinks{},
				NewRun: func(view presence.View) string { runs[view]++; return fmt.Sprint("run", runs[view]) }})
			hub.Use(e)
			go e.Run(t.Context())
			members, counts := hub.NewReceiver(presence.Open, func() {}), hub.NewReceiver(presence.Open, func() {})
			members.Follow(delivery.Watched, "**", delivery.AtMembers)
			counts.Follow(delivery.Watched, "basin.*", delivery.AtCount)
			counts.Follow(delivery.Joined, "desk.night", delivery.AtMembers)
			_, err := e.Do(t.Context(), presence.Hide{User: "ghost", Hidden: true})
			require.NoError(t, err)
			random, ghost := rand.New(rand.NewPCG(seed, 1)), rand.New(rand.NewPCG(seed, 2))
			act := func(random *rand.Rand, user string, links map[int]presence.LinkID, step int) {
				room := rooms[random.IntN(len(rooms))]
				if random.IntN(3) == 0 {
					links[len(links)] = open(t, e, user, fmt.Sprint("s-", user, step), room)
				} else if len(links) > 0 {
					link := links[random.IntN(len(links))]
					in := []presence.Input{presence.Bye{From: link}, presence.Leave{From: link, Room: room}, presence.Join{From: link, Room: room},
						presence.Idle{From: link}, presence.Activity{From: link}, presence.LinkLost{Link: link}}[random.IntN(6)]
					_, _ = e.Do(t.Context(), in) // a refusal is as good an act as any
				}
			}
			people, ghosts := map[int]presence.LinkID{}, map[int]presence.LinkID{}
			for step := range 200 {
				act(random, fmt.Sprint("w-", random.IntN(4)), people, step)
				if withGhost {
					act(ghost, "ghost", ghosts, step)
				}
				time.Sleep(time.Duration(random.IntN(30)) * time.Millisecond)
				synctest.Wait()
				for _, r := range []*delivery.Receiver{members, counts} {
					if random.IntN(3) == 0 {
						list, _ := r.Next(nil)
						for _, frame := range list {
							frames += string(frame) + "\n"
						}
					}
				}
			}
		})
		return frames
	}
	for seed := range uint64(30) {
		require.Equal(t, play(seed, false), play(seed, true))
	}
}

func TestLeaveComesAfterGraceByTheEnginesOwnClock(t *testing.T) {
	inService(t, func(t *testing.T, e *engine.Engine, hub *delivery.Hub) {
		r := newReader(hub)
		r.Follow(delivery.Watched, "desk.night", delivery.AtMembers)
		link := open(t, e, "ilse", "s-1", "desk.night")
		time.Sleep(time.Second)
		r.read(t)
		_, err := e.Do(t.Context(), presence.LinkLost{Link: link})
		require.NoError(t, err)
		time.Sleep(10*time.Second - time.Millisecond)
		require.False(t, r.woken.Load())
		time.Sleep(engine.DefaultWindow + 20*time.Millisecond)
		require.True(t, r.woken.Load())
		r.read(t)
		require.Empty(t, r.replicas["desk.night"].Members())
	})
}
