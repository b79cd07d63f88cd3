package realm

import (
	"context"
	"crypto/rand"
	"maps"
	"slices"
	"sync"
	"sync/atomic"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/pace"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/wire"
)

// Conversation is what a client and the service have agreed on: who speaks, and what is
// followed. That of an event stream outlives its links. Requests are given to [Conversation.Do]
// one at a time; all other methods are safe for concurrent use, but one at a time calls
// [Conversation.Next].
type Conversation struct {
	realms   *Realms
	guest    atomic.Pointer[Guest]
	receiver *delivery.Receiver
	again    *presence.Hello // of an event stream: its hello, as it would be said again; else nil
	cues     pace.Pace

	mu       sync.Mutex
	watching map[presence.Pattern]delivery.Detail
	people   map[presence.UserID]struct{} // that are watched
	unsaid   [][]byte                     // for a client that has no connection now, at most maxUnsaid
}

// maxUnsaid bounds the frames that wait for a client to come back.
const maxUnsaid = 64

// Converse returns the conversation that a greeting has led to, and what its answer says.
// It follows all that was asked for; nobody else knows it yet. Wake is called when there may
// be something to fetch with Next; with locks held, so it neither blocks nor calls back.
func (c *Greeting) Converse(reply presence.Reply, wake func()) (*Conversation, *wire.Opened) {
	opened := c.Opened(reply)
	t := &Conversation{realms: c.realms, receiver: c.guest.realm.hub.NewReceiver(c.guest.view(), wake)}
	t.guest.Store(c.guest)
	if c.detail != delivery.None {
		for _, room := range reply.Rooms {
			t.receiver.Follow(delivery.Joined, presence.Pattern(room), c.detail)
		}
	}
	_ = t.note(c.wish) // Greet has counted it
	t.follow(c.wish)
	if len(c.revs) > 0 {
		opened.Revs = map[string]string{}
		for room, how := range t.receiver.Resume(c.revs) {
			opened.Revs[string(room)] = string(how)
		}
	}
	if c.in.Stream {
		again := c.in
		again.Session, again.Key = reply.Link.Session, reply.Key
		again.Rooms, again.IdleFor = nil, nil // a return changes neither
		t.again = &again
	}
	return t, opened
}

// Return is the greeting of an event stream whose client comes back over another
// connection: its hello said once more.
func (t *Conversation) Return() *Greeting {
	who := t.Guest()
	c := &Greeting{realms: t.realms, guest: who, in: *t.again, session: t.again.Session != ""}
	c.in.Profile, c.in.Grants = who.person.Profile, who.grants() // its token may have been renewed
	c.in.Issued, c.in.Expires = who.person.Issued.UnixMilli(), who.person.Expires.UnixMilli()
	c.in.NewSession, c.in.NewKey = newSessionID(), rand.Text()
	return c
}

// Withdraw ends the session that a return has opened in the place of one that has ended.
func (t *Conversation) Withdraw(link presence.LinkID) {
	t.Guest().realm.Apply(presence.Bye{From: link})
}

// Returned ends the following of rooms that the session has left meanwhile.
func (t *Conversation) Returned(rooms []presence.RoomName) {
	for _, pattern := range t.receiver.Following(delivery.Joined) {
		if room, _ := pattern.Room(); !slices.Contains(rooms, room) {
			t.receiver.Unfollow(delivery.Joined, pattern)
		}
	}
}

// Guest returns who speaks. A renewed token makes that another.
func (t *Conversation) Guest() *Guest { return t.guest.Load() }

// Next appends what the client lacks to frames, and tells whether there is more.
func (t *Conversation) Next(frames [][]byte) (_ [][]byte, more bool) { return t.receiver.Next(frames) }

// Record keeps in mind what Next gives from now on, as frames after the one of a number,
// so that the conversation can be rewound.
func (t *Conversation) Record(after uint64) { t.receiver.Record(after) }

// Rewind gives again what was given after the frame of a number.
func (t *Conversation) Rewind(number uint64) { t.receiver.Rewind(number) }

// Rewake changes who is woken.
func (t *Conversation) Rewake(wake func()) { t.receiver.Rewake(wake) }

// Close ends all that is followed.
func (t *Conversation) Close() { t.receiver.Close() }

// End is why a link is to be closed: a close code, and the reason.
type End struct {
	Code   int
	Reason string
}

// CatchUp makes up for what could not be told while a link of the conversation could not be
// found yet: that another link has taken its session over, that a key was revoked, that
// the person was removed. It returns what the client does not get any more, or why the link
// is to be closed.
func (t *Conversation) CatchUp(link presence.LinkID, rooms []presence.RoomName) (dropped []wire.Drop, end *End) {
	who := t.Guest()
	if t.realms.StillIn(who) != nil {
		return nil, &End{wire.CloseExpired, wire.CodeBadKey}
	}
	if link == (presence.LinkID{}) {
		if who.notRemoved() != nil {
			return nil, &End{wire.CloseEnded, presence.ReasonRemoved.String()}
		}
		return t.Narrow(), nil
	}
	now, err := who.realm.engine.Over(link)
	if err != nil {
		return nil, &End{wire.CloseReplaced, presence.ReasonReplaced.String()}
	}
	for _, room := range rooms {
		if !slices.Contains(now, room) {
			dropped = append(dropped, t.TakenOut(room, presence.ReasonRemoved))
		}
	}
	return append(dropped, t.Narrow()...), nil
}

// TakenOut ends the following of a room that the session is not in any more.
func (t *Conversation) TakenOut(room presence.RoomName, reason presence.Reason) wire.Drop {
	err := removedProblem("room", string(room))
	if reason != presence.ReasonRemoved {
		err = problem.NotGranted("room", string(room), "rooms that the token of now grants")
	}
	return t.dropRoom(room, err)
}

func (t *Conversation) dropRoom(room presence.RoomName, err error) wire.Drop {
	t.receiver.Unfollow(delivery.Joined, presence.Pattern(room))
	return drop(wire.Drop{Room: string(room)}, err)
}

// Narrow ends the watching of all that the guest may not watch any more, and returns what
// that is.
func (t *Conversation) Narrow() []wire.Drop { return t.narrow(nil) }

// narrow is Narrow that asks, when admits is not nil, whether a pattern is still admitted.
func (t *Conversation) narrow(admits func(presence.Pattern) error) (dropped []wire.Drop) {
	who := t.Guest()
	t.mu.Lock()
	watching, people := maps.Clone(t.watching), maps.Clone(t.people) // nil for most
	t.mu.Unlock()
	for pattern, detail := range watching {
		err := who.mayFollow(pattern, detail)
		if err == nil && admits != nil {
			err = admits(pattern)
		}
		if err != nil && t.stopWatching(pattern) {
			t.receiver.Unfollow(delivery.Watched, pattern)
			dropped = append(dropped, drop(wire.Drop{Room: string(pattern), Watch: true}, err))
		}
	}
	for user := range people {
		if who.mayFollowPerson(user) {
			continue
		}
		if users := []presence.UserID{user}; t.stopWatchingPeople(users) == "" {
			t.receiver.UnfollowPeople(users)
			dropped = append(dropped, drop(wire.Drop{User: string(user), Watch: true}, problem.NotGranted("people", string(user), grantList(who.person.People, "watching of people"))))
		}
	}
	return dropped
}

// note adds a wish to what is watched, within the limit of watches.
func (t *Conversation) note(w wish) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	watching, people := maps.Clone(t.watching), maps.Clone(t.people)
	if watching == nil && len(w.watches) > 0 {
		watching = make(map[presence.Pattern]delivery.Detail, len(w.watches))
	}
	for _, watch := range w.watches {
		watching[watch.pattern] = watch.detail
	}
	if people == nil && len(w.people) > 0 {
		people = make(map[presence.UserID]struct{}, len(w.people))
	}
	for _, user := range w.people {
		people[user] = struct{}{}
	}
	if err := withinLimits(len(watching), len(people)); err != nil {
		return err
	}
	t.watching, t.people = watching, people
	return nil
}

// follow begins to follow what was wished, less what has been taken away meanwhile.
func (t *Conversation) follow(w wish) {
	for _, watch := range w.watches {
		t.receiver.Follow(delivery.Watched, watch.pattern, watch.detail)
		if !t.watches(watch.pattern) { // taken away before it was followed
			t.receiver.Unfollow(delivery.Watched, watch.pattern)
		}
	}
	if len(w.people) == 0 {
		return
	}
	t.receiver.FollowPeople(w.people, w.profiles)
	t.mu.Lock()
	gone := slices.DeleteFunc(slices.Clone(w.people), func(user presence.UserID) bool { _, ok := t.people[user]; return ok })
	t.mu.Unlock()
	t.receiver.UnfollowPeople(gone)
}

// followJoined follows a room that the session is in. If it was taken out of it a moment
// ago, that has found nothing to end, so this ends it.
func (t *Conversation) followJoined(link presence.LinkID, room presence.RoomName, detail delivery.Detail) {
	if detail == delivery.None {
		t.receiver.Unfollow(delivery.Joined, presence.Pattern(room))
		return
	}
	t.receiver.Follow(delivery.Joined, presence.Pattern(room), detail)
	if !slices.Contains(t.Guest().realm.engine.RoomsOver(link), room) {
		t.receiver.Unfollow(delivery.Joined, presence.Pattern(room))
	}
}

func (t *Conversation) watches(pattern presence.Pattern) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	_, ok := t.watching[pattern]
	return ok
}

// stopWatching ends the watching of a pattern, and tells whether it was watched.
func (t *Conversation) stopWatching(pattern presence.Pattern) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	_, ok := t.watching[pattern]
	delete(t.watching, pattern)
	return ok
}

// stopWatchingPeople ends the watching of people. When one of them is not watched, it
// returns that one and changes nothing.
func (t *Conversation) stopWatchingPeople(users []presence.UserID) (unknown presence.UserID) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, user := range users {
		if _, ok := t.people[user]; !ok {
			return user
		}
	}
	for _, user := range users {
		delete(t.people, user)
	}
	return ""
}

// Keep holds a frame for a client that has no connection, until it is back.
func (t *Conversation) Keep(frame []byte) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.unsaid) < maxUnsaid {
		t.unsaid = append(t.unsaid, frame)
	}
}

// TakeKept returns the frames that were held, and holds them no more.
func (t *Conversation) TakeKept() [][]byte {
	t.mu.Lock()
	defer t.mu.Unlock()
	frames := t.unsaid
	t.unsaid = nil
	return frames
}

// mayList tells whether the link may list the members of a room: it is in it, or may watch
// it.
func (t *Conversation) mayList(ctx context.Context, link presence.LinkID, room presence.RoomName) error {
	who := t.Guest()
	if err := who.mayFollow(presence.Pattern(room), delivery.AtMembers); err != nil {
		return err
	}
	if link != (presence.LinkID{}) && slices.Contains(who.realm.engine.RoomsOver(link), room) {
		return nil
	}
	return who.admittedToWatch(ctx, presence.Pattern(room))
}

// page answers with a page of a room at a revision.
func (t *Conversation) page(r wire.Request, topic engine.Topic, revision engine.Revision) (wire.Members, error) {
	page, ok := t.Guest().realm.hub.Page(topic, revision, delivery.PageWanted{After: presence.UserID(r.After), Limit: r.Limit})
	if !ok {
		return page, &wire.Problem{Code: wire.CodeOldRevision, Field: "rev", Value: wire.Shorten(r.Rev),
			Detail: "the room is no longer known at this revision", Allowed: "the first page again, without rev"}
	}
	return page, nil
}
