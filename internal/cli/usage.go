package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/wire"
)

func usageCommand() *cli.Command {
	return &cli.Command{
		Name: "usage", Usage: "show what a realm has used, and how much of its quotas it uses",
		Description: "By default: the days of a month. Steps begin in UTC. A quota is near from 80 % on; see quota.people, quota.sessions and quota.cues in the configuration.\n\n" +
			"Example: tovik usage --step month",
		Flags: clientFlags(append(spanFlags(), &cli.StringFlag{Name: "step", Value: "day", Usage: "hour, day or month"})...),
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			a, err := api(c)
			if err != nil {
				return err
			}
			from, to, err := span(c)
			if err != nil {
				return err
			}
			doc, err := a.Usage(ctx, c.String("step"), from, to)
			if err != nil {
				return err
			}
			return listing(c, doc, doc.Steps, func(w io.Writer) { showUsage(w, doc) })
		},
	}
}

// stepForms are how the beginning of a step is written.
var stepForms = map[string]string{"hour": "2006-01-02 15:04", "day": "2006-01-02", "month": "2006-01"}

func showUsage(w io.Writer, doc wire.Usage) {
	row := func(begin string, u wire.Used) {
		_, _ = fmt.Fprintf(w, "%s\t%.0f\t%.0f\t%d\t%d\t%d\t%d\t%s\n", begin, u.PeopleMinutes, u.SessionMinutes, u.PeakPeople, u.PeakSessions, u.PeakLinks, u.Cues,
			phrase.Lasting(time.Duration(u.Measured)*time.Millisecond))
	}
	_, _ = fmt.Fprintf(w, "%s (UTC)\tPEOPLE-MINUTES\tSESSION-MINUTES\tMOST PEOPLE\tMOST SESSIONS\tMOST LINKS\tCUES\tMEASURED\n", strings.ToUpper(doc.Step))
	for _, s := range doc.Steps {
		row(s.At.UTC().Format(stepForms[doc.Step]), s.Used)
	}
	if len(doc.Steps) != 1 {
		row("together", doc.Total)
	}
	if len(doc.Quotas) == 0 {
		_, _ = fmt.Fprintf(w, "\nThe realm %s has no quotas.\n", doc.Realm)
		return
	}
	_, _ = fmt.Fprintln(w)
	for _, q := range doc.Quotas {
		of := "now"
		if q.Quota == "cues" {
			of = "in this minute"
		}
		near := ""
		if q.Near {
			near = ": near"
		}
		_, _ = fmt.Fprintf(w, "quota of %s\t%d of %d %s%s\n", q.Quota, q.Used, q.Limit, of, near)
	}
}
