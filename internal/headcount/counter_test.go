package headcount_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/headcount"
	"tovik.example/tovik/internal/presence"
)

// TestTheRealmsRowIsAsTheCoreSays makes sessions open, lose their links, come back and end at random, over restarts,
// and compares each minute with the sizes of the core.
func TestTheRealmsRowIsAsTheCoreSays(t *testing.T) {
	const night = 3 * time.Hour
	dusk := time.Date(2026, 11, 23, 18, 0, 0, 0, time.UTC)
	random := rand.New(rand.NewPCG(7, 1))
	core := presence.NewCore(presence.DefaultPolicy())
	counter := headcount.NewCounter("main", dusk.UnixMilli())
	var out presence.Effects
	links, keys := map[presence.SessionID]presence.LinkID{}, map[presence.SessionID]string{}
	most := headcount.Row{At: dusk.UnixMilli()} // of the present minute
	at := func(now time.Duration) presence.Instant { return presence.Instant{Mono: now, Wall: dusk.Add(now)} }
	look := func(now time.Duration, restored bool) {
		wall := dusk.Add(now).UnixMilli()
		counter.Roll(wall, func(row headcount.Row) {
			if row.Room == "" && row.At == most.At {
				require.Equal(t, most, headcount.Row{At: row.At, PeopleMax: row.PeopleMax, SessionsMax: row.SessionsMax, LinksMax: row.LinksMax, Cues: row.Cues, PeopleClose: row.PeopleClose, SessionsClose: row.SessionsClose, LinksClose: row.LinksClose})
			}
		})
		if minute := headcount.Minute.Begin(wall); minute != most.At {
			most = headcount.Row{At: minute, PeopleMax: most.PeopleClose, SessionsMax: most.SessionsClose, LinksMax: most.LinksClose}
		}
		for _, effect := range out.List {
			counter.Take(wall, effect, restored)
			if _, ok := effect.(presence.CueGiven); ok {
				most.Cues++
			}
		}
		out.Reset()
		size := core.Size()
		most.PeopleClose, most.SessionsClose, most.LinksClose = size.People, size.Sessions, size.Sessions-size.InGrace
		most.PeopleMax, most.SessionsMax, most.LinksMax = max(most.PeopleMax, most.PeopleClose), max(most.SessionsMax, most.SessionsClose), max(most.LinksMax, most.LinksClose)
	}
	restarts, hellos := 0, 0
	for now := time.Duration(0); now < night; now += time.Duration(random.Int64N(int64(8 * time.Second))) {
		for more := true; more; {
			_, more = core.Advance(at(now), 1, &out)
			look(now, false)
		}
		id := presence.SessionID(fmt.Sprint("session-", max(hellos-random.IntN(24), 0)))
		from := links[id]
		switch random.IntN(9) {
		case 0, 1, 2:
			hellos++
			reply, err := core.Apply(at(now), presence.Hello{User: presence.UserID(fmt.Sprint("watcher-", random.IntN(5))), Nonce: "page",
				Session: id, Key: keys[id], NewSession: presence.SessionID(fmt.Sprint("session-", hellos)), NewKey: fmt.Sprint("key-", now), Leased: random.IntN(4) == 0}, &out)
			require.NoError(t, err)
			if !reply.Pending {
				links[reply.Link.Session], keys[reply.Link.Session] = reply.Link, reply.Key
			}
		case 3, 4:
			_, _ = core.Apply(at(now), presence.LinkLost{Link: from}, &out)
		case 5:
			_, _ = core.Apply(at(now), presence.LinkLost{Link: from}, &out)
			_, _ = core.Apply(at(now), presence.ClosingBeacon{Session: id, Key: keys[id], Nonce: "page"}, &out)
		case 6:
			_, _ = core.Apply(at(now), presence.Bye{From: from}, &out)
		case 7:
			_, _ = core.Cue(at(now), presence.LinkID{}, presence.CueTo{Room: "desk.night"}, nil, &out)
		case 8:
			if random.IntN(30) > 0 {
				break
			}
			restarts++
			saved := core.Save(at(now))
			core, counter = presence.NewCore(presence.DefaultPolicy()), headcount.NewCounter("main", dusk.Add(now).UnixMilli())
			if restarts%2 == 0 {
				require.NoError(t, core.Restore(at(now), saved, &out))
			} else {
				require.NoError(t, core.Continue(at(now), saved, presence.Takeover{Time: now, Wall: dusk.Add(now).UnixMilli(), Whole: true}, &out))
				core.GoOn(at(now))
			}
			most = headcount.Row{At: most.At}
			look(now, true)
		}
		look(now, false)
	}
	require.Greater(t, restarts, 3)
}
