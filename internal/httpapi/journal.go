package httpapi

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/wire"
)

// journal answers with a page of entries, with all of them line by line, or with new ones as
// they are written.
func (a *API) journal(c fiber.Ctx) error {
	entries, err := entriesIn(c)
	if err != nil {
		return err
	}
	switch form, err := formIn(c, asJSON, asNDJSON, asCSV, asStream); {
	case err != nil:
		return err
	case form == asStream:
		return a.followJournal(c, entries)
	case form != asJSON && entries.ByCause():
		return problem.BadField("by", "cause", "entries are put together as JSON or as an event stream only", "no by")
	case form != asJSON:
		return a.exportJournal(c, entries, form)
	}
	limit, err := limitIn(c)
	if err != nil {
		return err
	}
	return respond(c)(entries.Page(c.Context(), limit))
}

func entriesIn(c fiber.Ctx) (*realm.Entries, error) {
	q := realm.JournalQuery{Rooms: wordsIn(c, "room"), Users: repeated(c, "user"), Kinds: wordsIn(c, "kind")}
	var err error
	if q.From, err = timeIn(c, "from", time.Time{}); err != nil {
		return nil, err
	}
	if q.To, err = timeIn(c, "to", time.Time{}); err != nil {
		return nil, err
	}
	if !q.From.IsZero() && !q.To.IsZero() {
		if err := inOrder(q.From, q.To); err != nil {
			return nil, err
		}
	}
	if q.After, err = numberIn(c, "after", 0, 0, everything); err != nil {
		return nil, err
	}
	if q.Before, err = numberIn(c, "before", 0, 0, everything); err != nil {
		return nil, err
	}
	switch by := c.Query("by"); by {
	case "":
	case "cause":
		q.ByCause = true
	default:
		return nil, problem.BadField("by", by, "entries cannot be put together so", "cause")
	}
	return deskOf(c).Journal(q)
}

// errEnough stops reading entries at the limit.
var errEnough = errors.New("that is enough")

// exportJournal writes all matching entries, or the first ones up to the limit.
func (a *API) exportJournal(c fiber.Ctx, entries *realm.Entries, form string) error {
	left, err := numberIn(c, "limit", -1, 1, everything)
	if err != nil {
		return err
	}
	return a.stream(c, form, func(ctx context.Context, w io.Writer, flush func() error) error {
		rows, err := newTable[wire.Record](form, w)
		if err != nil {
			return err
		}
		err = entries.Each(ctx, func(page []wire.Record) error {
			for i := range page {
				if left == 0 {
					return errEnough
				}
				left--
				if err := rows.row(&page[i]); err != nil {
					return err
				}
			}
			if err := rows.flush(); err != nil {
				return err
			}
			return flush()
		})
		if err != nil && !errors.Is(err, errEnough) {
			return err
		}
		return rows.flush()
	})
}

// followJournal sends entries as server-sent events as they are written: those after
// Last-Event-ID, or from now on.
func (a *API) followJournal(c fiber.Ctx, entries *realm.Entries) error {
	if seen := c.Get("Last-Event-ID"); seen != "" {
		after, err := strconv.ParseInt(seen, 10, 64)
		if err != nil || after < 0 {
			return problem.BadField("Last-Event-ID", seen, "this is not the id of an entry", "the id of the last event that was read")
		}
		entries.After(after)
	} else if err := entries.FromNow(c.Context()); err != nil {
		return err
	}
	return a.sendEvents(c, func(ctx context.Context, e events) error {
		var lines journal.Lines
		if entries.ByCause() {
			before, err := entries.Lately(ctx)
			if err != nil {
				return err
			}
			for _, r := range before {
				lines.Add(r)
			}
		}
		for {
			written := entries.Written() // before reading, so that none is missed in between
			err := entries.Each(ctx, func(page []wire.Record) error {
				if entries.ByCause() {
					return tellLines(ctx, e, entries, page, &lines)
				}
				for i := range page {
					if err := e.sayNumbered(page[i].ID, "entry", &page[i]); err != nil {
						return err
					}
				}
				return nil
			})
			if err != nil {
				return err
			}
			if err := e.await(ctx, written, forever); err != nil {
				return err
			}
		}
	})
}

// tellLines adds entries to their lines, and tells each of these lines once.
func tellLines(ctx context.Context, e events, entries *realm.Entries, page []wire.Record, lines *journal.Lines) error {
	var changed []*wire.JournalLine
	for _, r := range page {
		if line := lines.Add(r); !slices.Contains(changed, line) {
			changed = append(changed, line)
		}
	}
	told := make([]wire.JournalLine, len(changed))
	for i, line := range changed {
		told[i] = *line
	}
	if err := entries.Name(ctx, told); err != nil {
		return err
	}
	for i := range told {
		if err := e.sayNumbered(told[i].Newest(), "line", &told[i]); err != nil {
			return err
		}
	}
	return nil
}

// attendance answers who was in a room, or had sessions, between two times.
func (a *API) attendance(c fiber.Ctx) error {
	from, to, err := spanIn(c, time.Now().Add(-time.Hour))
	if err != nil {
		return err
	}
	doc, err := deskOf(c).Attendance(c.Context(), c.Query("room"), from, to)
	if err != nil {
		return err
	}
	return listed(c, doc, doc.Stays)
}

// headcount answers with the number of people in a room, or in the realm: step by step, or with
// top the steps with the most people.
func (a *API) headcount(c fiber.Ctx) error {
	q := realm.HeadcountQuery{Room: c.Query("room"), Step: c.Query("step", "minute")}
	ago, err := realm.StepSpan(q.Step)
	if err != nil {
		return err
	}
	if q.From, q.To, err = spanIn(c, time.Now().Add(-ago)); err != nil {
		return err
	}
	top, err := numberIn(c, "top", 0, 1, 100)
	if err != nil {
		return err
	}
	q.Top = int(top)
	if form, err := formIn(c, asJSON, asNDJSON, asCSV, asStream); err != nil || form == asStream {
		if err != nil {
			return err
		}
		return a.followHeadcounts(c, q)
	}
	doc, err := deskOf(c).Headcounts(c.Context(), q)
	if err != nil {
		return err
	}
	return listed(c, doc, doc.Steps)
}

// usage answers with what the realm has used, step by step.
func (a *API) usage(c fiber.Ctx) error {
	step := c.Query("step", "day")
	ago, err := realm.UsageSpan(step)
	if err != nil {
		return err
	}
	from, to, err := spanIn(c, time.Now().Add(-ago))
	if err != nil {
		return err
	}
	form, err := formIn(c, asJSON, asNDJSON, asCSV, asStream)
	if err != nil {
		return err
	}
	desk := deskOf(c)
	if form == asStream {
		unsaid := func() <-chan struct{} { return nil } // no entry says that it has changed
		return a.repeat(c, "usage", usageEvery, unsaid, func(ctx context.Context) (any, time.Duration, error) {
			doc, err := desk.Usage(ctx, step, from, time.Now())
			return doc, usageEvery, err
		})
	}
	doc, err := desk.Usage(c.Context(), step, from, to)
	if err != nil {
		return err
	}
	return listed(c, doc, doc.Steps)
}

// usageEvery is how often the usage is told: headcounts are written no sooner.
const usageEvery = 5 * time.Second

// mostCharts limits the rooms of one stream of headcounts.
const mostCharts = 100

// followHeadcounts sends the headcounts of rooms, and, after the end of each minute, what has
// been added or has changed.
func (a *API) followHeadcounts(c fiber.Ctx, q realm.HeadcountQuery) error {
	rooms := repeated(c, "room")
	if len(rooms) == 0 {
		rooms = []string{""}
	}
	if len(rooms) > mostCharts {
		return problem.BadField("room", fmt.Sprint(len(rooms)), "too many rooms for one stream", fmt.Sprintf("at most %d", mostCharts))
	}
	desk := deskOf(c)
	counted := make([]headcounts, len(rooms))
	for i, room := range rooms {
		counted[i] = headcounts{q: q}
		counted[i].q.Room = strings.Clone(room)
		if _, err := desk.Headcounts(c.Context(), realm.HeadcountQuery{Room: room, Step: q.Step, From: q.To, To: q.To}); err != nil {
			return err
		}
	}
	return a.sendEvents(c, func(ctx context.Context, e events) error {
		for {
			for i := range counted {
				if err := counted[i].tell(ctx, desk, e); err != nil {
					return err
				}
			}
			now := time.Now()
			next := now.Truncate(time.Minute).Add(time.Minute + minuteWritten).Sub(now)
			if err := e.await(ctx, nil, next); err != nil {
				return err
			}
		}
	})
}

// minuteWritten is how long after its end the headcounts of a minute are written.
const minuteWritten = 2 * time.Second

// headcounts are those of a room, as far as they have been told.
type headcounts struct {
	q    realm.HeadcountQuery
	last []wire.Headcount // the last two steps
	told bool
}

// tell writes the steps that are new, or differ; at first also that there are none.
func (h *headcounts) tell(ctx context.Context, desk realm.Desk, e events) error {
	h.q.To = time.Now()
	for {
		doc, err := desk.Headcounts(ctx, h.q)
		if err != nil {
			return err
		}
		next := doc.Next
		if known := doc.Steps; len(known) > 0 {
			doc.Steps = slices.DeleteFunc(slices.Clone(known), func(s wire.Headcount) bool { return slices.Contains(h.last, s) })
			h.last = slices.Clone(known[max(len(known)-2, 0):])
			h.q.From = h.last[0].At.Time
		}
		if doc.Next = nil; len(doc.Steps) > 0 || !h.told {
			h.told = true
			if err := e.say("headcount", doc); err != nil {
				return err
			}
		}
		if next == nil {
			return nil
		}
		h.q.From = next.Time
	}
}
