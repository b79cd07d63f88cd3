package engine_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// listener is told everything, and keeps it in order.
type listener struct {
	told []any
	hold chan struct{} // nil: it does not wait
}

func (l *listener) hear(what any) {
	l.told = append(l.told, what)
	if l.hold != nil {
		<-l.hold
	}
}

func (l *listener) Take(b *engine.Batch)                         { l.hear(b) }
func (l *listener) TakeUnchanged(t engine.Topic)                 { l.hear(t) }
func (l *listener) TakeTypists(t engine.Typists)                 { l.hear(t) }
func (l *listener) TakeSight(s engine.Sight)                     { l.hear(s) }
func (l *listener) AskBeat(link presence.LinkID)                 { l.hear(link) }
func (l *listener) Cut(cut presence.Cut)                         { l.hear(cut) }
func (l *listener) TakenOut(taken presence.TakenOut)             { l.hear(taken) }
func (l *listener) OwnChanged(changed presence.OwnChanged)       { l.hear(changed) }
func (l *listener) WarnExpiry(link presence.LinkID, _ time.Time) { l.hear(link) }

// inService runs a test on an engine whose time is that of the bubble.
func inService(t *testing.T, test func(t *testing.T, e *engine.Engine, l *listener)) {
	synctest.Test(t, func(t *testing.T) {
		l := &listener{}
		e := engine.New(engine.Options{Policy: presence.DefaultPolicy(), Sink: l, Links: l})
		go e.Run(t.Context())
		test(t, e, l)
	})
}

func hello(user, session string, rooms ...presence.RoomName) presence.Hello {
	return presence.Hello{User: presence.UserID(user), NewSession: presence.SessionID(session), NewKey: "k", Rooms: rooms}
}

// TestNobodyWaitsForWhoIsTold has a sink that does not come back: the core goes on, for whoever
// asks it something and whoever says something that nobody is told of.
func TestNobodyWaitsForWhoIsTold(t *testing.T) {
	inService(t, func(t *testing.T, e *engine.Engine, l *listener) {
		first, err := e.Do(t.Context(), hello("ilse", "session-1", "desk.night"))
		require.NoError(t, err)
		l.hold = make(chan struct{})
		joined := make(chan error, 1)
		go func() {
			_, err := e.Do(context.Background(), hello("maren", "session-2", "basin.fen-end"))
			joined <- err
		}()
		synctest.Wait()
		count, exists := e.Count(engine.Topic{Room: "basin.fen-end"})
		require.True(t, exists)
		require.Equal(t, 1, count.People, "it has happened")
		_, err = e.Do(t.Context(), presence.Beat{From: first.Link})
		require.NoError(t, err)
		require.Empty(t, joined, "but is answered only once it has been told")
		close(l.hold)
		synctest.Wait()
		require.NoError(t, <-joined)
	})
}

// TestARoomIsTheSumOfWhatIsTold keeps a list of each topic from the batches alone, and compares
// it with the engine's at every revision, in random histories with people who hide.
func TestARoomIsTheSumOfWhatIsTold(t *testing.T) {
	rooms := []presence.RoomName{"basin.upper-weir", "desk.night"}
	for seed := range uint64(30) {
		inService(t, func(t *testing.T, e *engine.Engine, l *listener) {
			random := rand.New(rand.NewPCG(seed, 3))
			lists := replicas{}
			links := []presence.LinkID{}
			for step := range 300 {
				user, room := fmt.Sprint("w-", random.IntN(5)), rooms[random.IntN(2)]
				switch n := random.IntN(10); {
				case n < 3 || len(links) == 0:
					if reply, err := e.Do(t.Context(), hello(user, fmt.Sprint("session-", step), room)); err == nil {
						links = append(links, reply.Link)
					}
				case n == 3:
					_, _ = e.Do(t.Context(), presence.Hide{User: presence.UserID(user), Hidden: random.IntN(2) == 0})
				default:
					link := links[random.IntN(len(links))]
					in := []presence.Input{presence.Bye{From: link}, presence.Join{From: link, Room: room}, presence.Leave{From: link, Room: room},
						presence.Idle{From: link}, presence.Typing{From: link, Room: room, On: true}}[random.IntN(5)]
					_, _ = e.Do(t.Context(), in) // a refusal is as good an act as any
				}
				synctest.Wait()
				lists.take(t, l)
				for _, view := range []presence.View{presence.Full, presence.Open} {
					lists.compare(t, e.Sealed(engine.Topic{Room: room, View: view}))
				}
				time.Sleep(time.Duration(random.IntN(25)) * time.Millisecond)
			}
		})
	}
}

type replica struct {
	revision engine.Revision
	members  map[presence.UserID]presence.Member
}

type replicas map[engine.Topic]*replica

// take applies what has been told since the last call.
func (all replicas) take(t *testing.T, l *listener) {
	t.Helper()
	for _, what := range l.told {
		b, ok := what.(*engine.Batch)
		if !ok {
			continue
		}
		r := all[b.Topic]
		if r == nil {
			r = &replica{revision: engine.Revision{Run: b.Revision.Run}, members: map[presence.UserID]presence.Member{}}
			all[b.Topic] = r
		}
		require.Positive(t, b.Size(), "a batch says something")
		require.Equal(t, r.revision, b.Revision.Previous(), "nothing is missing")
		r.revision = b.Revision
		for _, m := range b.Joined {
			require.NotContains(t, r.members, m.User)
			r.members[m.User] = m
		}
		for _, m := range b.Changed {
			require.NotEqual(t, r.members[m.User], m)
			r.members[m.User] = m
		}
		for _, d := range b.Left {
			require.Contains(t, r.members, d.User)
			delete(r.members, d.User)
		}
		require.Equal(t, len(r.members), b.Count.People)
		if b.Ended {
			delete(all, b.Topic)
		}
	}
	l.told = nil
}

func (all replicas) compare(t *testing.T, s engine.Snapshot) {
	t.Helper()
	r := all[s.Topic]
	if r == nil {
		r = &replica{}
	}
	require.Equal(t, r.revision, s.Revision)
	want := make([]presence.Member, 0, len(r.members))
	for _, m := range r.members {
		want = append(want, m)
	}
	slices.SortFunc(want, func(a, b presence.Member) int { return strings.Compare(string(a.User), string(b.User)) })
	require.Equal(t, want, append([]presence.Member{}, s.Members...))
}
