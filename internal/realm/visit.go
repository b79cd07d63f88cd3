package realm

import (
	"context"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/wire"
)

// Visitor is a person who asks over HTTP with a token and has no link. The grants of the token
// apply, and its view.
type Visitor struct{ guest *Guest }

// Visit identifies a person by their token. Its error is a problem, or a refusal of the core.
func (s *Realms) Visit(token string, caller Caller) (Visitor, error) {
	caller.Operator = nil // only the token counts
	who, err := s.identify(wire.Hello{Token: token}, caller)
	if err != nil {
		return Visitor{}, err
	}
	if err := s.StillIn(who); err != nil {
		return Visitor{}, err
	}
	return Visitor{who}, who.realm.Answered(who.notRemoved)
}

// Answered is [Realm.Answered] for the realm of the person.
func (v Visitor) Answered(do func() error) error { return v.guest.realm.Answered(do) }

// ID returns the person.
func (v Visitor) ID() PersonID { return v.guest.ID() }

// Count returns the count of a room. A room without anybody, as the person sees it, has the
// count zero.
func (v Visitor) Count(ctx context.Context, name string) (wire.Room, error) {
	topic, err := v.topic(ctx, name, delivery.AtCount)
	if err != nil {
		return wire.Room{}, err
	}
	count, _ := v.guest.realm.core.Count(topic)
	return wire.Room{Room: string(topic.Room), Count: delivery.Count(count)}, nil
}

// Members returns a page of a room's members as of one revision. What it returns does not depend
// on who else follows the room, and asking does not seal changes.
func (v Visitor) Members(ctx context.Context, name string, q MembersQuery) (wire.Members, error) {
	topic, err := v.topic(ctx, name, delivery.AtMembers)
	if err != nil {
		return wire.Members{}, err
	}
	want, err := q.wanted()
	if err != nil {
		return wire.Members{}, err
	}
	revision, ok := engine.ParseRevision(q.Rev)
	if !ok {
		return wire.Members{}, problem.BadField("rev", q.Rev, "this is not a revision", "the rev of the previous page")
	}
	page, ok := v.guest.realm.hub.Page(topic, revision, want)
	if !ok {
		return page, oldRevision(q.Rev)
	}
	return page, nil
}

// Status returns the status of a person whom the visitor may watch. An unknown person is
// offline.
func (v Visitor) Status(id string) (wire.StatusOfPerson, error) {
	user, err := userOf(id)
	if err != nil {
		return wire.StatusOfPerson{}, err
	}
	if !v.guest.mayFollowPerson(user) {
		return wire.StatusOfPerson{}, problem.NotGranted("user", id, grantList(v.guest.person.People, "watching of people"))
	}
	return statusDocument(v.guest.realm.core.Sight(engine.Subject{User: user, View: v.guest.view()})), nil
}

// topic checks that the person may watch a room at a detail.
func (v Visitor) topic(ctx context.Context, name string, detail delivery.Detail) (engine.Topic, error) {
	room, err := presence.ParseRoom(name)
	if err != nil {
		return engine.Topic{}, err
	}
	pattern := presence.Pattern(room)
	if err := v.guest.mayFollow(pattern, detail); err != nil {
		return engine.Topic{}, err
	}
	return engine.Topic{Room: room, View: v.guest.view()}, v.guest.admittedToWatch(ctx, pattern)
}
