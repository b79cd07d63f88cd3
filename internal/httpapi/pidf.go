package httpapi

import (
	"encoding/xml"
	"net/url"
	"time"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

const pidfType = "application/pidf+xml"

// presenceDocument is a presence document (RFC 3863), with an activity (RFC 4480) for what open
// and closed do not say.
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

// pidf returns the presence document of a status. A person with a session is open; away and busy
// are activities.
func pidf(realm string, s wire.StatusOfPerson) presenceDocument {
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
