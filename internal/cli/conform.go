package cli

import (
	"context"
	"fmt"
	"io"
	"os/exec"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"tovik.example/tovik/internal/conform"
)

// conformance is what a client was found to do.
type conformance struct {
	Passed   int               `json:"passed"`
	Failed   int               `json:"failed"`
	Verdicts []conform.Verdict `json:"verdicts"`
}

func conformCommand() *cli.Command {
	return &cli.Command{
		Name:      "conform",
		Usage:     "play the service against a client of yours, and check what it does",
		ArgsUsage: "[--] PROGRAM [ARGUMENT ...]",
		Description: "Runs PROGRAM anew for each scenario, over a real WebSocket: lost links, gaps, beats, expiry, restarts, refusals. " +
			"Says which rule of the protocol it breaks, and exits with 1 if there is one.\n\n" +
			"PROGRAM is a few lines around your client. Its environment has SERVER (a URL), TOKENS (a URL; each GET returns another token as text), " +
			"ROOM (to be in) and STATE (a file for what is kept between two runs, as between two loads of a page). " +
			"After each change it writes a line such as {\"state\":\"open\",\"members\":[\"e-01\",\"w-04\"]} to its standard output; the state is connecting, open, lost, refused or closed. " +
			"At the line bye on its standard input it ends its session.\n\n" +
			"Example: tovik conform node program.mjs\nExample: tovik conform --only resuming --story -- ./program --verbose",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "only", Usage: "only scenarios with this `TEXT` in their name"},
			&cli.BoolFlag{Name: "list", Usage: "list the scenarios, and play none"},
			&cli.BoolFlag{Name: "story", Usage: "tell what happened in each scenario that failed"},
			&cli.DurationFlag{Name: "patience", Value: 10 * time.Second, Usage: "how long something that must come is waited for, `TIME` such as 10s"},
			formatFlag(),
		},
		Action: conformTo,
	}
}

func conformTo(ctx context.Context, c *cli.Command) error {
	var scenarios []conform.Scenario
	for _, scenario := range conform.Scenarios() {
		if strings.Contains(scenario.Name, c.String("only")) {
			scenarios = append(scenarios, scenario)
		}
	}
	if len(scenarios) == 0 {
		return usage("--only is %q; allowed: a part of a name that --list shows", c.String("only"))
	}
	if c.Bool("list") {
		return listing(c, scenarios, scenarios, func(w io.Writer) {
			for _, s := range scenarios {
				_, _ = fmt.Fprintf(w, "%s\t%s\n", s.Name, s.Rule)
			}
		})
	}
	command := c.Args().Slice()
	if len(command) == 0 {
		return usage("a program is required; see tovik conform --help")
	}
	if _, err := exec.LookPath(command[0]); err != nil {
		return usage("the program is %q, and cannot be run: %v", command[0], err)
	}
	if patience := c.Duration("patience"); patience < time.Second {
		return usage("--patience is %v; allowed: 1s or more", patience)
	}
	said := c.Root().Writer
	var is conformance
	live := c.String("format") == formatTable
	err := conform.Play(ctx, conform.Options{Command: command, Patience: c.Duration("patience")}, scenarios, func(v conform.Verdict) {
		is.Verdicts = append(is.Verdicts, v)
		if v.Passed {
			is.Passed++
		} else {
			is.Failed++
		}
		if live {
			tellVerdict(said, v, c.Bool("story"))
		}
	})
	if err != nil {
		return err
	}
	if live {
		_, _ = fmt.Fprintf(said, "\n%d of %d scenarios passed.\n", is.Passed, len(scenarios))
	} else if err := listing(c, is, is.Verdicts, nil); err != nil {
		return err
	}
	if is.Failed > 0 {
		return &failure{exitFailed, "the client breaks a rule of the protocol"}
	}
	return nil
}

// tellVerdict prints a verdict, and of a failure what to read.
func tellVerdict(w io.Writer, v conform.Verdict, story bool) {
	if v.Passed {
		_, _ = fmt.Fprintf(w, "passed  %-26s %s\n", v.Name, v.Rule)
		return
	}
	_, _ = fmt.Fprintf(w, "FAILED  %-26s %s\n        %s\n        /docs/protocol#%s\n", v.Name, v.Rule, v.Problem, v.Section)
	if story {
		for _, line := range v.Story {
			_, _ = fmt.Fprintf(w, "        %s\n", line)
		}
	}
}
