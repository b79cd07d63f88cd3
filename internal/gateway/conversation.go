package gateway

import (
	"maps"
	"slices"
	"sync"
	"sync/atomic"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// conversation is what a client and the service have agreed on: who speaks, and what is
// followed. That of an event stream outlives its connections.
type conversation struct {
	guest    atomic.Pointer[guest]
	receiver *delivery.Receiver

	mu       sync.Mutex
	watching map[presence.Pattern]delivery.Detail
	people   map[presence.UserID]struct{} // that are watched
	unsaid   [][]byte                     // for a client that has no connection now, at most maxUnsaid
}

// maxUnsaid bounds the frames that wait for a client to come back.
const maxUnsaid = 64

func newConversation(who *guest, wake func()) *conversation {
	c := &conversation{receiver: who.realm.Hub.NewReceiver(who.view(), wake)}
	c.guest.Store(who)
	return c
}

// note adds a wish to what is watched, within the limit of watches.
func (c *conversation) note(w wish) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	watching, people := maps.Clone(c.watching), maps.Clone(c.people)
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
	c.watching, c.people = watching, people
	return nil
}

// follow begins to follow what was wished, less what has been taken away meanwhile.
func (c *conversation) follow(w wish) {
	for _, watch := range w.watches {
		c.receiver.Follow(delivery.Watched, watch.pattern, watch.detail)
		if !c.watches(watch.pattern) { // taken away before it was followed
			c.receiver.Unfollow(delivery.Watched, watch.pattern)
		}
	}
	if len(w.people) == 0 {
		return
	}
	c.receiver.FollowPeople(w.people, w.profiles)
	c.mu.Lock()
	gone := slices.DeleteFunc(slices.Clone(w.people), func(user presence.UserID) bool { _, ok := c.people[user]; return ok })
	c.mu.Unlock()
	c.receiver.UnfollowPeople(gone)
}

func (c *conversation) watches(pattern presence.Pattern) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	_, ok := c.watching[pattern]
	return ok
}

// unwatch ends the watching of a pattern, and tells whether it was watched.
func (c *conversation) unwatch(pattern presence.Pattern) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	_, ok := c.watching[pattern]
	delete(c.watching, pattern)
	return ok
}

// unwatchPeople ends the watching of people. When one of them is not watched, it returns
// that one and changes nothing.
func (c *conversation) unwatchPeople(users []presence.UserID) (unknown presence.UserID) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, user := range users {
		if _, ok := c.people[user]; !ok {
			return user
		}
	}
	for _, user := range users {
		delete(c.people, user)
	}
	return ""
}

// narrow ends the watching of all that the guest may not watch any more, and returns what
// that is. It can be called beside anything else.
func (c *conversation) narrow(admits func(presence.Pattern) error) (dropped []wire.Drop) {
	who := c.guest.Load()
	c.mu.Lock()
	watching, people := maps.Clone(c.watching), maps.Clone(c.people) // nil for most
	c.mu.Unlock()
	for pattern, detail := range watching {
		err := who.mayFollow(pattern, detail)
		if err == nil && admits != nil {
			err = admits(pattern)
		}
		if err != nil && c.unwatch(pattern) {
			c.receiver.Unfollow(delivery.Watched, pattern)
			dropped = append(dropped, drop(wire.Drop{Room: string(pattern), Watch: true}, err))
		}
	}
	for user := range people {
		if who.mayFollowPerson(user) {
			continue
		}
		if users := []presence.UserID{user}; c.unwatchPeople(users) == "" {
			c.receiver.UnfollowPeople(users)
			dropped = append(dropped, drop(wire.Drop{User: string(user), Watch: true}, notGranted("people", string(user), grantList(who.person.People, "watching of people"))))
		}
	}
	return dropped
}

// drop says why something is not given to a client, or no longer.
func drop(what wire.Drop, err error) wire.Drop {
	what.Problem = *ProblemOf(err)
	what.Help = wire.HelpPath(what.Code)
	return what
}

func dropFrame(d wire.Drop) []byte { return encode(wire.DropFrame{Type: wire.TypeDropped, Drop: d}) }

// keep holds a frame for a client until it is back.
func (c *conversation) keep(frame []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.unsaid) < maxUnsaid {
		c.unsaid = append(c.unsaid, frame)
	}
}

func (c *conversation) takeUnsaid() [][]byte {
	c.mu.Lock()
	defer c.mu.Unlock()
	frames := c.unsaid
	c.unsaid = nil
	return frames
}
