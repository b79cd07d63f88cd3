package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/urfave/cli/v3"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/config"
	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/rehearsal"
)

func rehearseCommand() *cli.Command {
	return &cli.Command{
		Name:  "rehearse",
		Usage: "simulate a day of presence, and score it against the policy",
		Description: "Simulates people whose pages reload, freeze and close, whose cables are cut and whose laptops sleep, with the core " +
			"of the service. Reports how long ghosts stayed and what else was shown wrong. " +
			"Exits with 1 if a bound is broken.\n\nWith --nodes it plays a minute of a cluster in which nodes die, stand still and are cut off, and checks its promises.\n\n" +
			"Example: tovik rehearse --people 1000 --hours 8\nExample: tovik rehearse --nodes 3 --deaths 5 --partitions 3 --seed 11",
		Flags: append([]cli.Flag{
			&cli.IntFlag{Name: "people", Value: 10_000, Usage: "the number `N` of people, from 1 to 100000"},
			&cli.FloatFlag{Name: "hours", Value: 24, Usage: "how many hours, `H` up to 168"},
			&cli.Uint64Flag{Name: "seed", Value: 7, Usage: "the `NUMBER` from which the world is generated"},
			&cli.StringFlag{Name: "policy", Usage: "a TOML `FILE` with a policy to try"},
			&cli.StringFlag{Name: "into", Usage: "write what happened into new records in `DIR`, for tovik serve --data DIR; it ends now"},
			formatFlag(),
		}, nodesFlags()...),
		Action: rehearse,
	}
}

func rehearse(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	if c.IsSet("nodes") {
		return rehearseNodes(c)
	}
	for _, name := range []string{"deaths", "partitions", "story"} {
		if c.IsSet(name) {
			return usage("--%s needs --nodes", name)
		}
	}
	people, hours := c.Int("people"), c.Float("hours")
	if people < 1 || people > 100_000 {
		return usage("--people is %d; allowed: a whole number from 1 to 100000", people)
	}
	if hours <= 0 || hours > 168 {
		return usage("--hours is %g; allowed: above 0, up to 168", hours)
	}
	policy := presence.DefaultPolicy()
	if path := c.String("policy"); path != "" {
		var err error
		if policy, err = config.ReadPolicy(path); err != nil {
			return err
		}
	}
	o := rehearsal.Options{Policy: policy, People: people, Length: time.Duration(hours * float64(time.Hour)), Seed: c.Uint64("seed")}
	var score rehearsal.Score
	var err error
	if dir := c.String("into"); dir != "" {
		score, err = rehearseInto(ctx, dir, o)
	} else {
		score = rehearsal.Run(o)
	}
	if err != nil {
		return err
	}
	err = listing(c, score, score.Lines, func(w io.Writer) {
		_, _ = fmt.Fprintf(w, "%d people, %g h, seed %d: %d sessions, %d acts, %d beats, %s, %s; played in %.1f s\n\n",
			score.People, score.Hours, score.Seed, score.Sessions, score.Acts, score.Beats,
			phrase.Count(score.Pauses, "pause"), phrase.Count(score.Restarts, "restart"), score.Took.Seconds())
		_, _ = fmt.Fprintln(w, "WHAT\tTIMES\tMEAN\tWORST\tBOUND\tBROKEN")
		for _, l := range score.Lines {
			_, _ = fmt.Fprintf(w, "%s\t%d\t%s\t%s\t%s\t%d\n", l.What, l.Seen, seconds(l.Total, l.Seen), seconds(l.Worst, 1), seconds(l.Bound, 1), l.Broken)
		}
		_, _ = fmt.Fprintln(w, "\nA bound is what the policy promises, with a tenth of a second to spare; across a pause, and the time that the service itself stood still.")
	})
	if err == nil && score.Broken() {
		return &failure{exitFailed, "a bound of the policy was broken"}
	}
	return err
}

// rehearseInto runs a rehearsal that ends now, and writes it into the records of a directory.
func rehearseInto(ctx context.Context, dir string, o rehearsal.Options) (score rehearsal.Score, err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return score, usage("--into is %q; allowed: a directory that can be made (%v)", dir, err)
	}
	store, err := records.Open(dir)
	if err != nil {
		return score, err
	}
	defer func() { err = errors.Join(err, store.Close()) }()
	switch _, last, err := store.JournalEnds(ctx); {
	case err != nil:
		return score, err
	case last > 0:
		return score, usage("--into is %q, whose journal has entries; allowed: a directory without records", dir)
	}
	end := time.Now().Truncate(time.Millisecond)
	o.Begin = end.Add(-o.Length)
	past, err := records.NewPast(store, access.Main, o.Begin, nil)
	if err != nil {
		return score, err
	}
	o.Tell, o.Restarted = past.Record, past.Restarted
	score = rehearsal.Run(o)
	return score, past.Close(ctx, end, score.Saved)
}

func seconds(total float64, times int) string {
	if times == 0 {
		return "-"
	}
	return fmt.Sprintf("%.1f s", total/float64(times))
}
