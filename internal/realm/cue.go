package realm

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"
	"unicode"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/wire"
)

// cue gives a cue to those it is for, and answers how many links it went to. It is never
// stored and never tried again: a link with too much unread goes without.
func (t *Conversation) cue(by By, r wire.Request) (Done, error) {
	if err := needSession(by); err != nil {
		return Done{}, err
	}
	if err := checkCue(r); err != nil {
		return Done{}, err
	}
	if err := t.hears(by); err != nil {
		return Done{}, err
	}
	who := t.Guest()
	links, err := who.addressees(r)
	if err != nil {
		return Done{}, err
	}
	realm := who.realm
	if own, ok := realm.engine.LinkOf(by.Link.Session, presence.Open); ok && !own.Seen {
		return Done{}, &wire.Problem{Code: wire.CodeHiding, Field: "type", Value: wire.TypeCue,
			Detail: "a cue would show somebody who hides", Allowed: "hide with on false first"}
	}
	if !t.cues.Take(time.Now(), cueRate) {
		return Done{}, &wire.Problem{Code: wire.CodeTooFast, Detail: "too many cues came in a short time; this one was not carried out", Allowed: cueRate.Text("cues")}
	}
	frame := cueFrame(r, &wire.Sender{User: string(who.person.User), Session: string(by.Link.Session)})
	reached := 0
	for _, to := range links {
		if to.Link == by.Link && !r.Everyone {
			continue
		}
		if realm.links.Offer(to.Link, frame) && to.Seen {
			reached++
		}
	}
	return Done{Answer: wire.Answer{Links: &reached}}, nil
}

// giveCue gives a cue of the back end to those who are in a room, to a person or to a
// session, and returns how many links it went to.
func (r *Realm) giveCue(q wire.Request) (links int, err error) {
	if err := checkCue(q); err != nil {
		return 0, err
	}
	var to []presence.Carried
	switch {
	case q.Room != "":
		to = r.engine.Links(presence.RoomName(q.Room), presence.Full)
	case q.User != "":
		to = r.engine.LinksOf(presence.UserID(q.User), presence.Full)
	default:
		one, ok := r.engine.LinkOf(presence.SessionID(q.Session), presence.Full)
		if !ok {
			return 0, &presence.Refusal{Code: presence.CodeNoSession, Field: "session", Value: q.Session, Allowed: "a session that has not ended"}
		}
		to = []presence.Carried{one}
	}
	frame := cueFrame(q, nil)
	for _, one := range to {
		if r.links.Offer(one.Link, frame) {
			links++
		}
	}
	return links, nil
}

func cueFrame(r wire.Request, from *wire.Sender) []byte {
	return wire.Encode(wire.CueFrame{Type: wire.TypeCue, Name: r.Name, Room: r.Room, Data: r.Data, At: wire.Time{Time: time.Now()}, From: from})
}

func checkCue(r wire.Request) error {
	named := 0
	for _, to := range []string{r.Room, r.User, r.Session} {
		if to != "" {
			named++
		}
	}
	unnamed := len(r.Name) == 0 || len(r.Name) > maxCueName || slices.ContainsFunc([]rune(r.Name), unicode.IsControl)
	switch {
	case named != 1:
		return problem.BadField("room", r.Room, "a cue is for a room, a person or a session", "one of room, user and session")
	case unnamed:
		return problem.BadField("name", r.Name, "the cue has no name that can be used", fmt.Sprintf("1 to %d bytes without control characters", maxCueName))
	case len(r.Data) > maxCue:
		return problem.BadField("data", fmt.Sprintf("%d bytes", len(r.Data)), "the cue carries too much", fmt.Sprintf("JSON of at most %d bytes", maxCue))
	case r.Everyone && r.Room == "":
		return problem.BadField("everyone", "true", "only a cue to a room can be for everyone", "room")
	case len(r.Data) > 0 && !json.Valid(r.Data):
		return problem.BadField("data", string(r.Data), "the data of a cue is JSON", "any JSON value")
	}
	return nil
}

// addressees finds the links that a cue is for, and refuses what the token does not
// grant: cues are given in a room in which the sender is and may, to the room or to
// somebody who is seen in it. Somebody who is not there is refused like somebody whom
// the sender may not reach.
func (g *Guest) addressees(r wire.Request) ([]presence.Carried, error) {
	e := g.realm.engine
	own := e.RoomsOf(g.person.User, presence.Full)
	allowed := grantList(g.person.Cue, "cues")
	if r.Room != "" {
		room, err := presence.ParseRoom(r.Room)
		if err != nil {
			return nil, err
		}
		if !g.person.MayCue(room) {
			return nil, problem.NotGranted("room", r.Room, allowed)
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
		if g.person.MayCue(room) && slices.Contains(own, room) {
			return links, nil
		}
	}
	return nil, problem.NotGranted(field, value, "somebody who is in a room with the sender, of those where cues are granted: "+allowed)
}
