package gateway

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/text/unicode/norm"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/transport"
	"tovik.example/tovik/wire"
)

// handlers of the requests that come after hello, by type.
var handlers = map[string]func(*link, wire.Request) error{
	wire.TypeJoin:     (*link).join,
	wire.TypeLeave:    (*link).leave,
	wire.TypeWatch:    (*link).watch,
	wire.TypeUnwatch:  (*link).unwatch,
	wire.TypeBeat:     (*link).beat,
	wire.TypeActivity: (*link).activity,
	wire.TypeIdle:     (*link).idle,
	wire.TypePage:     (*link).page,
	wire.TypeRenew:    (*link).renew,
	wire.TypeBye:      (*link).bye,
	wire.TypeClosing:  (*link).closing,
	wire.TypeTyping:   (*link).typing,
	wire.TypeSent:     (*link).sent,
	wire.TypeStatus:   (*link).status,
	wire.TypeHide:     (*link).hide,
	wire.TypeSignOut:  (*link).signOut,
	wire.TypeRemove:   (*link).remove,
	wire.TypeCue:      (*link).cue,
	wire.TypeMembers:  (*link).members,
}

var requestTypes = func() string {
	types := []string{wire.TypeHello}
	for name := range handlers {
		types = append(types, name)
	}
	slices.Sort(types)
	return strings.Join(types, ", ")
}()

// receive carries out one frame of the client, or says why not.
func (l *link) receive(data []byte) {
	if l.guest == nil {
		var h wire.Hello
		if err := Decode(data, &h); err != nil {
			l.refuse(nil, err)
		} else if err := l.first(h); err != nil {
			l.refuse(repeatable(h.ID), err)
		}
		return
	}
	if l.carries == (presence.LinkID{}) {
		l.mu.Lock()
		l.heard = time.Now().UnixNano()
		l.mu.Unlock()
	}
	var r wire.Request
	if err := Decode(data, &r); err != nil {
		l.refuse(nil, err)
	} else if err := l.dispatch(r); err != nil {
		l.refuse(repeatable(r.ID), err)
	}
}

// first takes the first frame, which must be a hello.
func (l *link) first(h wire.Hello) error {
	if err := checkHead(h.Type, h.ID); err != nil {
		return err
	}
	if h.Type != wire.TypeHello {
		return &wire.Problem{Code: wire.CodeHelloFirst, Field: "type", Value: h.Type,
			Detail: "the first frame of a link must be hello", Allowed: wire.TypeHello}
	}
	return l.hello(h)
}

func (l *link) dispatch(r wire.Request) error {
	if err := checkHead(r.Type, r.ID); err != nil {
		return err
	}
	if r.Type == wire.TypeHello {
		return &wire.Problem{Code: wire.CodeSecondHello, Field: "type", Value: wire.TypeHello,
			Detail: "this link has said hello already", Allowed: "one hello on each link"}
	}
	return handlers[r.Type](l, r)
}

// checkHead checks what all requests have.
func checkHead(name string, id wire.ID) error {
	switch {
	case !validID(id):
		return &wire.Problem{Code: wire.CodeBadField, Field: "id", Value: wire.Shorten(string(id)),
			Detail: "the id of a request cannot be used", Allowed: "a string of at most 64 bytes or a whole number"}
	case name == "":
		return &wire.Problem{Code: wire.CodeNoType, Field: "type", Detail: "the frame has no type", Allowed: requestTypes}
	case name != wire.TypeHello && handlers[name] == nil:
		return &wire.Problem{Code: wire.CodeUnknownType, Field: "type", Value: wire.Shorten(name),
			Detail: "no request has this type", Allowed: requestTypes}
	}
	return nil
}

// repeatable is an id as an answer can repeat it.
func repeatable(id wire.ID) wire.ID {
	if !validID(id) {
		return nil
	}
	return id
}

// session returns the id of the link as the core knows it.
func (l *link) session() (presence.LinkID, error) {
	if l.carries == (presence.LinkID{}) {
		return presence.LinkID{}, &wire.Problem{Code: wire.CodeWatchOnly,
			Detail: "this link has no session", Allowed: "watch, unwatch, members, beat, bye"}
	}
	return l.carries, nil
}

func (l *link) join(r wire.Request) error {
	from, err := l.session()
	if err != nil {
		return err
	}
	room, err := l.guest.room(r.Room)
	if err != nil {
		return err
	}
	detail, err := detailOf(r.Detail, true)
	if err != nil {
		return err
	}
	changed, err := l.guest.admitted([]presence.RoomName{room})
	if err != nil {
		return err
	}
	if p := l.guest.person; changed {
		renew := presence.Renew{From: from, Profile: p.Profile, Issued: p.Issued.UnixMilli(), Expires: p.Expires.UnixMilli()}
		if _, err := l.realm.do(renew); err != nil {
			return err
		}
	}
	if _, err := l.realm.do(presence.Join{From: from, Room: room}); err != nil {
		return err
	}
	l.answer(r.ID, nil, func() {
		if detail == delivery.None {
			l.receiver.Unfollow(delivery.Joined, presence.Pattern(room))
		} else {
			l.receiver.Follow(delivery.Joined, presence.Pattern(room), detail)
		}
	})
	return nil
}

func (l *link) leave(r wire.Request) error {
	from, err := l.session()
	if err != nil {
		return err
	}
	room, err := presence.ParseRoom(r.Room)
	if err != nil {
		return err
	}
	if _, err := l.realm.do(presence.Leave{From: from, Room: room}); err != nil {
		return err
	}
	l.answer(r.ID, func() { l.receiver.Unfollow(delivery.Joined, presence.Pattern(room)) }, nil)
	return nil
}

func (l *link) watch(r wire.Request) error {
	wish, err := l.guest.wishes([]wire.Watch{{Room: r.Room, Detail: r.Detail, People: r.People}})
	if err != nil {
		return err
	}
	if err := l.hears(); err != nil {
		return err
	}
	l.badge.Store(l.guest.badge())
	l.answer(r.ID, nil, func() { wish.follow(l.receiver) })
	return nil
}

func (l *link) unwatch(r wire.Request) error {
	if len(r.People) > 0 {
		return l.unwatchPeople(r)
	}
	pattern, err := presence.ParsePattern(r.Room)
	if err != nil {
		return err
	}
	if _, ok := l.guest.watching[pattern]; !ok {
		return notWatching("room", r.Room, "a room or pattern as a watch named it")
	}
	if err := l.hears(); err != nil {
		return err
	}
	delete(l.guest.watching, pattern)
	l.badge.Store(l.guest.badge())
	l.answer(r.ID, func() { l.receiver.Unfollow(delivery.Watched, pattern) }, nil)
	return nil
}

func (l *link) unwatchPeople(r wire.Request) error {
	users := make([]presence.UserID, len(r.People))
	for i, id := range r.People {
		users[i] = presence.UserID(norm.NFC.String(id))
		if _, ok := l.guest.people[users[i]]; !ok {
			return notWatching("people", id, "people whom a watch named")
		}
	}
	if err := l.hears(); err != nil {
		return err
	}
	for _, user := range users {
		delete(l.guest.people, user)
	}
	l.answer(r.ID, func() { l.receiver.UnfollowPeople(users) }, nil)
	return nil
}

func notWatching(field, value, allowed string) error {
	return &wire.Problem{Code: wire.CodeNotWatching, Field: field, Value: wire.Shorten(value),
		Detail: "the link does not watch this", Allowed: allowed}
}

// members answers with a page of a room that the link may follow at members.
func (l *link) members(r wire.Request) error {
	room, err := presence.ParseRoom(r.Room)
	if err != nil {
		return err
	}
	if err := l.guest.mayFollow(presence.Pattern(room), delivery.AtMembers); err != nil {
		return err
	}
	revision, ok := engine.ParseRevision(r.Rev)
	if !ok {
		return badRevision("rev", r.Rev)
	}
	if r.Limit == 0 {
		r.Limit = pageSize
	}
	if r.Limit < 1 || r.Limit > maxPage {
		return &wire.Problem{Code: wire.CodeBadField, Field: "limit", Value: fmt.Sprint(r.Limit),
			Detail: "the limit of a page cannot be this", Allowed: fmt.Sprintf("a whole number from 1 to %d", maxPage)}
	}
	if err := l.hears(); err != nil {
		return err
	}
	page, ok := l.realm.Hub.Page(engine.Topic{Room: room, View: l.guest.view()}, revision, delivery.PageWanted{After: presence.UserID(r.After), Limit: r.Limit})
	if !ok {
		return &wire.Problem{Code: wire.CodeOldRevision, Field: "rev", Value: wire.Shorten(r.Rev),
			Detail: "the room is no longer known at this revision", Allowed: "the first page again, without rev"}
	}
	l.reply(wire.Answer{Re: r.ID, Members: &page}, nil, nil)
	return nil
}

// beat is the answer to a beat request, and gets none itself unless it has an id.
func (l *link) beat(r wire.Request) error {
	if err := l.hears(); err != nil {
		return err
	}
	l.gateway.links.beats.Add(1)
	if r.ID != nil {
		l.answer(r.ID, nil, nil)
	}
	return nil
}

// tell gives the core what a request says of the session, and answers it.
func (l *link) tell(r wire.Request, in func(presence.LinkID) presence.Input) error {
	from, err := l.session()
	if err != nil {
		return err
	}
	if _, err := l.realm.do(in(from)); err != nil {
		return err
	}
	l.answer(r.ID, nil, nil)
	return nil
}

func (l *link) activity(r wire.Request) error {
	ago, err := idleFor(r.IdleFor)
	if err != nil {
		return err
	}
	return l.tell(r, func(from presence.LinkID) presence.Input { return presence.Activity{From: from, IdleFor: ago} })
}

func (l *link) idle(r wire.Request) error {
	return l.tell(r, func(from presence.LinkID) presence.Input { return presence.Idle{From: from} })
}

func (l *link) page(r wire.Request) error {
	if l.feed != nil {
		l.feed.in.PageHidden = r.Hidden // also after a return
	}
	return l.tell(r, func(from presence.LinkID) presence.Input { return presence.PageHidden{From: from, Hidden: r.Hidden} })
}

// hears notes a sign of life that is no input of its own.
func (l *link) hears() error {
	if from, err := l.session(); err == nil {
		_, err := l.realm.do(presence.Beat{From: from})
		return err
	}
	return nil // receive has noted it
}

func (l *link) typing(r wire.Request) error {
	return l.tell(r, func(from presence.LinkID) presence.Input {
		return presence.Typing{From: from, Room: presence.RoomName(r.Room), Number: reportNumber(r), On: r.On == nil || *r.On}
	})
}

func (l *link) sent(r wire.Request) error {
	return l.tell(r, func(from presence.LinkID) presence.Input {
		return presence.Sent{From: from, Room: presence.RoomName(r.Room), Number: reportNumber(r)}
	})
}

// reportNumber is the number of a typing report. A client that numbers none has them
// taken in the order in which they come.
func reportNumber(r wire.Request) uint64 {
	if r.Number > 0 {
		return r.Number
	}
	return uint64(time.Now().UnixNano())
}

func (l *link) bye(r wire.Request) error {
	if from, err := l.session(); err == nil {
		if _, err := l.realm.do(presence.Bye{From: from}); err != nil {
			return err
		}
	}
	l.answer(r.ID, nil, nil)
	l.finish(transport.CloseNormal, wire.TypeBye)
	return nil
}

func (l *link) closing(r wire.Request) error {
	from, err := l.session()
	if err != nil {
		return err
	}
	if _, err := l.realm.do(presence.Closing{From: from}); err != nil {
		return err
	}
	l.answer(r.ID, nil, nil)
	l.finish(wire.CloseClosing, wire.TypeClosing)
	return nil
}

// Decode reads one JSON object. Its error is a problem that names what is wrong.
func Decode(data []byte, into any) error {
	err := json.Unmarshal(data, into)
	var mismatch *json.UnmarshalTypeError
	switch {
	case err == nil && !bytes.HasPrefix(bytes.TrimLeft(data, " \t\r\n"), []byte("{")):
		return notJSON("this is JSON, but no object")
	case err == nil:
		return nil
	case errors.As(err, &mismatch) && mismatch.Field == "":
		return notJSON(fmt.Sprintf("this is a JSON %s, not an object", mismatch.Value))
	case errors.As(err, &mismatch):
		return &wire.Problem{Code: wire.CodeBadField, Field: mismatch.Field, Value: mismatch.Value,
			Detail: "the field has a value of the wrong kind", Allowed: "a " + kindName(mismatch.Type.Kind().String())}
	}
	return notJSON("this is not JSON: " + err.Error())
}

func notJSON(detail string) error {
	return &wire.Problem{Code: wire.CodeNotJSON, Detail: detail, Allowed: "one JSON object"}
}

func kindName(kind string) string {
	switch kind {
	case "struct", "ptr":
		return "JSON object"
	case "slice":
		return "list"
	case "int":
		return "whole number"
	}
	return kind
}

// validID tells whether an id can be repeated: a short string or a whole number.
func validID(id wire.ID) bool {
	if len(id) == 0 {
		return true
	}
	if len(id) > 66 {
		return false
	}
	if id[0] == '"' {
		return true
	}
	var whole int64
	return json.Unmarshal(id, &whole) == nil && string(id) != "null"
}

// ProblemOf turns any error into what a client is told.
func ProblemOf(err error) *wire.Problem {
	var problem *wire.Problem
	var refusal *presence.Refusal
	switch {
	case errors.As(err, &problem):
		return problem
	case errors.As(err, &refusal):
		explanation, _ := wire.Explain(string(refusal.Code))
		return &wire.Problem{Code: string(refusal.Code), Detail: strings.ToLower(explanation.Title[:1]) + explanation.Title[1:],
			Field: refusal.Field, Value: wire.Shorten(refusal.Value), Allowed: refusal.Allowed}
	}
	if records.IsFailure(err) {
		return NotRecorded("it could not be done", err)
	}
	return &wire.Problem{Code: wire.CodeInternal, Detail: "the service failed; its log says more"}
}
