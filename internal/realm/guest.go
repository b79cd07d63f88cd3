package realm

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/wire"
)

// Guest is the user of a link: a person with a token, or an operator with a key. It is
// immutable; a renewed token makes a new one.
type Guest struct {
	realm    *Realm
	person   access.Person
	operator bool             // has a key, not a token
	key      *access.Operator // of an operator; else nil
}

// PersonID identifies a person of a realm.
type PersonID struct {
	Realm string
	User  presence.UserID
}

// Realm returns the guest's realm.
func (g *Guest) Realm() *Realm { return g.realm }

// IsOperator reports whether the guest is an operator, who has no session.
func (g *Guest) IsOperator() bool { return g.operator }

// ID returns the guest's person; its user is empty for an operator.
func (g *Guest) ID() PersonID { return PersonID{g.realm.name, g.person.User} }

// Issued returns when the guest's token was issued.
func (g *Guest) Issued() time.Time { return g.person.Issued }

func (g *Guest) view() presence.View {
	if g.operator || g.person.Sees {
		return presence.Full
	}
	return presence.Open
}

// keyID returns the id of the operator's key, or of the key that signed the token.
func (g *Guest) keyID() string {
	if g.operator {
		return g.key.Key
	}
	return g.person.Key
}

// grants returns the rooms that the person may join, which the core enforces.
func (g *Guest) grants() []presence.Pattern { return append([]presence.Pattern{}, g.person.Rooms...) }

// admits returns the rooms into which the person may let others.
func (g *Guest) admits() []presence.Pattern { return g.person.Admit }

// called returns the guest with a different profile.
func (g *Guest) called(profile presence.Profile) *Guest {
	if g.person.Profile == profile {
		return g
	}
	other := *g
	other.person.Profile = profile
	return &other
}

// room checks a room name, and that the person may join the room.
func (g *Guest) room(name string) (presence.RoomName, error) {
	room, err := presence.ParseRoom(name)
	if err == nil && !g.person.MayJoin(room) {
		err = problem.NotGranted("room", name, grantList(g.person.Rooms, "room"))
	}
	return room, err
}

// rooms checks the rooms to be in; nil stays nil. With one_by_one, rooms that are not allowed
// are dropped; without it, the first is returned as an error.
func (g *Guest) rooms(names []string, oneByOne bool) (rooms []presence.RoomName, dropped []wire.Drop, err error) {
	if names == nil {
		return nil, nil, nil
	}
	rooms = make([]presence.RoomName, 0, len(names))
	for _, name := range names {
		room, err := g.room(name)
		switch {
		case err == nil:
			rooms = append(rooms, room)
		case oneByOne:
			dropped = append(dropped, drop(wire.Drop{Room: wire.Shorten(name)}, err))
		default:
			return nil, nil, err
		}
	}
	return rooms, dropped, nil
}

// notRemoved refuses a person who was removed from the realm after the token was issued.
func (g *Guest) notRemoved() error {
	if g.operator {
		return nil
	}
	if altogether, _ := g.realm.core.Refused(g.person.User, g.person.Issued); altogether {
		return removedProblem("user", string(g.person.User))
	}
	return nil
}

// mayFollow reports whether the guest may watch all rooms of a pattern at a detail.
func (g *Guest) mayFollow(pattern presence.Pattern, detail delivery.Detail) error {
	if g.operator {
		if !g.key.Sees(pattern) {
			return problem.NotGranted("room", string(pattern), grantList(g.key.Rooms, "room"))
		}
		return nil
	}
	if g.person.MayWatch(pattern, detail == delivery.AtCount) {
		if room, single := pattern.Room(); single && !g.mayWatchRoom(room, detail) {
			return notLetIn(room)
		}
		return g.removedFrom(pattern)
	}
	return problem.NotGranted("room", string(pattern), grantList(slices.Concat(g.person.Rooms, g.person.Watch), "room"))
}

// mayWatchRoom reports whether a room that asks lets the person watch it.
func (g *Guest) mayWatchRoom(room presence.RoomName, detail delivery.Detail) bool {
	return g.operator || g.realm.core.LetsWatch(g.person.User, g.admits(), room, detail == delivery.AtCount)
}

func notLetIn(room presence.RoomName) error {
	return &presence.Refusal{Code: presence.CodeMustAsk, Field: "room", Value: string(room), Allowed: "a room that lets you in: join it first, which asks"}
}

// removedFrom refuses a watch of rooms from which the person was removed after the token was
// issued.
func (g *Guest) removedFrom(pattern presence.Pattern) error {
	altogether, rooms := g.realm.core.Refused(g.person.User, g.person.Issued)
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

// grantList returns the patterns of a grant, as text.
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

// wish is a checked request to follow something, from a hello or a watch.
type wish struct {
	watches  []watch
	people   []presence.UserID
	profiles map[presence.UserID]presence.Profile // from the directory
}

func (w *wish) add(other wish) {
	w.watches, w.people = append(w.watches, other.watches...), append(w.people, other.people...)
	if w.profiles == nil {
		w.profiles = other.profiles
		return
	}
	maps.Copy(w.profiles, other.profiles)
}

type watch struct {
	pattern presence.Pattern
	how     delivery.How
}

// wishes checks the watches of a request. With one_by_one, refused watches are dropped;
// without it, the first is returned as an error.
func (g *Guest) wishes(ctx context.Context, asked []wire.Watch, oneByOne bool) (w wish, dropped []wire.Drop, err error) {
	for _, a := range asked {
		one, err := g.wishOf(ctx, a)
		switch {
		case err == nil:
			w.add(one)
		case !oneByOne:
			return w, nil, err
		case len(a.People) > 1: // each person separately
			for _, user := range a.People {
				if one, err := g.wishOf(ctx, wire.Watch{Room: a.Room, People: []string{user}}); err == nil {
					w.add(one)
				} else {
					dropped = append(dropped, drop(wire.Drop{User: wire.Shorten(user), Watch: true}, err))
				}
			}
		case len(a.People) == 1:
			dropped = append(dropped, drop(wire.Drop{User: wire.Shorten(a.People[0]), Watch: true}, err))
		default:
			dropped = append(dropped, drop(wire.Drop{Room: wire.Shorten(a.Room), Watch: true}, err))
		}
	}
	return w, dropped, nil
}

// wishOf checks one watch.
func (g *Guest) wishOf(ctx context.Context, a wire.Watch) (w wish, err error) {
	if len(a.People) > 0 {
		if a.Room != "" {
			return w, problem.BadField("people", a.Room, "a watch is of a room or of people", "room or people, not both")
		}
		if w.people, err = g.mayWatch(a.People); err == nil {
			w.profiles = g.realm.profiles(ctx, w.people)
		}
		return w, err
	}
	if a.Room == "" {
		return w, problem.BadField("room", "", "the watch names neither a room nor people", "room: a room or a pattern; or people: user ids")
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
	if err := g.admittedToWatch(ctx, pattern); err != nil {
		return w, err
	}
	how, err := howOf(detail, a.Without, a.Limit)
	if err != nil {
		return w, err
	}
	w.watches = []watch{{pattern, how}}
	return w, nil
}

// admittedToWatch asks the application whether the person may watch rooms, if it wants to be
// asked about them.
func (g *Guest) admittedToWatch(ctx context.Context, pattern presence.Pattern) error {
	if g.operator {
		return nil
	}
	return g.realm.admission.AdmitWatch(ctx, g.realm.name, g.person, pattern)
}

func withinLimits(watches, people int) error {
	if watches > maxWatches {
		return &wire.Problem{Code: wire.CodeTooManyWatches, Field: "watch",
			Detail: "the link watches too much", Allowed: fmt.Sprintf("at most %d rooms and patterns", maxWatches)}
	}
	if people > maxPeople {
		return &wire.Problem{Code: wire.CodeTooManyWatches, Field: "people",
			Detail: "the link watches too many people", Allowed: fmt.Sprintf("at most %d", maxPeople)}
	}
	return nil
}

// mayWatch checks which people a watch names.
func (g *Guest) mayWatch(ids []string) ([]presence.UserID, error) {
	people, err := usersOf(ids)
	if err != nil {
		return nil, err
	}
	for i, user := range people {
		if !g.mayFollowPerson(user) {
			return nil, problem.NotGranted("people", ids[i], grantList(g.person.People, "watching of people"))
		}
	}
	return people, nil
}

// mayFollowPerson reports whether the guest may watch a person: by a grant, or because both
// are in a room now. The answer does not reveal whether the person exists.
func (g *Guest) mayFollowPerson(user presence.UserID) bool {
	switch {
	case g.operator:
		return g.key.Rooms == nil
	case g.person.MayWatchPerson(user):
		return true
	case !g.person.Near:
		return false
	}
	return g.realm.core.Near(user, g.person.User, g.view())
}
