package gateway

import (
	"fmt"
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
func (g *Gateway) Beat(token, session string, b wire.Beating, caller Caller) (wire.Lease, error) {
	if b.Nonce == "" {
		b.Nonce = leaseNonce
	}
	h := wire.Hello{Token: token, Nonce: b.Nonce, Rooms: b.Rooms, Hidden: b.Hidden, IdleFor: b.IdleFor,
		Resume: &wire.Resume{Session: session, Key: b.Key}}
	if b.Key == "" {
		h.Resume = nil
	}
	who, err := g.identify(h, caller)
	if err != nil {
		return wire.Lease{}, err
	}
	in, err := who.opening(h)
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
	if err := typesWhereItIs(b); err != nil {
		return wire.Lease{}, err
	}
	if _, err := who.admitted(in.Rooms); err != nil {
		return wire.Lease{}, err
	}
	in.Profile = who.person.Profile
	in.Leased = true
	reply, err := who.realm.do(in)
	if err != nil {
		return wire.Lease{}, err
	}
	who.narrow(&reply)
	for _, room := range b.Typing { // of rooms that it has from before
		if !slices.Contains(reply.Rooms, presence.RoomName(room)) {
			return wire.Lease{}, &presence.Refusal{Code: presence.CodeNotInRoom, Field: "typing", Value: room, Allowed: "rooms that this session is in"}
		}
	}
	for _, then := range g.reports(b, reply) {
		if _, err := who.realm.do(then); err != nil {
			return wire.Lease{}, err
		}
	}
	g.links.beats.Add(1)
	return g.lease(who, reply, revs), nil
}

func typesWhereItIs(b wire.Beating) error {
	for _, room := range b.Typing {
		if b.Rooms != nil && !slices.Contains(b.Rooms, room) {
			return &wire.Problem{Code: wire.CodeBadField, Field: "typing", Value: wire.Shorten(room),
				Detail: "nobody types in a room that they are not in", Allowed: fmt.Sprint("of rooms: ", b.Rooms)}
		}
	}
	return nil
}

// reports are the inputs that follow from a beat. Typing reports are numbered by the
// links of the session, of which each beat is one.
func (g *Gateway) reports(b wire.Beating, reply presence.Reply) []presence.Input {
	var list []presence.Input
	if b.Active {
		list = append(list, presence.Activity{From: reply.Link})
	}
	if b.Idle {
		list = append(list, presence.Idle{From: reply.Link})
	}
	if b.Typing == nil {
		return list
	}
	number := uint64(reply.Link.Number)
	for _, room := range reply.Rooms {
		list = append(list, presence.Typing{From: reply.Link, Room: room, Number: number,
			On: slices.Contains(b.Typing, string(room))})
	}
	return list
}

func (g *Gateway) lease(who *guest, reply presence.Reply, revs map[presence.RoomName]engine.Revision) wire.Lease {
	lease := wire.Lease{
		Session: string(reply.Link.Session), Key: reply.Key, Resumed: reply.Resumed, NotResumed: string(reply.NotResumed),
		User: string(who.person.User), Lease: g.policy.Load().Lease.Milliseconds(), Rooms: roomNames(reply.Rooms), Counts: []wire.Tallied{},
	}
	for _, room := range reply.Rooms {
		count, revision := who.realm.Engine.Tally(engine.Topic{Room: room, View: presence.Open})
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
