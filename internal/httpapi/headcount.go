package httpapi

import (
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// mostSteps is how many stretches one answer has.
const mostSteps = 5000

// headcount says how many were in a room, or in the realm: step by step, or with top the
// stretches with the most people.
func (a *API) headcount(c fiber.Ctx) error {
	room, err := oneRoomIn(c)
	if err != nil {
		return err
	}
	name := c.Query("step", "minute")
	step, ok := map[string]records.Step{"minute": records.Minute, "hour": records.Hour, "day": records.Day}[name]
	if !ok {
		return badField("step", name, "headcounts have no such step", "minute, hour, day")
	}
	ago := map[records.Step]time.Duration{records.Minute: time.Hour, records.Hour: 48 * time.Hour, records.Day: 30 * 24 * time.Hour}[step]
	from, to, err := spanIn(c, time.Now().Add(-ago))
	if err != nil {
		return err
	}
	top, err := numberIn(c, "top", 0, 1, 100)
	if err != nil {
		return err
	}
	realm := realmOf(c).Name
	var rows []records.Headcount
	if top > 0 {
		rows, err = a.store.Peaks(c.Context(), realm, room, step, from, to, int(top))
	} else {
		rows, err = a.store.Headcounts(c.Context(), realm, room, step, from, to, mostSteps)
	}
	if err != nil {
		return err
	}
	doc := wire.Headcounts{Room: string(room), Step: name, Steps: make([]wire.Headcount, len(rows))}
	for i := range rows {
		doc.Steps[i] = headcountOf(&rows[i])
	}
	if end := from.UnixMilli()/int64(step)*int64(step) + mostSteps*int64(step); top == 0 && end < to.UnixMilli() {
		doc.Next = &wire.Time{Time: time.UnixMilli(end)}
	}
	return listed(c, doc, doc.Steps)
}

func headcountOf(h *records.Headcount) wire.Headcount {
	mean := func(sum int64) float64 {
		if h.Span == 0 {
			return 0
		}
		return float64(sum*1000/h.Span) / 1000
	}
	return wire.Headcount{
		At:       wire.Time{Time: time.UnixMilli(h.At)},
		People:   wire.Spread{Min: h.PeopleMin, Max: h.PeopleMax, Mean: mean(h.PeopleTime)},
		Sessions: wire.Spread{Min: h.SessionsMin, Max: h.SessionsMax, Mean: mean(h.SessionsTime)},
		Distinct: h.Visitors, Joins: h.Joins, Leaves: h.Leaves, PeakAt: wire.Time{Time: time.UnixMilli(h.Peak)}, Measured: h.Span,
	}
}
