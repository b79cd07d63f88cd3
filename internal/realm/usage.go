package realm

import (
	"context"
	"math"
	"time"

	"tovik.example/tovik/internal/headcount"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/wire"
)

// usageSteps are the steps of usage: where one begins in UTC, and how far back an answer goes if nothing else is asked.
var usageSteps = map[string]struct {
	begin func(time.Time) time.Time
	ago   time.Duration
}{
	"hour":  {func(t time.Time) time.Time { return t.Truncate(time.Hour) }, 48 * time.Hour},
	"day":   {func(t time.Time) time.Time { return t.Truncate(24 * time.Hour) }, 30 * 24 * time.Hour},
	"month": {func(t time.Time) time.Time { return time.Date(t.Year(), t.Month(), 1, 0, 0, 0, 0, time.UTC) }, 365 * 24 * time.Hour},
}

// UsageSpan returns the default time span of usage with a step.
func UsageSpan(step string) (time.Duration, error) {
	s, ok := usageSteps[step]
	if !ok {
		return 0, problem.BadField("step", step, "unknown step", "hour, day, month")
	}
	return s.ago, nil
}

// Usage returns what the realm has used from one time to another, step by step, and how much of its quotas it uses
// now. Steps are counted whole: the first begins at or before from, and the last may end after to. Steps in which the service did not run are left out.
func (d Desk) Usage(ctx context.Context, step string, from, to time.Time) (wire.Usage, error) {
	if _, err := UsageSpan(step); err != nil {
		return wire.Usage{}, err
	}
	r, begin := d.realm, usageSteps[step].begin
	from = begin(from.UTC())
	rows, err := r.store.Usage(ctx, r.name, step == "hour", from, to)
	if err != nil {
		return wire.Usage{}, err
	}
	doc := wire.Usage{Realm: r.name, Step: step, From: wire.Time{Time: from}, To: wire.Time{Time: to}, Steps: []wire.UsedInStep{}, Quotas: []wire.QuotaUse{}}
	var all, sum headcount.Row
	for i := range rows {
		at := begin(time.UnixMilli(rows[i].At).UTC()).UnixMilli()
		if len(doc.Steps) == 0 || at != sum.At {
			sum = headcount.Row{At: at}
			doc.Steps = append(doc.Steps, wire.UsedInStep{})
		}
		sum.Add(&rows[i])
		all.Add(&rows[i])
		doc.Steps[len(doc.Steps)-1] = usedInStep(&sum)
	}
	doc.Total = usedInStep(&all).Used
	for _, use := range r.quotas() {
		doc.Quotas = append(doc.Quotas, wire.QuotaUse{Quota: string(use.Quota), Used: use.Used, Limit: use.Limit, Near: use.Near()})
	}
	return doc, nil
}

// quotas returns how much is used of the realm's quotas. Without any, its core, which may be on another node, is not
// asked.
func (r *Realm) quotas() []presence.QuotaUse {
	if r.Policy().Quota == (presence.Quota{}) {
		return nil
	}
	return r.core.Quotas()
}

func usedInStep(h *headcount.Row) wire.UsedInStep {
	minutes := func(sum int64) float64 { return math.Round(float64(sum)/6000) / 10 }
	return wire.UsedInStep{At: wire.Time{Time: time.UnixMilli(h.At)}, Used: wire.Used{
		PeopleMinutes: minutes(h.PeopleTime), SessionMinutes: minutes(h.SessionsTime), PeakPeople: h.PeopleMax, PeakSessions: h.SessionsMax,
		PeakLinks: h.LinksMax, Cues: h.Cues, Measured: h.Span,
	}}
}
