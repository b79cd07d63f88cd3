package httpapi

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// Sizes of a page.
const (
	defaultLimit = 100
	maxLimit     = 1000
)

// The orders of rooms.
const (
	byName     = "name"
	byPeople   = "people" // the fullest first, and by name among those
	bySessions = "sessions"
)

// rooms lists the rooms that somebody is in or that are declared: those that match a
// pattern, a page at a time, or as they change.
func (a *API) rooms(c fiber.Ctx) error {
	pattern, err := presence.ParsePattern(c.Query("match", "**"))
	if err != nil {
		return err
	}
	form, err := formIn(c, asJSON, asNDJSON, asCSV, asStream)
	if err != nil {
		return err
	}
	if form == asStream {
		return a.followRooms(c, pattern)
	}
	limit, err := limitIn(c)
	if err != nil {
		return err
	}
	var rooms []wire.Room
	for name, count := range realmOf(c).Engine.Rooms(presence.Full) {
		if pattern.Match(name) && operatorOf(c).Sees(presence.Pattern(name)) {
			rooms = append(rooms, wire.Room{Room: string(name), Count: delivery.Count(count)})
		}
	}
	order, err := orderIn(c)
	if err != nil {
		return err
	}
	slices.SortFunc(rooms, order.compare)
	page := wire.Rooms{Rooms: []wire.Room{}, Total: len(rooms)}
	from, err := order.after(rooms, c.Query("after"))
	if err != nil {
		return err
	}
	page.Rooms = append(page.Rooms, rooms[from:min(from+limit, len(rooms))]...)
	if from+limit < len(rooms) {
		page.Next = order.cursor(page.Rooms[len(page.Rooms)-1])
	}
	return listed(c, page, page.Rooms)
}

// roomOrder is an order of rooms in which a page can begin after any room, also one that
// has changed or ended meanwhile.
type roomOrder struct{ by string }

func orderIn(c fiber.Ctx) (roomOrder, error) {
	by := c.Query("sort", byName)
	if by != byName && by != byPeople && by != bySessions {
		return roomOrder{}, badField("sort", by, "rooms cannot be sorted by this", "name, people, sessions")
	}
	return roomOrder{by}, nil
}

func (o roomOrder) size(r wire.Room) int {
	switch o.by {
	case byPeople:
		return r.People
	case bySessions:
		return r.Sessions
	}
	return 0
}

func (o roomOrder) compare(x, y wire.Room) int {
	return cmp.Or(cmp.Compare(o.size(y), o.size(x)), strings.Compare(x.Room, y.Room))
}

// cursor is what to pass as after for what comes after a room.
func (o roomOrder) cursor(r wire.Room) string {
	if o.by == byName {
		return r.Room
	}
	return fmt.Sprintf("%d:%s", o.size(r), r.Room)
}

func (o roomOrder) after(rooms []wire.Room, cursor string) (int, error) {
	if cursor == "" {
		return 0, nil
	}
	last := wire.Room{Room: cursor}
	if o.by != byName {
		size, name, ok := strings.Cut(cursor, ":")
		n, err := strconv.Atoi(size)
		if !ok || err != nil {
			return 0, badField("after", cursor, "no page of this order ends so", "the next of the page before")
		}
		last = wire.Room{Room: name, Count: wire.Count{People: n, Sessions: n}}
	}
	at, found := slices.BinarySearchFunc(rooms, last, o.compare)
	if found {
		at++
	}
	return at, nil
}

// followRooms tells the counts of rooms, and then each change of one.
func (a *API) followRooms(c fiber.Ctx, pattern presence.Pattern) error {
	patterns := []presence.Pattern{pattern}
	if operator := operatorOf(c); !operator.Sees(pattern) {
		if pattern != "**" {
			return &wire.Problem{Code: wire.CodeNotGranted, Field: "match", Value: string(pattern), Detail: "the key is not about these rooms"}
		}
		patterns = operator.Rooms
	}
	return a.follow(c, func(r *delivery.Receiver) {
		for _, pattern := range patterns {
			r.Follow(delivery.Watched, pattern, delivery.AtCount)
		}
	})
}

// room tells how many are in a room. Asking about a room creates nothing.
func (a *API) room(c fiber.Ctx) error {
	room, err := roomOf(c)
	if err != nil {
		return err
	}
	form, err := formIn(c, asJSON, asStream)
	if err != nil {
		return err
	}
	if form == asStream {
		return a.follow(c, func(r *delivery.Receiver) { r.Follow(delivery.Watched, presence.Pattern(room), delivery.AtCount) })
	}
	count, ok := realmOf(c).Engine.Count(engine.Topic{Room: room, View: presence.Full})
	if !ok {
		return unknownRoom(room)
	}
	// No revision tells this apart: changes that are not sealed yet are counted, too.
	return c.JSON(wire.Room{Room: string(room), Count: delivery.Count(count)})
}

// members lists who is in a room: all who have a status, a page at a time at one revision,
// or as they come and go.
func (a *API) members(c fiber.Ctx) error {
	room, err := roomOf(c)
	if err != nil {
		return err
	}
	form, err := formIn(c, asJSON, asNDJSON, asCSV, asStream)
	if err != nil {
		return err
	}
	if form == asStream {
		return a.follow(c, func(r *delivery.Receiver) { r.Follow(delivery.Watched, presence.Pattern(room), delivery.AtMembers) })
	}
	want := delivery.PageWanted{After: presence.UserID(c.Query("after")), Status: presence.Status(c.Query("status"))}
	if s := want.Status; s != "" && s != presence.Online && s != presence.Away && s != presence.Busy {
		return badField("status", string(s), "members have no such status", "online, away, busy")
	}
	if want.Limit, err = limitIn(c); err != nil {
		return err
	}
	if form == asJSON && c.Query("limit") == "" {
		want.Limit = maxLimit
	}
	topic, realm := engine.Topic{Room: room, View: presence.Full}, realmOf(c)
	var page wire.Members
	if text := c.Query("rev"); text != "" {
		revision, ok := engine.ParseRevision(text)
		if !ok {
			return badField("rev", text, "this is no revision", "the rev of the page before")
		}
		if page, ok = realm.Hub.Page(topic, revision, want); !ok {
			return &wire.Problem{Code: wire.CodeOldRevision, Field: "rev", Value: wire.Shorten(text), Detail: "the room is no longer known at this revision", Allowed: "the first page, without rev and after"}
		}
	} else {
		snapshot := realm.Engine.SnapshotNow(topic)
		if !snapshot.Exists {
			return unknownRoom(room)
		}
		page = realm.Hub.FirstPage(snapshot, want)
	}
	if unchanged(c, form+"-"+page.Rev) {
		return c.SendStatus(fiber.StatusNotModified)
	}
	return listed(c, page, page.Members)
}

// roomOf reads the room of the address. One that the key is not about is as unknown as
// one that is not there.
func roomOf(c fiber.Ctx) (presence.RoomName, error) {
	room, err := presence.ParseRoom(param(c, "room"))
	if err == nil && !operatorOf(c).Sees(presence.Pattern(room)) {
		err = unknownRoom(room)
	}
	return room, err
}

func unknownRoom(room presence.RoomName) error {
	return &wire.Problem{Code: wire.CodeUnknownRoom, Field: "room", Value: string(room),
		Detail: "nobody is in a room of this name", Allowed: "a room that GET /v1/rooms lists"}
}
