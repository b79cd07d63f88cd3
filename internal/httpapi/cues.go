package httpapi

import (
	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/wire"
)

// cueRoom gives a cue to everybody in a room.
func (a *API) cueRoom(c fiber.Ctx) error { return giveCue(c, "room", realm.Desk.CueRoom) }

// cuePerson gives a cue to all links of a person; there may be none.
func (a *API) cuePerson(c fiber.Ctx) error { return giveCue(c, "user", realm.Desk.CuePerson) }

func (a *API) cueSession(c fiber.Ctx) error { return giveCue(c, "session", realm.Desk.CueSession) }

func giveCue(c fiber.Ctx, name string, give func(realm.Desk, string, wire.NewCue) (wire.CueGiven, error)) error {
	cue, err := bodyOf[wire.NewCue](c)
	if err != nil {
		return err
	}
	return respond(c)(give(deskOf(c), param(c, name), cue))
}
