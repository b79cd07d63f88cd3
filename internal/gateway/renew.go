package gateway

import (
	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// renew takes a newer token of the same person. What it no longer grants is over: the
// session leaves rooms, and the link follows no more what it may not. A link that would
// see with other eyes has to begin anew.
func (l *link) renew(r wire.Request) error {
	if l.guest.operator {
		_, err := l.session()
		return err
	}
	who, err := l.gateway.identify(wire.Hello{Token: r.Token}, l.caller)
	if err != nil {
		return err
	}
	if who.id() != l.guest.id() {
		return &wire.Problem{Code: wire.CodeBadToken, Field: "token", Detail: "the token is another person's",
			Allowed: "a newer token of the person of this link"}
	}
	person := who.person
	err = l.tell(r, func(from presence.LinkID) presence.Input {
		return presence.Renew{From: from, Profile: person.Profile, Issued: person.Issued.UnixMilli(), Expires: person.Expires.UnixMilli()}
	})
	if err != nil {
		return err
	}
	seesOtherwise := person.Sees != l.guest.person.Sees
	l.guest.person = person
	l.badge.Store(l.guest.badge())
	if seesOtherwise {
		l.finish(wire.CloseExpired, "another token")
		return nil
	}
	l.narrow()
	return nil
}

// narrow ends what the person's token does not grant any more.
func (l *link) narrow() {
	g := l.guest
	for _, room := range l.realm.Engine.RoomsOf(g.person.User, presence.Full) {
		if g.person.MayJoin(room) {
			continue
		}
		if _, err := l.realm.do(presence.Leave{From: l.carries, Room: room}); err == nil {
			l.receiver.Unfollow(delivery.Joined, presence.Pattern(room))
		}
	}
	for pattern, detail := range g.watching {
		if g.mayFollow(pattern, detail) != nil {
			delete(g.watching, pattern)
			l.receiver.Unfollow(delivery.Watched, pattern)
		}
	}
	for user := range g.people {
		if !g.mayFollowPerson(user) {
			delete(g.people, user)
			l.receiver.UnfollowPeople([]presence.UserID{user})
		}
	}
}
