package httpapi

import (
	"context"
	"encoding/json"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/deflate"
	"tovik.example/tovik/internal/realm"
)

// follow answers with server-sent events: the frames that a link with the same watch would get,
// each event named by its type.
func (a *API) follow(c fiber.Ctx) func(realm.Subject, error) error {
	return func(subject realm.Subject, err error) error {
		if err != nil {
			return err
		}
		desk := deskOf(c)
		return a.sendEvents(c, func(ctx context.Context, e events) error {
			woken := make(chan struct{}, 1) // one is enough: everything new is fetched at once
			following := desk.Follow(subject, func() {
				select {
				case woken <- struct{}{}:
				default:
				}
			})
			defer following.Close()
			return tellFrames(ctx, e, following, woken)
		})
	}
}

func tellFrames(ctx context.Context, e events, following *realm.Following, woken <-chan struct{}) error {
	var frames []deflate.Text
	for {
		for more := true; more; {
			frames, more = following.Next(frames[:0])
			for _, frame := range frames {
				var head struct {
					Type string `json:"type"`
				}
				if err := json.Unmarshal(frame.Plain(), &head); err != nil {
					return err
				}
				if err := e.write(head.Type, frame.Plain()); err != nil {
					return err
				}
			}
			if err := e.flush(); err != nil {
				return err
			}
		}
		if err := e.await(ctx, woken, forever); err != nil {
			return err
		}
	}
}
