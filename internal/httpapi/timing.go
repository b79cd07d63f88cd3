package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/wire"
)

// timing answers what the journal says about timings: at the end, or with its progress.
func (a *API) timing(c fiber.Ctx) error {
	from, to, err := spanIn(c, time.Now().AddDate(0, 0, -7))
	if err != nil {
		return err
	}
	study, err := deskOf(c).Timing(realm.TimingQuery{From: from, To: to, Room: c.Query("room"), Tries: wordsIn(c, "try")})
	if err != nil {
		return err
	}
	form, err := formIn(c, asJSON, asStream)
	if err != nil {
		return err
	}
	if form == asJSON {
		return respond(c)(study.Run(c.Context(), func(float64) {}))
	}
	c.Set(fiber.HeaderCacheControl, "no-store")
	return a.stream(c, asStream, func(ctx context.Context, w io.Writer, flush func() error) error {
		ctx, gone := context.WithCancel(ctx)
		defer gone()
		if _, err := io.WriteString(w, "retry: 1000\n\n"); err != nil {
			return err
		}
		last := time.Time{}
		say := func(event string, document any) {
			text, _ := json.Marshal(document) // plain data
			if _, err := fmt.Fprintf(w, "event: %s\ndata: %s\n\n", event, text); err != nil || flush() != nil {
				gone()
			}
		}
		doc, err := study.Run(ctx, func(done float64) {
			if time.Since(last) > progressEvery {
				last = time.Now()
				say("progress", wire.TimingProgress{Done: done})
			}
		})
		if err != nil && ctx.Err() == nil {
			say("problem", problem.Of(err))
			return nil
		}
		if err == nil {
			say("report", doc)
		}
		return nil
	})
}

// progressEvery is how often the progress of a long answer is told.
const progressEvery = 200 * time.Millisecond
