package gateway

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"
	"unicode"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// cue gives a cue to those it is for, and answers to how many links it went. It is
// never stored and never tried again: a link with too much unread goes without.
func (l *link) cue(r wire.Request) error {
	from, err := l.session()
	if err != nil {
		return err
	}
	if err := checkCue(r); err != nil {
		return err
	}
	if err := l.hears(); err != nil {
		return err
	}
	links, err := l.addressees(r)
	if err != nil {
		return err
	}
	if own, ok := l.realm().Engine.LinkOf(from.Session, presence.Open); ok && !own.Seen {
		return &wire.Problem{Code: wire.CodeHiding, Field: "type", Value: wire.TypeCue,
			Detail: "a cue would show somebody who hides", Allowed: "hide with on false first"}
	}
	if !l.cues.take(time.Now(), cueRate) {
		return tooFast("cues", cueRate)
	}
	frame := encode(wire.CueFrame{Type: wire.TypeCue, Name: r.Name, Room: r.Room, Data: r.Data, At: wire.Time{Time: time.Now()},
		From: &wire.Sender{User: string(l.guest().person.User), Session: string(from.Session)}})
	reached := 0
	for _, to := range links {
		if to.Link == from && !r.Everyone {
			continue
		}
		if other := l.gateway.links.carrier(to.Link); other != nil && other.offer(frame) && to.Seen {
			reached++
		}
	}
	l.reply(wire.Answer{Re: r.ID, Links: &reached}, nil, nil)
	return nil
}

// Cue gives a cue of the back end to those who are in a room, to a person or to a session,
// and returns to how many links it went.
func (g *Gateway) Cue(realm *Realm, r wire.Request) (links int, err error) {
	if err := checkCue(r); err != nil {
		return 0, err
	}
	var to []presence.Carried
	switch {
	case r.Room != "":
		to = realm.Engine.Links(presence.RoomName(r.Room), presence.Full)
	case r.User != "":
		to = realm.Engine.LinksOf(presence.UserID(r.User), presence.Full)
	default:
		one, ok := realm.Engine.LinkOf(presence.SessionID(r.Session), presence.Full)
		if !ok {
			return 0, &presence.Refusal{Code: presence.CodeNoSession, Field: "session", Value: r.Session, Allowed: "a session that has not ended"}
		}
		to = []presence.Carried{one}
	}
	frame := encode(wire.CueFrame{Type: wire.TypeCue, Name: r.Name, Room: r.Room, Data: r.Data, At: wire.Time{Time: time.Now()}})
	for _, one := range to {
		if carrier := g.links.carrier(one.Link); carrier != nil && carrier.offer(frame) {
			links++
		}
	}
	return links, nil
}

func checkCue(r wire.Request) error {
	wrong := func(field, value, detail, allowed string) error {
		return &wire.Problem{Code: wire.CodeBadField, Field: field, Value: wire.Shorten(value), Detail: detail, Allowed: allowed}
	}
	named := 0
	for _, to := range []string{r.Room, r.User, r.Session} {
		if to != "" {
			named++
		}
	}
	unnamed := len(r.Name) == 0 || len(r.Name) > maxCueName || slices.ContainsFunc([]rune(r.Name), unicode.IsControl)
	switch {
	case named != 1:
		return wrong("room", r.Room, "a cue is for a room, a person or a session", "one of room, user and session")
	case unnamed:
		return wrong("name", r.Name, "the cue has no name that can be used", fmt.Sprintf("1 to %d bytes without control characters", maxCueName))
	case len(r.Data) > maxCue:
		return wrong("data", fmt.Sprintf("%d bytes", len(r.Data)), "the cue carries too much", fmt.Sprintf("JSON of at most %d bytes", maxCue))
	case r.Everyone && r.Room == "":
		return wrong("everyone", "true", "only a cue to a room can be for everyone", "room")
	case len(r.Data) > 0 && !json.Valid(r.Data):
		return wrong("data", string(r.Data), "the data of a cue is JSON", "any JSON value")
	}
	return nil
}

// addressees finds the links that a cue is for, and refuses what the token does not
// grant: cues are given in a room in which the sender is and may, to the room or to
// somebody who is seen in it. Somebody who is not there is refused like somebody whom
// the sender may not reach.
func (l *link) addressees(r wire.Request) ([]presence.Carried, error) {
	e := l.realm().Engine
	own := e.RoomsOf(l.guest().person.User, presence.Full)
	allowed := grantList(l.guest().person.Cue, "cues")
	if r.Room != "" {
		room, err := presence.ParseRoom(r.Room)
		if err != nil {
			return nil, err
		}
		if !l.guest().person.MayCue(room) {
			return nil, notGranted("room", r.Room, allowed)
		}
		if !slices.Contains(own, room) {
			return nil, &presence.Refusal{Code: presence.CodeNotInRoom, Field: "room", Value: r.Room, Allowed: "a room that this session is in"}
		}
		return e.Links(room, presence.Open), nil
	}
	user, field, value := presence.UserID(r.User), "user", r.User
	var links []presence.Carried
	if r.Session != "" {
		field, value = "session", r.Session
		if to, ok := e.LinkOf(presence.SessionID(r.Session), presence.Open); ok {
			user, links = to.User, []presence.Carried{to}
		}
	} else {
		links = e.LinksOf(user, presence.Open)
	}
	for _, room := range e.RoomsOf(user, presence.Open) {
		if l.guest().person.MayCue(room) && slices.Contains(own, room) {
			return links, nil
		}
	}
	return nil, notGranted(field, value, "somebody who is in a room with the sender, of those where cues are granted: "+allowed)
}
