package httpapi

import (
	"context"
	"encoding/json"
	"io"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/wire"
)

// removeFromRoom removes a person from a room.
func (a *API) removeFromRoom(c fiber.Ctx) error {
	return respond(c)(deskOf(c).RemoveFromRoom(param(c, "room"), param(c, "user")))
}

func (a *API) remove(c fiber.Ctx) error { return respond(c)(deskOf(c).Remove(param(c, "user"))) }

func (a *API) signOutPerson(c fiber.Ctx) error {
	return nothing(c, deskOf(c).SignOut(param(c, "user")))
}

func (a *API) endSession(c fiber.Ctx) error {
	return nothing(c, deskOf(c).EndSession(param(c, "session")))
}

// exportPerson answers with everything about a person, line by line.
func (a *API) exportPerson(c fiber.Ctx) error {
	export, err := deskOf(c).Export(c.Context(), param(c, "user"))
	if err != nil {
		return err
	}
	c.Set(fiber.HeaderContentDisposition, `attachment; filename="person.ndjson"`)
	return a.stream(c, asNDJSON, func(ctx context.Context, w io.Writer, flush func() error) error {
		lines := json.NewEncoder(w)
		lines.SetEscapeHTML(false)
		n := 0
		err := export.Each(ctx, func(line wire.ExportLine) error {
			if n++; n%piece == 0 {
				if err := flush(); err != nil {
					return err
				}
			}
			return lines.Encode(line)
		})
		if err != nil {
			return err
		}
		return flush()
	})
}

// erase deletes everything about a person, and answers what was deleted.
func (a *API) erase(c fiber.Ctx) error {
	return respond(c)(deskOf(c).Erase(c.Context(), param(c, "user")))
}
