package cli

import (
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/internal/rehearsal/nodes"
)

// nodesFlags are those of a rehearsal of several nodes.
func nodesFlags() []cli.Flag {
	return []cli.Flag{
		&cli.IntFlag{Name: "nodes", Usage: "rehearse a cluster of `N` nodes instead: 1, 2, 3 or 5"},
		&cli.IntFlag{Name: "deaths", Usage: "with --nodes: how many times a node dies, `N` up to 20"},
		&cli.IntFlag{Name: "partitions", Usage: "with --nodes: how many times nodes are cut off, `N` up to 20"},
		&cli.StringFlag{Name: "story", Usage: "with --nodes: write what happened into `FILE`"},
	}
}

// promiseLine is a promise, and how often it was broken.
type promiseLine struct {
	Promise nodes.Promise `json:"promise"`
	Broken  int           `json:"broken"`
}

// nodesScore is the score of a cluster.
type nodesScore struct {
	Nodes     int            `json:"nodes"`
	Seed      uint64         `json:"seed"`
	Counts    map[string]int `json:"counts"`
	Longest   float64        `json:"longest_ownerless_s"`
	Ownerless float64        `json:"ownerless_s"`
	Promises  []promiseLine  `json:"promises"`
	Broken    []string       `json:"broken"`
	Took      float64        `json:"took_s"`
}

// rehearseNodes plays a cluster, and scores it against docs/cluster.md.
func rehearseNodes(c *cli.Command) error {
	o := nodes.Options{Seed: c.Uint64("seed"), Nodes: c.Int("nodes"), Realms: 1, Length: time.Minute,
		Deaths: c.Int("deaths"), Partitions: c.Int("partitions"), Story: c.String("story") != ""}
	if !slices.Contains([]int{1, 2, 3, 5}, o.Nodes) {
		return usage("--nodes is %d; allowed: 1, 2, 3 or 5", o.Nodes)
	}
	for name, n := range map[string]int{"deaths": o.Deaths, "partitions": o.Partitions} {
		if n < 0 || n > 20 {
			return usage("--%s is %d; allowed: a whole number from 0 to 20", name, n)
		}
		if n > 0 && o.Nodes == 1 {
			return usage("--%s is %d; allowed: 0 with one node, which nobody replaces", name, n)
		}
	}
	o.Length += time.Duration(o.Deaths+o.Partitions) * 20 * time.Second // each takes its time
	start := time.Now()
	result := nodes.Play(o)
	score := nodesScore{Nodes: o.Nodes, Seed: o.Seed, Counts: result.Counts, Longest: result.Longest.Seconds(), Ownerless: result.Ownerless.Seconds(),
		Broken: result.Broken, Took: time.Since(start).Seconds()}
	for _, promise := range nodes.Promises() {
		score.Promises = append(score.Promises, promiseLine{promise, result.Times[promise]})
	}
	if path := c.String("story"); path != "" {
		if err := os.WriteFile(path, []byte(strings.Join(result.Story, "\n")+"\n"), 0o600); err != nil {
			return usage("--story is %q; allowed: a file that can be written (%v)", path, err)
		}
	}
	err := listing(c, score, score.Promises, func(w io.Writer) {
		n := result.Counts
		_, _ = fmt.Fprintf(w, "%s, seed %d: %s, %s, %s, %s, %s; played in %.1f s\n", phrase.Count(o.Nodes, "node"), o.Seed, phrase.Count(n["deaths"], "death"),
			phrase.Count(n["cuts"], "partition"), phrase.Count(n["pauses"], "pause"), phrase.Count(n["stalls"], "stall")+" of the log", phrase.Count(n["handovers"], "handover"), score.Took)
		_, _ = fmt.Fprintf(w, "%s, %s; without an owner for %.1f s, at most %.1f s at a time; %s refused for now\n\n", phrase.Count(n["links"], "link"),
			phrase.Count(n["takeovers"], "takeover"), score.Ownerless, score.Longest, phrase.Count(n["refusals"], "hello"))
		_, _ = fmt.Fprintln(w, "PROMISE\tBROKEN")
		for _, l := range score.Promises {
			_, _ = fmt.Fprintf(w, "%s\t%d\n", l.Promise, l.Broken)
		}
		for _, text := range score.Broken {
			_, _ = fmt.Fprintf(w, "\n%s\n", text)
		}
	})
	if err == nil && len(score.Broken) > 0 {
		return &failure{exitFailed, "a promise was broken"}
	}
	return err
}
