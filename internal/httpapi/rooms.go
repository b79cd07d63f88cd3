package httpapi

import (
	"slices"
	"strconv"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// Sizes of a page of rooms.
const (
	defaultLimit = 100
	maxLimit     = 1000
)

// rooms lists the rooms that somebody is in, by name: those that match a
// pattern, a page at a time.
func (a *API) rooms(c fiber.Ctx) error {
	pattern, err := presence.ParsePattern(c.Query("match", "**"))
	if err != nil {
		return err
	}
	limit, err := strconv.Atoi(c.Query("limit", strconv.Itoa(defaultLimit)))
	if err != nil || limit < 1 || limit > maxLimit {
		return &wire.Problem{Code: wire.CodeBadField, Field: "limit", Value: wire.Shorten(c.Query("limit")),
			Detail: "the limit of a page cannot be this", Allowed: "a whole number from 1 to 1000"}
	}
	counts := realmOf(c).Engine.Rooms(presence.Full)
	names := make([]presence.RoomName, 0, len(counts))
	for name := range counts {
		if pattern.Match(name) && operatorOf(c).Sees(presence.Pattern(name)) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	page := wire.Rooms{Rooms: []wire.Room{}, Total: len(names)}
	from, found := slices.BinarySearch(names, presence.RoomName(c.Query("after")))
	if found {
		from++
	}
	for _, name := range names[from:min(from+limit, len(names))] {
		page.Rooms = append(page.Rooms, wire.Room{Room: string(name), Count: delivery.Count(counts[name])})
	}
	if from+limit < len(names) {
		page.Next = string(names[from+limit-1])
	}
	return c.JSON(page)
}

// room tells how many are in a room. Asking about a room creates nothing.
func (a *API) room(c fiber.Ctx) error {
	room, err := roomOf(c)
	if err != nil {
		return err
	}
	count, ok := realmOf(c).Engine.Count(engine.Topic{Room: room, View: presence.Full})
	if !ok {
		return unknownRoom(room)
	}
	return c.JSON(wire.Room{Room: string(room), Count: delivery.Count(count)})
}

func (a *API) members(c fiber.Ctx) error {
	room, err := roomOf(c)
	if err != nil {
		return err
	}
	snapshot := realmOf(c).Engine.SnapshotNow(engine.Topic{Room: room, View: presence.Full})
	if !snapshot.Exists {
		return unknownRoom(room)
	}
	return c.JSON(delivery.Document(snapshot))
}

// roomOf reads the room of the address. One that the key is not about is as unknown as
// one that is not there.
func roomOf(c fiber.Ctx) (presence.RoomName, error) {
	room, err := presence.ParseRoom(c.Params("room"))
	if err == nil && !operatorOf(c).Sees(presence.Pattern(room)) {
		err = unknownRoom(room)
	}
	return room, err
}

func unknownRoom(room presence.RoomName) error {
	return &wire.Problem{Code: wire.CodeUnknownRoom, Field: "room", Value: string(room),
		Detail: "nobody is in a room of this name", Allowed: "a room that GET /v1/rooms lists"}
}
