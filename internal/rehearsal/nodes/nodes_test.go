package nodes_test

import (
	"flag"
	"fmt"
	"os"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/rehearsal/nodes"
)

var (
	seeds  = flag.Int("seeds", 20, "how many seeds are played")
	first  = flag.Uint64("first", 1, "the first of them")
	shrink = flag.Bool("shrink", true, "whether the first failing seed is shrunk")
	enough = flag.Int("enough", 6, "after how many failing seeds the test ends")
	story  = flag.String("story", "", "a file for the story of the first seed")
)

// TestMain lets garbage wait: a rehearsal makes much of it, and keeps little.
func TestMain(m *testing.M) {
	debug.SetGCPercent(400)
	os.Exit(m.Run())
}

func options(seed uint64) nodes.Options {
	return nodes.Options{Seed: seed, Nodes: []int{3, 3, 5, 2, 1}[seed%5], Realms: []int{1, 1, 7}[seed%3], Length: time.Minute, External: seed%10 == 3 || seed%10 == 6}
}

// TestAClusterKeepsItsPromises plays a minute of faults for each seed, and then quiet.
func TestAClusterKeepsItsPromises(t *testing.T) {
	if *story != "" {
		o := nodes.Shrink(options(*first))
		o.Story = true
		result := nodes.Play(o)
		require.NoError(t, os.WriteFile(*story, []byte(strings.Join(result.Story, "\n")), 0o644))
	}
	var next atomic.Uint64
	next.Store(*first)
	var failures atomic.Int64
	var mu sync.Mutex
	var done sync.WaitGroup
	counts, longest, broken := map[string]int{}, time.Duration(0), 0
	for range 2 {
		done.Go(func() {
			for seed := next.Add(1) - 1; int(failures.Load()) < *enough && seed < *first+uint64(*seeds); seed = next.Add(1) - 1 {
				o := options(seed)
				if seed%50 == 0 {
					o.Files = t.TempDir()
				}
				result := nodes.Play(o)
				mu.Lock()
				for what, n := range result.Counts {
					counts[what] += n
				}
				longest = max(longest, result.Longest)
				if len(result.Broken) > 0 {
					failures.Add(1)
					if broken++; broken <= *enough {
						t.Errorf("seed %d (%d nodes): %s", seed, options(seed).Nodes, strings.Join(result.Broken, "\n  "))
						if broken == 1 && *shrink {
							least := nodes.Shrink(options(seed))
							least.Story = true
							t.Logf("the end of what leads to it, without the faults %v:\n%s", least.Without, tail(nodes.Play(least).Story, 60))
						}
					}
				}
				mu.Unlock()
			}
		})
	}
	done.Wait()
	t.Log(fmt.Sprint(counts), "longest without an owner:", longest, "seeds with broken promises:", broken)
}

// tail returns the last lines up to the first broken promise.
func tail(story []string, most int) string {
	for i, line := range story {
		if strings.Contains(line, "BROKEN") {
			return strings.Join(story[max(0, i+1-most):i+1], "\n")
		}
	}
	return ""
}
