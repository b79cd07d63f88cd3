package delivery_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/deflate"
	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/engine/enginetest"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// hubOf returns a hub with an engine.
func hubOf(o engine.Options) (hub *delivery.Hub, e *engine.Engine) {
	o.Links = enginetest.NoLinks{}
	hub = delivery.NewHub(delivery.Options{Policy: &o.Policy, Source: func(sink engine.Sink) delivery.Source {
		o.Sink = sink
		e = engine.New(o)
		return e
	}})
	return hub, e
}

// inService runs a test with an engine in a bubble.
func inService(t *testing.T, test func(t *testing.T, e *engine.Engine, hub *delivery.Hub)) {
	synctest.Test(t, func(t *testing.T) {
		policy := presence.DefaultPolicy()
		hub, e := hubOf(engine.Options{Policy: policy})
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

// reader is a client that fetches on demand and keeps a replica of each room.
type reader struct {
	*delivery.Receiver
	woken    atomic.Bool
	replicas map[string]*client.Replica
	counts   map[string]wire.CountFrame
	types    []string
}

func newReader(hub *delivery.Hub) *reader { return readerOf(hub, presence.Full) }

func readerOf(hub *delivery.Hub, view presence.View) *reader {
	r := &reader{replicas: map[string]*client.Replica{}, counts: map[string]wire.CountFrame{}}
	r.Receiver = hub.NewReceiver(view, func() { r.woken.Store(true) })
	return r
}

// all fetches until nothing is left.
func (r *reader) all() [][]byte {
	var all [][]byte
	for {
		r.woken.Store(false)
		frames, more := r.Next(nil)
		for _, frame := range frames {
			all = append(all, frame.Plain())
		}
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
		if frame.Type == wire.TypeTyping {
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

// TestAHubIsASink reads the hub through a receiver that follows from the start and one that
// follows late.
func TestAHubIsASink(t *testing.T) {
	enginetest.CheckSink(t, func(t *testing.T, source enginetest.Source) (engine.Sink, func(engine.Topic) ([]presence.UserID, string)) {
		policy := presence.DefaultPolicy()
		hub := delivery.NewHub(delivery.Options{Policy: &policy, Source: func(engine.Sink) delivery.Source { return source }})
		all := map[presence.View]*reader{}
		for _, view := range []presence.View{presence.Full, presence.Open} {
			all[view] = readerOf(hub, view)
			all[view].Follow(delivery.Watched, "**", delivery.How{Detail: delivery.AtMembers})
		}
		return hub, func(topic engine.Topic) ([]presence.UserID, string) {
			late := readerOf(hub, topic.View)
			late.Follow(delivery.Joined, presence.Pattern(topic.Room), delivery.How{Detail: delivery.AtMembers})
			var users []presence.UserID
			revision := ""
			for _, r := range []*reader{all[topic.View], late} {
				r.read(t)
				users, revision = nil, ""
				if replica := r.replicas[string(topic.Room)]; replica != nil && len(replica.Members()) > 0 {
					for _, m := range replica.Members() {
						users = append(users, presence.UserID(m.User))
					}
					revision = replica.Rev()
				}
				if r != late {
					require.Equal(t, source.Sealed(topic).Revision.String(), revision, "who was there all the time")
				}
			}
			late.Close()
			return users, revision
		}
	})
}

func TestReceiversOfAnyPaceEndWithTheServicesList(t *testing.T) {
	rooms := []presence.RoomName{"basin.upper-weir", "basin.fen-end", "desk.night"}
	for seed := range uint64(40) {
		inService(t, func(t *testing.T, e *engine.Engine, hub *delivery.Hub) {
			random := rand.New(rand.NewPCG(seed, 1))
			byName, byPattern, counting := newReader(hub), newReader(hub), newReader(hub)
			byName.Follow(delivery.Joined, "basin.upper-weir", delivery.How{Detail: delivery.AtMembers})
			byPattern.Follow(delivery.Watched, "**", delivery.How{Detail: delivery.AtMembers})
			counting.Follow(delivery.Watched, "basin.*", delivery.How{Detail: delivery.AtCount})
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
					byPattern.Follow(delivery.Watched, "**", delivery.How{Detail: delivery.AtMembers})
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

// TestALimitGivesTheFirstMembersWholeAfterEachSeal follows the first members of a room in all ways
// while people come, go, and say what they are doing.
func TestALimitGivesTheFirstMembersWholeAfterEachSeal(t *testing.T) {
	const room = presence.RoomName("desk.night")
	for seed := range uint64(20) {
		inService(t, func(t *testing.T, e *engine.Engine, hub *delivery.Hub) {
			random := rand.New(rand.NewPCG(seed, 7))
			two, bare, five := newReader(hub), newReader(hub), newReader(hub)
			two.Follow(delivery.Watched, "desk.*", delivery.How{Detail: delivery.AtMembers, Limit: 2})
			bare.Follow(delivery.Watched, presence.Pattern(room), delivery.How{Detail: delivery.AtMembers, Limit: 2, Sparse: true})
			five.Follow(delivery.Watched, presence.Pattern(room), delivery.How{Detail: delivery.AtMembers, Limit: 2})
			five.Follow(delivery.Joined, presence.Pattern(room), delivery.How{Detail: delivery.AtMembers, Limit: 5}) // the higher of both holds
			live := map[string]presence.LinkID{}
			for step := range 200 {
				user := fmt.Sprint("w-", random.IntN(8))
				switch link, there := live[user]; {
				case !there:
					live[user] = open(t, e, user, fmt.Sprint("s-", step), room)
				case random.IntN(2) == 0:
					_, err := e.Do(t.Context(), presence.Bye{From: link})
					require.NoError(t, err)
					delete(live, user)
				default:
					_, err := e.Do(t.Context(), presence.Doing{From: link, Room: room, Object: fmt.Sprintf(`{"page":%d}`, step)})
					require.NoError(t, err)
				}
				time.Sleep(time.Duration(random.IntN(60)) * time.Millisecond)
				[]*reader{two, bare, five}[random.IntN(3)].read(t)
			}
			time.Sleep(time.Second)
			for _, r := range []*reader{two, bare, five} {
				r.read(t)
				require.NotContains(t, r.types, wire.TypeChanges)
				require.NotContains(t, r.types, wire.TypeCount)
			}
			want := mustSnapshot(e, room)
			for limit, r := range map[int]*reader{2: two, 5: five} {
				first := want
				first.Members = want.Members[:min(limit, len(want.Members))]
				requireSame(t, first, r.replicas[string(room)])
			}
			requireSame(t, wire.Members{Members: withoutDoing(want.Members[:min(2, len(want.Members))])}, bare.replicas[string(room)])
			before := len(bare.types)
			for user, link := range live {
				_, err := e.Do(t.Context(), presence.Doing{From: link, Room: room, Object: `{"page":"` + user + `"}`})
				require.NoError(t, err)
			}
			time.Sleep(time.Second)
			bare.read(t)
			require.Len(t, bare.types, before, "what others are doing is nothing to it")
		})
	}
}

func TestWhoFollowsLessThanBeforeGetsThatAtOnce(t *testing.T) {
	inService(t, func(t *testing.T, e *engine.Engine, hub *delivery.Hub) {
		for _, user := range []string{"corin", "hanne", "ilse"} {
			open(t, e, user, "s-"+user, "desk.night")
		}
		time.Sleep(time.Second)
		r := newReader(hub)
		r.Follow(delivery.Joined, "desk.night", delivery.How{Detail: delivery.AtMembers, Limit: 2})
		r.Follow(delivery.Watched, "desk.*", delivery.How{Detail: delivery.AtMembers})
		r.read(t)
		require.Len(t, r.replicas["desk.night"].Members(), 3, "the larger part")
		require.True(t, r.Unfollow(delivery.Watched, "desk.*"))
		r.read(t)
		require.Len(t, r.replicas["desk.night"].Members(), 2)
	})
}

func withoutDoing(list []wire.Member) []wire.Member {
	list = slices.Clone(list)
	for i := range list {
		list[i].Doing = nil
	}
	return list
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
			r.Follow(delivery.Watched, "desk.night", delivery.How{Detail: delivery.AtMembers})
			r.read(t)
			time.Sleep(engine.DefaultWindow)
			synctest.Wait()
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
		r.Follow(delivery.Watched, "desk.night", delivery.How{Detail: delivery.AtMembers})
		r.read(t)
		open(t, e, "maren", "s-2", "desk.night")
		time.Sleep(time.Millisecond)
		r.read(t)
		require.Len(t, r.replicas["desk.night"].Members(), 2, "the first change of a calm room waits for nothing")
		third := open(t, e, "ilse", "s-3", "desk.night")
		_, err := e.Do(t.Context(), presence.Bye{From: third})
		require.NoError(t, err)
		time.Sleep(time.Second)
		require.False(t, r.woken.Load(), "one session more and one less is the same member")
	})
}

// TestAJoinerOfABusyRoomBeginsWithThemselves joins while changes wait for their seal. The joiner
// gets nothing before the seal, and then a state that includes them, at either detail.
func TestAJoinerOfABusyRoomBeginsWithThemselves(t *testing.T) {
	for _, detail := range []delivery.Detail{delivery.AtCount, delivery.AtMembers} {
		inService(t, func(t *testing.T, e *engine.Engine, hub *delivery.Hub) {
			open(t, e, "ilse", "s-1", "desk.night")
			time.Sleep(time.Millisecond)
			open(t, e, "maren", "s-2", "desk.night")
			r := newReader(hub)
			r.Follow(delivery.Joined, "desk.night", delivery.How{Detail: detail})
			require.Empty(t, r.all())
			synctest.Wait()
			require.Empty(t, r.all(), "the room is not sealed yet")
			time.Sleep(2 * engine.DefaultWindow)
			frames := r.all()
			require.Len(t, frames, 1)
			require.Contains(t, string(frames[0]), `"people":2`)
		})
	}
}

func TestAPatternCatchesRoomsThatAppearLaterAndLetsThemGo(t *testing.T) {
	inService(t, func(t *testing.T, e *engine.Engine, hub *delivery.Hub) {
		r := newReader(hub)
		r.Follow(delivery.Watched, "basin.*", delivery.How{Detail: delivery.AtCount})
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

// TestAPatternThatIsNotReadFindsWhatIsThere creates more rooms than an inbox lists one by one
// before the receiver reads.
func TestAPatternThatIsNotReadFindsWhatIsThere(t *testing.T) {
	inService(t, func(t *testing.T, e *engine.Engine, hub *delivery.Hub) {
		r := newReader(hub)
		r.Follow(delivery.Watched, "basin.*", delivery.How{Detail: delivery.AtMembers})
		for i := range 1500 {
			name := fmt.Sprint("w-", i)
			link := open(t, e, name, "session-"+name, presence.RoomName("basin."+name), presence.RoomName("sluice."+name))
			if i%2 == 0 {
				_, err := e.Do(t.Context(), presence.Bye{From: link})
				require.NoError(t, err)
			}
		}
		time.Sleep(time.Second)
		r.read(t)
		require.Len(t, r.replicas, 750)
		for room := range e.Rooms(presence.Full) {
			if strings.HasPrefix(string(room), "basin.") {
				requireSame(t, mustSnapshot(e, room), r.replicas[string(room)])
			}
		}
	})
}

func TestCountsAreToldNoMoreOftenThanThePolicySays(t *testing.T) {
	inService(t, func(t *testing.T, e *engine.Engine, hub *delivery.Hub) {
		open(t, e, "ilse", "s-0", "desk.night")
		time.Sleep(time.Second)
		r := newReader(hub)
		r.Follow(delivery.Watched, "desk.*", delivery.How{Detail: delivery.AtCount})
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
		stays.Follow(delivery.Watched, "**", delivery.How{Detail: delivery.AtMembers})
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
			r.Follow(delivery.Watched, pattern, delivery.How{Detail: delivery.AtMembers})
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
		time.Sleep(time.Minute)
		late := newReader(hub)
		late.Follow(delivery.Watched, "basin.fen-end", delivery.How{Detail: delivery.AtMembers})

		require.Equal(t, delivery.Whole, late.Resume(had)["basin.fen-end"], "time alone decides, whatever is still kept")
	})
}

func TestUnfollowKeepsTheOtherReason(t *testing.T) {
	inService(t, func(t *testing.T, e *engine.Engine, hub *delivery.Hub) {
		r := newReader(hub)
		r.Follow(delivery.Joined, "desk.night", delivery.How{Detail: delivery.AtMembers})
		r.Follow(delivery.Watched, "desk.*", delivery.How{Detail: delivery.AtCount})
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
		r.Follow(delivery.Watched, "desk.night", delivery.How{Detail: delivery.AtMembers})
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

// crowd plays a script of people who come and go, and of receivers that follow, resume and page
// at every detail. It records what the receivers get. Anything that happens outside of the
// script must not show in it.
type crowd struct {
	t       *testing.T
	e       *engine.Engine
	hub     *delivery.Hub
	script  *rand.Rand
	links   []presence.LinkID
	readers []*delivery.Receiver
	frames  string
}

var crowded = []presence.RoomName{"basin.upper-weir", "basin.fen-end", "desk.night", "desk.gate"} // the gate asks

// person opens or closes a session of somebody, or does something with one.
func (c *crowd) person(user string, step int) {
	room := crowded[c.script.IntN(len(crowded))]
	if c.script.IntN(3) == 0 {
		hello := presence.Hello{User: presence.UserID(user), NewSession: presence.SessionID(fmt.Sprint("s-", user, step)), NewKey: "k", Rooms: []presence.RoomName{room}, NewAsk: presence.AskID(fmt.Sprint("ask-", user, step))}
		if c.script.IntN(2) == 0 {
			hello.Admits = []presence.Pattern{"**"}
		}
		if reply, err := c.e.Do(c.t.Context(), hello); err == nil {
			c.links = append(c.links, reply.Link)
		}
	} else if len(c.links) > 0 {
		link := c.links[c.script.IntN(len(c.links))]
		var ask presence.AskID
		if open := c.e.OpenAsks(); len(open) > 0 {
			ask = open[0].Ask
		}
		in := []presence.Input{presence.Bye{From: link}, presence.Leave{From: link, Room: room}, presence.Join{From: link, Room: room, NewAsk: presence.AskID(fmt.Sprint("ask-", user, step))},
			presence.Idle{From: link}, presence.Activity{From: link}, presence.LinkLost{Link: link}, presence.Typing{From: link, Room: room, On: true},
			presence.Doing{From: link, Room: room, Object: fmt.Sprintf(`{"page":%d}`, step)}, presence.AnswerAsk{From: link, Ask: ask, Admit: step%3 > 0},
			presence.Invite{From: link, To: "w-1", Room: room, New: presence.InvitationID(fmt.Sprint("i-", user, step))}}[c.script.IntN(10)]
		_, _ = c.e.Do(c.t.Context(), in) // a refusal is as good an act as any
	}
}

// follower makes a receiver come, go, follow something, or read.
func (c *crowd) follower(first bool) {
	room := crowded[c.script.IntN(len(crowded))]
	how := delivery.How{Detail: []delivery.Detail{delivery.AtMembers, delivery.AtCount}[c.script.IntN(2)], Sparse: c.script.IntN(3) == 0, Limit: 2 * (c.script.IntN(4) / 3)}
	n := c.script.IntN(14)
	if first || n == 0 || len(c.readers) == 0 {
		c.readers = append(c.readers, c.hub.NewReceiver(presence.Open, func() {}))
	}
	at := c.script.IntN(len(c.readers))
	r := c.readers[at]
	switch n {
	case 1:
		r.Follow(delivery.Watched, presence.Pattern(room), how)
	case 2:
		r.Follow(delivery.Watched, []presence.Pattern{"**", "basin.*"}[c.script.IntN(2)], how)
	case 3:
		r.FollowPeople([]presence.UserID{"w-0", "w-1", "ghost"}, nil)
	case 4:
		r.Unfollow(delivery.Watched, presence.Pattern(room))
	case 5:
		r.Close()
		c.readers = slices.Delete(c.readers, at, at+1)
	case 6:
		page, _ := c.hub.Page(engine.Topic{Room: room, View: presence.Open}, engine.Revision{}, delivery.PageWanted{Limit: 2})
		c.keep("page", must(json.Marshal(page)))
	case 7: // it says what it had long ago
		r.Follow(delivery.Watched, presence.Pattern(room), how)
		had := engine.Revision{Run: fmt.Sprint("run", 1+c.script.IntN(3)), Number: uint64(1 + c.script.IntN(9))}
		c.keep("resumed", []byte(r.Resume(map[presence.RoomName]engine.Revision{room: had})[room]))
	case 8:
		r.Admit([]presence.Pattern{"**"})
		r.Follow(delivery.Joined, presence.Pattern(room), how)
	default:
		for more := true; more; {
			var list []deflate.Text
			list, more = r.Next(nil)
			for _, frame := range list {
				c.keep(fmt.Sprint(at), frame.Plain())
			}
		}
	}
}

func (c *crowd) keep(who string, frame []byte) { c.frames += who + " " + string(frame) + "\n" }

func must(text []byte, err error) []byte {
	if err != nil {
		panic(err)
	}
	return text
}

// TestWhatAFollowerGetsTellsNeitherOfWhoHidesNorOfWhoElseFollows plays each script three times:
// alone, with a hidden person who comes and goes, and with other followers in the open view. The
// frames are the same each time, byte for byte.
func TestWhatAFollowerGetsTellsNeitherOfWhoHidesNorOfWhoElseFollows(t *testing.T) {
	play := func(t *testing.T, seed uint64, hides, others bool) (frames string) {
		synctest.Test(t, func(t *testing.T) {
			policy := presence.DefaultPolicy()
			policy.CountEvery += 37 * time.Microsecond // so that it never falls together with a seal
			policy.MembersMax = []int{1000, 2}[seed%2]
			asks := policy.RoomPolicy
			asks.Entry = presence.EntryAsk
			policy.Rooms = []presence.PatternPolicy{{Pattern: "desk.gate", RoomPolicy: asks}}
			runs := map[presence.View]int{}
			hub, e := hubOf(engine.Options{Policy: policy, NewRun: func(view presence.View) string { runs[view]++; return fmt.Sprint("run", runs[view]) }})
			defer hub.Close()
			go e.Run(t.Context())
			_, err := e.Do(t.Context(), presence.Hide{User: "ghost", Hidden: true})
			require.NoError(t, err)
			seen := &crowd{t: t, e: e, hub: hub, script: rand.New(rand.NewPCG(seed, 1))}
			ghost := &crowd{t: t, e: e, hub: hub, script: rand.New(rand.NewPCG(seed, 2))}
			more := &crowd{t: t, e: e, hub: hub, script: rand.New(rand.NewPCG(seed, 3))}
			pause := rand.New(rand.NewPCG(seed, 4))
			for step := range 250 {
				if hides {
					ghost.person("ghost", step)
				}
				if others {
					more.follower(step < 3)
				}
				seen.person(fmt.Sprint("w-", seen.script.IntN(4)), step)
				synctest.Wait() // until what is due is sealed
				seen.follower(step < 2)
				length := time.Duration(pause.IntN(30)) * time.Millisecond
				if pause.IntN(20) == 0 {
					length += 40 * time.Second
				}
				time.Sleep(length + time.Duration(step)*time.Microsecond)
				synctest.Wait()
			}
			frames = seen.frames
		})
		return frames
	}
	for seed := range uint64(40) {
		alone := play(t, seed, false, false)
		requireAlike(t, alone, play(t, seed, true, false), "a person who hides", seed)
		requireAlike(t, alone, play(t, seed, false, true), "others who follow", seed)
	}
}

// TestAsksAreToldToThoseWhoMayAdmit: to members of the room who may admit, at first and after each
// change, also over a renewed token; to nobody else.
func TestAsksAreToldToThoseWhoMayAdmit(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		policy := presence.DefaultPolicy()
		policy.Entry = presence.EntryAsk
		hub, e := hubOf(engine.Options{Policy: policy})
		go e.Run(t.Context())
		keeper, err := e.Do(t.Context(), presence.Hello{User: "hanne", NewSession: "s-1", NewKey: "k", Rooms: []presence.RoomName{"desk.gate"}, Admits: []presence.Pattern{"desk.*"}})
		require.NoError(t, err)
		inside, watching, renewed := newReader(hub), newReader(hub), newReader(hub)
		inside.Admit([]presence.Pattern{"desk.*"})
		watching.Admit([]presence.Pattern{"desk.*"})
		inside.Follow(delivery.Joined, "desk.gate", delivery.How{Detail: delivery.AtMembers})
		watching.Follow(delivery.Watched, "desk.gate", delivery.How{Detail: delivery.AtMembers})
		renewed.Follow(delivery.Joined, "desk.gate", delivery.How{Detail: delivery.AtCount})
		asking := open(t, e, "tobin", "s-2", "desk.gate")
		synctest.Wait()
		last := func(r *reader) (asks int) {
			asks = -1
			for _, data := range r.all() {
				var frame wire.AsksFrame
				require.NoError(t, json.Unmarshal(data, &frame))
				if frame.Type == wire.TypeAsks {
					asks = len(frame.Asks)
				}
			}
			return asks
		}
		require.Equal(t, []int{1, -1, -1}, []int{last(inside), last(watching), last(renewed)})
		renewed.Admit([]presence.Pattern{"**"})
		require.Equal(t, 1, last(renewed))
		_, err = e.Do(t.Context(), presence.AnswerAsk{From: keeper.Link, Ask: e.OpenAsks()[0].Ask, Admit: true})
		require.NoError(t, err)
		synctest.Wait()
		require.Equal(t, []int{0, -1, 0}, []int{last(inside), last(watching), last(renewed)})
		_, err = e.Do(t.Context(), presence.Bye{From: asking})
		require.NoError(t, err)
		inside.Unfollow(delivery.Joined, "desk.gate")
		open(t, e, "ilse", "s-3", "desk.gate")
		synctest.Wait()
		require.Equal(t, -1, last(inside), "who has left is told nothing more")
	})
}

func TestLeaveComesAfterGraceByTheEnginesOwnClock(t *testing.T) {
	inService(t, func(t *testing.T, e *engine.Engine, hub *delivery.Hub) {
		r := newReader(hub)
		r.Follow(delivery.Watched, "desk.night", delivery.How{Detail: delivery.AtMembers})
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

// requireAlike reports the first line that differs.
func requireAlike(t *testing.T, alone, with, what string, seed uint64) {
	t.Helper()
	one, two := strings.Split(alone, "\n"), strings.Split(with, "\n")
	for i := range min(len(one), len(two)) {
		require.Equal(t, one[i], two[i], "line %d shows %s, seed %d", i, what, seed)
	}
	require.Len(t, two, len(one), "%s, seed %d", what, seed)
}

// lists is a source whose lists a test sets.
type lists map[engine.Topic]engine.Snapshot

func (l lists) Unsealed(engine.Topic) bool { return false }

func (l lists) Sealed(topic engine.Topic) engine.Snapshot { return l[topic] }

func (l lists) Sight(subject engine.Subject) engine.Sight { return engine.Sight{Subject: subject} }

// TestAChangeOfAnotherRunFollowsTheOneBefore tells a room by one engine, and then by the next one: as
// the difference between their lists.
func TestAChangeOfAnotherRunFollowsTheOneBefore(t *testing.T) {
	policy, source, topic := presence.DefaultPolicy(), lists{}, engine.Topic{Room: "desk.night"}
	hub := delivery.NewHub(delivery.Options{Policy: &policy, Source: func(engine.Sink) delivery.Source { return source }})
	member := func(user string, note string) presence.Member {
		return presence.Member{User: presence.UserID(user), Appearance: presence.Appearance{Status: presence.Online, Note: note}, Sessions: 1}
	}
	tell := func(b engine.Batch, members ...presence.Member) {
		b.Topic, b.Count = topic, presence.CountOf(members)
		source[topic] = engine.Snapshot{Topic: topic, Revision: b.Revision, Members: members, Count: b.Count, Exists: true}
		hub.Take(&b)
	}
	first, second := engine.Revision{Run: "1-a", Number: 1}, engine.Revision{Run: "1-a", Number: 2}
	next, later := engine.Revision{Run: "2-b", Number: 7}, engine.Revision{Run: "2-b", Number: 8}
	tell(engine.Batch{Revision: first, Joined: []presence.Member{member("ilse", "")}}, member("ilse", ""))
	quick, slow := newReader(hub), newReader(hub)
	quick.Follow(delivery.Watched, "desk.night", delivery.How{Detail: delivery.AtMembers})
	slow.Follow(delivery.Watched, "desk.night", delivery.How{Detail: delivery.AtMembers})
	quick.read(t)
	slow.read(t)
	tell(engine.Batch{Revision: second, Joined: []presence.Member{member("bram", "")}}, member("bram", ""), member("ilse", ""))
	quick.read(t)
	tell(engine.Batch{Revision: next, After: &second, Changed: []presence.Member{member("ilse", "at the pumps")}, Left: []engine.Departure{{User: "bram"}}}, member("ilse", "at the pumps"))
	quick.read(t)
	tell(engine.Batch{Revision: later, Joined: []presence.Member{member("odile", "")}}, member("ilse", "at the pumps"), member("odile", ""))
	late := newReader(hub)
	late.Follow(delivery.Watched, "desk.night", delivery.How{Detail: delivery.AtMembers})
	require.Equal(t, map[presence.RoomName]delivery.Resumption{"desk.night": delivery.Changes}, late.Resume(map[presence.RoomName]engine.Revision{"desk.night": second}), "who comes back from another node")
	for _, r := range []*reader{quick, slow} {
		r.read(t)
		require.Equal(t, later.String(), r.replicas["desk.night"].Rev())
		require.Len(t, r.replicas["desk.night"].Members(), 2)
		require.Equal(t, []string{wire.TypeSnapshot, wire.TypeChanges, wire.TypeChanges, wire.TypeChanges}, r.types)
	}
	frames := late.all()
	require.Len(t, frames, 2)
	require.Contains(t, string(frames[0]), second.String(), "the changes since")
}

// longest remembers the most that it was told.
type longest struct{ seconds, times float64 }

func (l *longest) Observe(seconds float64) {
	l.seconds, l.times = max(l.seconds, seconds), l.times+1
}

// TestOnlyDeliveriesOfNewBatchesAreMeasured has many receivers of a change, and many that begin to follow a minute later.
func TestOnlyDeliveriesOfNewBatchesAreMeasured(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		delay := &longest{}
		policy := presence.DefaultPolicy()
		var e *engine.Engine
		hub := delivery.NewHub(delivery.Options{Policy: &policy, Delay: delay, Source: func(sink engine.Sink) delivery.Source {
			e = engine.New(engine.Options{Policy: policy, Sink: sink, Links: enginetest.NoLinks{}})
			return e
		}})
		go e.Run(t.Context())
		open(t, e, "tarn", "session-1", "desk.night")
		time.Sleep(time.Minute)
		follow := func() (all []*reader) {
			for range 130 {
				r := newReader(hub)
				r.Follow(delivery.Watched, "desk.night", delivery.How{Detail: delivery.AtMembers})
				r.all()
				all = append(all, r)
			}
			return all
		}
		first := follow()
		require.Zero(t, delay.times, "nothing has changed since they follow")
		open(t, e, "lark", "session-2", "desk.night")
		time.Sleep(time.Second)
		for _, r := range first {
			r.all()
		}
		time.Sleep(time.Minute)
		follow()
		require.Equal(t, 2.0, delay.times, "one in 64")
		require.InDelta(t, 1, delay.seconds, 0.1)
	})
}
