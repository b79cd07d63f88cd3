package realm

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"
	"unicode"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/wire"
)

// cue gives a cue to its receivers, and answers with the number of links it went to. A cue is
// never stored and never sent again: a link with too much unread data does not get it.
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
	realm := who.realm
	to, err := cueTo(r)
	if err != nil {
		return Done{}, err
	}
	if !t.cues.Take(time.Now(), cueRate) {
		return Done{}, &wire.Problem{Code: wire.CodeTooFast, Detail: "too many cues came in a short time; this one was not carried out", Allowed: cueRate.Text("cues")}
	}
	links, err := realm.core.Cue(by.Link, to, who.person.Cue)
	if err != nil {
		return Done{}, who.cueRefused(err)
	}
	frame := cueFrame(r, &wire.Sender{User: string(who.person.User), Session: string(by.Link.Session)})
	reached := realm.offer(links, frame, func(to presence.Carried) bool { return to.Seen })
	return Done{Answer: wire.Answer{Links: &reached}}, nil
}

// offer gives a frame to links, at whichever nodes they are. It returns how many of those that count got
// it, or are to get it.
func (r *Realm) offer(links []presence.Carried, frame []byte, counts func(presence.Carried) bool) (reached int) {
	elsewhere, ok := r.core.(interface {
		Offer([]presence.Carried, []byte) int
	})
	if ok {
		elsewhere.Offer(links, frame)
	}
	for _, to := range links {
		if (ok || r.links.Offer(to.Link, frame)) && counts(to) {
			reached++
		}
	}
	return reached
}

// giveCue gives a cue from the back end to a room, a person or a session, and returns the
// number of links it went to.
func (r *Realm) giveCue(q wire.Request) (links int, err error) {
	if err := checkCue(q); err != nil {
		return 0, err
	}
	to, err := r.core.Cue(presence.LinkID{}, presence.CueTo{Room: presence.RoomName(q.Room), User: presence.UserID(q.User), Session: presence.SessionID(q.Session)}, nil)
	if err != nil {
		return 0, err
	}
	return r.offer(to, cueFrame(q, nil), func(presence.Carried) bool { return true }), nil
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
		return problem.BadField("name", r.Name, "invalid name of a cue", fmt.Sprintf("1 to %d bytes without control characters", maxCueName))
	case len(r.Data) > maxCue:
		return problem.BadField("data", fmt.Sprintf("%d bytes", len(r.Data)), "the cue carries too much", fmt.Sprintf("JSON of at most %d bytes", maxCue))
	case r.Everyone && r.Room == "":
		return problem.BadField("everyone", "true", "only a cue to a room can be for everyone", "room")
	case len(r.Data) > 0 && !json.Valid(r.Data):
		return problem.BadField("data", string(r.Data), "the data of a cue is JSON", "any JSON value")
	}
	return nil
}

// cueTo reads the receiver of a cue.
func cueTo(r wire.Request) (presence.CueTo, error) {
	to := presence.CueTo{User: presence.UserID(r.User), Session: presence.SessionID(r.Session), Own: r.Everyone}
	if r.Room == "" {
		return to, nil
	}
	var err error
	to.Room, err = presence.ParseRoom(r.Room)
	return to, err
}

// cueRefused returns the refusal of a cue, which says where the token does grant cues.
func (g *Guest) cueRefused(err error) error {
	var refusal *presence.Refusal
	if !errors.As(err, &refusal) || refusal.Code != presence.CodeNotGranted {
		return err
	}
	allowed := grantList(g.person.Cue, "cues")
	if refusal.Field != "room" {
		allowed = "somebody who is in a room with the sender, of those where cues are granted: " + allowed
	}
	return problem.NotGranted(refusal.Field, refusal.Value, allowed)
}
