//go:build linux

package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"tovik.example/tovik/bench/load"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/records"
)

// growth measures how costs grow, and draws a picture of each curve, or of only one, into a directory.
func (s *stage) growth(dir, only string) {
	check(os.MkdirAll(dir, 0o755))
	for _, c := range []struct {
		curve
		measure func(point func(x float64, ys ...float64))
	}{
		{curve{"links", "idle links", []string{"MB of memory", "% of a core"}, false}, s.growLinks},
		{curve{"receivers", "receivers of a room, at 200 changes a second", []string{"ms until the last one has a change, p50", "the same, p99"}, false}, s.growReceivers},
		{curve{"rooms", "rooms into which 600 links go and leave", []string{"joins and leaves a second"}, true}, s.growRooms},
		{curve{"members", "members of the one room into which 600 links go and leave", []string{"joins and leaves a second"}, true}, s.growMembers},
		{curve{"entries", "million entries in the journal", []string{"entries imported a second", "ms for the last hour of a room, the slowest of 20"}, false}, s.growEntries},
	} {
		if only != "" && only != c.name {
			continue
		}
		fmt.Fprintf(os.Stderr, "%s …\n", c.name)
		var data strings.Builder
		fmt.Fprintf(&data, "# %s\t%s\n", c.of, strings.Join(c.ys, "\t"))
		c.measure(func(x float64, ys ...float64) {
			row := number(x)
			for _, y := range ys {
				row += "\t" + number(y)
			}
			fmt.Fprintln(os.Stderr, row)
			data.WriteString(row + "\n")
		})
		c.draw(dir, data.String())
	}
}

// curve is a picture of one or two figures against another.
type curve struct {
	name, of string
	ys       []string
	log      bool // the horizontal axis is logarithmic
}

// draw has gnuplot draw a picture, and leaves the data beside it.
func (c curve) draw(dir, data string) {
	file := filepath.Join(dir, c.name)
	check(os.WriteFile(file+".tsv", []byte(data), 0o644))
	script := fmt.Sprintf(`set terminal pngcairo size 1000,500 font "Inter,12" linewidth 1.5
set output %q
set datafile separator "\t"
set border 3 linecolor "#6b7280"
set tics nomirror
set grid ytics linecolor "#e5e7eb"
set key above left reverse Left
set xlabel %q
set yrange [*<0:*]
`, file+".png", c.of)
	if c.log {
		script += "set logscale x\n"
	}
	lines := make([]string, len(c.ys))
	for i, y := range c.ys {
		axis := ""
		if i == 1 && !strings.HasPrefix(y, "the same") {
			axis = " axes x1y2"
			c.ys[i] += " (right)"
			script += fmt.Sprintf("set border 11\nset y2tics\nset y2range [*<0:*]\nset y2label %q\n", y)
		} else if i == 0 {
			script += fmt.Sprintf("set ylabel %q\n", y)
		}
		lines[i] = fmt.Sprintf("%q using 1:%d%s with linespoints pointtype %d linecolor %q title %q", file+".tsv", i+2, axis, 5+2*i, []string{"#0f766e", "#b45309"}[i], c.ys[i])
	}
	script += "plot " + strings.Join(lines, ", ") + "\n"
	gnuplot := exec.Command("gnuplot")
	gnuplot.Stdin, gnuplot.Stderr = strings.NewReader(script), os.Stderr
	check(gnuplot.Run())
}

func (s *stage) growLinks(point func(x float64, ys ...float64)) {
	sizes := pick(s, []int{1000, 2000, 5000, 10_000, 15_000}, []int{100, 200})
	hellos := s.hellos(sizes[len(sizes)-1])
	service, address := s.startService("")
	defer service.stop()
	s.fillCaches(address)
	first, _ := startCrowd(load.Plan{Address: address, Source: "127.0.0.2", Path: "/v1/link", Links: sizes[0], Hellos: hellos, At: 16})
	first.stop()
	time.Sleep(pick(s, calm, time.Second))
	base, have := service.rss(), 0
	for _, n := range sizes {
		c, _ := startCrowd(load.Plan{Address: address, Source: "127.0.0.2", Path: "/v1/link", Links: n - have, Hellos: hellos[have:n], At: 16})
		defer c.stop()
		have = n
		time.Sleep(pick(s, calm, time.Second))
		used, span := service.cpu(), pick(s, 20*time.Second, time.Second)
		time.Sleep(span)
		point(float64(n), (service.rss()-base)/1024, 100*(service.cpu()-used).Seconds()/span.Seconds())
	}
}

func (s *stage) growReceivers(point func(x float64, ys ...float64)) {
	for _, n := range pick(s, []int{500, 1000, 2000, 5000, 10_000, 15_000}, []int{100, 200}) {
		r := results{}
		s.fanout(r, fanout{receivers: n, changes: 200})
		point(float64(n), r["last_receiver_p50_ms"], r["last_receiver_p99_ms"])
	}
}

func (s *stage) growRooms(point func(x float64, ys ...float64)) {
	for _, n := range pick(s, []int{1, 10, 100, 1000, 10_000}, []int{1, 10}) {
		point(float64(n), s.visits(s.service, func(int) string { return fmt.Sprint("levee.of-", n, ".", rand.IntN(n)) }))
	}
}

func (s *stage) growMembers(point func(x float64, ys ...float64)) {
	for _, n := range pick(s, []int{10, 100, 1000, 10_000}, []int{10, 20}) {
		hellos := make([]string, n)
		for i := range hellos {
			hellos[i] = fmt.Sprintf(`{"type":"hello","version":1,"token":"%s","rooms":["%s"],"detail":"none"}`, s.token(fmt.Sprint("m-", i)), room)
		}
		service, address := s.startService("")
		c, _ := startCrowd(load.Plan{Address: address, Source: "127.0.0.2", Path: "/v1/link", Links: n, Hellos: hellos, At: 16})
		point(float64(n), s.visits("http://"+address, func(int) string { return room }))
		c.stop()
		service.stop()
	}
}

// visits returns how often a second 600 links join or leave a room, which they follow meanwhile.
func (s *stage) visits(service string, choose func(n int) string) (rate float64) {
	length := pick(s, 5*time.Second, time.Second)
	s.joining(service, length, func(_ string, n int) string { return choose(n) }, func(done *atomic.Int64) {
		before, began := done.Load(), time.Now()
		time.Sleep(length)
		rate = float64(done.Load()-before) / time.Since(began).Seconds()
	})
	return rate
}

func (s *stage) growEntries(point func(x float64, ys ...float64)) {
	million := pick(s, 1_000_000, 20_000)
	dir := must(os.MkdirTemp(s.dir, "growth-"))
	random := rand.New(rand.NewPCG(1, 1))
	const millions = 20
	gap := 5 * 24 * time.Hour / time.Duration(millions*million)
	at := time.Now().Add(-5 * 24 * time.Hour)
	store := must(records.Open(dir))
	defer func() { check(store.Close()) }()
	id := int64(0)
	for range millions {
		began := time.Now()
		for range million / 5000 {
			batch := make([]journal.Entry, 5000)
			for i := range batch {
				id++
				batch[i] = entry(random, id, at)
				at = at.Add(gap)
			}
			check(store.ImportEntries(batch))
		}
		rate := float64(million) / time.Since(began).Seconds()
		point(float64(id)/1e6, rate, slowestHour(store, random))
	}
}

// slowestHour returns how long the slowest of 20 takes, in milliseconds.
func slowestHour(store *records.Store, random *rand.Rand) (most float64) {
	for range 20 {
		most = max(most, took(func() { hourOfRoom(store, random.IntN(1000), time.Now()) }))
	}
	return most
}
