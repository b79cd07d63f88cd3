package cluster

import (
	"context"
	"maps"
	"sync/atomic"
	"time"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// Core is a realm's core as a node reaches it, wherever it runs. It has the methods of an
// [engine.Engine] that package realm uses, and tells a Sink and Links as an engine does. It is a
// delivery.Source and a delivery.Follower.
//
// A question waits for an owner up to Timings.Wait; without one, its answer is empty, and [Core.Unanswered]
// counts it.
type Core struct {
	runner     *Runner
	realm      Realm
	sink       engine.Sink
	links      engine.Links // may be a [FrameTaker] and a [Remover]
	unanswered atomic.Uint64

	// The runner's lock guards what follows.
	follows map[Wish]int
	people  map[engine.Subject]int
	sealing map[engine.Topic]chan struct{}   // closed at the next seal that is told
	told    map[engine.Topic]engine.Revision // what the sink was told last
	asked   map[engine.Topic]bool            // somebody waits for the next seal, or for what is being told now
}

// Core returns the core of a realm for this node. Call it once for each realm.
func (r *Runner) Core(realm Realm, sink engine.Sink, links engine.Links) *Core {
	c := &Core{runner: r, realm: realm, sink: sink, links: links, follows: map[Wish]int{}, people: map[engine.Subject]int{}, sealing: map[engine.Topic]chan struct{}{}, told: map[engine.Topic]engine.Revision{}, asked: map[engine.Topic]bool{}}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.cores[realm] = c
	return c
}

func (c *Core) tell(effect presence.Effect) {
	switch e := effect.(type) {
	case presence.TakenOut:
		c.links.TakenOut(e)
	case presence.OwnChanged:
		c.links.OwnChanged(e)
	case presence.WarnExpiry:
		c.links.WarnExpiry(e.Link, time.UnixMilli(e.Expires))
	case presence.AskAnswered:
		c.links.AskAnswered(e)
	case presence.InvitationAnswered:
		c.links.InvitationAnswered(e)
	case presence.PassEnded:
		c.links.PassEnded(e)
	case presence.InvitationsChanged:
		c.links.InvitationsChanged(e)
	}
}

func (c *Core) show(what any) {
	switch what := what.(type) {
	case *engine.Batch:
		c.sink.Take(what)
		revision := what.Revision
		if what.Ended {
			revision = engine.Revision{}
		}
		if c.sealed(what.Topic, &revision) {
			c.sink.TakeUnchanged(what.Topic) // for whoever came while it was told
		}
	case engine.Topic:
		c.sink.TakeUnchanged(what)
		if c.sealed(what, nil) {
			c.sink.TakeUnchanged(what)
		}
	case engine.Typists:
		c.sink.TakeTypists(what)
	case engine.Asks:
		c.sink.TakeAsks(what)
	case engine.Sight:
		c.sink.TakeSight(what)
	}
}

// sealed notes that a topic was told, at a revision if it has changed. It reports whether somebody waits for that.
func (c *Core) sealed(topic engine.Topic, revision *engine.Revision) (asked bool) {
	c.runner.mu.Lock()
	defer c.runner.mu.Unlock()
	switch {
	case revision == nil || !c.runner.node.Follows(c.realm, topic):
	case *revision == engine.Revision{}:
		delete(c.told, topic)
	default:
		c.told[topic] = *revision
	}
	asked = c.asked[topic]
	delete(c.asked, topic)
	if waited := c.sealing[topic]; waited != nil {
		close(waited)
		delete(c.sealing, topic)
	}
	return asked
}

// current reports whether a list is known here, and the receivers were told what is known. The lock is held.
func (c *Core) current(topic engine.Topic) bool {
	revision, known := c.runner.node.Revision(c.realm, topic)
	return known && revision == c.told[topic]
}

// Do applies an input, as [engine.Engine.Do] does. Its error may also be [ErrNotReady].
func (c *Core) Do(ctx context.Context, in presence.Input) (presence.Reply, error) {
	switch in := in.(type) {
	case presence.Hello:
		if !in.Leased {
			return c.begin(in)(ctx)
		}
	case presence.BeatWritten:
		return presence.Reply{}, nil // the node has said it
	case presence.LinkLost:
		c.runner.with(func(n *Node, at presence.Instant) {
			if conn := n.ConnOf(c.realm, in.Link); conn != 0 {
				n.Broke(at, c.realm, conn)
				delete(c.runner.carried, conn)
			}
		})
		return presence.Reply{}, nil
	}
	a, err := c.request(ctx, presence.From(in), Request{Input: in})
	return a.Reply, err
}

// Begin is Do for a caller that has other things to do while a hello waits (see [engine.Engine.Begin]).
// Each hello waits here, for its owner.
func (c *Core) Begin(in presence.Input) (presence.Reply, func(context.Context) (presence.Reply, error), error) {
	hello, ok := in.(presence.Hello)
	if !ok || hello.Leased {
		reply, err := c.Do(context.Background(), in)
		return reply, nil, err
	}
	return presence.Reply{}, c.begin(hello), nil
}

// begin says a hello. The function that it returns waits for the answer.
func (c *Core) begin(in presence.Hello) func(context.Context) (presence.Reply, error) {
	r := c.runner
	answer := make(chan Answer, 1)
	var conn ConnID
	r.with(func(n *Node, at presence.Instant) {
		r.next++
		conn, in.Attempt = ConnID(r.next), r.attempt()
		r.conns[conn] = pendingHello{c, answer}
		n.Hello(at, c.realm, conn, in)
	})
	return func(ctx context.Context) (presence.Reply, error) {
		select {
		case a := <-answer:
			return a.Reply, a.Err
		case <-r.over:
			return presence.Reply{}, ErrNotReady
		case <-ctx.Done():
			r.with(func(n *Node, at presence.Instant) {
				delete(r.conns, conn)
				delete(r.carried, conn)
				n.Broke(at, c.realm, conn)
			})
			return presence.Reply{}, ctx.Err()
		}
	}
}

// attempt returns an attempt's name that no other node uses. The lock is held.
func (r *Runner) attempt() uint64 {
	r.next++
	return r.node.place()<<48 ^ r.next
}

// request asks the owner for something, over a link if it is not empty.
func (c *Core) request(ctx context.Context, link presence.LinkID, request Request) (Answer, error) {
	r := c.runner
	answer := make(chan Answer, 1)
	r.with(func(n *Node, at presence.Instant) {
		var conn ConnID
		if link != (presence.LinkID{}) {
			conn = n.ConnOf(c.realm, link) // 0 if it is gone: the owner knows why
		}
		if hello, ok := request.Input.(presence.Hello); ok {
			hello.Attempt = r.attempt()
			request.Input, request.Attempt = hello, hello.Attempt
		} else {
			request.Attempt = r.attempt()
		}
		r.waiting[request.Attempt] = answer
		n.Requested(at, c.realm, conn, request)
		switch request.Input.(type) {
		case presence.Bye, presence.Closing:
			delete(r.carried, conn)
		}
	})
	select {
	case a := <-answer:
		return a, a.Err
	case <-r.over:
		return Answer{}, ErrNotReady
	case <-ctx.Done():
		r.mu.Lock()
		defer r.mu.Unlock()
		delete(r.waiting, request.Attempt)
		return Answer{}, ctx.Err()
	}
}

// Change brings a change of the records into the log, by the owner of a realm. It returns when it is on
// record there.
func (r *Runner) Change(ctx context.Context, realm Realm, change any) error {
	_, err := (&Core{runner: r, realm: realm}).request(ctx, presence.LinkID{}, Request{Change: change})
	return err
}

// Unanswered returns how many questions had no answer so far. If it has grown, what was answered meanwhile
// may lack something.
func (c *Core) Unanswered() uint64 { return c.unanswered.Load() }

// Here reports whether this node owns the realm and answers for it now, so that no request waits for another node.
func (c *Core) Here() bool {
	c.runner.mu.Lock()
	defer c.runner.mu.Unlock()
	return c.owned() != nil
}

// owned returns the engine if this node owns the realm and answers for it now. The lock is held.
func (c *Core) owned() *engine.Engine {
	n := c.runner.node
	n.runs(c.runner.at())
	if is, owns := n.Owned(c.realm); owns && is.Speaks {
		return is.Engine
	}
	return nil
}

// here is owned for a question, which comes after all that the node has said to itself. The lock is held.
func (c *Core) here() *engine.Engine {
	if n := c.runner.node; len(n.peers[n.Name].out.waiting) > 0 {
		return nil
	}
	return c.owned()
}

// question asks the owner's engine. It returns nil if no owner answers in time.
func (c *Core) question(method string, args ...any) []any {
	c.runner.mu.Lock()
	if e := c.here(); e != nil {
		defer c.runner.mu.Unlock()
		return (&Question{method, args}).ask(e)
	}
	c.runner.mu.Unlock()
	a, err := c.request(context.Background(), presence.LinkID{}, Request{Question: &Question{method, args}})
	if err != nil {
		c.unanswered.Add(1)
		return nil
	}
	return a.Values
}

// ask is question for one value, which is empty without an answer.
func ask[T any](c *Core, method string, args ...any) (value T) {
	if values := c.question(method, args...); values != nil {
		value, _ = values[0].(T)
	}
	return value
}

func ask2[T, U any](c *Core, method string, args ...any) (first T, second U) {
	if values := c.question(method, args...); values != nil {
		first, _ = values[0].(T)
		second, _ = values[1].(U)
	}
	return first, second
}

// Unsealed implements delivery.Source: whether a list is not known here yet, or has changes at its owner
// that are not sealed. They will be told.
func (c *Core) Unsealed(topic engine.Topic) bool {
	c.runner.mu.Lock()
	current := c.current(topic)
	if !current {
		c.asked[topic] = true
	}
	if here := c.here(); current && here != nil { // cheaper than a question, and asked for each list that is followed
		defer c.runner.mu.Unlock()
		return here.Unsealed(topic)
	}
	c.runner.mu.Unlock()
	return !current || ask[bool](c, "Unsealed", topic)
}

// Sealed implements delivery.Source. The list is as the receivers of this node have it.
func (c *Core) Sealed(topic engine.Topic) (s engine.Snapshot) {
	c.runner.mu.Lock()
	defer c.runner.mu.Unlock()
	s, _ = c.runner.node.List(c.realm, topic)
	return s
}

// Sight implements delivery.Source.
func (c *Core) Sight(subject engine.Subject) engine.Sight {
	if values := c.question("Sight", subject); values != nil {
		return values[0].(engine.Sight)
	}
	return engine.Sight{Subject: subject, Appearance: presence.Appearance{Status: presence.Offline}}
}

// Follow implements delivery.Follower.
func (c *Core) Follow(pattern presence.Pattern, view presence.View) {
	c.follow(Wish{pattern, view}, 1)
}

// Unfollow implements delivery.Follower.
func (c *Core) Unfollow(pattern presence.Pattern, view presence.View) {
	c.follow(Wish{pattern, view}, -1)
}

func (c *Core) follow(wish Wish, n int) {
	c.later(func(node *Node, at presence.Instant) {
		switch c.follows[wish] += n; {
		case c.follows[wish] == 0:
			delete(c.follows, wish)
			node.Unfollow(at, c.realm, Unfollow{Wishes: []Wish{wish}})
			maps.DeleteFunc(c.told, func(topic engine.Topic, _ engine.Revision) bool { return !node.Follows(c.realm, topic) })
			maps.DeleteFunc(c.asked, func(topic engine.Topic, _ bool) bool { return !node.Follows(c.realm, topic) })
		case n > 0 && c.follows[wish] == 1:
			node.Follow(at, c.realm, Follow{Wishes: []Wish{wish}})
		}
	})
}

// FollowPerson implements delivery.Follower.
func (c *Core) FollowPerson(subject engine.Subject) {
	c.later(func(node *Node, at presence.Instant) {
		if c.people[subject]++; c.people[subject] == 1 {
			node.Follow(at, c.realm, Follow{People: []engine.Subject{subject}})
		}
	})
}

// UnfollowPerson implements delivery.Follower.
func (c *Core) UnfollowPerson(subject engine.Subject) {
	c.later(func(node *Node, at presence.Instant) {
		if c.people[subject]--; c.people[subject] == 0 {
			delete(c.people, subject)
			node.Unfollow(at, c.realm, Unfollow{People: []engine.Subject{subject}})
		}
	})
}

// later changes the node and tells nobody, because its callers hold locks of the receivers. Run tells them
// soon.
func (c *Core) later(do func(*Node, presence.Instant)) {
	r := c.runner
	r.mu.Lock()
	defer r.mu.Unlock()
	do(r.node, r.at())
	r.hurry()
}

// Count returns how many are in a topic now (see [engine.Engine.Count]).
func (c *Core) Count(topic engine.Topic) (presence.Count, bool) {
	return ask2[presence.Count, bool](c, "Count", topic)
}

// Tally returns a count with its revision (see [engine.Engine.Tally]).
func (c *Core) Tally(topic engine.Topic) (presence.Count, engine.Revision) {
	return ask2[presence.Count, engine.Revision](c, "Tally", topic)
}

// SnapshotNow returns a topic as it is now (see [engine.Engine.SnapshotNow]).
func (c *Core) SnapshotNow(topic engine.Topic) engine.Snapshot {
	return ask[engine.Snapshot](c, "SnapshotNow", topic)
}

// MembersNow returns the members of a room now (see [engine.Engine.MembersNow]).
func (c *Core) MembersNow(room presence.RoomName) []presence.Member {
	return ask[[]presence.Member](c, "MembersNow", room)
}

// SightNow returns how a view sees a person now (see [engine.Engine.SightNow]).
func (c *Core) SightNow(subject engine.Subject) engine.Sight {
	return ask[engine.Sight](c, "SightNow", subject)
}

// Rooms returns the counts of all rooms (see [engine.Engine.Rooms]).
func (c *Core) Rooms(view presence.View) map[presence.RoomName]presence.Count {
	return ask[map[presence.RoomName]presence.Count](c, "Rooms", view)
}

// RoomsOver returns the rooms of the session of a link (see [engine.Engine.RoomsOver]). Of a link that this node
// carries, it knows them: as its client has been told.
func (c *Core) RoomsOver(link presence.LinkID) []presence.RoomName {
	c.runner.mu.Lock()
	rooms, carries := c.runner.node.RoomsOver(c.realm, link)
	c.runner.mu.Unlock()
	if carries {
		return rooms
	}
	return ask[[]presence.RoomName](c, "RoomsOver", link)
}

// RoomsOf returns the rooms of a person (see [engine.Engine.RoomsOf]).
func (c *Core) RoomsOf(user presence.UserID, view presence.View) []presence.RoomName {
	return ask[[]presence.RoomName](c, "RoomsOf", user, view)
}

// Explain explains how a person is shown (see [engine.Engine.Explain]).
func (c *Core) Explain(user presence.UserID, room presence.RoomName) presence.Explanation {
	return ask[presence.Explanation](c, "Explain", user, room)
}

// Quotas returns how much is used of the quotas that have a limit (see [engine.Engine.Quotas]).
func (c *Core) Quotas() []presence.QuotaUse { return ask[[]presence.QuotaUse](c, "Quotas") }

// Size returns how many sessions, people and rooms there are (see [engine.Engine.Size]).
func (c *Core) Size() presence.Size { return ask[presence.Size](c, "Size") }

// Near tells whether a view sees a person in a room of another one (see [engine.Engine.Near]).
func (c *Core) Near(user, other presence.UserID, view presence.View) bool {
	return ask[bool](c, "Near", user, other, view)
}

// LetsWatch tells whether a person may watch a room (see [engine.Engine.LetsWatch]).
func (c *Core) LetsWatch(user presence.UserID, admits []presence.Pattern, room presence.RoomName, countOnly bool) bool {
	return ask[bool](c, "LetsWatch", user, admits, room, countOnly)
}

// OpenAsks returns the open asks (see [engine.Engine.OpenAsks]).
func (c *Core) OpenAsks() []presence.OpenAsk { return ask[[]presence.OpenAsk](c, "OpenAsks") }

// OpenInvitations returns the open invitations (see [engine.Engine.OpenInvitations]).
func (c *Core) OpenInvitations() []presence.Invitation {
	return ask[[]presence.Invitation](c, "OpenInvitations")
}

// Passes returns the passes of a person (see [engine.Engine.Passes]).
func (c *Core) Passes(user presence.UserID) []presence.Pass {
	return ask[[]presence.Pass](c, "Passes", user)
}

// Sealing returns a channel that closes when the pending changes of a topic are sealed and told here;
// nil if there are none.
func (c *Core) Sealing(topic engine.Topic) <-chan struct{} {
	c.runner.mu.Lock()
	waited := c.sealing[topic]
	if waited == nil {
		waited = make(chan struct{})
		c.sealing[topic] = waited
	}
	_, known := c.runner.node.Revision(c.realm, topic)
	current := c.current(topic)
	c.runner.mu.Unlock()
	if !known || current && !ask[bool](c, "Unsealed", topic) {
		return nil
	}
	return waited
}

// Session returns what is known about a session (see [engine.Engine.Session]).
func (c *Core) Session(session presence.SessionID, key string) (e presence.Evidence, user presence.UserID, ok bool) {
	if values := c.question("Session", session, key); values != nil {
		e, user, ok = values[0].(presence.Evidence), values[1].(presence.UserID), values[2].(bool)
	}
	return e, user, ok
}

// Issued returns when the newest token of a person's sessions was issued (see [engine.Engine.Issued]).
func (c *Core) Issued(user presence.UserID) time.Time { return ask[time.Time](c, "Issued", user) }

// Refused returns for what a token is refused (see [engine.Engine.Refused]).
func (c *Core) Refused(user presence.UserID, issued time.Time) (altogether bool, rooms []presence.RoomName) {
	return ask2[bool, []presence.RoomName](c, "Refused", user, issued)
}

// Cue gives a cue, and returns the links to which it goes (see [engine.Engine.Cue]).
func (c *Core) Cue(from presence.LinkID, to presence.CueTo, may []presence.Pattern) ([]presence.Carried, error) {
	return ask2[[]presence.Carried, error](c, "Cue", from, to, may)
}

// Offer passes a frame to the clients of links, at whichever nodes. It returns to how many; some of them
// may not get it.
func (c *Core) Offer(links []presence.Carried, frame []byte) int {
	p := Pass{Frame: frame}
	for _, link := range links {
		p.Links = append(p.Links, link.Link)
	}
	c.runner.with(func(n *Node, at presence.Instant) { n.Pass(at, c.realm, p) })
	return len(links)
}

// RoomOfAsk returns the room of an ask (see [engine.Engine.RoomOfAsk]).
func (c *Core) RoomOfAsk(id presence.AskID) presence.RoomName {
	return ask[presence.RoomName](c, "RoomOfAsk", id)
}

// RoomOfInvitation returns the room of an invitation (see [engine.Engine.RoomOfInvitation]).
func (c *Core) RoomOfInvitation(id presence.InvitationID) presence.RoomName {
	return ask[presence.RoomName](c, "RoomOfInvitation", id)
}

// InvitationRoom returns the room of a received invitation (see [engine.Engine.InvitationRoom]).
func (c *Core) InvitationRoom(user presence.UserID, id presence.InvitationID) (presence.RoomName, error) {
	return ask2[presence.RoomName, error](c, "InvitationRoom", user, id)
}

// Known returns the people whose state is worth saving (see [engine.Engine.Known]).
func (c *Core) Known() []presence.UserID { return ask[[]presence.UserID](c, "Known") }

// Everybody returns what is saved of all people (see [engine.Engine.Everybody]).
func (c *Core) Everybody() []presence.SavedPerson { return ask[[]presence.SavedPerson](c, "Everybody") }

// Erase ends all sessions of a person and forgets everything about them (see [engine.Engine.Erase]).
func (c *Core) Erase(user presence.UserID) map[string]int {
	traces := ask[map[string]int](c, "Traces", user)
	_, _ = c.Do(context.Background(), presence.Erase{User: user}) // never refused
	return traces
}

// SetPolicy puts another policy in force here, should this node own the realm later, and at its owner.
func (c *Core) SetPolicy(policy presence.Policy) {
	c.runner.with(func(n *Node, _ presence.Instant) { n.SetPolicy(c.realm, policy) })
	_, _ = c.Do(context.Background(), presence.SetPolicy{Policy: policy}) // never refused
}
