package delivery

import (
	"fmt"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/engine/enginetest"
	"tovik.example/tovik/internal/presence"
)

// TestACalmRoomKeepsNothing looks into the hub: what rooms keep for followers who return is gone after a minute, also
// when nothing happens any more.
func TestACalmRoomKeepsNothing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		policy := presence.DefaultPolicy()
		var e *engine.Engine
		hub := NewHub(Options{Policy: &policy, Source: func(sink engine.Sink) Source {
			e = engine.New(engine.Options{Policy: policy, Sink: sink, Links: enginetest.NoLinks{}})
			return e
		}})
		defer hub.Close()
		onlooker := hub.NewReceiver(presence.Open, func() {})
		onlooker.Follow(Watched, "**", How{Detail: AtMembers})
		kept := func() (batches, frames int) {
			for _, t := range hub.known(presence.Open, "**") {
				t.mu.Lock()
				batches += len(t.ring)
				for _, f := range []*frame{t.snapshot, t.sparse, t.countNow} {
					if f != nil {
						frames++
					}
				}
				t.mu.Unlock()
			}
			return batches, frames
		}
		sessions := 0
		comes := func(i int) {
			sessions++
			_, err := e.Do(t.Context(), presence.Hello{User: presence.UserID(fmt.Sprint("w-", i)), NewSession: presence.SessionID(fmt.Sprint("s-", sessions)), NewKey: "k",
				Rooms: []presence.RoomName{presence.RoomName(fmt.Sprint("basin.b", i%3))}})
			require.NoError(t, err)
			onlooker.Next(nil)
		}
		for range 3 { // again, after it was calm
			for i := range 9 {
				comes(i)
				time.Sleep(5 * time.Second)
			}
			late := hub.NewReceiver(presence.Open, func() {})
			late.Follow(Watched, "**", How{Detail: AtMembers})
			late.Next(nil)
			late.Close()
			batches, frames := kept()
			require.GreaterOrEqual(t, batches, 3)
			require.Positive(t, frames)
			time.Sleep(2*forgetAfter + time.Second)
			batches, frames = kept()
			require.Zero(t, batches)
			require.Zero(t, frames)
		}
	})
}
