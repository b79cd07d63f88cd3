package httpapi

import (
	"encoding/xml"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

const pidfType = "application/pidf+xml"

// status tells what is seen of a person: as JSON, as a presence document (RFC 3863), or as
// it changes.
func (a *API) status(c fiber.Ctx) error {
	user, err := personOf(c)
	if err != nil {
		return err
	}
	realm := realmOf(c)
	switch c.Accepts("application/json", mediaType(asStream), pidfType) {
	case mediaType(asStream):
		return a.follow(c, func(r *delivery.Receiver) { r.FollowPeople([]presence.UserID{user}, nil) })
	case pidfType:
		text, err := xml.MarshalIndent(pidf(realm.Name, statusOf(realm, user)), "", "  ")
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, pidfType)
		return c.Send(append([]byte(xml.Header), append(text, '\n')...))
	}
	return c.JSON(statusOf(realm, user))
}

// presenceDocument is the presence of a person as RFC 3863 has it, with the activity of
// RFC 4480 that says more than open and closed.
type presenceDocument struct {
	XMLName xml.Name    `xml:"urn:ietf:params:xml:ns:pidf presence"`
	DM      string      `xml:"xmlns:dm,attr"`
	RPID    string      `xml:"xmlns:rpid,attr"`
	Entity  string      `xml:"entity,attr"`
	Tuple   pidfTuple   `xml:"tuple"`
	Person  *rpidPerson `xml:"dm:person,omitempty"`
}

type pidfTuple struct {
	ID    string `xml:"id,attr"`
	Basic string `xml:"status>basic"` // open, closed
	Note  string `xml:"note,omitempty"`
	Stamp string `xml:"timestamp"`
}

type rpidPerson struct {
	ID         string         `xml:"id,attr"`
	Activities rpidActivities `xml:"rpid:activities"`
}

type rpidActivities struct {
	Until string    `xml:"until,attr,omitempty"`
	Away  *struct{} `xml:"rpid:away"`
	Busy  *struct{} `xml:"rpid:busy"`
}

// pidf puts a status into a presence document: somebody with a session is open, and what
// makes them away or busy is their activity.
func pidf(realm string, s wire.PersonStatus) presenceDocument {
	doc := presenceDocument{
		DM: "urn:ietf:params:xml:ns:pidf:data-model", RPID: "urn:ietf:params:xml:ns:pidf:rpid",
		Entity: "pres:" + url.PathEscape(s.User) + "@" + realm,
		Tuple:  pidfTuple{ID: "tovik", Basic: "open", Note: s.Note, Stamp: time.Now().UTC().Format(time.RFC3339)},
	}
	activities := rpidActivities{}
	if s.Until != nil {
		activities.Until = s.Until.UTC().Format(time.RFC3339)
	}
	switch presence.Status(s.Status) {
	case presence.Offline:
		doc.Tuple.Basic = "closed"
		if s.LastSeen != nil {
			doc.Tuple.Stamp = s.LastSeen.UTC().Format(time.RFC3339)
		}
		return doc
	case presence.Away:
		activities.Away = &struct{}{}
	case presence.Busy:
		activities.Busy = &struct{}{}
	default:
		return doc
	}
	doc.Person = &rpidPerson{ID: "person", Activities: activities}
	return doc
}

// roomsOfPerson lists the rooms that a person is in.
func (a *API) roomsOfPerson(c fiber.Ctx) error {
	user, err := personOf(c)
	if err != nil {
		return err
	}
	e := realmOf(c).Engine
	doc := wire.PersonRooms{User: string(user), Rooms: []wire.PersonRoom{}}
	for _, room := range e.RoomsOf(user, presence.Full) {
		x := e.Explain(user, room)
		if m := x.Member[presence.Full]; m.Sessions > 0 {
			count, _ := e.Count(engine.Topic{Room: room, View: presence.Full})
			doc.Rooms = append(doc.Rooms, wire.PersonRoom{Room: string(room), Since: wire.Time{Time: m.Since}, Sessions: m.Sessions, Typing: x.Typing, People: count.People})
		}
	}
	slices.SortFunc(doc.Rooms, func(x, y wire.PersonRoom) int { return strings.Compare(x.Room, y.Room) })
	return listed(c, doc, doc.Rooms)
}
