package httpapi

import "github.com/gofiber/fiber/v3"

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

// erase deletes everything about a person, and answers what was deleted.
func (a *API) erase(c fiber.Ctx) error {
	return respond(c)(deskOf(c).Erase(c.Context(), param(c, "user")))
}
