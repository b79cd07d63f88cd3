package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/guptarohit/asciigraph"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/wire"
)

func timingCommand() *cli.Command {
	return &cli.Command{
		Name:  "timing",
		Usage: "choose the timings of the policy from what the journal has recorded",
		Description: "Shows for how long links were gone and people were quiet, plays the recorded time again under the policy in force, and, with --try, " +
			"under another one, and advises the smallest grace with which at most 1 of 1,000 returns goes noticed.\n\n" +
			"Example: tovik timing --since 7d --try grace.lost=20s",
		Flags: clientFlags(
			&cli.StringFlag{Name: "since", Value: "7d", Usage: "study the time since `TIME`: 2026-11-23T03:00:00Z, or how long ago, as in 12h, 7d"},
			&cli.StringFlag{Name: "room", Usage: "only rooms that match the `PATTERN`"},
			&cli.StringSliceFlag{Name: "try", Usage: "what others would have seen with `KEY=VALUE` in the policy, repeatable: grace.closing, grace.lost, grace.background, idle.after, beat.every, beat.tolerance, lease"},
			&cli.BoolFlag{Name: "plot", Usage: "draw flickers against ghosts for each grace"},
			&cli.BoolFlag{Name: "parts", Usage: "split the gaps up by room pattern, kind of link and hour"},
		),
		Action: runTiming,
	}
}

func runTiming(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	a, err := api(c)
	if err != nil {
		return err
	}
	q := client.TimingQuery{Room: c.String("room"), Tries: c.StringSlice("try")}
	if q.From, err = at(c, "since"); err != nil {
		return err
	}
	bar := progressBar(c.Root().ErrWriter)
	doc, err := a.Timing(ctx, q, bar)
	bar(1)
	if err != nil {
		return err
	}
	return listing(c, doc, doc.Losses, func(w io.Writer) { printTiming(c, w, doc) })
}

// progressBar returns what draws a bar on a terminal, and nothing elsewhere. At 1 the bar goes.
func progressBar(w io.Writer) func(done float64) {
	file, ok := w.(*os.File)
	if !ok || !term.IsTerminal(int(file.Fd())) {
		return func(float64) {}
	}
	const width = 40
	drawn := false
	return func(done float64) {
		if done >= 1 {
			if drawn {
				_, _ = fmt.Fprint(w, "\r\033[K")
			}
			return
		}
		drawn = true
		full := int(done * width)
		_, _ = fmt.Fprintf(w, "\rPlaying the recorded time again  %s%s %3.0f %%", strings.Repeat("▇", full), strings.Repeat("·", width-full), done*100)
	}
}

func printTiming(c *cli.Command, w io.Writer, doc wire.Timing) {
	where := "all rooms"
	if doc.Room != "" {
		where = doc.Room
	}
	_, _ = fmt.Fprintf(w, "%s to %s, %s: %s of %s, %s\n", doc.From.Local().Format("01-02 15:04"), doc.To.Local().Format("01-02 15:04"), where,
		phrase.Count(doc.Sessions, "session"), phrase.Count(doc.People, "person"), phrase.Count(int(doc.Entries), "entry"))
	_, _ = fmt.Fprint(w, "\nWITHOUT A LINK\tGAPS\tIN TIME\tLATE\tNEVER\tHALF WITHIN\t90 %\t99 %\t99.9 %\n")
	for _, l := range doc.Losses {
		lossLine(w, l.Cause, l.LossCounts)
		if c.Bool("parts") {
			for _, p := range l.Parts {
				lossLine(w, "  "+p.By+" "+p.Name, p.LossCounts)
			}
		}
	}
	_, _ = fmt.Fprint(w, "\nOTHER TIMES\tTIMES\t\t\t\tHALF WITHIN\t90 %\t99 %\t99.9 %\n")
	_, _ = fmt.Fprintf(w, "quiet, then active again\t%d\t\t\t\t%s\n", doc.Idle.Times, quantileCells(doc.Idle))
	_, _ = fmt.Fprintf(w, "typing, %d %% expired\t%d\t\t\t\t%s\n", share(doc.Typing.Expired, doc.Typing.Times), doc.Typing.Times, quantileCells(doc.Typing.Lengths))
	printReplays(w, doc)
	_, _ = fmt.Fprint(w, "\nADVICE\tNOW\tFLICKERS IN 1,000\tADVISED\tBETWEEN\tA SECOND MORE\n")
	for _, a := range doc.Advice {
		adviceLine(w, a)
	}
	if doc.Config != "" {
		_, _ = fmt.Fprintf(w, "\nFor tovik.toml:\n\n%s", indent(doc.Config))
	}
	if c.Bool("plot") {
		for _, a := range doc.Advice {
			plotAdvice(w, a)
		}
	}
	_, _ = fmt.Fprintln(w, "\nWhat the journal cannot know:")
	for _, sentence := range doc.Unknown {
		_, _ = fmt.Fprintln(w, "- "+sentence)
	}
}

func share(part, of int64) int64 {
	if of == 0 {
		return 0
	}
	return part * 100 / of
}

func lossLine(w io.Writer, name string, l wire.LossCounts) {
	_, _ = fmt.Fprintf(w, "%s\t%d\t%d\t%d\t%d\t%s\n", name, l.InTime+l.Late+l.Never, l.InTime, l.Late, l.Never, quantileCells(l.Gaps))
}

// quantileCells formats half, 90 %, 99 % and 99.9 %. Of the last it gives the interval, too.
func quantileCells(l wire.Lengths) string {
	cells := []string{"-", "-", "-", "-"} // those that are told are the first
	for i, q := range l.Quantiles {
		cells[i] = briefly(q.Value)
		if i == len(cells)-1 && q.Low != q.High {
			cells[i] += fmt.Sprintf(" (%s to %s)", briefly(q.Low), briefly(q.High))
		}
	}
	return strings.Join(cells, "\t")
}

// briefly formats milliseconds.
func briefly(ms int64) string { return phrase.Lasting(time.Duration(ms) * time.Millisecond) }

func printReplays(w io.Writer, doc wire.Timing) {
	head, cell := "", func(func(wire.Replayed) string) string { return "" }
	if doc.Tried != nil {
		head = "\tTRIED"
		_, _ = fmt.Fprintf(w, "\nTried: %s\n", strings.Join(doc.Tries, ", "))
		cell = func(of func(wire.Replayed) string) string { return "\t" + of(*doc.Tried) }
	}
	_, _ = fmt.Fprintf(w, "\nWHAT OTHERS SAW\tIN FORCE%s\n", head)
	row := func(name string, of func(wire.Replayed) string) {
		_, _ = fmt.Fprintf(w, "%s\t%s%s\n", name, of(doc.InForce), cell(of))
	}
	row("leaves", func(r wire.Replayed) string { return fmt.Sprint(r.Leaves) })
	row("of those, lost", func(r wire.Replayed) string { return fmt.Sprint(r.Losses) })
	row("flickers (back within a minute)", func(r wire.Replayed) string { return fmt.Sprint(r.Flickers) })
	row("gone, but listed", func(r wire.Replayed) string { return briefly(r.Ghosts) })
	row("here, but not listed", func(r wire.Replayed) string { return briefly(r.Missing) })
	row("shown away", func(r wire.Replayed) string { return briefly(r.Away) })
	row("headcounts wrong by, on average", func(r wire.Replayed) string { return fmt.Sprintf("%.3f people", r.CountError) })
	_, _ = fmt.Fprintf(w, "\nOn record are %s; the replay under the policy in force misses %d of them, and has %d besides.\n",
		phrase.Count(doc.Leaves, "leave"), doc.Exceptions.Recorded, doc.Exceptions.Replayed)
	for _, l := range doc.Exceptions.First {
		_, _ = fmt.Fprintf(w, "  %s  %s left %s (%s only)\n", l.At.Local().Format("01-02 15:04:05"), l.User, l.Room, l.Only)
	}
}

func adviceLine(w io.Writer, a wire.GraceAdvice) {
	if a.Grace == nil {
		_, _ = fmt.Fprintf(w, "%s\t%s\t%.2f\tno advice: %d returns, it takes %d\n", a.Key, briefly(a.InForce.Grace), a.InForce.Flickers, a.Returns, a.Needed)
		return
	}
	_, _ = fmt.Fprintf(w, "%s\t%s\t%.2f\t%s\t%s to %s\t%.2f flickers less in 1,000, %s more of people who are gone\n", a.Key, briefly(a.InForce.Grace), a.InForce.Flickers,
		briefly(a.Grace.Value), briefly(a.Grace.Low), briefly(a.Grace.High), a.Advised.Flickers-a.Next.Flickers, briefly(a.Next.Ghosts-a.Advised.Ghosts))
}

func indent(text string) string {
	return "    " + strings.ReplaceAll(strings.TrimSuffix(text, "\n"), "\n", "\n    ") + "\n"
}

// plotAdvice draws flickers by grace.
func plotAdvice(w io.Writer, a wire.GraceAdvice) {
	if len(a.Curve) == 0 {
		return
	}
	flickers, ghosts := make([]float64, len(a.Curve)), make([]float64, len(a.Curve))
	for i, point := range a.Curve {
		flickers[i], ghosts[i] = point.Flickers, float64(point.Ghosts)/60_000
	}
	last := a.Curve[len(a.Curve)-1]
	_, _ = fmt.Fprintf(w, "\n%s from %s to %s: flickers in 1,000 returns, and minutes in which people who are gone are listed\n\n%s\n\n%s\n", a.Key, briefly(a.Curve[0].Grace), briefly(last.Grace),
		asciigraph.Plot(flickers, asciigraph.Height(8), asciigraph.LowerBound(0), asciigraph.Precision(1)),
		asciigraph.Plot(ghosts, asciigraph.Height(8), asciigraph.LowerBound(0), asciigraph.Precision(1)))
}
