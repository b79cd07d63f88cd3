package realm

import (
	"context"
	"time"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/wire"
)

// Desk is a realm as the holder of a key sees and changes it, who asks over HTTP: an
// operator or a back end. It shows the full view, and for a key that is about some rooms
// only those rooms. The key's role has been checked. Errors are problems, or refusals of
// the core.
type Desk struct {
	realm *Realm
	by    access.Operator
}

// Desk returns the realm as the holder of a key sees it.
func (r *Realm) Desk(by access.Operator) Desk { return Desk{r, by} }

// Realm returns the realm's name.
func (d Desk) Realm() string { return d.realm.name }

// room reads the name of a room. One that the key is not about is as unknown as one that
// does not exist.
func (d Desk) room(name string) (presence.RoomName, error) {
	room, err := presence.ParseRoom(name)
	if err == nil && !d.sees(room) {
		err = problem.UnknownRoom(room)
	}
	return room, err
}

// roomOrRealm is room, with an empty name for the whole realm.
func (d Desk) roomOrRealm(name string) (presence.RoomName, error) {
	if name == "" {
		return "", d.WholeRealm()
	}
	return d.room(name)
}

func (d Desk) sees(room presence.RoomName) bool { return d.by.Sees(presence.Pattern(room)) }

// WholeRealm refuses a key that is about some rooms only.
func (d Desk) WholeRealm() error {
	if d.by.Rooms != nil {
		return &wire.Problem{Code: wire.CodeWrongRole, Field: "key", Detail: "this key is about some rooms only", Allowed: "a key without room patterns"}
	}
	return nil
}

// patterns reads rooms that are asked about. A key that is about some rooms only asks about
// those, or about some of them.
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
	return &wire.Problem{Code: wire.CodeNotGranted, Field: field, Value: wire.Shorten(rooms), Detail: "the key is not about these rooms"}
}

// RemoveFromRoom takes a person out of a room, for good: tokens issued before are refused
// there.
func (d Desk) RemoveFromRoom(name, id string) (wire.Removal, error) {
	room, err := d.room(name)
	if err != nil {
		return wire.Removal{}, err
	}
	return d.remove(id, room)
}

// Remove takes a person out of the realm, for good: tokens issued before are refused.
func (d Desk) Remove(id string) (wire.Removal, error) { return d.remove(id, "") }

func (d Desk) remove(id string, room presence.RoomName) (wire.Removal, error) {
	user, err := userOf(id)
	if err != nil {
		return wire.Removal{}, err
	}
	at, err := d.realm.remove(user, room)
	return wire.Removal{User: string(user), Room: string(room), At: wire.Time{Time: at}}, err
}

// SignOut ends all sessions of a person.
func (d Desk) SignOut(id string) error {
	user, err := userOf(id)
	if err == nil {
		_, err = d.realm.do(presence.SignOut{User: user})
	}
	return err
}

// EndSession ends one session.
func (d Desk) EndSession(session string) error {
	_, err := d.realm.do(presence.EndSession{Session: presence.SessionID(session)})
	return err
}

// eraseTimeout bounds how long an erasure waits for readers of the records.
const eraseTimeout = 10 * time.Second

// Erase deletes everything about a person, and returns how much that was.
func (d Desk) Erase(ctx context.Context, id string) (wire.Erasure, error) {
	user, err := userOf(id)
	if err != nil {
		return wire.Erasure{}, err
	}
	r := d.realm
	receipt := wire.Erasure{User: string(user), At: wire.Time{Time: time.Now()}, Erased: map[string]int64{}}
	for kind, n := range r.engine.Erase(user) {
		receipt.Erased[kind] = int64(n)
	}
	// What has happened up to now is written first, so that nothing comes after.
	if err := r.writer.Sync(ctx); err != nil {
		return receipt, problem.NotRecorded("the person's sessions have ended, but what is on record cannot be deleted now", err)
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
	return receipt, nil
}

// CueRoom gives a cue to everybody in a room, which must exist.
func (d Desk) CueRoom(name string, cue wire.NewCue) (wire.CueGiven, error) {
	room, err := d.room(name)
	if err != nil {
		return wire.CueGiven{}, err
	}
	if _, exists := d.realm.engine.Count(full(room)); !exists {
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

// Following is what the holder of a key follows live: the frames of a link that watches the
// same.
type Following struct{ receiver *delivery.Receiver }

// Follow begins to follow what a subject names. Wake is called when there may be something
// to fetch with Next; with locks held, so it neither blocks nor calls back. Close it.
func (d Desk) Follow(s Subject, wake func()) *Following {
	f := &Following{d.realm.hub.NewReceiver(presence.Full, wake)}
	for _, pattern := range s.patterns {
		f.receiver.Follow(delivery.Watched, pattern, s.detail)
	}
	if s.person != "" {
		f.receiver.FollowPeople([]presence.UserID{s.person}, nil)
	}
	return f
}

// Next appends the frames that are lacking, and tells whether there are more.
func (f *Following) Next(frames [][]byte) (_ [][]byte, more bool) { return f.receiver.Next(frames) }

// Close ends the following.
func (f *Following) Close() { f.receiver.Close() }

// Subject is what may be followed: rooms, or a person.
type Subject struct {
	patterns []presence.Pattern
	detail   delivery.Detail
	person   presence.UserID
}

// Counts is the counts of the rooms that match a pattern, of those that the key is about.
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

// CountOf is the count of a room.
func (d Desk) CountOf(name string) (Subject, error) {
	room, err := d.room(name)
	return Subject{patterns: []presence.Pattern{presence.Pattern(room)}, detail: delivery.AtCount}, err
}

// MembersOf is the members of a room.
func (d Desk) MembersOf(name string) (Subject, error) {
	room, err := d.room(name)
	return Subject{patterns: []presence.Pattern{presence.Pattern(room)}, detail: delivery.AtMembers}, err
}

// StatusOf is a person as such.
func (d Desk) StatusOf(id string) (Subject, error) {
	user, err := userOf(id)
	return Subject{person: user}, err
}
