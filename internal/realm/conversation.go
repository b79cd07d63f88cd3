package realm

import (
	"context"
	"crypto/rand"
	"maps"
	"slices"
	"sync"
	"sync/atomic"

	"tovik.example/tovik/internal/deflate"
	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/pace"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/wire"
)

// Conversation is the state between a client and the service: who the client is, and what
// it follows. The conversation of an event stream outlives its links. Call
// [Conversation.Do] with one request at a time, and [Conversation.Next] from one goroutine
// at a time; all other methods are safe for concurrent use.
type Conversation struct {
	realms   *Realms
	guest    atomic.Pointer[Guest]
	receiver *delivery.Receiver
	again    *presence.Hello // for an event stream: the hello to repeat when it returns; else nil
	cues     pace.Pace

	mu       sync.Mutex
	watching map[presence.Pattern]delivery.Detail
	asking   map[presence.RoomName]delivery.How // how to follow the rooms that the session asks about, once it is in
	people   map[presence.UserID]struct{}       // watched
	unsaid   [][]byte                           // frames for a client without a connection, at most maxUnsaid
}

// maxUnsaid limits the frames that are kept for a client until it returns.
const maxUnsaid = 64

// Converse starts the conversation after a greeting, and returns it with the answer to the
// hello. It follows all that was asked for, and nobody else can find it yet. Wake is called
// when Next may have something; it is called with locks held, so it must not block or call
// back.
func (c *Greeting) Converse(reply presence.Reply, wake func()) (*Conversation, *wire.Opened) {
	opened := c.Opened(reply)
	t := &Conversation{realms: c.realms}
	t.guest.Store(c.guest)
	t.receiver = c.guest.realm.hub.NewPersonsReceiver(c.guest.view(), t.mayWatchRoom, wake)
	t.receiver.Admit(c.guest.admits())
	if c.how.Detail != delivery.None {
		for _, room := range reply.Rooms {
			t.receiver.Follow(delivery.Joined, presence.Pattern(room), c.how)
		}
	}
	for _, ask := range reply.Asked {
		t.asks(ask.Room, c.how)
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

func (t *Conversation) mayWatchRoom(room presence.RoomName, detail delivery.Detail) bool {
	return t.Guest().mayWatchRoom(room, detail)
}

// asks notes how to follow a room once the session is let in.
func (t *Conversation) asks(room presence.RoomName, how delivery.How) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.asking == nil {
		t.asking = map[presence.RoomName]delivery.How{}
	}
	t.asking[room] = how
}

// AskAnswered follows the room of an ask if the session was let in. Call it after the client has
// been told.
func (t *Conversation) AskAnswered(link presence.LinkID, answered presence.AskAnswered) {
	t.mu.Lock()
	how, asked := t.asking[answered.Room]
	delete(t.asking, answered.Room)
	t.mu.Unlock()
	if asked && answered.Outcome == presence.Admitted {
		t.followJoined(link, answered.Room, how)
	}
}

// Return returns the greeting of an event stream whose client returns over a new
// connection: its hello, repeated.
func (t *Conversation) Return() *Greeting {
	who := t.Guest()
	c := &Greeting{realms: t.realms, guest: who, in: *t.again, session: t.again.Session != ""}
	c.in.Profile, c.in.Grants = who.person.Profile, who.grants() // its token may have been renewed
	c.in.Issued, c.in.Expires = who.person.Issued.UnixMilli(), who.person.Expires.UnixMilli()
	c.in.NewSession, c.in.NewKey = newSessionID(), rand.Text()
	return c
}

// Again returns the hello with which the client of an event stream continues at another node, made from the
// hello that it came with.
func (t *Conversation) Again(h wire.Hello) wire.Hello {
	h.Rooms, h.IdleFor, h.Revs, h.OneByOne = nil, nil, nil, true // it keeps its rooms, and what it may watch
	if t.again.Session != "" {
		h.Resume, h.Nonce = &wire.Resume{Session: string(t.again.Session), ResumeKey: t.again.Key}, t.again.Nonce
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	came := h.Watch
	h.Watch = nil
	for pattern, detail := range t.watching {
		watch := wire.Watch{Room: string(pattern), Detail: wire.DetailMembers}
		if detail == delivery.AtCount {
			watch.Detail = wire.DetailCount
		}
		if i := slices.IndexFunc(came, func(w wire.Watch) bool { return w.Room == watch.Room }); i >= 0 {
			watch = came[i]
		}
		h.Watch = append(h.Watch, watch)
	}
	if len(t.people) > 0 {
		var users []string
		for user := range t.people {
			users = append(users, string(user))
		}
		h.Watch = append(h.Watch, wire.Watch{People: users})
	}
	return h
}

// Withdraw ends the session that a return opened because the old session had ended.
func (t *Conversation) Withdraw(link presence.LinkID) {
	t.Guest().realm.Apply(presence.Bye{From: link})
}

// Returned stops following the rooms that the session left while the client was away.
func (t *Conversation) Returned(rooms []presence.RoomName) {
	for _, pattern := range t.receiver.Following(delivery.Joined) {
		if room, _ := pattern.Room(); !slices.Contains(rooms, room) {
			t.receiver.Unfollow(delivery.Joined, pattern)
		}
	}
}

// Guest returns who the client is. It changes when the token is renewed.
func (t *Conversation) Guest() *Guest { return t.guest.Load() }

// Next appends the frames that the client needs next, and reports whether there are more.
func (t *Conversation) Next(frames []deflate.Text) (_ []deflate.Text, more bool) {
	return t.receiver.Next(frames)
}

// Record remembers the frames that Next returns from now on, numbered from the one after
// number, so that the conversation can be rewound.
func (t *Conversation) Record(after uint64) { t.receiver.Record(after) }

// Rewind lets Next return the frames after a number again.
func (t *Conversation) Rewind(number uint64) { t.receiver.Rewind(number) }

// Rewake replaces the wake function.
func (t *Conversation) Rewake(wake func()) { t.receiver.Rewake(wake) }

// Close stops following everything.
func (t *Conversation) Close() { t.receiver.Close() }

// End says why to close a link: a close code, and the reason.
type End struct {
	Code   int
	Reason string
}

// TakenOut stops following a room that the session is no longer in.
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

// Narrow ends the watches that the guest is no longer allowed, and returns them.
func (t *Conversation) Narrow() []wire.Drop { return t.narrow(nil) }

// narrow is Narrow; if admits is not nil, it also asks whether each pattern is still admitted.
func (t *Conversation) narrow(admits func(presence.Pattern) error) (dropped []wire.Drop) {
	who := t.Guest()
	t.receiver.Recheck()
	t.mu.Lock()
	watching, people := maps.Clone(t.watching), maps.Clone(t.people) // mostly nil
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

// note adds a wish to the watches, within their limit.
func (t *Conversation) note(w wish) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	watching, people := maps.Clone(t.watching), maps.Clone(t.people)
	if watching == nil && len(w.watches) > 0 {
		watching = make(map[presence.Pattern]delivery.Detail, len(w.watches))
	}
	for _, watch := range w.watches {
		watching[watch.pattern] = watch.how.Detail
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

// follow starts following a wish, except for what has been taken away since it was noted.
func (t *Conversation) follow(w wish) {
	for _, watch := range w.watches {
		t.receiver.Follow(delivery.Watched, watch.pattern, watch.how)
		if !t.watches(watch.pattern) { // taken away since
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

// followJoined follows a room that the session is in. If the session was taken out of it a
// moment ago, there was nothing to stop following then, so followJoined does it.
func (t *Conversation) followJoined(link presence.LinkID, room presence.RoomName, how delivery.How) {
	if how.Detail == delivery.None {
		t.receiver.Unfollow(delivery.Joined, presence.Pattern(room))
		return
	}
	t.receiver.Follow(delivery.Joined, presence.Pattern(room), how)
	if !slices.Contains(t.Guest().realm.core.RoomsOver(link), room) {
		t.receiver.Unfollow(delivery.Joined, presence.Pattern(room))
	}
}

func (t *Conversation) watches(pattern presence.Pattern) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	_, ok := t.watching[pattern]
	return ok
}

// stopWatching ends the watch of a pattern, and reports whether there was one.
func (t *Conversation) stopWatching(pattern presence.Pattern) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	_, ok := t.watching[pattern]
	delete(t.watching, pattern)
	return ok
}

// stopWatchingPeople ends watches of people. If one of them is not watched, it returns that
// one and changes nothing.
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

// Keep stores a frame for a client without a connection until it returns.
func (t *Conversation) Keep(frame []byte) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.unsaid) < maxUnsaid {
		t.unsaid = append(t.unsaid, frame)
	}
}

// TakeKept returns the stored frames and forgets them.
func (t *Conversation) TakeKept() [][]byte {
	t.mu.Lock()
	defer t.mu.Unlock()
	frames := t.unsaid
	t.unsaid = nil
	return frames
}

// mayList reports whether the client may list the members of a room: its session is in the
// room, or it may watch the room.
func (t *Conversation) mayList(ctx context.Context, link presence.LinkID, room presence.RoomName) error {
	who := t.Guest()
	if err := who.mayFollow(presence.Pattern(room), delivery.AtMembers); err != nil {
		return err
	}
	if link != (presence.LinkID{}) && slices.Contains(who.realm.core.RoomsOver(link), room) {
		return nil
	}
	return who.admittedToWatch(ctx, presence.Pattern(room))
}

// page returns one page of a room at a revision.
func (t *Conversation) page(r wire.Request, topic engine.Topic, revision engine.Revision) (wire.Members, error) {
	page, ok := t.Guest().realm.hub.Page(topic, revision, delivery.PageWanted{After: presence.UserID(r.After), Limit: r.Limit})
	if !ok {
		return page, &wire.Problem{Code: wire.CodeOldRevision, Field: "rev", Value: wire.Shorten(r.Rev),
			Detail: "the room is no longer known at this revision", Allowed: "the first page again, without rev"}
	}
	return page, nil
}
