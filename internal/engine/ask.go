package engine

import (
	"slices"
	"strings"
	"time"

	"tovik.example/tovik/internal/presence"
)

// The questions to an engine. Unsealed, Sealing, Sealed and Sight answer as of the last seal;
// the others as of now.

// Unsealed tells whether a topic has changes that are not sealed yet. Asking does not cause a
// seal: what a newcomer gets must depend on the room, not on who follows it.
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
	var pending []change
	s := e.read(topic, func(presence.Instant) Revision {
		f := e.feeds[topic]
		if f == nil {
			return Revision{}
		}
		if f.unsealed != nil {
			pending = slices.Clone(f.unsealed.changes)
		}
		return f.revision
	})
	if len(pending) == 0 {
		return s
	}
	before := make(map[presence.UserID]presence.Member, len(pending))
	for _, c := range pending {
		before[c.after.User] = c.before
	}
	s.replace(before)
	s.Count = presence.CountOf(s.Members)
	s.Exists = s.Exists || len(s.Members) > 0
	return s
}

// SnapshotNow returns a topic as it is now: unsealed changes are sealed first. It is for
// operators, who are few and see everything.
func (e *Engine) SnapshotNow(topic Topic) Snapshot {
	return e.read(topic, func(now presence.Instant) Revision {
		f := e.feeds[topic]
		if f == nil {
			return Revision{}
		}
		if f.waiting {
			e.sealNow(now, f)
		}
		return f.revision
	})
}

// reading is a read of a topic that is under way while the core changes.
type reading struct{ changed map[presence.UserID]struct{} }

// read returns a topic as of the moment when it reads the last part. At that moment, with the
// core locked, it calls at for the revision. It reads a large room in chunks, and at the end
// reads those members again who changed since it began.
func (e *Engine) read(topic Topic, at func(presence.Instant) Revision) Snapshot {
	count, _ := e.Count(topic)
	most := count.People + count.People/16
	s, roll := Snapshot{Topic: topic, Members: make([]presence.Member, 0, most)}, presence.NewRoll(most)
	var r *reading // nil as long as one chunk is enough
	var changed map[presence.UserID]presence.Member
	for begun, more := false, true; more; begun = true {
		e.hold(func(now presence.Instant) {
			if !begun {
				e.core.Call(&roll, topic.Room, topic.View)
			}
			s.Members, more = roll.Read(s.Members, e.chunk)
			switch {
			case more && r == nil:
				r = &reading{changed: map[presence.UserID]struct{}{}}
				e.readings[topic] = append(e.readings[topic], r)
			case !more && r != nil:
				changed = e.endReading(topic, r)
			}
			if !more {
				s.Revision = at(now)
				s.Count, s.Exists = e.core.Count(topic.Room, topic.View), e.core.Exists(topic.Room, topic.View)
			}
		})
	}
	s.replace(changed)
	return s
}

// endReading returns the members who changed during a read, as they are now. The core is locked.
func (e *Engine) endReading(topic Topic, r *reading) map[presence.UserID]presence.Member {
	if e.readings[topic] = without(e.readings[topic], r); len(e.readings[topic]) == 0 {
		delete(e.readings, topic)
	}
	changed := make(map[presence.UserID]presence.Member, len(r.changed))
	for user := range r.changed {
		changed[user], _ = e.core.Member(user, topic.Room, topic.View)
	}
	return changed
}

// replace replaces members of the snapshot, and sorts it. A member without sessions is removed.
func (s *Snapshot) replace(of map[presence.UserID]presence.Member) {
	if len(of) > 0 {
		s.Members = slices.DeleteFunc(s.Members, func(m presence.Member) bool { _, other := of[m.User]; return other })
	}
	for _, m := range of {
		if m.Sessions > 0 {
			s.Members = append(s.Members, m)
		}
	}
	sortMembers(s.Members)
}

func without(list []*reading, r *reading) []*reading {
	return slices.DeleteFunc(list, func(other *reading) bool { return other == r })
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

// Issued returns when the newest token of a person's sessions was issued; 1970 if they have none.
func (e *Engine) Issued(user presence.UserID) time.Time {
	e.mu.Lock()
	defer e.mu.Unlock()
	return time.UnixMilli(e.core.Issued(user)).UTC()
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

// Cue gives a cue, and returns the links to which it goes (see [presence.Core.Cue]).
func (e *Engine) Cue(from presence.LinkID, to presence.CueTo, may []presence.Pattern) (links []presence.Carried, err error) {
	e.change(func(now presence.Instant) { links, err = e.core.Cue(now, from, to, may, &e.effects) })
	return links, err
}

// Quotas returns how much is used of the quotas that have a limit.
func (e *Engine) Quotas() []presence.QuotaUse {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Quotas(e.now())
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

// Everybody returns what a restart needs to know of all people whose state is worth saving, in no
// particular order.
func (e *Engine) Everybody() (all []presence.SavedPerson) {
	e.hold(func(now presence.Instant) {
		for _, user := range e.core.Known() {
			saved, _ := e.core.SavePerson(now, user)
			all = append(all, saved)
		}
	})
	return all
}

// Known returns the people whose state is worth saving, in no particular order.
func (e *Engine) Known() []presence.UserID {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Known()
}

// OpenAsks returns the open asks of the realm now, the oldest first.
func (e *Engine) OpenAsks() []presence.OpenAsk {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.AllAsks(e.now())
}

// OpenInvitations returns the open invitations of the realm now, the oldest first.
func (e *Engine) OpenInvitations() []presence.Invitation {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.AllInvitations(e.now())
}

// RoomOfAsk returns the room of an ask (see [presence.Core.RoomOfAsk]).
func (e *Engine) RoomOfAsk(id presence.AskID) presence.RoomName {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.RoomOfAsk(id)
}

// RoomOfInvitation returns the room of an invitation (see [presence.Core.RoomOfInvitation]).
func (e *Engine) RoomOfInvitation(id presence.InvitationID) presence.RoomName {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.RoomOfInvitation(id)
}

// InvitationRoom returns the room of an open invitation that a person received (see
// [presence.Core.InvitationRoom]).
func (e *Engine) InvitationRoom(user presence.UserID, id presence.InvitationID) (presence.RoomName, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.InvitationRoom(user, id)
}

// Passes returns the passes of a person now.
func (e *Engine) Passes(user presence.UserID) []presence.Pass {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Passes(e.now(), user)
}

// LetsWatch tells whether a person may watch a room (see [presence.Core.LetsWatch]).
func (e *Engine) LetsWatch(user presence.UserID, admits []presence.Pattern, room presence.RoomName, countOnly bool) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.LetsWatch(e.now(), user, admits, room, countOnly)
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

// Topics returns the rooms of a pattern that receivers of a view have, or will be told of: those that exist now, and
// those whose end is not sealed yet. They are sorted.
func (e *Engine) Topics(of presence.Pattern, view presence.View) (names []presence.RoomName) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if room, single := of.Room(); single {
		if e.core.Exists(room, view) || e.feeds[Topic{room, view}].ends() {
			names = append(names, room)
		}
		return names
	}
	for _, room := range e.core.Rooms(view) {
		if of.Match(room) {
			names = append(names, room)
		}
	}
	for topic, f := range e.feeds {
		if topic.View == view && of.Match(topic.Room) && !e.core.Exists(topic.Room, view) && f.ends() {
			names = append(names, topic.Room)
		}
	}
	slices.Sort(names)
	return names
}

// ends reports whether the end of a room that has ended is not sealed yet.
func (f *feed) ends() bool {
	return f != nil && f.unsealed != nil && slices.ContainsFunc(f.unsealed.changes, func(c change) bool { return c.before.Sessions > 0 })
}

// Explain explains how a person is shown, and with a room why they are in it or not.
func (e *Engine) Explain(user presence.UserID, room presence.RoomName) presence.Explanation {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Explain(e.now(), user, room)
}

// MembersNow returns the members of a room now, sealed or not.
func (e *Engine) MembersNow(room presence.RoomName) []presence.Member {
	return e.read(Topic{room, presence.Full}, func(presence.Instant) Revision { return Revision{} }).Members
}

// Size returns how many sessions, people and rooms there are, in the full view.
func (e *Engine) Size() presence.Size {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Size()
}
