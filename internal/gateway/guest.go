package gateway

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"golang.org/x/text/unicode/norm"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// guest is who a link speaks for, and what it watches.
type guest struct {
	realm    *Realm
	person   access.Person
	operator bool            // by a key, not a token
	key      access.Operator // its
	watching map[presence.Pattern]delivery.Detail
	people   map[presence.UserID]struct{} // whom it watches
}

func (g *guest) view() presence.View {
	if g.operator || g.person.Sees {
		return presence.Full
	}
	return presence.Open
}

func (g *guest) id() personID { return personID{g.realm.Name, g.person.User} }

func (g *guest) badge() *badge {
	b := &badge{realm: g.realm.Name, operator: g.operator, key: g.person.Key, user: g.person.User, watching: slices.Collect(maps.Keys(g.watching))}
	if g.operator {
		b.key = g.key.Key
	}
	return b
}

// identify finds out who says hello.
func (g *Gateway) identify(h wire.Hello, caller Caller) (*guest, error) {
	who, name, err := g.whois(h, caller)
	if err != nil {
		return nil, err
	}
	if who.realm, err = g.realms.Get(name); err != nil {
		return nil, err
	}
	return who, who.realm.allows(caller)
}

func (g *Gateway) whois(h wire.Hello, caller Caller) (who *guest, realm string, err error) {
	switch {
	case h.Token != "" && h.Key != "":
		return nil, "", &wire.Problem{Code: wire.CodeBadField, Field: "key",
			Detail: "the hello has a token and a key", Allowed: "either a person's token or an operator's key"}
	case h.Key != "":
		operator, err := g.guard.Check(g.keys, caller.Address, h.Key, access.Read)
		return &guest{operator: true, key: operator}, operator.Realm, err
	case h.Token == "" && caller.Operator != nil:
		return &guest{operator: true, key: *caller.Operator}, caller.Operator.Realm, nil
	case h.Token == "":
		return nil, "", &wire.Problem{Code: wire.CodeNoToken, Field: "token",
			Detail: "the hello does not say who it is", Allowed: "token, a person's, or key, an operator's"}
	}
	person, err := g.keys.Verify(h.Token)
	return &guest{person: person}, person.Realm, err
}

// stillLetIn tells whether a guest who was identified a while ago, as with a ticket, would
// be let in now.
func (g *Gateway) stillLetIn(who *guest) error {
	if realm, err := g.realms.Get(who.realm.Name); err != nil || realm != who.realm {
		return &wire.Problem{Code: wire.CodeUnknownRealm, Field: "realm", Value: who.realm.Name, Detail: "the realm is no more"}
	}
	b := who.badge()
	switch {
	case g.keys.InForce(b.operator, b.key):
		return nil
	case b.operator:
		return &wire.Problem{Code: wire.CodeBadKey, Field: "key", Detail: "the operator key is no longer in force"}
	}
	return &wire.Problem{Code: wire.CodeBadToken, Field: "token", Detail: "the key of the token is no longer in force", Allowed: "a token that a newer key has signed"}
}

// room checks that a room name is well-formed, and that the person may be there.
func (g *guest) room(name string) (presence.RoomName, error) {
	room, err := presence.ParseRoom(name)
	if err == nil && !g.person.MayJoin(room) {
		err = notGranted("room", name, grantList(g.person.Rooms, "room"))
	}
	return room, err
}

// rooms checks a list of rooms to be in; nil stays nil.
func (g *guest) rooms(names []string) ([]presence.RoomName, error) {
	if names == nil {
		return nil, nil
	}
	rooms := make([]presence.RoomName, len(names))
	for i, name := range names {
		room, err := g.room(name)
		if err != nil {
			return nil, err
		}
		rooms[i] = room
	}
	return rooms, nil
}

// admitted asks the application about rooms, where it wants to be asked. The person has
// the profile that it gives them from then on, until another token says another.
func (g *guest) admitted(rooms []presence.RoomName) (changed bool, err error) {
	profile, err := g.realm.Admission.admit(g.realm.Name, g.person, rooms)
	if err != nil {
		return false, err
	}
	changed = profile != g.person.Profile
	g.person.Profile = profile
	return changed, nil
}

// narrow takes a session that has come back out of the rooms that the token of now does
// not grant.
func (g *guest) narrow(reply *presence.Reply) {
	reply.Rooms = slices.DeleteFunc(reply.Rooms, func(room presence.RoomName) bool {
		if g.person.MayJoin(room) {
			return false
		}
		_, _ = g.realm.do(presence.Leave{From: reply.Link, Room: room}) // it is there
		return true
	})
}

// mayFollow tells whether all rooms of a pattern may be watched at a detail.
func (g *guest) mayFollow(pattern presence.Pattern, detail delivery.Detail) error {
	if g.operator {
		if !g.key.Sees(pattern) {
			return notGranted("room", string(pattern), grantList(g.key.Rooms, "room"))
		}
		return nil
	}
	if g.person.MayWatch(pattern, detail == delivery.AtCount) {
		return g.removedFrom(pattern)
	}
	return notGranted("room", string(pattern), grantList(slices.Concat(g.person.Rooms, g.person.Watch), "room"))
}

// removedFrom refuses to follow rooms from which the person was removed after the token
// was issued.
func (g *guest) removedFrom(pattern presence.Pattern) error {
	altogether, rooms := g.realm.Engine.Refused(g.person.User, g.person.Issued)
	if altogether {
		return removedProblem("user", string(g.person.User))
	}
	for _, room := range rooms {
		if pattern.Match(room) {
			return removedProblem("room", string(room))
		}
	}
	return nil
}

func removedProblem(field, value string) error {
	return &presence.Refusal{Code: presence.CodeRemoved, Field: field, Value: value, Allowed: "a token that was issued after the removal"}
}

func notGranted(field, value, allowed string) error {
	return &wire.Problem{Code: wire.CodeNotGranted, Field: field, Value: wire.Shorten(value),
		Detail: "the token does not grant this", Allowed: allowed}
}

// grantList is what a token grants, in words.
func grantList[T ~string](grants []T, what string) string {
	if len(grants) == 0 {
		return "none: the token grants no " + what
	}
	texts := make([]string, len(grants))
	for i, grant := range grants {
		texts[i] = string(grant)
	}
	return strings.Join(texts, ", ")
}

// wish is what a hello or a watch asks to follow, checked.
type wish struct {
	watches []watch
	people  []presence.UserID
}

type watch struct {
	pattern presence.Pattern
	detail  delivery.Detail
}

// wishes checks what is asked to be watched, and notes it if all of it may be.
func (g *guest) wishes(asked []wire.Watch) (wish, error) {
	var w wish
	watching := maps.Clone(g.watching)
	for _, a := range asked {
		if len(a.People) > 0 {
			if a.Room != "" {
				return w, &wire.Problem{Code: wire.CodeBadField, Field: "people", Value: wire.Shorten(a.Room),
					Detail: "a watch is of a room or of people", Allowed: "room or people, not both"}
			}
			people, err := g.mayWatch(a.People)
			if err != nil {
				return w, err
			}
			w.people = append(w.people, people...)
			continue
		}
		pattern, err := presence.ParsePattern(a.Room)
		if err != nil {
			return w, err
		}
		detail, err := detailOf(a.Detail, false)
		if err != nil {
			return w, err
		}
		if err := g.mayFollow(pattern, detail); err != nil {
			return w, err
		}
		w.watches = append(w.watches, watch{pattern, detail})
		if watching == nil {
			watching = map[presence.Pattern]delivery.Detail{}
		}
		watching[pattern] = detail
	}
	if len(watching) > maxWatches {
		return w, &wire.Problem{Code: wire.CodeTooManyWatches, Field: "watch",
			Detail: "the link watches too much", Allowed: fmt.Sprintf("at most %d rooms and patterns", maxWatches)}
	}
	people := maps.Clone(g.people)
	if people == nil && len(w.people) > 0 {
		people = make(map[presence.UserID]struct{}, len(w.people))
	}
	for _, user := range w.people {
		people[user] = struct{}{}
	}
	if len(people) > maxPeople {
		return w, &wire.Problem{Code: wire.CodeTooManyWatches, Field: "people",
			Detail: "the link watches too many people", Allowed: fmt.Sprintf("at most %d", maxPeople)}
	}
	g.watching, g.people = watching, people
	return w, nil
}

func (g *guest) mayWatch(ids []string) ([]presence.UserID, error) {
	people := make([]presence.UserID, len(ids))
	for i, id := range ids {
		people[i] = presence.UserID(norm.NFC.String(id))
		if err := presence.CheckUser(people[i]); err != nil {
			return nil, err
		}
		if !g.mayFollowPerson(people[i]) {
			return nil, notGranted("people", id, grantList(g.person.People, "watching of people"))
		}
	}
	return people, nil
}

// mayFollowPerson tells whether somebody may be watched as such: by grant, or because
// they are seen in a room with the person now. Somebody who is in none is not told from
// somebody who is not there.
func (g *guest) mayFollowPerson(user presence.UserID) bool {
	switch {
	case g.operator:
		return g.key.Rooms == nil
	case g.person.MayWatchPerson(user):
		return true
	case !g.person.Near:
		return false
	}
	own := g.realm.Engine.RoomsOf(g.person.User, presence.Full)
	return slices.ContainsFunc(g.realm.Engine.RoomsOf(user, g.view()), func(room presence.RoomName) bool { return slices.Contains(own, room) })
}

func (w wish) follow(r *delivery.Receiver) {
	for _, watch := range w.watches {
		r.Follow(delivery.Watched, watch.pattern, watch.detail)
	}
	if len(w.people) > 0 {
		r.FollowPeople(w.people)
	}
}
