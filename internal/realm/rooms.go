package realm

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// MostAsked limits the rooms or people in one call.
const MostAsked = 1000

// full returns the topic of a room in the full view.
func full(room presence.RoomName) engine.Topic {
	return engine.Topic{Room: room, View: presence.Full}
}

// The orders in which rooms are listed.
const (
	ByName     = "name"
	ByPeople   = "people" // most people first; equal ones by name
	BySessions = "sessions"
)

// RoomsQuery asks for a page of the rooms that exist: somebody is in them, or they are declared.
type RoomsQuery struct {
	Match string // a pattern
	Sort  string // one of the orders
	After string // the Next of the page before
	Limit int
}

// Rooms returns a page of rooms with their counts.
func (d Desk) Rooms(q RoomsQuery) (wire.Rooms, error) {
	page := wire.Rooms{Rooms: []wire.Room{}}
	pattern, err := presence.ParsePattern(q.Match)
	if err != nil {
		return page, err
	}
	order, err := orderOf(q.Sort)
	if err != nil {
		return page, err
	}
	var rooms []wire.Room
	for name, count := range d.realm.core.Rooms(presence.Full) {
		if pattern.Match(name) && d.sees(name) {
			rooms = append(rooms, wire.Room{Room: string(name), Count: delivery.Count(count)})
		}
	}
	slices.SortFunc(rooms, order.compare)
	from, err := order.after(rooms, q.After)
	if err != nil {
		return page, err
	}
	page.Total = len(rooms)
	page.Rooms = append(page.Rooms, rooms[from:min(from+q.Limit, len(rooms))]...)
	if from+q.Limit < len(rooms) {
		page.Next = order.cursor(page.Rooms[len(page.Rooms)-1])
	}
	return page, nil
}

// roomOrder is an order of rooms. A page can begin after any room, even one that has changed
// or no longer exists.
type roomOrder struct{ by string }

func orderOf(by string) (roomOrder, error) {
	if by != ByName && by != ByPeople && by != BySessions {
		return roomOrder{}, problem.BadField("sort", by, "unknown order of rooms", "name, people, sessions")
	}
	return roomOrder{by}, nil
}

func (o roomOrder) size(r wire.Room) int {
	switch o.by {
	case ByPeople:
		return r.People
	case BySessions:
		return r.Sessions
	}
	return 0
}

func (o roomOrder) compare(x, y wire.Room) int {
	return cmp.Or(cmp.Compare(o.size(y), o.size(x)), strings.Compare(x.Room, y.Room))
}

// cursor returns the value of After with which the next page begins after a room.
func (o roomOrder) cursor(r wire.Room) string {
	if o.by == ByName {
		return r.Room
	}
	return fmt.Sprintf("%d:%s", o.size(r), r.Room)
}

func (o roomOrder) after(rooms []wire.Room, cursor string) (int, error) {
	if cursor == "" {
		return 0, nil
	}
	last := wire.Room{Room: cursor}
	if o.by != ByName {
		size, name, ok := strings.Cut(cursor, ":")
		n, err := strconv.Atoi(size)
		if !ok || err != nil {
			return 0, problem.BadField("after", cursor, "this is not a cursor of this order", "the next of the previous page")
		}
		last = wire.Room{Room: name, Count: wire.Count{People: n, Sessions: n}}
	}
	at, found := slices.BinarySearchFunc(rooms, last, o.compare)
	if found {
		at++
	}
	return at, nil
}

// Room returns the count of a room. It creates nothing.
func (d Desk) Room(name string) (wire.Room, error) {
	room, err := d.room(name)
	if err != nil {
		return wire.Room{}, err
	}
	count, ok := d.realm.core.Count(full(room))
	if !ok {
		return wire.Room{}, problem.UnknownRoom(room)
	}
	return wire.Room{Room: string(room), Count: delivery.Count(count)}, nil
}

// RoomCounts returns the counts of up to [MostAsked] rooms, in the order of the names.
func (d Desk) RoomCounts(names []string) (wire.Counts, error) {
	doc := wire.Counts{Counts: make([]wire.Room, len(names))}
	if len(names) == 0 || len(names) > MostAsked {
		return doc, problem.BadField("rooms", fmt.Sprint(len(names)), "too many rooms, or none", "1 to 1000 rooms")
	}
	for i, name := range names {
		room, err := d.room(name)
		if err != nil {
			return doc, err
		}
		count, _ := d.realm.core.Count(full(room))
		doc.Counts[i] = wire.Room{Room: name, Count: delivery.Count(count)}
	}
	return doc, nil
}

// MembersQuery asks for a page of a room's members, ordered by user id.
type MembersQuery struct {
	Rev    string // of the previous page; empty: the room as it is now
	After  string // the Next of the page before
	Status string // only members of this status; empty: all
	Limit  int
}

// Members returns a page of a room's members as of one revision.
func (d Desk) Members(name string, q MembersQuery) (wire.Members, error) {
	room, err := d.room(name)
	if err != nil {
		return wire.Members{}, err
	}
	want, err := q.wanted()
	if err != nil {
		return wire.Members{}, err
	}
	if q.Rev == "" {
		snapshot := d.realm.core.SnapshotNow(full(room))
		if !snapshot.Exists {
			return wire.Members{}, problem.UnknownRoom(room)
		}
		return d.realm.hub.FirstPage(snapshot, want), nil
	}
	revision, ok := engine.ParseRevision(q.Rev)
	if !ok {
		return wire.Members{}, problem.BadField("rev", q.Rev, "this is not a revision", "the rev of the previous page")
	}
	page, ok := d.realm.hub.Page(full(room), revision, want)
	if !ok {
		return page, oldRevision(q.Rev)
	}
	return page, nil
}

// wanted checks the query.
func (q MembersQuery) wanted() (delivery.PageWanted, error) {
	want := delivery.PageWanted{After: presence.UserID(q.After), Status: presence.Status(q.Status), Limit: q.Limit}
	if s := want.Status; s != "" && s != presence.Online && s != presence.Away && s != presence.Busy {
		return want, problem.BadField("status", q.Status, "unknown status of a member", "online, away, busy")
	}
	return want, nil
}

func oldRevision(rev string) error {
	return &wire.Problem{Code: wire.CodeOldRevision, Field: "rev", Value: wire.Shorten(rev), Detail: "the room is no longer known at this revision", Allowed: "the first page, without rev and after"}
}

// Declare makes a room exist even while nobody is in it, with the people it expects.
func (d Desk) Declare(name string, asked wire.Declaration) (wire.DeclaredRoom, error) {
	room, err := d.room(name)
	if err != nil {
		return wire.DeclaredRoom{}, err
	}
	row := records.Room{Realm: d.realm.name, Room: room, Expected: []presence.UserID{}}
	expected, err := usersOf(asked.Expected)
	if err != nil {
		return wire.DeclaredRoom{}, err
	}
	for _, user := range expected {
		if !slices.Contains(row.Expected, user) {
			row.Expected = append(row.Expected, user)
		}
	}
	if err := d.realm.store.Declare(row); err != nil {
		return wire.DeclaredRoom{}, problem.NotRecorded("nothing has been changed", err)
	}
	if _, err := d.realm.do(presence.Declare{Room: room, Declared: true}); err != nil {
		return wire.DeclaredRoom{}, err
	}
	d.act(journal.Entry{Kind: journal.RoomDeclared, Room: room})
	return d.declaration(row), nil
}

// Undeclare makes a room end with its last member again.
func (d Desk) Undeclare(name string) error {
	room, err := d.room(name)
	if err != nil {
		return err
	}
	err = d.realm.store.Undeclare(d.realm.name, room)
	if errors.Is(err, records.ErrNotFound) {
		return &wire.Problem{Code: wire.CodeUnknownRoom, Field: "room", Value: string(room), Detail: "no room of this name is declared"}
	}
	if err != nil {
		return problem.NotRecorded("nothing has been changed", err)
	}
	d.act(journal.Entry{Kind: journal.RoomUndeclared, Room: room})
	_, err = d.realm.do(presence.Declare{Room: room})
	return err
}

// Expectations returns the people whom a room expects, and those who are missing now; nobody if
// it is not declared.
func (d Desk) Expectations(name string) (wire.DeclaredRoom, error) {
	room, err := d.room(name)
	if err != nil {
		return wire.DeclaredRoom{}, err
	}
	row, err := d.realm.store.Room(d.realm.name, room)
	if errors.Is(err, records.ErrNotFound) {
		return wire.DeclaredRoom{Room: string(room), Expected: []string{}, Missing: []string{}}, nil
	}
	if err != nil {
		return wire.DeclaredRoom{}, err
	}
	return d.declaration(row), nil
}

func (d Desk) declaration(row records.Room) wire.DeclaredRoom {
	doc := wire.DeclaredRoom{Room: string(row.Room), Declared: true, Expected: []string{}, Missing: []string{}}
	here := map[presence.UserID]bool{}
	for _, m := range d.realm.core.MembersNow(row.Room) {
		here[m.User] = true
	}
	for _, user := range row.Expected {
		doc.Expected = append(doc.Expected, string(user))
		if !here[user] {
			doc.Missing = append(doc.Missing, string(user))
		}
	}
	return doc
}

// Policies returns the policy of a room, or for an empty name that of the realm and of all
// patterns.
func (d Desk) Policies(name string) (wire.Policies, error) {
	p := d.realm.Policy()
	room, err := d.roomOrRealm(name)
	if err != nil {
		return wire.Policies{}, err
	}
	if name != "" {
		own := p.For(room)
		doc := policyDocument(p, own)
		doc.Room = name
		for i := range p.Rooms {
			if own == &p.Rooms[i].RoomPolicy {
				doc.Pattern = string(p.Rooms[i].Pattern)
			}
		}
		return wire.Policies{Policies: []wire.Policy{doc}}, nil
	}
	doc := wire.Policies{Policies: []wire.Policy{policyDocument(p, &p.RoomPolicy)}}
	for i := range p.Rooms {
		one := policyDocument(p, &p.Rooms[i].RoomPolicy)
		one.Pattern = string(p.Rooms[i].Pattern)
		doc.Policies = append(doc.Policies, one)
	}
	return doc, nil
}
