package gateway

import (
	"net"
	"slices"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// leaseNonce stands for the client of a lease that names no page of its own: the key
// is proof enough that it is the same.
const leaseNonce = "lease"

// Beat is a beat over HTTP: it opens a session without a connection or goes on with
// one, and takes over what the client says. All is checked before any of it is
// applied. The error is a problem, or a refusal of the core.
func (g *Gateway) Beat(conn net.Conn, token, session string, b wire.Beating, caller Caller) (wire.Lease, error) {
	if b.Nonce == "" {
		b.Nonce = leaseNonce
	}
	h := wire.Hello{Token: token, Nonce: b.Nonce, Rooms: b.Rooms, PageHidden: b.PageHidden, IdleFor: b.IdleFor, NoInput: b.NoInput,
		Resume: &wire.Resume{Session: session, ResumeKey: b.ResumeKey}}
	if b.ResumeKey == "" {
		h.Resume = nil
	}
	who, err := g.identify(h, caller)
	if err != nil {
		return wire.Lease{}, err
	}
	if b.Active && b.Idle {
		return wire.Lease{}, &wire.Problem{Code: wire.CodeBadField, Field: "idle", Value: "true",
			Detail: "nobody is active and idle at once", Allowed: "one of active and idle"}
	}
	revs, err := revisions(b.Revs)
	if err != nil {
		return wire.Lease{}, err
	}
	c := &greeting{guest: who, session: true}
	if c.in, _, err = who.opening(h); err != nil {
		return wire.Lease{}, err
	}
	c.in.Leased = true
	c.in.Report = &presence.Report{Active: b.Active, Idle: b.Idle}
	if b.Typing != nil {
		c.in.Report.Typing = make([]presence.RoomName, len(b.Typing))
		for i, room := range b.Typing {
			c.in.Report.Typing[i] = presence.RoomName(room)
		}
	}
	ctx, done := g.whileAsking(conn)
	defer done()
	if c, err = g.admit(ctx, c); err != nil {
		return wire.Lease{}, err
	}
	reply, err := g.open(ctx, conn, c)
	if err != nil {
		return wire.Lease{}, withdrawn(err)
	}
	g.links.beats.Add(1)
	return g.lease(c, reply, revs), nil
}

func (g *Gateway) lease(c *greeting, reply presence.Reply, revs map[presence.RoomName]engine.Revision) wire.Lease {
	lease := wire.Lease{
		Session: string(reply.Link.Session), ResumeKey: reply.Key, Resumed: reply.Resumed, NotResumed: string(reply.NotResumed),
		User: string(c.guest.person.User), Dropped: c.dropped, Lease: g.policy.Load().Lease.Milliseconds(), Rooms: roomNames(reply.Rooms), Counts: []wire.Tallied{},
	}
	for _, room := range reply.Rooms {
		count, revision := c.guest.realm.Engine.Tally(engine.Topic{Room: room, View: presence.Open})
		if had, ok := revs[room]; !ok || had != revision {
			lease.Counts = append(lease.Counts, wire.Tallied{Room: string(room), Rev: revision.String(), Count: delivery.Count(count)})
		}
	}
	return lease
}

// Session tells what is known of a session to whoever has its key. A wrong key is
// answered like a session that has ended.
func (g *Gateway) Session(session, key string) wire.Session {
	var e presence.Evidence
	known := slices.ContainsFunc(g.realms.All(), func(realm *Realm) (ok bool) {
		e, _, ok = realm.Engine.Session(presence.SessionID(session), key)
		return ok
	})
	if !known {
		return wire.Session{Session: session, State: "ended"}
	}
	return delivery.Session(e)
}

// Bye ends a session at the word of whoever has its key. The answer does not tell a
// wrong key from a session that has ended.
func (g *Gateway) Bye(session, key string) (wire.ClosingAnswer, error) {
	return g.applyNote(presence.ByeNote{Session: presence.SessionID(session), Key: key})
}

func roomNames(rooms []presence.RoomName) []string {
	names := make([]string, len(rooms))
	for i, room := range rooms {
		names[i] = string(room)
	}
	return names
}
