package realm

import (
	"context"
	"strings"
	"time"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/deflate"
	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/wire"
)

// Desk is a realm as an operator or a back end with a key sees and changes it over HTTP. It
// has the full view; for a key limited to some rooms, of those rooms only. The caller has
// checked the role of the key. Errors are problems, or refusals of the core.
type Desk struct {
	realm *Realm
	by    access.Operator
}

// Desk returns the realm as seen with a key.
func (r *Realm) Desk(by access.Operator) Desk { return Desk{r, by} }

// Realm returns the realm's name.
func (d Desk) Realm() string { return d.realm.name }

// room reads the name of a room. A room outside the limits of the key gets the same answer as
// a room that does not exist.
func (d Desk) room(name string) (presence.RoomName, error) {
	room, err := presence.ParseRoom(name)
	if err == nil && !d.sees(room) {
		err = problem.UnknownRoom(room)
	}
	return room, err
}

// roomOrRealm is room, where an empty name stands for the whole realm.
func (d Desk) roomOrRealm(name string) (presence.RoomName, error) {
	if name == "" {
		return "", d.WholeRealm()
	}
	return d.room(name)
}

func (d Desk) sees(room presence.RoomName) bool { return d.by.Sees(presence.Pattern(room)) }

// WholeRealm refuses a key that is limited to some rooms.
func (d Desk) WholeRealm() error {
	if d.by.Rooms != nil {
		return &wire.Problem{Code: wire.CodeWrongRole, Field: "key", Detail: "this key is limited to some rooms", Allowed: "a key without room patterns"}
	}
	return nil
}

// patterns reads room patterns of a query. With a key limited to some rooms, they are reduced
// to those rooms.
func (d Desk) patterns(names []string) (list []presence.Pattern, err error) {
	for _, name := range names {
		pattern, err := presence.ParsePattern(name)
		if err != nil {
			return nil, err
		}
		if !d.by.Sees(pattern) {
			return nil, notAbout("room", name)
		}
		list = append(list, pattern)
	}
	if list == nil {
		list = d.by.Rooms
	}
	return list, nil
}

func notAbout(field, rooms string) error {
	return &wire.Problem{Code: wire.CodeNotGranted, Field: field, Value: wire.Shorten(rooms), Detail: "the key does not cover these rooms"}
}

// RemoveFromRoom removes a person from a room, and refuses their earlier tokens there.
func (d Desk) RemoveFromRoom(name, id string) (wire.Removal, error) {
	room, err := d.room(name)
	if err != nil {
		return wire.Removal{}, err
	}
	return d.remove(id, room)
}

// Remove removes a person from the realm, and refuses their earlier tokens.
func (d Desk) Remove(id string) (wire.Removal, error) { return d.remove(id, "") }

func (d Desk) remove(id string, room presence.RoomName) (wire.Removal, error) {
	user, err := userOf(id)
	if err != nil {
		return wire.Removal{}, err
	}
	at, err := d.realm.remove(user, room, d.by.Key)
	return wire.Removal{User: string(user), Room: string(room), At: wire.Time{Time: at}}, err
}

// SignOut ends all sessions of a person.
func (d Desk) SignOut(id string) error {
	user, err := userOf(id)
	if err != nil {
		return err
	}
	d.act(journal.Entry{Kind: journal.PersonSignedOut, User: user})
	_, err = d.realm.do(presence.SignOut{User: user})
	return err
}

// Acted notes in the journal what was done with the key, and to what.
func (d Desk) Acted(kind journal.Kind, what ...string) {
	d.act(journal.Entry{Kind: kind, Note: strings.TrimSpace(strings.Join(what, " "))})
}

func (d Desk) act(e journal.Entry) {
	e.Realm, e.By = d.realm.name, d.by.Key
	d.realm.act(e)
}

// EndSession ends one session.
func (d Desk) EndSession(session string) error {
	_, err := d.realm.do(presence.EndSession{Session: presence.SessionID(session)})
	return err
}

// Health returns the realm in numbers. If the records cannot be read, it has no deliveries.
func (d Desk) Health(ctx context.Context) wire.RealmHealth {
	size := d.realm.core.Size()
	doc := wire.RealmHealth{Realm: d.realm.name, People: size.People, Sessions: size.Sessions, Links: size.Sessions - size.InGrace - size.Leases}
	if waiting, parked, err := d.realm.store.CountDeliveryStates(ctx, d.realm.name); err == nil {
		doc.Waiting, doc.Parked = waiting, parked
	}
	return doc
}

// eraseTimeout limits how long an erasure waits for readers of the records.
const eraseTimeout = 10 * time.Second

// Erase deletes everything about a person, and returns what was deleted, in numbers.
func (d Desk) Erase(ctx context.Context, id string) (wire.Erasure, error) {
	user, err := userOf(id)
	if err != nil {
		return wire.Erasure{}, err
	}
	r := d.realm
	receipt := wire.Erasure{User: string(user), At: wire.Time{Time: time.Now()}, Erased: map[string]int64{}}
	for kind, n := range r.core.Erase(user) {
		receipt.Erased[kind] = int64(n)
	}
	// What has happened until now is written first, so that nothing is written after the erasure.
	if r.elsewhere == nil {
		if err := r.writer.Sync(ctx); err != nil {
			return receipt, problem.NotRecorded("the person's sessions have ended, but what is on record cannot be deleted now", err)
		}
	}
	ctx, cancel := context.WithTimeout(ctx, eraseTimeout)
	defer cancel()
	kept, err := r.store.Erase(ctx, r.name, user)
	if err != nil {
		return receipt, problem.NotRecorded("the person's sessions have ended, but bytes of their records may remain in the file", err)
	}
	for kind, n := range kept {
		receipt.Erased[kind] += n
	}
	if r.elsewhere != nil {
		receipt.LogUntil = &wire.Time{Time: time.Now().Add(logKeeps)}
	}
	d.Acted(journal.PersonErased)
	return receipt, nil
}

// logKeeps is how long the log of a cluster keeps a record.
const logKeeps = 24 * time.Hour

// CueRoom gives a cue to everybody in a room, which must exist.
func (d Desk) CueRoom(name string, cue wire.NewCue) (wire.CueGiven, error) {
	room, err := d.room(name)
	if err != nil {
		return wire.CueGiven{}, err
	}
	if _, exists := d.realm.core.Count(full(room)); !exists {
		return wire.CueGiven{}, problem.UnknownRoom(room)
	}
	return d.cue(wire.Request{Room: string(room)}, cue)
}

// CuePerson gives a cue to all links of a person, who may have none.
func (d Desk) CuePerson(id string, cue wire.NewCue) (wire.CueGiven, error) {
	user, err := userOf(id)
	if err != nil {
		return wire.CueGiven{}, err
	}
	return d.cue(wire.Request{User: string(user)}, cue)
}

// CueSession gives a cue to one session.
func (d Desk) CueSession(session string, cue wire.NewCue) (wire.CueGiven, error) {
	return d.cue(wire.Request{Session: session}, cue)
}

func (d Desk) cue(to wire.Request, cue wire.NewCue) (wire.CueGiven, error) {
	to.Name, to.Data = cue.Name, cue.Data
	links, err := d.realm.giveCue(to)
	return wire.CueGiven{Links: links}, err
}

// Following is a live stream of what a key may see: the frames that a link with the same
// watch would get.
type Following struct{ receiver *delivery.Receiver }

// Follow starts following a subject. Wake is called when Next may have something; it is
// called with locks held, so it must not block or call back. Close the result.
func (d Desk) Follow(s Subject, wake func()) *Following {
	f := &Following{d.realm.hub.NewReceiver(presence.Full, wake)}
	for _, pattern := range s.patterns {
		f.receiver.Follow(delivery.Watched, pattern, delivery.How{Detail: s.detail})
	}
	if s.person != "" {
		f.receiver.FollowPeople([]presence.UserID{s.person}, nil)
	}
	return f
}

// Next appends the frames that come next, and reports whether there are more.
func (f *Following) Next(frames []deflate.Text) (_ []deflate.Text, more bool) {
	return f.receiver.Next(frames)
}

// Close stops following.
func (f *Following) Close() { f.receiver.Close() }

// Subject is what to follow: rooms, or a person.
type Subject struct {
	patterns []presence.Pattern
	detail   delivery.Detail
	person   presence.UserID
}

// Counts returns the subject of the counts of all rooms that match a pattern and that the key
// covers.
func (d Desk) Counts(match string) (Subject, error) {
	pattern, err := presence.ParsePattern(match)
	if err != nil {
		return Subject{}, err
	}
	patterns := []presence.Pattern{pattern}
	if !d.by.Sees(pattern) {
		if pattern != "**" {
			return Subject{}, notAbout("match", match)
		}
		patterns = d.by.Rooms
	}
	return Subject{patterns: patterns, detail: delivery.AtCount}, nil
}

// CountOf returns the subject of the count of a room.
func (d Desk) CountOf(name string) (Subject, error) {
	room, err := d.room(name)
	return Subject{patterns: []presence.Pattern{presence.Pattern(room)}, detail: delivery.AtCount}, err
}

// MembersOf returns the subject of the members of a room.
func (d Desk) MembersOf(name string) (Subject, error) {
	room, err := d.room(name)
	return Subject{patterns: []presence.Pattern{presence.Pattern(room)}, detail: delivery.AtMembers}, err
}

// StatusOf returns the subject of the status of a person.
func (d Desk) StatusOf(id string) (Subject, error) {
	user, err := userOf(id)
	return Subject{person: user}, err
}
