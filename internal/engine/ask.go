package engine

import (
	"slices"
	"strings"
	"time"

	"tovik.example/tovik/internal/presence"
)

// What can be asked of an engine: as a seal left it (Unsealed, Sealing, Sealed, Sight), or as it
// is now.

// Unsealed tells whether a topic has changes that are not sealed yet. Waiting for the seal does
// not hasten it: what a newcomer gets depends on the room, not on its followers.
func (e *Engine) Unsealed(topic Topic) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	f := e.feeds[topic]
	return f != nil && f.waiting
}

// Sealing returns a channel that closes when the pending changes of a topic are sealed; nil if
// there are none.
func (e *Engine) Sealing(topic Topic) <-chan struct{} {
	e.mu.Lock()
	defer e.mu.Unlock()
	f := e.feeds[topic]
	if f == nil || !f.waiting {
		return nil
	}
	if f.waited == nil {
		f.waited = make(chan struct{})
	}
	return f.waited
}

// Sealed returns a topic at its newest revision, without changes that are not sealed yet.
func (e *Engine) Sealed(topic Topic) Snapshot {
	s, pending := e.sealed(topic, e.room(topic))
	if len(pending) > 0 {
		before := make(map[presence.UserID]presence.Member, len(pending))
		for _, c := range pending {
			before[c.after.User] = c.before
		}
		s.Members = slices.DeleteFunc(s.Members, func(m presence.Member) bool { _, changed := before[m.User]; return changed })
		for _, m := range before {
			if m.Sessions > 0 {
				s.Members = append(s.Members, m)
			}
		}
		s.Count = presence.CountOf(s.Members)
		s.Exists = s.Exists || len(s.Members) > 0
	}
	sortMembers(s.Members)
	return s
}

// sealed returns a topic as it is, and its changes that are not sealed yet.
func (e *Engine) sealed(topic Topic, room []presence.Member) (Snapshot, []change) {
	e.mu.Lock()
	now := e.now()
	defer e.letGo(now)
	f := e.feeds[topic]
	if f == nil {
		return e.whole(topic, Revision{}, room), nil
	}
	s := e.whole(topic, f.revision, room)
	if f.unsealed == nil {
		return s, nil
	}
	return s, slices.Clone(f.unsealed.changes)
}

// SnapshotNow returns a topic as it is now: unsealed changes are sealed first. It is for
// operators, who are few and see everything.
func (e *Engine) SnapshotNow(topic Topic) Snapshot {
	room := e.room(topic)
	e.mu.Lock()
	now := e.now()
	var revision Revision
	if f := e.feeds[topic]; f != nil {
		if f.waiting {
			e.sealNow(now, f)
		}
		revision = f.revision
	}
	s := e.whole(topic, revision, room)
	e.letGo(now)
	sortMembers(s.Members)
	return s
}

// room returns room for the members of a topic, so that it need not be made, and cleared,
// under the lock.
func (e *Engine) room(topic Topic) []presence.Member {
	count, _ := e.Count(topic)
	return make([]presence.Member, 0, count.People+count.People/16)
}

// whole returns a topic with its members in no particular order: the caller sorts them once the
// lock is let go.
func (e *Engine) whole(topic Topic, revision Revision, room []presence.Member) Snapshot {
	return Snapshot{Topic: topic, Revision: revision, Members: e.core.AppendMembers(room, topic.Room, topic.View),
		Count: e.core.Count(topic.Room, topic.View), Exists: e.core.Exists(topic.Room, topic.View)}
}

func sortMembers(members []presence.Member) {
	slices.SortFunc(members, func(a, b presence.Member) int { return strings.Compare(string(a.User), string(b.User)) })
}

// Count returns how many are in a topic now. It returns false if the room does not exist in the
// view.
func (e *Engine) Count(topic Topic) (presence.Count, bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Count(topic.Room, topic.View), e.core.Exists(topic.Room, topic.View)
}

// Links returns the links of the members of a room now, and of each whether the view sees its
// person there.
func (e *Engine) Links(room presence.RoomName, view presence.View) []presence.Carried {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.LinksIn(room, view)
}

// Tally returns the present count of a topic with its newest revision. The count includes
// changes that are not sealed yet; they will get another revision.
func (e *Engine) Tally(topic Topic) (presence.Count, Revision) {
	e.mu.Lock()
	defer e.mu.Unlock()
	var revision Revision
	if f := e.feeds[topic]; f != nil {
		revision = f.revision
	}
	return e.core.Count(topic.Room, topic.View), revision
}

// Session returns what is known about a session, and its person. It returns false for a wrong
// key as for an unknown session.
func (e *Engine) Session(session presence.SessionID, key string) (presence.Evidence, presence.UserID, bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Session(e.now(), session, key)
}

// Refused returns for what a person's token is refused, by its time of issue: for the realm, or
// for rooms.
func (e *Engine) Refused(user presence.UserID, issued time.Time) (altogether bool, rooms []presence.RoomName) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Refused(user, issued.UnixMilli())
}

// LinkOf returns the link of a session now.
func (e *Engine) LinkOf(session presence.SessionID, view presence.View) (presence.Carried, bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.LinkOf(session, view)
}

// Near tells whether a view sees a person in a room in which another one is.
func (e *Engine) Near(user, other presence.UserID, view presence.View) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Near(user, other, view)
}

// Cue returns over which links a cue goes (see [presence.Core.Cue]).
func (e *Engine) Cue(from presence.LinkID, to presence.CueTo, may []presence.Pattern) ([]presence.Carried, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Cue(from, to, may)
}

// RoomsOver returns the rooms that the session of a link is in; none if the link is not its
// present one.
func (e *Engine) RoomsOver(link presence.LinkID) []presence.RoomName {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.RoomsOver(link)
}

// RoomsOf returns the rooms in which a view sees a person now.
func (e *Engine) RoomsOf(user presence.UserID, view presence.View) []presence.RoomName {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.RoomsOf(user, view)
}

// LinksOf returns the links of a person now.
func (e *Engine) LinksOf(user presence.UserID, view presence.View) []presence.Carried {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.LinksOf(user, view)
}

// SavePeople calls each with what a restart needs to know of people; of an unknown person that
// is nothing. Which is called with the lock held, so that nothing happens between its answer and
// what is saved.
func (e *Engine) SavePeople(which func() []presence.UserID, each func(presence.SavedPerson)) {
	e.mu.Lock()
	defer e.mu.Unlock()
	now := e.now()
	for _, user := range which() {
		saved, _ := e.core.SavePerson(now, user)
		each(saved)
	}
}

// Known returns the people of whom there is something to save, in no particular order.
func (e *Engine) Known() []presence.UserID {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Known()
}

// Recall sets when somebody was last seen, before anything is heard of them.
func (e *Engine) Recall(subject Subject, lastSeen time.Time) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.people[subject.View].gone.recall(subject.User, lastSeen.UnixMilli())
}

// Rooms returns the counts of all rooms that exist in a view.
func (e *Engine) Rooms(view presence.View) map[presence.RoomName]presence.Count {
	e.mu.Lock()
	defer e.mu.Unlock()
	names := e.core.Rooms(view)
	rooms := make(map[presence.RoomName]presence.Count, len(names))
	for _, name := range names {
		rooms[name] = e.core.Count(name, view)
	}
	return rooms
}

// Explain explains how a person is shown, and with a room why they are in it or not.
func (e *Engine) Explain(user presence.UserID, room presence.RoomName) presence.Explanation {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Explain(e.now(), user, room)
}

// MembersNow returns the members of a room now, sealed or not.
func (e *Engine) MembersNow(room presence.RoomName) []presence.Member {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Members(room, presence.Full)
}

// Size returns how many sessions, people and rooms there are, in the full view.
func (e *Engine) Size() presence.Size {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Size()
}
