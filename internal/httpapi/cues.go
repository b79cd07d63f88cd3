package httpapi

import (
	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/strictjson"
	"tovik.example/tovik/wire"
)

// cueRoom gives a cue to everybody in a room.
func (a *API) cueRoom(c fiber.Ctx) error {
	room, err := roomOf(c)
	if err != nil {
		return err
	}
	if _, exists := realmOf(c).Engine.Count(engine.Topic{Room: room, View: presence.Full}); !exists {
		return unknownRoom(room)
	}
	return a.cue(c, wire.Request{Room: string(room)})
}

// cuePerson gives a cue to all links of a person, who may have none.
func (a *API) cuePerson(c fiber.Ctx) error {
	user, err := personOf(c)
	if err != nil {
		return err
	}
	return a.cue(c, wire.Request{User: string(user)})
}

func (a *API) cueSession(c fiber.Ctx) error {
	return a.cue(c, wire.Request{Session: param(c, "session")})
}

func (a *API) cue(c fiber.Ctx, to wire.Request) error {
	var asked wire.NewCue
	if err := strictjson.Read(c.Body(), &asked); err != nil {
		return err
	}
	to.Name, to.Data = asked.Name, asked.Data
	links, err := a.gateway.Cue(realmOf(c), to)
	if err != nil {
		return err
	}
	return c.JSON(wire.CueGiven{Links: links})
}
