// Command core measures the core of presence alone, with a million sessions of a million people,
// each with a profile, in rooms of a hundred. The floor is a map from session ids to the time
// last heard: the least that a presence service stores.
package main

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"runtime"
	"slices"
	"testing"
	"text/tabwriter"
	"time"

	"tovik.example/tovik/internal/presence"
)

const perRoom = 100

func main() {
	n := flag.Int("sessions", 1_000_000, "how many sessions")
	flag.Parse()
	measure(*n)
}

// crowd is a core full of sessions.
type crowd struct {
	core    *presence.Core
	links   []presence.LinkID
	effects presence.Effects
	now     time.Duration
	dusk    time.Time
}

func (c *crowd) at() presence.Instant {
	return presence.Instant{Mono: c.now, Wall: c.dusk.Add(c.now)}
}

func (c *crowd) apply(in presence.Input) presence.Reply {
	reply, err := c.core.Apply(c.at(), in, &c.effects)
	if err != nil {
		panic(err)
	}
	c.effects.Reset()
	return reply
}

func room(i int) presence.RoomName { return presence.RoomName(fmt.Sprintf("basin.b%d", i/perRoom)) }

func measure(n int) {
	before := heap()
	c := &crowd{core: presence.NewCore(presence.DefaultPolicy()), dusk: time.Date(2026, 11, 23, 18, 0, 0, 0, time.UTC)}
	c.links = make([]presence.LinkID, n)
	ownLinks := heap() - before
	for i := range n {
		c.now += 14 * time.Microsecond // so that the beats of a round are spread out
		c.links[i] = c.apply(presence.Hello{
			User: presence.UserID(fmt.Sprintf("w-%07d", i)), Profile: presence.Profile{Name: fmt.Sprintf("Volunteer %d", i)},
			NewSession: presence.SessionID(fmt.Sprintf("s-%026d", i)), NewKey: fmt.Sprintf("%026d", i), Nonce: fmt.Sprintf("%016x", i),
			Rooms: []presence.RoomName{room(i)},
		}).Link
	}
	bytes := float64(heap()-before-ownLinks) / float64(n)

	random := rand.New(rand.NewPCG(7, 7))
	order := random.Perm(n)
	floor := map[presence.SessionID]*time.Duration{}
	for _, link := range c.links {
		floor[link.Session] = new(time.Duration)
	}
	c.apply(presence.Declare{Room: "desk.night", Declared: true})
	var beats, plain, joins []float64
	for range 7 { // in turn, so that a slow minute is everybody's
		beats = append(beats, each(order, func(i int) {
			_, _ = c.core.Apply(c.at(), presence.Beat{From: c.links[i]}, &c.effects)
		}))
		plain = append(plain, each(order, func(i int) { *floor[c.links[i].Session] = c.now }))
		joins = append(joins, each(order[:n/10], func(i int) {
			c.apply(presence.Join{From: c.links[i], Room: "desk.night"})
			c.apply(presence.Leave{From: c.links[i], Room: "desk.night"})
		}))
	}
	allocations := testing.AllocsPerRun(1000, func() {
		_, _ = c.core.Apply(c.at(), presence.Beat{From: c.links[order[0]]}, &c.effects)
	})
	longest, fired := c.advance()

	w := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	row := func(name, unit string, value, floor, aim float64) {
		against := "-"
		if floor > 0 {
			against = fmt.Sprintf("%.4g", floor)
		}
		_, _ = fmt.Fprintf(w, "%s\t%.4g\t%s\t%s\t≤ %.4g\n", name, value, against, unit, aim)
	}
	_, _ = fmt.Fprintf(w, "%d SESSIONS\tCORE\tFLOOR\tUNIT\tAIM\n", n)
	row("memory of a session", "bytes", bytes, 0, 600)
	row("a beat at random", "ns", median(beats), median(plain), 300)
	row("allocations of a beat", "", allocations, 0, 0)
	row("a join and its leave", "ns", median(joins), 0, 2000)
	row("longest Advance(max=1000)", "µs", float64(longest.Microseconds()), 0, 10000)
	_ = w.Flush()
	fmt.Printf("\nAdvance fired for %d sessions, each asked for a beat, then silent, in grace, and gone.\n", fired)
	runtime.KeepAlive(floor)
}

// advance lets all sessions become silent and end. It returns the longest call and the number of
// ended sessions.
func (c *crowd) advance() (longest time.Duration, ended int) {
	for due, ok := c.core.Due(); ok; due, ok = c.core.Due() {
		c.now = max(c.now, due)
		for more := true; more; {
			c.effects.Reset()
			begun := time.Now()
			_, more = c.core.Advance(c.at(), 1000, &c.effects)
			longest = max(longest, time.Since(begun))
			for _, effect := range c.effects.List {
				switch effect := effect.(type) {
				case presence.AskBeat:
					_, _ = c.core.Apply(c.at(), presence.BeatWritten{To: effect.Link}, &presence.Effects{})
				case presence.SessionEnded:
					ended++
				}
			}
		}
	}
	return longest, ended
}

// each calls a function for all sessions, and returns the nanoseconds per call.
func each(order []int, act func(i int)) float64 {
	begun := time.Now()
	for _, i := range order {
		act(i)
	}
	return float64(time.Since(begun).Nanoseconds()) / float64(len(order))
}

func median(values []float64) float64 {
	slices.Sort(values)
	return values[len(values)/2]
}

func heap() int64 {
	runtime.GC()
	runtime.GC()
	var stats runtime.MemStats
	runtime.ReadMemStats(&stats)
	return int64(stats.HeapAlloc)
}
