package httpapi

import (
	"context"
	"time"

	"github.com/gofiber/fiber/v3"
	"golang.org/x/text/unicode/norm"

	"tovik.example/tovik/internal/gateway"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// personOf reads the person of the address.
func personOf(c fiber.Ctx) (presence.UserID, error) {
	user := presence.UserID(norm.NFC.String(param(c, "user")))
	return user, presence.CheckUser(user)
}

// removeFromRoom takes a person out of a room, for good: their tokens of before are
// refused there.
func (a *API) removeFromRoom(c fiber.Ctx) error {
	room, err := presence.ParseRoom(param(c, "room"))
	if err != nil {
		return err
	}
	if !operatorOf(c).Sees(presence.Pattern(room)) {
		return unknownRoom(room)
	}
	user, err := personOf(c)
	if err != nil {
		return err
	}
	return a.removal(c, user, room)
}

func (a *API) remove(c fiber.Ctx) error {
	user, err := personOf(c)
	if err != nil {
		return err
	}
	return a.removal(c, user, "")
}

// removal is written before it is done, so that it outlives whatever comes.
func (a *API) removal(c fiber.Ctx, user presence.UserID, room presence.RoomName) error {
	at, err := a.gateway.Remove(realmOf(c), user, room)
	if err != nil {
		return err
	}
	return c.JSON(wire.Removal{User: string(user), Room: string(room), At: wire.Time{Time: at}})
}

func (a *API) signOutPerson(c fiber.Ctx) error {
	user, err := personOf(c)
	if err != nil {
		return err
	}
	if _, err := realmOf(c).Engine.Do(context.Background(), presence.SignOut{User: user}); err != nil {
		return err
	}
	return c.SendStatus(fiber.StatusNoContent)
}

func (a *API) endSession(c fiber.Ctx) error {
	if _, err := realmOf(c).Engine.Do(context.Background(), presence.EndSession{Session: presence.SessionID(param(c, "session"))}); err != nil {
		return err
	}
	return c.SendStatus(fiber.StatusNoContent)
}

// eraseTimeout bounds how long an erasure waits for readers of the records.
const eraseTimeout = 10 * time.Second

// erase deletes everything about a person, and says what that was.
func (a *API) erase(c fiber.Ctx) error {
	user, err := personOf(c)
	if err != nil {
		return err
	}
	receipt := wire.Erasure{User: string(user), At: wire.Time{Time: time.Now()}, Erased: map[string]int64{}}
	for kind, n := range realmOf(c).Engine.Erase(user) {
		receipt.Erased[kind] = int64(n)
	}
	// What has happened up to now is written first, so that nothing comes after.
	if err := a.writer.Sync(c.Context()); err != nil {
		return gateway.NotRecorded("the person's sessions have ended, but what is on record cannot be deleted now", err)
	}
	ctx, cancel := context.WithTimeout(c.Context(), eraseTimeout)
	defer cancel()
	kept, err := a.store.Erase(ctx, realmOf(c).Name, user)
	if err != nil {
		return gateway.NotRecorded("the person's sessions have ended, but bytes of their records may remain in the file", err)
	}
	for kind, n := range kept {
		receipt.Erased[kind] += n
	}
	return c.JSON(receipt)
}
