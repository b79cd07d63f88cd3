//go:build linux

package main

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"text/tabwriter"
	"time"

	"tovik.example/tovik/bench/load"
	"tovik.example/tovik/client"
)

// soak holds 10,000 links for the given time, while others come, join, leave, type and go, about 150 a second. It
// prints how memory, goroutines, descriptors and the time until a join is seen changed meanwhile.
func (s *stage) soak(length time.Duration) {
	const links, churners, known = 10_000, 8, 2000
	s.fillCaches(s.service[len("http://"):])
	crowd, _ := startCrowd(load.Plan{Address: s.service[len("http://"):], Source: "127.0.0.2", Path: "/v1/link", Links: links, Hellos: s.hellos(links), At: 16})
	defer crowd.stop()
	ctx, stop := context.WithCancel(context.Background())
	var churning sync.WaitGroup
	var visits atomic.Int64
	for i := range churners {
		random := rand.New(rand.NewPCG(uint64(i), 1))
		churning.Go(func() {
			for ctx.Err() == nil {
				s.visit(ctx, fmt.Sprint("visitor-", random.IntN(known)), fmt.Sprint("basin.b", random.IntN(links/10)))
				visits.Add(1)
				time.Sleep(time.Duration(random.IntN(100)) * time.Millisecond)
			}
		})
	}
	defer func() { stop(); churning.Wait() }()
	p := probed{s.process, s.service}
	courses := []*course{{what: "resident memory", unit: "MB"}, {what: "heap at the next collection", unit: "MB"}, {what: "goroutines"}, {what: "descriptors"}, {what: "a join is seen, p50", unit: "ms"}, {what: "a join is seen, p99", unit: "ms"}}
	time.Sleep(2 * calm) // until those who came first have become idle, and caches are full
	fmt.Fprintf(os.Stderr, "soak: %d links; the first figures after %s\n", links, 2*calm)
	for begun, next := time.Now(), time.Now(); time.Since(begun) < length; {
		next = next.Add(20 * time.Second)
		seen := s.seen(10 * time.Second)
		is := p.figures()
		at := time.Since(begun)
		for i, v := range []float64{p.rss() / 1024, is["go_memstats_next_gc_bytes"] / (1 << 20), is["go_goroutines"], is["process_open_fds"], seen[len(seen)/2], seen[len(seen)*99/100]} {
			courses[i].add(at, v)
		}
		time.Sleep(time.Until(next))
	}
	result := crowd.tell(order{Do: "result"})
	fmt.Printf("%s, %d links, %d visits; %d links were closed, %d had a hole, %d errors.\n\n", length, links, visits.Load(), result.Closed, result.Holes, result.Errors)
	table := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	_, _ = fmt.Fprintln(table, "WHAT\tMEDIAN\tFIRST FIFTH\tLAST FIFTH\tUNIT\tSLOPE AN HOUR\t95 % OF IT")
	for _, c := range courses {
		slope, off := c.slope()
		fifth := max(len(c.values)/5, 1)
		_, _ = fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s\t%+.3g\t%+.3g to %+.3g\n", c.what, number(median(slices.Clone(c.values))),
			number(median(slices.Clone(c.values[:fifth]))), number(median(slices.Clone(c.values[len(c.values)-fifth:]))), c.unit, slope, slope-off, slope+off)
	}
	check(table.Flush())
}

// visit opens a link, joins a room, types, leaves the room and closes the link. Half of the visitors say bye.
func (s *stage) visit(ctx context.Context, user, room string) {
	link, err := client.Dial(ctx, client.Options{Server: s.service, Token: s.token(user), Rooms: []string{room}})
	if err != nil {
		if ctx.Err() == nil {
			check(err)
		}
		return
	}
	defer link.Close()
	_ = link.Typing(ctx, room, true)
	_ = link.Leave(ctx, room)
	if len(user)%2 == 0 {
		_ = link.Bye(ctx)
	}
}

// course is a figure at several times.
type course struct {
	what, unit string
	hours      []float64
	values     []float64
}

func (c *course) add(at time.Duration, v float64) {
	c.hours, c.values = append(c.hours, at.Hours()), append(c.values, v)
}

// slope returns the slope of the line through the figures by least squares, and how far off it may be 95 times of 100,
// as if the figures did not depend on each other.
func (c *course) slope() (slope, off float64) {
	n := float64(len(c.values))
	mean := func(list []float64) (sum float64) {
		for _, v := range list {
			sum += v / n
		}
		return sum
	}
	x, y := mean(c.hours), mean(c.values)
	var xx, xy, rest float64
	for i, v := range c.values {
		xx += (c.hours[i] - x) * (c.hours[i] - x)
		xy += (c.hours[i] - x) * (v - y)
	}
	slope = xy / xx
	for i, v := range c.values {
		d := v - y - slope*(c.hours[i]-x)
		rest += d * d
	}
	return slope, 1.96 * math.Sqrt(rest/(n-2)/xx)
}
