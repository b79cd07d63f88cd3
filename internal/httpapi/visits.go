package httpapi

import (
	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/wire"
)

// A page without any connection asks with its person's token. What it gets is what a link of the
// person would get.

type visitorLocal struct{}

// visitor accepts requests with the token of a person, at the rate of a key.
func (a *API) visitor(c fiber.Ctx) error {
	visitor, err := a.realms.Visit(bearer(c), a.caller(c))
	if err != nil {
		return err
	}
	c.Locals(visitorLocal{}, visitor)
	fresh(c)
	id := visitor.ID()
	return visitor.Answered(func() error { return a.paced(c, "token", string(id.User), id.Realm+" "+string(id.User)) })
}

func visitorOf(c fiber.Ctx) realm.Visitor { return c.Locals(visitorLocal{}).(realm.Visitor) }

// countSeen answers with the count of a room.
func (a *API) countSeen(c fiber.Ctx) error {
	return respond(c)(visitorOf(c).Count(c, param(c, "room")))
}

// membersSeen lists the members of a room by page, at one revision.
func (a *API) membersSeen(c fiber.Ctx) error {
	q := realm.MembersQuery{Rev: c.Query("rev"), After: c.Query("after"), Status: c.Query("status")}
	limit, err := numberIn(c, "limit", maxLimit, 1, maxLimit)
	if err != nil {
		return err
	}
	q.Limit = int(limit)
	page, err := visitorOf(c).Members(c, param(c, "room"), q)
	if err != nil {
		return err
	}
	return c.JSON(page)
}

// statusSeen answers with the status of a person.
func (a *API) statusSeen(c fiber.Ctx) error {
	return respond(c)(visitorOf(c).Status(param(c, "user")))
}

// visitRoutes are for pages that poll with the token of a person.
func (a *API) visitRoutes() []route {
	const topic = "Links"
	return []route{
		{Operation{Method: get, Path: "/v1/seen/rooms/{room}/count", ID: "countSeen", Topic: topic, Says: "Count who is in a room, with a person's token",
			More:  "The token must grant watching the room. Hidden people do not count. A page can poll with If-None-Match.",
			Shows: showsToken, Gives: wire.Room{}, Fails: []string{"no-token", "bad-token", "not-granted", "bad-room", "removed", "too-fast"}}, a.countSeen},
		{Operation{Method: get, Path: "/v1/seen/rooms/{room}/members", ID: "membersSeen", Topic: topic, Says: "List the members of a room, with a person's token",
			More:  "The token must grant the members of the room. All pages are of one revision; an empty room has none.",
			Shows: showsToken, Gives: wire.Members{}, Fails: []string{"no-token", "bad-token", "not-granted", "bad-room", "bad-field", "old-revision", "removed", "too-fast"},
			Query: []Parameter{{Name: "status", Says: "only members of this status", Example: "online", OneOf: []string{"online", "away", "busy"}},
				{Name: "limit", Says: "how many at most, 1 to 1000; 1000 if absent", Example: 200}, afterOf("a user", "a"), {Name: "rev", Says: "the revision of the previous page"}}}, a.membersSeen},
		{Operation{Method: get, Path: "/v1/seen/people/{user}/status", ID: "statusSeen", Topic: topic, Says: "Get the status of a person, with a person's token",
			More:  "The token must grant watching the person. An unknown person is offline, and so is a hidden one.",
			Shows: showsToken, Gives: wire.StatusOfPerson{}, Fails: []string{"no-token", "bad-token", "not-granted", "bad-user", "removed", "too-fast"}}, a.statusSeen},
	}
}
