package httpapi

import (
	"strconv"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/wire"
)

// Sizes of a page.
const (
	defaultLimit = 100
	maxLimit     = 1000
)

// rooms lists the rooms that somebody is in or that are declared: those that match a pattern, by
// page or live.
func (a *API) rooms(c fiber.Ctx) error {
	match := c.Query("match", "**")
	form, err := formIn(c, asJSON, asNDJSON, asCSV, asStream)
	if err != nil {
		return err
	}
	if form == asStream {
		return a.follow(c)(deskOf(c).Counts(match))
	}
	limit, err := limitIn(c)
	if err != nil {
		return err
	}
	page, err := deskOf(c).Rooms(realm.RoomsQuery{Match: match, Sort: c.Query("sort", realm.ByName), After: c.Query("after"), Limit: limit})
	if err != nil {
		return err
	}
	return listed(c, page, page.Rooms)
}

// room answers with the count of a room. It creates nothing.
func (a *API) room(c fiber.Ctx) error {
	form, err := formIn(c, asJSON, asStream)
	if err != nil {
		return err
	}
	if form == asStream {
		return a.follow(c)(deskOf(c).CountOf(param(c, "room")))
	}
	// The revision is no ETag here: the count includes changes that are not sealed yet.
	doc, err := deskOf(c).Room(param(c, "room"))
	if err != nil {
		return err
	}
	c.Response().Header.SetContentType(fiber.MIMEApplicationJSONCharsetUTF8)
	c.Response().SetBody(appendRoom(make([]byte, 0, 256), doc))
	return nil
}

// appendRoom appends the JSON of a room as encoding/json writes it, without reflection: counts are asked for often.
func appendRoom(to []byte, r wire.Room) []byte {
	tally := func(name string, people, sessions int) {
		to = append(append(to, name...), `"people":`...)
		to = strconv.AppendInt(to, int64(people), 10)
		to = append(to, `,"sessions":`...)
		to = strconv.AppendInt(to, int64(sessions), 10)
	}
	to = append(append(append(to, `{"room":"`...), r.Room...), `",`...) // no name needs an escape
	tally("", r.People, r.Sessions)
	tally(`,"online":{`, r.Online.People, r.Online.Sessions)
	tally(`},"away":{`, r.Away.People, r.Away.Sessions)
	tally(`},"busy":{`, r.Busy.People, r.Busy.Sessions)
	return append(to, "}}"...)
}

// counts answers with the counts of many rooms.
func (a *API) counts(c fiber.Ctx) error {
	asked, err := bodyOf[wire.CountsAsked](c)
	if err != nil {
		return err
	}
	doc, err := deskOf(c).RoomCounts(asked.Rooms)
	if err != nil {
		return err
	}
	return listed(c, doc, doc.Counts)
}

// members lists the members of a room: all or those of a status, by page at one revision, or
// live.
func (a *API) members(c fiber.Ctx) error {
	form, err := formIn(c, asJSON, asNDJSON, asCSV, asStream)
	if err != nil {
		return err
	}
	if form == asStream {
		return a.follow(c)(deskOf(c).MembersOf(param(c, "room")))
	}
	q := realm.MembersQuery{Rev: c.Query("rev"), After: c.Query("after"), Status: c.Query("status")}
	if q.Limit, err = limitIn(c); err != nil {
		return err
	}
	if form == asJSON && c.Query("limit") == "" {
		q.Limit = maxLimit
	}
	page, err := deskOf(c).Members(param(c, "room"), q)
	if err != nil {
		return err
	}
	if unchanged(c, form+"-"+page.Rev) {
		return c.SendStatus(fiber.StatusNotModified)
	}
	return listed(c, page, page.Members)
}

// declare makes a room exist even while nobody is in it, with the people it expects.
func (a *API) declare(c fiber.Ctx) error {
	asked, err := bodyOf[wire.Declaration](c)
	if err != nil {
		return err
	}
	return respond(c)(deskOf(c).Declare(param(c, "room"), asked))
}

// undeclare makes a room end with its last member again.
func (a *API) undeclare(c fiber.Ctx) error { return nothing(c, deskOf(c).Undeclare(param(c, "room"))) }

// expectations answers with the people whom a room expects; nobody if it is not declared.
func (a *API) expectations(c fiber.Ctx) error {
	return respond(c)(deskOf(c).Expectations(param(c, "room")))
}

// policies answers with the policies; with room= with that of one room.
func (a *API) policies(c fiber.Ctx) error {
	doc, err := deskOf(c).Policies(c.Query("room"))
	if err != nil {
		return err
	}
	return listed(c, doc, doc.Policies)
}
