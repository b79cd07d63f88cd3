package presence_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tovik.example/tovik/internal/presence"
)

var (
	someUsers = []presence.UserID{"ilse", "tobin", "hanne"}
	someRooms = []presence.RoomName{weir, "desk.night", "sluice.mill-lane"}
)

// world is a core with what others make of its effects: a replica of each room,
// changed by nothing but [presence.MemberChanged].
type world struct {
	core    *presence.Core
	now     time.Duration
	rooms   map[presence.RoomName]map[presence.UserID]presence.Member
	hellos  []presence.Hello // as they were answered, for resumes
	links   []presence.LinkID
	effects string // every effect so far, in order
}

func (w *world) take(t require.TestingT, out presence.Effects) {
	for _, effect := range out.List {
		w.effects += fmt.Sprintf("%v %T%+v\n", w.now, effect, effect)
		m, ok := effect.(presence.MemberChanged)
		if !ok {
			continue
		}
		if w.rooms[m.Room] == nil {
			w.rooms[m.Room] = map[presence.UserID]presence.Member{}
		}
		if m.Before.Sessions > 0 {
			require.Equal(t, w.rooms[m.Room][m.Before.User], m.Before, "a change follows what was seen")
		}
		w.rooms[m.Room][m.After.User] = m.After
		if m.After.Sessions == 0 {
			delete(w.rooms[m.Room], m.After.User)
		}
	}
}

// play plays a drawn history and checks after each step that the replica, the
// members and the counts say the same.
func play(t *rapid.T, script []int) *world {
	w := &world{core: presence.NewCore(presence.DefaultPolicy()), rooms: map[presence.RoomName]map[presence.UserID]presence.Member{}}
	for i := 0; i+3 < len(script); i += 4 {
		w.step(t, script[i], script[i+1], script[i+2], script[i+3])
		for room, replica := range w.rooms {
			members, _ := w.core.Members(room)
			sessions := 0
			for _, m := range members {
				require.Equal(t, replica[m.User], m)
				sessions += m.Sessions
			}
			require.Len(t, replica, len(members))
			require.Equal(t, presence.Count{People: len(members), Sessions: sessions}, w.core.Count(room))
		}
	}
	return w
}

func (w *world) step(t *rapid.T, kind, a, b, pause int) {
	var out presence.Effects
	w.now += time.Duration(pause) * time.Millisecond * 7
	if _, more := w.core.Advance(instant(w.now), 2, &out); more {
		w.core.Advance(instant(w.now), 1000, &out)
	}
	var in presence.Input
	link := presence.LinkID{}
	if len(w.links) > 0 {
		link = w.links[b%len(w.links)]
	}
	room := someRooms[a%len(someRooms)]
	switch kind % 10 {
	case 0, 1:
		w.hello(t, presence.Hello{User: someUsers[a%len(someUsers)], Nonce: fmt.Sprint(b % 3)}, b, &out)
	case 2, 3:
		if len(w.hellos) > 0 {
			again := w.hellos[a%len(w.hellos)]
			again.Nonce = fmt.Sprint(b % 3)
			w.hello(t, again, b, &out)
		}
	case 4:
		in = presence.Join{From: link, Room: room}
	case 5:
		in = presence.Leave{From: link, Room: room}
	case 6:
		in = presence.LinkLost{Link: link}
	case 7:
		in = presence.BeatWritten{To: link}
	case 8:
		in = []presence.Input{presence.Beat{From: link}, presence.Closing{From: link}, presence.Bye{From: link}}[a%3]
	case 9:
		if len(w.hellos) > 0 {
			h := w.hellos[b%len(w.hellos)]
			in = presence.ClosingBeacon{Session: h.Session, Key: h.Key, Nonce: fmt.Sprint(a % 3)}
		}
	}
	if in != nil {
		_, _ = w.core.Apply(instant(w.now), in, &out) // a refusal is as good a step as any
	}
	w.take(t, out)
}

func (w *world) hello(t *rapid.T, in presence.Hello, b int, out *presence.Effects) {
	in.NewSession = presence.SessionID(fmt.Sprint("s-", len(w.links)))
	in.NewKey = fmt.Sprint("k-", len(w.links))
	if b%4 > 0 {
		in.Rooms = someRooms[:b%4]
	}
	reply, err := w.core.Apply(instant(w.now), in, out)
	require.NoError(t, err)
	in.Session, in.Key = reply.Link.Session, reply.Key
	w.hellos = append(w.hellos, in)
	w.links = append(w.links, reply.Link)
}

func TestWhatOthersSeeIsWhatTheCoreHolds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		script := rapid.SliceOfN(rapid.IntRange(0, 2000), 4, 800).Draw(t, "script")
		once := play(t, script)
		require.Equal(t, once.effects, play(t, slices.Clone(script)).effects, "the same inputs give the same effects")

		once.abandon(t)
		require.Empty(t, once.core.Rooms(), "the longest ghost is gone")
	})
}

// abandon writes every beat request from now on, lets nobody answer, and waits as
// long as the longest ghost may stay.
func (w *world) abandon(t *rapid.T) {
	end := w.now + presence.DefaultPolicy().LongestGhost() + time.Second
	for due, ok := w.core.Due(); ok && due <= end; due, ok = w.core.Due() {
		w.now = max(w.now, due)
		var out presence.Effects
		w.core.Advance(instant(w.now), 1000, &out)
		w.take(t, out)
		for _, effect := range out.List {
			if ask, ok := effect.(presence.AskBeat); ok {
				w.core.Apply(instant(w.now), presence.BeatWritten{To: ask.Link}, &out)
			}
		}
	}
}
