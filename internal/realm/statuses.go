package realm

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/text/unicode/norm"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/wire"
)

// Status returns the status of a person. An unknown person is offline.
func (d Desk) Status(id string) (wire.StatusOfPerson, error) {
	user, err := userOf(id)
	if err != nil {
		return wire.StatusOfPerson{}, err
	}
	return d.realm.status(user), nil
}

// Statuses returns the statuses of up to [MostAsked] people, in the order of the names.
func (d Desk) Statuses(ids []string) (wire.Statuses, error) {
	doc := wire.Statuses{Statuses: make([]wire.StatusOfPerson, len(ids))}
	if len(ids) == 0 || len(ids) > MostAsked {
		return doc, problem.BadField("users", fmt.Sprint(len(ids)), "too many people, or none", "1 to 1000 people")
	}
	for i, id := range ids {
		var err error
		if doc.Statuses[i], err = d.Status(id); err != nil {
			return doc, err
		}
	}
	return doc, nil
}

func (r *Realm) status(user presence.UserID) wire.StatusOfPerson {
	return statusDocument(r.core.SightNow(engine.Subject{User: user, View: presence.Full}))
}

func statusDocument(sight engine.Sight) wire.StatusOfPerson {
	doc := wire.StatusOfPerson{User: string(sight.User), Status: string(sight.Status), Label: sight.Label, Engaged: sight.Engaged, Note: sight.Note, Until: wire.TimeOf(sight.Until)}
	if !sight.LastSeen.IsZero() {
		doc.LastSeen = &wire.Time{Time: sight.LastSeen}
	}
	return doc
}

// SetStatus sets a person's status on their behalf.
func (d Desk) SetStatus(ctx context.Context, id string, asked wire.StatusWanted) (wire.StatusOfPerson, error) {
	if asked.Status == "" && asked.Note == "" {
		return wire.StatusOfPerson{}, problem.BadField("status", "", "a status or a note is required", "busy, away, or a note alone; use DELETE to clear both")
	}
	in := presence.SetStatus{Status: presence.Status(asked.Status), Label: asked.Label, Note: asked.Note}
	if asked.Until != nil {
		in.Until = asked.Until.UnixMilli()
	}
	return d.putStatus(ctx, id, in)
}

// ClearStatus clears a set status, so that the person's sessions decide again.
func (d Desk) ClearStatus(ctx context.Context, id string) (wire.StatusOfPerson, error) {
	return d.putStatus(ctx, id, presence.SetStatus{})
}

func (d Desk) putStatus(ctx context.Context, id string, in presence.SetStatus) (doc wire.StatusOfPerson, err error) {
	if in.User, err = userOf(id); err != nil {
		return doc, err
	}
	if _, err := d.realm.do(in); err != nil {
		return doc, err
	}
	if err := d.realm.kept(ctx); err != nil {
		return doc, err
	}
	return d.realm.status(in.User), nil
}

// sessionDocument returns the document of a session.
func sessionDocument(e presence.Evidence) wire.Session { return delivery.Session(e) }

// Sessions returns a page of sessions, ordered by person: of the realm, or of those who are in
// a room. The sessions of one person are on one page.
func (d Desk) Sessions(name, after string, limit int) (wire.Sessions, error) {
	doc := wire.Sessions{Sessions: []wire.Session{}}
	room, err := d.roomOrRealm(name)
	if err != nil {
		return doc, err
	}
	var users []presence.UserID
	if room == "" {
		users = d.realm.core.Known()
	} else {
		for _, m := range d.realm.core.MembersNow(room) {
			users = append(users, m.User)
		}
	}
	slices.Sort(users)
	from, found := slices.BinarySearch(users, presence.UserID(norm.NFC.String(after)))
	if found {
		from++
	}
	for i, user := range users[from:] {
		if len(doc.Sessions) >= limit {
			doc.Next = string(users[from+i-1])
			break
		}
		for _, e := range d.realm.core.Explain(user, room).Sessions {
			e.Rooms = slices.DeleteFunc(e.Rooms, func(room presence.RoomName) bool { return !d.sees(room) })
			e.Next = slices.DeleteFunc(e.Next, func(next presence.Upcoming) bool { return next.Room != "" && !d.sees(next.Room) })
			doc.Sessions = append(doc.Sessions, sessionDocument(e))
		}
	}
	return doc, nil
}

// SessionsOf returns the sessions of one person.
func (d Desk) SessionsOf(id string) (wire.Sessions, error) {
	doc := wire.Sessions{Sessions: []wire.Session{}}
	user, err := userOf(id)
	if err != nil {
		return doc, err
	}
	for _, e := range d.realm.core.Explain(user, "").Sessions {
		doc.Sessions = append(doc.Sessions, sessionDocument(e))
	}
	return doc, nil
}

// RoomsOf returns the rooms that a person is in, ordered by name.
func (d Desk) RoomsOf(id string) (wire.PersonRooms, error) {
	user, err := userOf(id)
	if err != nil {
		return wire.PersonRooms{}, err
	}
	e := d.realm.core
	doc := wire.PersonRooms{User: string(user), Rooms: []wire.PersonRoom{}}
	for _, room := range e.RoomsOf(user, presence.Full) {
		x := e.Explain(user, room)
		if m := x.Member[presence.Full]; m.Sessions > 0 {
			count, _ := e.Count(full(room))
			doc.Rooms = append(doc.Rooms, wire.PersonRoom{Room: string(room), Since: wire.Time{Time: m.Since}, Sessions: m.Sessions, Typing: x.Typing, People: count.People})
		}
	}
	slices.SortFunc(doc.Rooms, func(x, y wire.PersonRoom) int { return strings.Compare(x.Room, y.Room) })
	return doc, nil
}
