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

// stuck is a sink and links that do not return until they are released.
type stuck struct {
	taking  chan struct{} // closed by the first call
	release chan struct{}
	once    sync.Once
}

func (s *stuck) hear() {
	s.once.Do(func() { close(s.taking) })
	<-s.release
}

func (s *stuck) Take(*engine.Batch)                             { s.hear() }
func (s *stuck) TakeUnchanged(engine.Topic)                     { s.hear() }
func (s *stuck) TakeTypists(engine.Typists)                     { s.hear() }
func (s *stuck) TakeSight(engine.Sight)                         { s.hear() }
func (s *stuck) AskBeat(presence.AskBeat)                       { s.hear() }
func (s *stuck) Cut(presence.Cut)                               { s.hear() }
func (s *stuck) TakenOut(presence.TakenOut)                     { s.hear() }
func (s *stuck) OwnChanged(presence.OwnChanged)                 { s.hear() }
func (s *stuck) TakeAsks(engine.Asks)                           { s.hear() }
func (s *stuck) PassEnded(presence.PassEnded)                   { s.hear() }
func (s *stuck) AskAnswered(presence.AskAnswered)               { s.hear() }
func (s *stuck) InvitationAnswered(presence.InvitationAnswered) { s.hear() }
func (s *stuck) InvitationsChanged(presence.InvitationsChanged) { s.hear() }
func (s *stuck) WarnExpiry(presence.LinkID, time.Time)          { s.hear() }

func hello(user, session string, rooms ...presence.RoomName) presence.Hello {
	return presence.Hello{User: presence.UserID(user), NewSession: presence.SessionID(session), NewKey: "k", Rooms: rooms}
}

// TestNobodyWaitsForWhoIsTold blocks the sink. The core still answers questions and accepts inputs
// that cause no news.
func TestNobodyWaitsForWhoIsTold(t *testing.T) {
	s := &stuck{taking: make(chan struct{}), release: make(chan struct{})}
	e := engine.New(engine.Options{Policy: presence.DefaultPolicy(), Sink: s, Links: s})
	joined := make(chan presence.LinkID, 1)
	go func() {
		reply, _ := e.Do(context.Background(), hello("ilse", "session-1", "desk.night"))
		joined <- reply.Link
	}()
	<-s.taking
	asked := make(chan int, 1)
	go func() {
		count, _ := e.Count(engine.Topic{Room: "desk.night"})
		_, _ = e.Do(context.Background(), presence.Beat{From: presence.LinkID{Session: "session-1", Number: 1}})
		asked <- count.People
	}()
	select {
	case people := <-asked:
		require.Equal(t, 1, people, "it has happened")
		require.Empty(t, joined, "but is answered only once it has been told")
	case <-time.After(10 * time.Second):
		t.Error("the core waits for the sink")
	}
	close(s.release)
	require.NotZero(t, <-joined)
}

// slowly is links that take their time to carry out a cut.
type slowly struct {
	stuck  // it hears all else at once
	engine *engine.Engine
	told   chan string
}

func (s *slowly) AskBeat(ask presence.AskBeat) {
	go func() { _, _ = s.engine.Do(context.Background(), presence.BeatWritten{To: ask.Link, Probe: ask.Probe}) }()
}

func (s *slowly) Cut(cut presence.Cut) {
	time.Sleep(time.Second)
	s.told <- "cut " + string(cut.Link.Session)
}

// TestAHelloThatWaitedIsAnsweredAfterTheCut lets a second page take a session over from a link that does not answer.
func TestAHelloThatWaitedIsAnsweredAfterTheCut(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		links := &slowly{told: make(chan string, 2)}
		links.taking, links.release = make(chan struct{}), make(chan struct{})
		close(links.release)
		links.engine = engine.New(engine.Options{Policy: presence.DefaultPolicy(), Sink: links, Links: links})
		ctx, stop := context.WithCancel(t.Context())
		go links.engine.Run(ctx)
		first := hello("ilse", "session-1", "desk.night")
		first.Nonce = "one"
		opened, err := links.engine.Do(ctx, first)
		require.NoError(t, err)
		second := hello("ilse", "session-2", "desk.night")
		second.Nonce, second.Session, second.Key = "two", opened.Link.Session, opened.Key
		reply, wait, err := links.engine.Begin(second)
		require.NoError(t, err)
		require.NotNil(t, wait, "the first link is asked")
		go func() {
			reply, err = wait(ctx)
			links.told <- "answer"
		}()
		require.Equal(t, "cut session-1", <-links.told)
		require.Equal(t, "answer", <-links.told)
		require.NoError(t, err)
		require.True(t, reply.Resumed)
		stop()
		synctest.Wait()
	})
}

// TestAnEngineIsASource checks that a room is the sum of its batches.
func TestAnEngineIsASource(t *testing.T) {
	enginetest.CheckSource(t, func(t *testing.T, sink engine.Sink) (func(context.Context, presence.Input) (presence.Reply, error), enginetest.Source) {
		e := engine.New(engine.Options{Policy: presence.DefaultPolicy(), Sink: sink, Links: enginetest.NoLinks{}})
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

func (*historian) TakeUnchanged(engine.Topic) {}
func (*historian) TakeTypists(engine.Typists) {}
func (*historian) TakeSight(engine.Sight)     {}
func (*historian) TakeAsks(engine.Asks)       {}

// TestARoomReadInPartsIsOneState reads a room three members at a time while people come, go,
// hide and become idle. Each result must equal the room at the revision that it names.
func TestARoomReadInPartsIsOneState(t *testing.T) {
	const room = presence.RoomName("basin.upper-weir")
	h := &historian{members: map[presence.UserID]presence.Member{}, at: map[engine.Revision]map[presence.UserID]presence.Member{}}
	e := engine.New(engine.Options{Policy: presence.DefaultPolicy(), Sink: h, Links: enginetest.NoLinks{}, Window: time.Millisecond, Chunk: 3})
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

// TestARoomWhoseEndIsNotSealedIsATopic has somebody leave a room right after they joined it, before others are
// told: they still have it.
func TestARoomWhoseEndIsNotSealedIsATopic(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, stop := context.WithCancel(t.Context())
		defer stop()
		e := engine.New(engine.Options{Policy: presence.DefaultPolicy(), Sink: &historian{members: map[presence.UserID]presence.Member{}, at: map[engine.Revision]map[presence.UserID]presence.Member{}}, Links: enginetest.NoLinks{}})
		go e.Run(ctx)
		const room = presence.RoomName("basin.upper-weir")
		reply, err := e.Do(ctx, hello("ilse", "session-1", room)) // the room was calm, so it is sealed at once
		require.NoError(t, err)
		_, err = e.Do(ctx, presence.Leave{From: reply.Link, Room: room})
		require.NoError(t, err)
		require.Empty(t, e.Rooms(presence.Full))
		for _, of := range []presence.Pattern{"**", "basin.*", presence.Pattern(room)} {
			require.Equal(t, []presence.RoomName{room}, e.Topics(of, presence.Full))
		}
		require.Empty(t, e.Topics("basin.lower-weir", presence.Full))
		require.Empty(t, e.Topics("desk.*", presence.Full))
		require.True(t, e.Sealed(engine.Topic{Room: room}).Exists)
		_, err = e.Do(ctx, presence.Join{From: reply.Link, Room: "desk.night"})
		require.NoError(t, err)
		_, err = e.Do(ctx, presence.Leave{From: reply.Link, Room: "desk.night"})
		require.NoError(t, err)
		time.Sleep(time.Second)
		require.Empty(t, e.Topics("**", presence.Full))
		require.Empty(t, e.Topics(presence.Pattern(room), presence.Full))
	})
}
