package gateway

import (
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/deflate"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/internal/transport"
)

// TestTheAnswerToTheHelloComesFirst fetches frames while a conversation begins. A fetch that finds the
// conversation goes on with its rooms, so it must have the answer.
func TestTheAnswerToTheHelloComesFirst(t *testing.T) {
	for range 10_000 {
		l := &link{}
		l.carrier.Store(&transport.Stream{})
		go l.begin(&realm.Conversation{}, presence.LinkID{}, []byte("the answer"))
		var frames []deflate.Text
		var talk *realm.Conversation
		for fetches := 1; talk == nil; fetches++ {
			if frames, talk = l.fetchOutbox(frames); fetches%100 == 0 {
				runtime.Gosched() // on one processor, begin has to run
			}
		}
		require.Len(t, frames, 1)
	}
}

// TestTheEndOfALinkEndsAllThatWaits begins two requests of a link, and ends them in either order.
func TestTheEndOfALinkEndsAllThatWaits(t *testing.T) {
	t.Parallel()
	for _, olderFirst := range []bool{true, false} {
		l := &link{}
		older, olderOver := l.during()
		newer, newerOver := l.during()
		remains, over := newer, newerOver
		if olderFirst {
			olderOver()
		} else {
			newerOver()
			remains, over = older, olderOver
		}
		require.NoError(t, remains.Err())
		l.letGo()
		require.Error(t, remains.Err())
		over()
		late, _ := l.during()
		require.Error(t, late.Err(), "the link has ended")
	}
}
