//go:build linux

package main

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"tovik.example/tovik/bench/load"
)

// contest is a figure by which two builds are compared. Its measure returns the times, or rates,
// of one short round.
type contest struct {
	name, unit string
	rate       bool    // more is better
	pairs      int     // how many rounds each build has, in multiples of -pairs
	limit      float64 // how much slower this build may be
	measure    func(*stage) (float64, error)
}

// Differences below this count as equal: for rates, and for times that depend on the scheduler
// more than on the service.
const (
	rateLimit    = 1.05
	latencyLimit = 1.15
)

// fewest is the number of pairs that an interval needs. With fewer, even the smallest and
// largest ratio do not enclose the median 95 times of 100.
const fewest = 6

func contests() []contest {
	latency := func(q float64) func(*stage) (float64, error) {
		return func(s *stage) (float64, error) {
			list := s.seen(1200 * time.Millisecond)
			return list[int(q*float64(len(list)-1))], nil
		}
	}
	return []contest{
		{"counts_http_per_second", "/s", true, 3, rateLimit, func(s *stage) (float64, error) {
			someone := s.person([]string{room}, nil)
			defer someone.Close()
			return s.gets(s.service+"/v1/rooms/"+room+"/count", 400*time.Millisecond), nil
		}},
		{"count_http_cpu_us", "µs", false, 3, rateLimit, func(s *stage) (float64, error) {
			return s.cpuOfCounts(2 * time.Second), nil
		}},
		{"joins_and_leaves_per_second", "/s", true, 3, rateLimit, func(s *stage) (float64, error) {
			return s.joinsAndLeaves(s.service, 2*time.Second), nil
		}},
		{"join_or_leave_cpu_us", "µs", false, 3, rateLimit, func(s *stage) (float64, error) {
			return s.cpuOfJoins(2 * time.Second), nil
		}},
		{"handshakes_per_second", "/s", true, 2, rateLimit, handshakes},
		{"join_seen_p50_ms", "ms", false, 2, latencyLimit, latency(0.5)},
		{"join_seen_p90_ms", "ms", false, 2, latencyLimit, latency(0.9)},
		{"last_receiver_p50_ms", "ms", false, 1, latencyLimit, func(s *stage) (float64, error) {
			r := results{}
			s.fanout(r, fanout{receivers: 2000, changes: 500})
			return r["last_receiver_p50_ms"], nil
		}},
	}
}

// handshakes returns the number of links opened per second, with hello and join. Each round has
// its own people; those of earlier rounds have left.
func handshakes(s *stage) (float64, error) {
	const links = 3000
	hellos := make([]string, links)
	for i := range hellos {
		hellos[i] = fmt.Sprintf(`{"type":"hello","version":1,"token":"%s","nonce":"n","rooms":["basin.b%d"]}`, s.token(fmt.Sprint("w-", i)), i/10)
	}
	service, address := s.startService("")
	defer service.stop()
	c, connected := startCrowd(load.Plan{Address: address, Source: "127.0.0.2", Path: "/v1/link", Links: links, Hellos: hellos, At: 16})
	defer c.stop()
	return links / connected.Connected.Seconds(), nil
}

// compare builds another commit and measures both in pairs, because the speed of the machine
// drifts. The order alternates. It returns an error if this build may exceed a limit.
func compare(commit, only string, pairs int) error {
	here := newStage(true)
	defer here.stop()
	binary, cleanUp, err := buildCommit(commit)
	if err != nil {
		return err
	}
	defer cleanUp()
	there := newStageOf(true, binary)
	defer there.stop()
	// A row is printed as soon as it is measured: all of them may take half an hour.
	const row = "%-28s %12s %12s  %-5s %10s  %-20s %-16s %s\n"
	fmt.Printf(row, "FIGURE", commit, "HERE", "UNIT", "SLOWER BY", "95 % OF IT", "AT MOST", "PAIRS")
	over := false
	for _, c := range contests() {
		if !strings.Contains(c.name, only) {
			continue
		}
		var old, now, slower []float64
		for i := range max(pairs*c.pairs, fewest) {
			order := []*stage{there, here}
			if i%2 == 1 {
				slices.Reverse(order)
			}
			took := map[*stage]float64{}
			for _, s := range order {
				if took[s], err = c.measure(s); err != nil {
					return err
				}
			}
			ratio := took[here] / took[there]
			if c.rate {
				ratio = 1 / ratio
			}
			old, now, slower = append(old, took[there]), append(now, took[here]), append(slower, ratio)
		}
		low, high := interval(slower)
		verdict := ""
		if high > c.limit {
			over, verdict = true, " (over)"
		}
		percent := func(v float64) string { return fmt.Sprintf("%+.1f %%", 100*(v-1)) }
		fmt.Printf(row, c.name, number(median(old)), number(median(now)), c.unit, percent(median(slower)),
			percent(low)+" to "+percent(high), percent(c.limit)+verdict, strconv.Itoa(len(slower)))
	}
	if over {
		return errors.New("this build may be slower than that commit by more than is allowed")
	}
	return nil
}

// interval returns the interval that contains the median 95 times of 100: two of the values, by
// the sign test, which assumes no distribution.
func interval(values []float64) (low, high float64) {
	slices.Sort(values)
	n := len(values)
	// The number of values below the median is binomial; from ten on it is nearly normal.
	k := max(int(float64(n)/2-0.98*math.Sqrt(float64(n))), 0)
	return values[k], values[n-1-k]
}

// buildCommit builds the binary of a commit, with the console and client of this tree, which are
// not measured.
func buildCommit(commit string) (binary string, cleanUp func(), err error) {
	dir, err := os.MkdirTemp("", "tovik-bench-")
	if err != nil {
		return "", nil, err
	}
	tree := filepath.Join(dir, "tree")
	cleanUp = func() { _ = os.RemoveAll(dir) }
	defer func() {
		_ = exec.CommandContext(context.Background(), "git", "worktree", "remove", "--force", tree).Run()
		if err != nil {
			cleanUp()
		}
	}()
	run := func(in, name string, args ...string) error {
		cmd := exec.CommandContext(context.Background(), name, args...)
		cmd.Dir, cmd.Stderr = in, os.Stderr
		return cmd.Run()
	}
	if err = run("", "git", "worktree", "add", "--quiet", "--detach", tree, commit); err != nil {
		return "", nil, fmt.Errorf("check out %s: %w", commit, err)
	}
	for _, dist := range []string{"web/console/dist", "web/client/dist"} {
		if err = os.RemoveAll(filepath.Join(tree, dist)); err == nil {
			err = os.CopyFS(filepath.Join(tree, dist), os.DirFS(dist))
		}
		if err != nil {
			return "", nil, fmt.Errorf("copy %s: %w", dist, err)
		}
	}
	binary = filepath.Join(dir, "tovik")
	if err = run(tree, "go", "build", "-trimpath", "-ldflags=-s -w", "-o", binary, "./cmd/tovik"); err != nil {
		return "", nil, fmt.Errorf("build %s: %w", commit, err)
	}
	return binary, cleanUp, nil
}
