package cli

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/guptarohit/asciigraph"
	"github.com/urfave/cli/v3"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// spanFlags select a time span.
func spanFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "from", Usage: "from this `TIME`: 2026-11-23T03:00:00Z, or how long ago, as in 90m, 12h, 7d"},
		&cli.StringFlag{Name: "to", Usage: "before this `TIME`"},
	}
}

// at parses a flag that is a time.
func at(c *cli.Command, name string) (time.Time, error) {
	text := c.String(name)
	if text == "" {
		return time.Time{}, nil
	}
	for _, layout := range []string{time.RFC3339, time.DateTime, "2006-01-02 15:04", time.DateOnly} {
		if t, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return t, nil
		}
	}
	if days, ok := strings.CutSuffix(text, "d"); ok {
		if n, err := strconv.Atoi(days); err == nil && n >= 0 && n <= 36500 {
			return time.Now().AddDate(0, 0, -n), nil
		}
	}
	if ago, err := time.ParseDuration(text); err == nil && ago >= 0 {
		return time.Now().Add(-ago), nil
	}
	return time.Time{}, usage("--%s is %q; allowed: a time such as 2026-11-23T03:00:00Z or '2026-11-23 03:00', or how long ago, as in 90m, 12h, 7d", name, text)
}

func span(c *cli.Command) (from, to time.Time, err error) {
	if from, err = at(c, "from"); err == nil {
		to, err = at(c, "to")
	}
	return from, to, err
}

func journalCommand() *cli.Command {
	return &cli.Command{
		Name:  "journal",
		Usage: "read the journal: what happened, in order",
		Description: "Shows the last entries, or those from a time on; what had one cause is one line, unless --flat is given. With --format ndjson or csv and no --limit it writes all matching entries, each by itself.\n\n" +
			"Example: tovik journal --room 'basin.*' --from 2h --limit 20",
		Flags: clientFlags(append(spanFlags(),
			&cli.StringSliceFlag{Name: "room", Usage: "only rooms that match the `PATTERN`, repeatable"},
			&cli.StringSliceFlag{Name: "user", Usage: "only about this `USER`, repeatable"},
			&cli.StringSliceFlag{Name: "kind", Usage: "only of this `KIND`, as in member.left, repeatable"},
			&cli.Int64Flag{Name: "after", Usage: "only entries after the one with this `ID`"},
			&cli.Int64Flag{Name: "before", Usage: "only entries before the one with this `ID`"},
			&cli.IntFlag{Name: "limit", Usage: "at most `N` entries; 50 by default in a table"},
			&cli.BoolFlag{Name: "follow", Usage: "follow new entries until interrupted"},
			&cli.BoolFlag{Name: "flat", Usage: "each entry by itself, instead of one line for all that had one cause"},
		)...),
		Commands: []*cli.Command{importCommand()},
		Action:   runJournal,
	}
}

func runJournal(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	a, err := api(c)
	if err != nil {
		return err
	}
	q := client.JournalQuery{Rooms: c.StringSlice("room"), Users: c.StringSlice("user"), Kinds: c.StringSlice("kind"), After: c.Int64("after"), Before: c.Int64("before"), Limit: c.Int("limit")}
	if q.From, q.To, err = span(c); err != nil {
		return err
	}
	if c.Int("limit") < 0 {
		return usage("--limit is %d; allowed: a whole number above 0", c.Int("limit"))
	}
	out := c.Root().Writer
	format := c.String("format")
	if c.Bool("follow") {
		if format == formatCSV {
			return usage("%s --follow prints table, json or ndjson; csv is for output that ends", c.FullName())
		}
		if format == formatTable && !c.Bool("flat") {
			return a.FollowJournalLines(ctx, q, func(l wire.JournalLine) error {
				if l.Waiting { // it is told when it is known what comes of it
					return nil
				}
				_, err := fmt.Fprintln(out, causeLine(l, "  "))
				return err
			})
		}
		return a.FollowJournal(ctx, q, func(r wire.Record) error {
			if format != formatTable {
				return json.NewEncoder(out).Encode(r)
			}
			_, err := fmt.Fprintln(out, journalLine(r, " "))
			return err
		})
	}
	if format == formatNDJSON || format == formatCSV {
		body, err := a.ExportJournal(ctx, q, format)
		if err != nil {
			return err
		}
		defer func() { _ = body.Close() }()
		if _, err := io.Copy(out, body); err != nil {
			return fmt.Errorf("the journal broke off, so this is not all of it: %w", err)
		}
		return nil
	}
	if q.Limit == 0 {
		q.Limit = 50
	}
	if q.Limit > 1000 {
		return usage("--limit is %d; allowed: at most 1000 in a table or as json, any number as ndjson or csv", q.Limit)
	}
	q.ByCause = format == formatTable && !c.Bool("flat")
	page, err := a.Journal(ctx, q)
	if err != nil {
		return err
	}
	return listing(c, page, page.Entries, func(w io.Writer) {
		if q.ByCause {
			_, _ = fmt.Fprintln(w, "TIME\tENTRIES\tWHAT")
		} else {
			_, _ = fmt.Fprintln(w, "TIME\tUSER\tROOM\tWHAT")
		}
		for _, l := range page.Lines {
			_, _ = fmt.Fprintln(w, causeLine(l, "\t"))
		}
		for _, r := range page.Entries {
			_, _ = fmt.Fprintln(w, journalLine(r, "\t"))
		}
		if len(page.Entries)+len(page.Lines) == 0 {
			_, _ = fmt.Fprintln(w, "Nothing has happened that matches.")
		}
		if page.Older != 0 {
			_, _ = fmt.Fprintf(w, "\nThere are older ones: --before %d\n", page.Older)
		}
		if page.Newer != 0 {
			_, _ = fmt.Fprintf(w, "\nThere are newer ones: --after %d\n", page.Newer)
		}
	})
}

// causeLine formats entries of one cause.
func causeLine(l wire.JournalLine, gap string) string {
	what := l.Text
	if l.User != "" {
		what = cmp.Or(l.Name, l.User) + " " + what
	}
	if slices.ContainsFunc(l.Entries, func(r wire.Record) bool { return r.Hidden }) {
		what += ", hidden"
	}
	return fmt.Sprintf("%s%s%d%s%s", l.At.Local().Format("01-02 15:04:05.000"), gap, len(l.Entries), gap, what)
}

// journalLine formats an entry.
func journalLine(r wire.Record, gap string) string {
	stamp := r.At.Local().Format("01-02 15:04:05.000")
	if gap == " " {
		return fmt.Sprintf("%s  %-10s %-18s %s", stamp, orDash(r.User), orDash(r.Room), journalWords(r))
	}
	return strings.Join([]string{stamp, orDash(r.User), orDash(r.Room), journalWords(r)}, gap)
}

// journalWords describes an entry.
func journalWords(r wire.Record) string {
	for_ := phrase.Lasting(time.Duration(r.Length) * time.Millisecond)
	words := map[string]string{
		"session.opened": "a session began over " + r.Over, "session.lost": "a session lost its link: " + r.Reason,
		"session.resumed": "a session is back after " + for_, "session.ended": "a session ended after " + for_ + ": " + r.Reason,
		"session.idle": "nobody is at a session, for " + for_, "session.active": "somebody is at a session again, after " + for_,
		"session.joined": "a further session joined", "session.left": "a session left: " + r.Reason,
		"member.joined": "joined, " + r.Status, "member.left": "left after " + for_ + ": " + r.Reason,
		"status.changed": r.Was + " → " + r.Status, "person.removed": "was removed",
		"engaged.began": "engaged in " + r.Room, "engaged.ended": "no longer engaged, after " + for_,
		"ask.opened": "asks to be let in", "ask.answered": "the ask " + wire.Outcomes[r.Reason] + by(r.Other) + ", after " + for_,
		"invitation.opened": "invites " + r.Other, "invitation.answered": "the invitation of " + r.Other + " " + wire.Outcomes[r.Reason] + ", after " + for_,
		"quota.near": "the quota of " + r.Reason + " is nearly used", "quota.reached": "the quota of " + r.Reason + " is used up",
		"service.started": "the service started (" + r.Reason + ")", "service.stopped": "the service stopped", "service.suspended": "the machine stood still for " + for_,
		"journal.gap": fmt.Sprintf("%s lost in %s: they could not be written", phrase.Count(int(r.Lost), "entry"), for_),
	}[r.Kind]
	if words == "" { // what an operator did
		words = strings.ReplaceAll(r.Kind, ".", " ")
	}
	if r.Kind == "session.opened" && r.Reason != "" {
		words += ", not resumed: " + r.Reason
	}
	if r.Kind == "status.changed" && r.Was == r.Status { // the note or its end changed
		words = "still " + r.Status
	}
	if r.Kind == "service.started" && r.Length > 0 {
		words = fmt.Sprintf("the service started again (%s), %s later", r.Reason, for_)
	}
	if r.Note != "" {
		words += " (" + r.Note + ")"
	}
	if r.By != "" {
		words += ", with the key " + r.By
	}
	if r.Hidden {
		words += ", hidden"
	}
	return words
}

func by(user string) string {
	if user == "" {
		return ""
	}
	return " by " + user
}

// importCommand adds an exported journal to the records of a stopped service.
func importCommand() *cli.Command {
	return &cli.Command{
		Name: "import", Usage: "import an exported journal into the records of a stopped service", ArgsUsage: "FILE",
		Description: "FILE is the output of tovik journal --format ndjson; - is the standard input. Entries keep their ids, which must be free.\n\n" +
			"Example: tovik journal import night.ndjson --data tovik-data --realm archive",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "data", Value: defaultData, Usage: "the `DIR` of the records", Sources: cli.EnvVars("TOVIK_DATA")},
			&cli.StringFlag{Name: "realm", Value: access.Main, Usage: "the `REALM` of the entries"},
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Len() != 1 {
				return usage("%s wants one file, as in: %s night.ndjson", c.FullName(), c.FullName())
			}
			in := os.Stdin
			if name := c.Args().First(); name != "-" {
				file, err := os.Open(name)
				if err != nil {
					return &failure{exitUsage, fmt.Sprintf("the file cannot be read: %v", err)}
				}
				defer func() { _ = file.Close() }()
				in = file
			}
			store, err := records.Open(c.String("data"))
			if err != nil {
				return err
			}
			defer func() { _ = store.Close() }()
			n, err := importEntries(store, c.String("realm"), in)
			if err != nil {
				return fmt.Errorf("after %s: %w", phrase.Count(n, "entry"), err)
			}
			_, err = fmt.Fprintf(c.Root().Writer, "%s imported.\n", phrase.Count(n, "entry"))
			return err
		},
	}
}

// importEntries reads entries line by line, and writes many at once.
func importEntries(store *records.Store, realm string, in io.Reader) (done int, err error) {
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 1<<20)
	var batch []journal.Entry
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		if err := store.ImportEntries(batch); err != nil {
			return err
		}
		done += len(batch)
		batch = batch[:0]
		return nil
	}
	for line := 1; lines.Scan(); line++ {
		if len(strings.TrimSpace(lines.Text())) == 0 {
			continue
		}
		var r wire.Record
		if err := json.Unmarshal(lines.Bytes(), &r); err != nil || r.ID <= 0 || r.Kind == "" || r.At.IsZero() {
			return done, fmt.Errorf("line %d is no entry of a journal; allowed: what tovik journal --format ndjson writes", line)
		}
		batch = append(batch, journal.EntryOf(realm, r))
		if len(batch) == 5000 {
			if err := flush(); err != nil {
				return done, err
			}
		}
	}
	if err := lines.Err(); err != nil {
		return done, err
	}
	return done, flush()
}

func attendanceCommand() *cli.Command {
	return &cli.Command{
		Name: "attendance", Usage: "who was in a room between two times", ArgsUsage: "[ROOM]",
		Description: "Without a room: the sessions of the realm. The default is the last hour.\n\nExample: tovik attendance basin.upper-weir --from '2026-11-23 03:00' --to '2026-11-23 03:05'",
		Flags:       clientFlags(spanFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() > 1 {
				return usage("%s wants one room at most; see %s --help", c.FullName(), c.FullName())
			}
			a, err := api(c)
			if err != nil {
				return err
			}
			from, to, err := span(c)
			if err != nil {
				return err
			}
			doc, err := a.Attendance(ctx, c.Args().First(), from, to)
			if err != nil {
				return err
			}
			return listing(c, doc, doc.Stays, func(w io.Writer) {
				_, _ = fmt.Fprintln(w, "PERSON\tUSER\tCAME\tLEFT\tSTAYED")
				for _, s := range doc.Stays {
					left, end := "still here", time.Now()
					if s.Left != nil {
						left, end = s.Left.Local().Format("01-02 15:04:05"), s.Left.Time
					}
					_, _ = fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\n", displayName(s.Name, s.User), s.User, s.Joined.Local().Format("01-02 15:04:05"), left, phrase.Lasting(end.Sub(s.Joined.Time)))
				}
				if len(doc.Stays) == 0 {
					_, _ = fmt.Fprintln(w, "Nobody.")
				}
			})
		},
	}
}

func headcountCommand() *cli.Command {
	return &cli.Command{
		Name: "headcount", Usage: "show headcounts over time", ArgsUsage: "[ROOM]",
		Description: "By default: the minutes of the last hour, the hours of two days, or the days of a month. Without a room: the whole realm.\n\n" +
			"Example: tovik headcount basin.upper-weir --plot",
		Flags: clientFlags(append(spanFlags(),
			&cli.StringFlag{Name: "step", Value: "minute", Usage: "minute, hour or day"},
			&cli.IntFlag{Name: "top", Usage: "only the `N` steps with the most people"},
			&cli.BoolFlag{Name: "plot", Usage: "draw a chart instead of the table"},
		)...),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() > 1 {
				return usage("%s wants one room at most; see %s --help", c.FullName(), c.FullName())
			}
			a, err := api(c)
			if err != nil {
				return err
			}
			from, to, err := span(c)
			if err != nil {
				return err
			}
			doc, err := a.Headcounts(ctx, c.Args().First(), c.String("step"), from, to, c.Int("top"))
			if err != nil {
				return err
			}
			return showHeadcounts(c, doc)
		},
	}
}

func showHeadcounts(c *cli.Command, doc wire.Headcounts) error {
	if c.Bool("plot") && c.String("format") == formatTable && len(doc.Steps) > 0 {
		return plotHeadcounts(c, doc)
	}
	most := 1
	for _, h := range doc.Steps {
		most = max(most, h.People.Max)
	}
	return listing(c, doc, doc.Steps, func(w io.Writer) {
		_, _ = fmt.Fprintln(w, "FROM\tPEOPLE\tMEAN\tSESSIONS\tDISTINCT\tJOINS\tLEAVES\t")
		for _, h := range doc.Steps {
			_, _ = fmt.Fprintf(w, "%s\t%s\t%.1f\t%s\t%d\t%d\t%d\t%s\n", h.At.Local().Format("01-02 15:04"), between(h.People), h.People.Mean, between(h.Sessions),
				h.Distinct, h.Joins, h.Leaves, strings.Repeat("▇", (h.People.Max*30+most-1)/most))
		}
		if len(doc.Steps) == 0 {
			_, _ = fmt.Fprintln(w, "Nothing was counted in this time.")
		}
	})
}

// plotHeadcounts draws the maximum of each step.
func plotHeadcounts(c *cli.Command, doc wire.Headcounts) error {
	screen := screenOf(c.Root().Writer)
	most := make([]float64, len(doc.Steps))
	height := 1
	for i, h := range doc.Steps {
		most[i] = float64(h.People.Max)
		height = max(height, h.People.Max)
	}
	first, last := doc.Steps[0].At.Local(), doc.Steps[len(doc.Steps)-1].At.Local()
	drawn := asciigraph.Plot(most, asciigraph.Height(min(height, 12)), asciigraph.Width(screen.width-12), asciigraph.LowerBound(0), asciigraph.Precision(0))
	_, err := fmt.Fprintf(c.Root().Writer, "People in %s, the most in each %s, from %s to %s\n\n%s\n", cmp.Or(doc.Room, "the realm"), doc.Step, first.Format("01-02 15:04"), last.Format("01-02 15:04"), drawn)
	return err
}

func between(s wire.Spread) string {
	if s.Min == s.Max {
		return strconv.Itoa(s.Max)
	}
	return fmt.Sprintf("%d–%d", s.Min, s.Max)
}
