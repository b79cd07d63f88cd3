package journal_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
)

// TestWhatIsAnnouncedIsWhatTheCoreHas folds random histories, including hidden people, and
// tracks who is where from the announcements alone, by view. After each input the result must
// equal the core's. The entries must agree with the full view.
func TestWhatIsAnnouncedIsWhatTheCoreHas(t *testing.T) {
	rooms := []presence.RoomName{"basin.upper-weir", "desk.night"}
	type place struct {
		room presence.RoomName
		view presence.View
	}
	for seed := range uint64(40) {
		random := rand.New(rand.NewPCG(seed, 5))
		core := presence.NewCore(presence.DefaultPolicy())
		var effects presence.Effects
		announced, listed := map[place]map[presence.UserID]bool{}, map[presence.RoomName]map[presence.UserID]bool{}
		online := map[presence.View]map[presence.UserID]bool{presence.Full: {}, presence.Open: {}}
		for _, room := range rooms {
			listed[room] = map[presence.UserID]bool{}
			for _, view := range []presence.View{presence.Full, presence.Open} {
				announced[place{room, view}] = map[presence.UserID]bool{}
			}
		}
		keep := func(e journal.Entry) {
			switch e.Kind {
			case journal.MemberJoined:
				require.False(t, listed[e.Room][e.User])
				listed[e.Room][e.User] = true
			case journal.MemberLeft:
				require.True(t, listed[e.Room][e.User])
				delete(listed[e.Room], e.User)
			}
		}
		announce := func(a *journal.Announcement) {
			here := announced[place{a.Room, a.View}]
			switch a.Kind {
			case journal.MemberJoined:
				require.False(t, here[a.Person])
				here[a.Person] = true
			case journal.MemberLeft:
				require.True(t, here[a.Person])
				delete(here, a.Person)
			case journal.RoomFirstIn:
				require.Len(t, here, 1)
			case journal.RoomEmpty:
				require.Empty(t, here)
			case journal.Headcount:
				require.Equal(t, len(here), a.People)
			case journal.PersonOnline:
				online[a.View][a.Person] = true
			case journal.PersonOffline:
				delete(online[a.View], a.Person)
			}
		}
		fold := journal.NewFold("main", keep, announce)
		at := presence.Instant{Wall: time.Date(2026, 11, 23, 18, 0, 0, 0, time.UTC)}
		var links []presence.LinkID
		for step := range 400 {
			pause := time.Duration(random.Int64N(int64(20 * time.Second)))
			at.Mono, at.Wall = at.Mono+pause, at.Wall.Add(pause)
			core.Advance(at, 1000, &effects)
			in, user := presence.Input(nil), presence.UserID(fmt.Sprint("w-", random.IntN(5)))
			switch n := random.IntN(10); {
			case n < 3 || len(links) == 0:
				in = presence.Hello{User: user, NewSession: presence.SessionID(fmt.Sprint("session-", step)), NewKey: "k", Rooms: rooms[:random.IntN(3)]}
			case n == 3:
				in = presence.Hide{User: user, Hidden: random.IntN(2) == 0}
			default:
				link := links[random.IntN(len(links))]
				in = []presence.Input{presence.Bye{From: link}, presence.LinkLost{Link: link}, presence.Join{From: link, Room: rooms[random.IntN(2)]},
					presence.Leave{From: link, Room: rooms[random.IntN(2)]}, presence.Idle{From: link}}[random.IntN(5)]
			}
			if reply, err := core.Apply(at, in, &effects); err == nil && reply.Link.Session != "" {
				links = append(links, reply.Link)
			}
			for _, effect := range effects.List {
				fold.Take(at.Wall.UnixMilli(), effect, false)
			}
			effects.Reset()
			for where, here := range announced {
				requirePeople(t, core.Members(where.room, where.view), here)
			}
			for room, here := range listed {
				requirePeople(t, core.Members(room, presence.Full), here)
			}
			for view, people := range online {
				require.Equal(t, core.Person(user, view).Status != presence.Offline, people[user])
			}
		}
	}
}

func requirePeople(t *testing.T, want []presence.Member, got map[presence.UserID]bool) {
	t.Helper()
	require.Len(t, got, len(want))
	for _, m := range want {
		require.True(t, got[m.User])
	}
}
