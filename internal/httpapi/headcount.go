package httpapi

import (
	"bytes"
	"strconv"
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// mostSteps is how many stretches one answer has.
const mostSteps = 5000

var headcountColumns = []string{"at", "people_min", "people_max", "people_mean", "sessions_min", "sessions_max", "sessions_mean", "distinct", "joins", "leaves", "peak_at", "measured"}

// headcount says how many were in a room, or in the realm: step by step, or with top the
// stretches with the most people.
func (a *API) headcount(c fiber.Ctx) error {
	room, err := oneRoomIn(c)
	if err != nil {
		return err
	}
	form, err := formIn(c, asJSON, asNDJSON, asCSV)
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
	if form == asJSON {
		return c.JSON(doc)
	}
	var body bytes.Buffer
	lines, err := newTable(form, &body, headcountColumns)
	if err != nil {
		return err
	}
	for i := range doc.Steps {
		if err := lines.row(&doc.Steps[i], func() []string { return headcountCells(&doc.Steps[i]) }); err != nil {
			return err
		}
	}
	if err := lines.flush(); err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, mediaTypes[form])
	return c.Send(body.Bytes())
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

func headcountCells(h *wire.Headcount) []string {
	const layout = "2006-01-02T15:04:05.000Z"
	mean := func(x float64) string { return strconv.FormatFloat(x, 'f', 3, 64) }
	return []string{
		h.At.UTC().Format(layout), strconv.Itoa(h.People.Min), strconv.Itoa(h.People.Max), mean(h.People.Mean),
		strconv.Itoa(h.Sessions.Min), strconv.Itoa(h.Sessions.Max), mean(h.Sessions.Mean),
		strconv.Itoa(h.Distinct), strconv.Itoa(h.Joins), strconv.Itoa(h.Leaves), h.PeakAt.UTC().Format(layout), strconv.FormatInt(h.Measured, 10),
	}
}
