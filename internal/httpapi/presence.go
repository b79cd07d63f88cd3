package httpapi

import (
	"context"
	"encoding/xml"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/wire"
)

// status answers with the status of a person: as JSON, as a presence document (RFC 3863), or
// live.
func (a *API) status(c fiber.Ctx) error {
	desk, id := deskOf(c), param(c, "user")
	form := c.Accepts("application/json", mediaType(asStream), pidfType)
	if form == mediaType(asStream) {
		return a.follow(c)(desk.StatusOf(id))
	}
	status, err := desk.Status(id)
	if err != nil || form != pidfType {
		return respond(c)(status, err)
	}
	text, err := xml.MarshalIndent(pidf(desk.Realm(), status), "", "  ")
	if err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, pidfType)
	return c.Send(append([]byte(xml.Header), append(text, '\n')...))
}

// statuses answers with the statuses of many people; unknown people are offline.
func (a *API) statuses(c fiber.Ctx) error {
	asked, err := bodyOf[wire.StatusesAsked](c)
	if err != nil {
		return err
	}
	doc, err := deskOf(c).Statuses(asked.Users)
	if err != nil {
		return err
	}
	return listed(c, doc, doc.Statuses)
}

// setStatus sets a person's status on their behalf.
func (a *API) setStatus(c fiber.Ctx) error {
	asked, err := bodyOf[wire.StatusWanted](c)
	if err != nil {
		return err
	}
	return respond(c)(deskOf(c).SetStatus(c.Context(), param(c, "user"), asked))
}

// clearStatus clears a set status, so that the person's sessions decide again.
func (a *API) clearStatus(c fiber.Ctx) error {
	return respond(c)(deskOf(c).ClearStatus(c.Context(), param(c, "user")))
}

// sessions lists the sessions, ordered by person; with room= those in a room.
func (a *API) sessions(c fiber.Ctx) error {
	limit, err := limitIn(c)
	if err != nil {
		return err
	}
	doc, err := deskOf(c).Sessions(c.Query("room"), c.Query("after"), limit)
	if err != nil {
		return err
	}
	return listed(c, doc, doc.Sessions)
}

// sessionsOf lists the sessions of one person.
func (a *API) sessionsOf(c fiber.Ctx) error {
	doc, err := deskOf(c).SessionsOf(param(c, "user"))
	if err != nil {
		return err
	}
	return listed(c, doc, doc.Sessions)
}

// roomsOfPerson lists the rooms that a person is in.
func (a *API) roomsOfPerson(c fiber.Ctx) error {
	doc, err := deskOf(c).RoomsOf(param(c, "user"))
	if err != nil {
		return err
	}
	return listed(c, doc, doc.Rooms)
}

// explain says how others see a person, and with room= why the person is or is not in the room.
func (a *API) explain(c fiber.Ctx) error {
	desk, user, room := deskOf(c), strings.Clone(param(c, "user")), strings.Clone(c.Query("room"))
	doc, err := desk.Explain(c.Context(), user, room)
	if err != nil {
		return err
	}
	form, err := formIn(c, asJSON, asStream)
	if err != nil || form == asJSON {
		return respond(c)(doc, err)
	}
	return a.repeat(c, "explanation", explainEvery, desk.Written, func(ctx context.Context) (any, time.Duration, error) {
		doc, err := desk.Explain(ctx, user, room)
		return doc, toNextDeadline(doc), err
	})
}

// explainEvery is the shortest interval in which another explanation is told.
const explainEvery = 300 * time.Millisecond

// toNextDeadline returns the time until a little after the next deadline of a person's sessions. A
// beat moves deadlines without an entry in the journal.
func toNextDeadline(doc wire.Explanation) time.Duration {
	next := time.Hour
	for _, session := range doc.Sessions {
		if len(session.Next) > 0 {
			next = min(next, time.Until(session.Next[0].At.Time))
		}
	}
	return next + 200*time.Millisecond
}
