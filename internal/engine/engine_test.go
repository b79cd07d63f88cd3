package engine_test

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/engine/enginetest"
	"tovik.example/tovik/internal/presence"
)

// listener records all news, in order.
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

// inService runs a test with an engine in a bubble.
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

// TestNobodyWaitsForWhoIsTold blocks the sink. The core still answers questions and accepts
// inputs that cause no news.
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

// TestAnEngineIsASource checks that a room is the sum of its batches.
func TestAnEngineIsASource(t *testing.T) {
	enginetest.CheckSource(t, func(t *testing.T, sink engine.Sink) (func(context.Context, presence.Input) (presence.Reply, error), enginetest.Source) {
		e := engine.New(engine.Options{Policy: presence.DefaultPolicy(), Sink: sink, Links: &listener{}})
		go e.Run(t.Context())
		return e.Do, e
	})
}

// historian keeps the members of a topic at each revision.
type historian struct {
	mu      sync.Mutex
	members map[presence.UserID]presence.Member
	at      map[engine.Revision]map[presence.UserID]presence.Member
}

func (h *historian) Take(b *engine.Batch) {
	if b.View != presence.Open {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, m := range append(slices.Clone(b.Joined), b.Changed...) {
		h.members[m.User] = m
	}
	for _, d := range b.Left {
		delete(h.members, d.User)
	}
	h.at[b.Revision] = maps.Clone(h.members)
}

func (*historian) TakeUnchanged(engine.Topic)            {}
func (*historian) TakeTypists(engine.Typists)            {}
func (*historian) TakeSight(engine.Sight)                {}
func (*historian) TakenOut(presence.TakenOut)            {}
func (*historian) OwnChanged(presence.OwnChanged)        {}
func (*historian) AskBeat(presence.LinkID)               {}
func (*historian) Cut(presence.Cut)                      {}
func (*historian) WarnExpiry(presence.LinkID, time.Time) {}

// TestARoomReadInPartsIsOneState reads a room three members at a time while people come, go,
// hide and become idle. Each result must equal the room at the revision that it names.
func TestARoomReadInPartsIsOneState(t *testing.T) {
	const room = presence.RoomName("basin.upper-weir")
	h := &historian{members: map[presence.UserID]presence.Member{}, at: map[engine.Revision]map[presence.UserID]presence.Member{}}
	e := engine.New(engine.Options{Policy: presence.DefaultPolicy(), Sink: h, Links: h, Window: time.Millisecond, Chunk: 3})
	var running sync.WaitGroup
	ctx, stop := context.WithCancel(t.Context())
	running.Go(func() { e.Run(ctx) })
	_, err := e.Do(ctx, presence.Declare{Room: room, Declared: true})
	require.NoError(t, err)
	changing := make(chan struct{})
	running.Go(func() {
		defer close(changing)
		random := rand.New(rand.NewPCG(1, 1))
		links := map[presence.UserID]presence.LinkID{}
		for step := range 6000 {
			user := presence.UserID(fmt.Sprint("w-", random.IntN(30)))
			link, here := links[user]
			var in presence.Input = hello(string(user), fmt.Sprint("session-", step), room)
			if here {
				in = []presence.Input{presence.Bye{From: link}, presence.Idle{From: link}, presence.Activity{From: link},
					presence.Hide{User: user, Hidden: step%2 == 0}}[random.IntN(4)]
			}
			reply, err := e.Do(ctx, in)
			if _, bye := in.(presence.Bye); bye {
				delete(links, user)
			} else if err == nil && !here {
				links[user] = reply.Link
			}
			if step%100 == 0 {
				time.Sleep(time.Millisecond)
			}
		}
	})
	var read []engine.Snapshot
	for going := true; going; {
		select {
		case <-changing:
			going = false
		default:
		}
		read = append(read, e.Sealed(engine.Topic{Room: room, View: presence.Open}))
	}
	stop()
	running.Wait()
	revisions := map[engine.Revision]bool{}
	for _, s := range read {
		if s.Revision == (engine.Revision{}) {
			continue
		}
		revisions[s.Revision] = true
		require.Len(t, s.Members, len(h.at[s.Revision]), s.Revision)
		require.True(t, slices.IsSortedFunc(s.Members, func(a, b presence.Member) int { return strings.Compare(string(a.User), string(b.User)) }))
		for _, m := range s.Members {
			require.Equal(t, h.at[s.Revision][m.User], m)
		}
	}
	require.Greater(t, len(revisions), 3)
}
