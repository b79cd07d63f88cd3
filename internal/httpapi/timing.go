package httpapi

import (
	"context"
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/wire"
)

// timing answers with a study of the timings, as one document or with its progress as
// server-sent events.
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
	return a.sendEvents(c, func(ctx context.Context, e events) error {
		ctx, gone := context.WithCancel(ctx)
		defer gone()
		var last time.Time
		doc, err := study.Run(ctx, func(done float64) {
			if time.Since(last) < progressEvery {
				return
			}
			last = time.Now()
			if e.say("progress", wire.TimingProgress{Done: done}) != nil || e.flush() != nil {
				gone() // nobody reads what the study finds
			}
		})
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			return e.say("problem", problem.Of(err))
		}
		return e.say("report", doc)
	})
}

// progressEvery is the shortest interval between two reports of the progress.
const progressEvery = 200 * time.Millisecond
