package engine_test

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/engine/enginetest"
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

// TestAnEngineIsASource: a room is the sum of what is told of it.
func TestAnEngineIsASource(t *testing.T) {
	enginetest.CheckSource(t, func(t *testing.T, sink engine.Sink) (func(context.Context, presence.Input) (presence.Reply, error), enginetest.Source) {
		e := engine.New(engine.Options{Policy: presence.DefaultPolicy(), Sink: sink, Links: &listener{}})
		go e.Run(t.Context())
		return e.Do, e
	})
}
