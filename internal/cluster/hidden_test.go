package cluster_test

import (
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/engine/enginetest"
	"tovik.example/tovik/internal/presence"
)

// witness writes down what the open view is told of each room and person, without times and the names of
// runs. What a register repeats counts once.
type witness struct {
	enginetest.NoSink
	mu   sync.Mutex
	told map[string][]string
}

func (w *witness) note(of, format string, args ...any) {
	w.mu.Lock()
	defer w.mu.Unlock()
	text, before := fmt.Sprintf(format, args...), w.told[of]
	if len(before) == 0 || before[len(before)-1] != text {
		w.told[of] = append(before, text)
	}
}

func (w *witness) Take(b *engine.Batch) {
	text := fmt.Sprintf("%d after %d:", b.Revision.Number, b.Follows().Number)
	for what, list := range [][]presence.Member{b.Joined, b.Changed, b.Doing} {
		for _, m := range list {
			m.Since = time.Time{}
			text += fmt.Sprintf(" %d %+v", what, m)
		}
	}
	for _, d := range b.Left {
		text += fmt.Sprintf(" left %s %s %s", d.User, d.Status, d.Reason)
	}
	w.note(string(b.Room), "%s, %d people, ended: %v", text, b.Count.People, b.Ended)
}

func (w *witness) TakeSight(s engine.Sight) { w.note(string(s.User), "%v", s.Appearance) }

// TestWhoHidesLeavesNoTraceAtOtherNodes plays the same time twice, with an owner that dies in the middle.
// Only what a hidden person does differs. The open view at another node is told the same.
func TestWhoHidesLeavesNoTraceAtOtherNodes(t *testing.T) {
	play := func(t *testing.T, seed uint64, busy bool) (told map[string][]string) {
		synctest.Test(t, func(t *testing.T) {
			all := nodes(t, "dipper", "heron", "kestrel")
			saw := &witness{told: map[string][]string{}}
			here, there := all[1].Core(1, saw, enginetest.NoLinks{}), all[2].Core(1, enginetest.NoSink{}, enginetest.NoLinks{})
			users := []presence.UserID{"bram", "ilse", "odile", "tarn"}
			here.Follow("**", presence.Open)
			for _, user := range users {
				here.FollowPerson(engine.Subject{User: user, View: presence.Open})
			}
			time.Sleep(3 * time.Second)
			open := func(core *cluster.Core, user presence.UserID, rooms ...presence.RoomName) presence.LinkID {
				reply, err := core.Do(t.Context(), presence.Hello{User: user, Issued: 1, NewSession: presence.SessionID("session-" + user), NewKey: "k", Nonce: string(user), Rooms: rooms})
				require.NoError(t, err)
				return reply.Link
			}
			_, err := there.Do(t.Context(), presence.Hide{User: "tarn", Hidden: true})
			require.NoError(t, err)
			tarn := open(there, "tarn")
			links := []presence.LinkID{open(here, "bram", "desk.night"), open(there, "ilse", "desk.night"), open(here, "odile")}
			cores := []*cluster.Core{here, there, here}
			script, secret := rand.New(rand.NewPCG(seed, 1)), rand.New(rand.NewPCG(seed, 2))
			act := func(random *rand.Rand, core *cluster.Core, link presence.LinkID, step int) {
				room := []presence.RoomName{"desk.night", "basin.upper-weir", "sluice.mill-lane"}[random.IntN(3)]
				in := []presence.Input{presence.Join{From: link, Room: room}, presence.Leave{From: link, Room: room}, presence.Idle{From: link}, presence.Activity{From: link},
					presence.Doing{From: link, Room: room, Object: fmt.Sprintf(`{"page":%d}`, step)}}[random.IntN(5)]
				_, _ = core.Do(t.Context(), in) // a refusal is as good an act as any
			}
			for step := range 60 {
				if step == 30 {
					all[0].Stop()
					time.Sleep(6 * time.Second)
				}
				who := script.IntN(len(links))
				act(script, cores[who], links[who], step)
				time.Sleep(60 * time.Millisecond)
				if busy {
					act(secret, there, tarn, step)
				}
				time.Sleep(60 * time.Millisecond)
			}
			saw.mu.Lock()
			defer saw.mu.Unlock()
			told = saw.told
		})
		return told
	}
	for seed := range uint64(20) {
		quiet := play(t, seed, false)
		require.Greater(t, len(quiet["desk.night"]), 3)
		require.Len(t, quiet["tarn"], 1)
		require.Equal(t, quiet, play(t, seed, true))
	}
}
