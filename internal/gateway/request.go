package gateway

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/text/unicode/norm"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/strictjson"
	"tovik.example/tovik/internal/transport"
	"tovik.example/tovik/wire"
)

// requestTypes are those that a client may send, in words.
var requestTypes = strings.Join(slices.Sorted(maps.Keys(wire.RequestFields)), ", ") + ", " + wire.TypeHello

// handle carries out a request that comes after hello.
func (l *link) handle(r wire.Request) error {
	switch r.Type {
	case wire.TypeJoin:
		return l.join(r)
	case wire.TypeLeave:
		return l.leave(r)
	case wire.TypeWatch:
		return l.watch(r)
	case wire.TypeUnwatch:
		return l.unwatch(r)
	case wire.TypeBeat:
		return l.beat(r)
	case wire.TypeActivity:
		return l.activity(r)
	case wire.TypeIdle:
		return l.idle(r)
	case wire.TypePage:
		return l.pageHidden(r)
	case wire.TypeRenew:
		return l.renew(r)
	case wire.TypeBye:
		return l.bye(r)
	case wire.TypeClosing:
		return l.closing(r)
	case wire.TypeTyping:
		return l.typing(r)
	case wire.TypeSent:
		return l.sent(r)
	case wire.TypeStatus:
		return l.status(r)
	case wire.TypeHide:
		return l.hide(r)
	case wire.TypeSignOut:
		return l.signOut(r)
	case wire.TypeRemove:
		return l.remove(r)
	case wire.TypeCue:
		return l.cue(r)
	case wire.TypeMembers:
		return l.members(r)
	}
	panic("gateway: a type of request that is defined and not handled: " + r.Type)
}

// receive carries out one frame of the client, or says why not.
func (l *link) receive(data []byte) {
	object, err := strictjson.Scan(data)
	id := repeatable(object)
	if err == nil {
		err = l.dispatch(object, id)
	}
	if err != nil {
		l.refuse(id, err)
	}
}

// dispatch checks what all requests have, and carries one out.
func (l *link) dispatch(object strictjson.Object, id wire.ID) error {
	if given := object.Get("id"); given != nil && id == nil && given.Kind() != 'n' {
		return &wire.Problem{Code: wire.CodeBadField, Field: "id", Value: wire.Shorten(string(given)),
			Detail: "the id of a request cannot be used", Allowed: "a string of at most 64 bytes or a whole number"}
	}
	name, err := object.String("type")
	hello := name == wire.TypeHello
	switch {
	case err != nil:
		return err
	case name == "":
		return &wire.Problem{Code: wire.CodeNoType, Field: "type", Detail: "the frame has no type", Allowed: requestTypes}
	case !hello && wire.RequestFields[name] == nil:
		return &wire.Problem{Code: wire.CodeUnknownType, Field: "type", Value: wire.Shorten(name),
			Detail: "no request has this type", Allowed: requestTypes}
	}
	switch said := l.talk.Load() != nil; {
	case !said && !hello:
		return &wire.Problem{Code: wire.CodeHelloFirst, Field: "type", Value: name,
			Detail: "the first frame of a link must be hello", Allowed: wire.TypeHello}
	case said && hello:
		return &wire.Problem{Code: wire.CodeSecondHello, Field: "type", Value: wire.TypeHello,
			Detail: "this link has said hello already", Allowed: "one hello on each link"}
	case hello:
		h := wire.Hello{ID: id}
		if err := object.Into(&h); err != nil {
			return err
		}
		l.stream().ExpectWithin(0)
		return l.perform(name, id, func() error { return l.hello(h) })
	}
	if l.carries == (presence.LinkID{}) {
		l.mu.Lock()
		l.heard = time.Now().UnixNano()
		l.mu.Unlock()
	}
	r := wire.Request{Type: name}
	if err := object.Into(&r, wire.RequestFields[name]...); err != nil {
		_ = l.hears() // a request that is refused is a sign of life, too
		return err
	}
	r.ID = id
	return l.perform(name, id, func() error { return l.handle(r) })
}

// asking are the requests about which an application or an identity service may have to
// be asked.
var asking = []string{wire.TypeHello, wire.TypeJoin, wire.TypeWatch, wire.TypeRenew, wire.TypeMembers}

// perform carries out a request, beside the receiving if others have to be asked.
func (l *link) perform(name string, id wire.ID, do func() error) error {
	if !l.gateway.asksOthers || !slices.Contains(asking, name) {
		return do()
	}
	l.later(func() {
		if err := do(); err != nil {
			l.refuse(id, err)
		}
	})
	return nil
}

// repeatable is the id of a request as an answer can repeat it, nil if there is none: a
// short string or a whole number.
func repeatable(object strictjson.Object) wire.ID {
	id := object.Get("id")
	switch {
	case len(id) == 0 || len(id) > 66:
		return nil
	case id.Kind() == '"':
	default:
		if _, err := strconv.ParseInt(string(id), 10, 64); err != nil {
			return nil
		}
	}
	return bytes.Clone(id)
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
	who := l.guest()
	room, err := who.room(r.Room)
	if err != nil {
		return err
	}
	detail, err := detailOf(r.Detail, true)
	if err != nil {
		return err
	}
	if err := l.admitted(who, room); err != nil {
		return err
	}
	if _, err := who.realm.do(presence.Join{From: from, Room: room}); err != nil {
		return err
	}
	l.answer(r.ID, nil, func() { l.followJoined(room, detail) })
	return nil
}

// admitted asks the application whether the person may be in a room. Somebody who may not
// any more is taken out of it.
func (l *link) admitted(who *guest, room presence.RoomName) error {
	if !who.realm.Admission.asks(room) {
		return nil
	}
	ctx, done := l.during()
	defer done()
	profile, err := who.realm.Admission.admit(ctx, who.realm.Name, who.person, room)
	if err != nil {
		if _, notThere := who.realm.do(presence.Leave{From: l.carries, Room: room}); notThere == nil {
			l.dropRoom(room, err)
		}
		return err
	}
	if called := who.called(profile); called != who {
		l.talk.Load().guest.Store(called)
		p := called.person
		_, err = who.realm.do(presence.Renew{From: l.carries, Profile: p.Profile, Issued: p.Issued.UnixMilli(), Expires: p.Expires.UnixMilli(), Grants: called.grants()})
	}
	return err
}

// followJoined follows a room that the session is in. If it was taken out of it a moment
// ago, that has found nothing to end, so this ends it.
func (l *link) followJoined(room presence.RoomName, detail delivery.Detail) {
	receiver := l.talk.Load().receiver
	if detail == delivery.None {
		receiver.Unfollow(delivery.Joined, presence.Pattern(room))
		return
	}
	receiver.Follow(delivery.Joined, presence.Pattern(room), detail)
	if !slices.Contains(l.realm().Engine.RoomsOver(l.carries), room) {
		receiver.Unfollow(delivery.Joined, presence.Pattern(room))
	}
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
	if _, err := l.realm().do(presence.Leave{From: from, Room: room}); err != nil {
		return err
	}
	l.answer(r.ID, func() { l.talk.Load().receiver.Unfollow(delivery.Joined, presence.Pattern(room)) }, nil)
	return nil
}

func (l *link) watch(r wire.Request) error {
	talk := l.talk.Load()
	ctx, done := l.during()
	defer done()
	wish, err := talk.guest.Load().wishOf(ctx, wire.Watch{Room: r.Room, Detail: r.Detail, People: r.People})
	if err != nil {
		return err
	}
	if err := l.hears(); err != nil {
		return err
	}
	if err := talk.note(wish); err != nil {
		return err
	}
	l.answer(r.ID, nil, func() { talk.follow(wish) })
	l.narrow(nil) // for a removal since the grants were looked at
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
	if err := l.hears(); err != nil {
		return err
	}
	talk := l.talk.Load()
	if !talk.unwatch(pattern) {
		return notWatching("room", r.Room, "a room or pattern as a watch named it")
	}
	l.answer(r.ID, func() { talk.receiver.Unfollow(delivery.Watched, pattern) }, nil)
	return nil
}

func (l *link) unwatchPeople(r wire.Request) error {
	if err := l.hears(); err != nil {
		return err
	}
	users := make([]presence.UserID, len(r.People))
	for i, id := range r.People {
		users[i] = presence.UserID(norm.NFC.String(id))
	}
	talk := l.talk.Load()
	if unknown := talk.unwatchPeople(users); unknown != "" {
		return notWatching("people", string(unknown), "people whom a watch named")
	}
	l.answer(r.ID, func() { talk.receiver.UnfollowPeople(users) }, nil)
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
	who := l.guest()
	if err := l.mayList(who, room); err != nil {
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
	topic := engine.Topic{Room: room, View: who.view()}
	give := func() error { return l.page(r, who.realm, topic, revision) }
	sealing := who.realm.Engine.Sealing(topic)
	if sealing == nil || r.Rev != "" {
		return give()
	}
	l.later(func() { // so that clients see their own changes
		<-sealing
		if err := give(); err != nil {
			l.refuse(r.ID, err)
		}
	})
	return nil
}

func (l *link) page(r wire.Request, realm *Realm, topic engine.Topic, revision engine.Revision) error {
	page, ok := realm.Hub.Page(topic, revision, delivery.PageWanted{After: presence.UserID(r.After), Limit: r.Limit})
	if !ok {
		return &wire.Problem{Code: wire.CodeOldRevision, Field: "rev", Value: wire.Shorten(r.Rev),
			Detail: "the room is no longer known at this revision", Allowed: "the first page again, without rev"}
	}
	l.reply(wire.Answer{Re: r.ID, Members: &page}, nil, nil)
	return nil
}

// mayList tells whether the link may list the members of a room: it is in it, or may watch
// it.
func (l *link) mayList(who *guest, room presence.RoomName) error {
	if err := who.mayFollow(presence.Pattern(room), delivery.AtMembers); err != nil {
		return err
	}
	if l.carries != (presence.LinkID{}) && slices.Contains(who.realm.Engine.RoomsOver(l.carries), room) {
		return nil
	}
	ctx, done := l.during()
	defer done()
	return who.admittedToWatch(ctx, presence.Pattern(room))
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
	reply, err := l.realm().do(in(from))
	if err != nil {
		return err
	}
	l.reply(wire.Answer{Re: r.ID, Stale: reply.Stale}, nil, nil)
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

func (l *link) pageHidden(r wire.Request) error {
	if l.feed != nil {
		l.feed.in.PageHidden = r.PageHidden // also after a return
	}
	return l.tell(r, func(from presence.LinkID) presence.Input {
		return presence.PageHidden{From: from, Hidden: r.PageHidden}
	})
}

// hears notes a sign of life that is no input of its own.
func (l *link) hears() error {
	if from, err := l.session(); err == nil {
		_, err := l.realm().do(presence.Beat{From: from})
		return err
	}
	return nil // receive has noted it
}

func (l *link) typing(r wire.Request) error {
	return l.tell(r, func(from presence.LinkID) presence.Input {
		return presence.Typing{From: from, Room: presence.RoomName(r.Room), Number: r.Number, On: r.On == nil || *r.On}
	})
}

func (l *link) sent(r wire.Request) error {
	return l.tell(r, func(from presence.LinkID) presence.Input {
		return presence.Sent{From: from, Room: presence.RoomName(r.Room), Number: r.Number}
	})
}

func (l *link) bye(r wire.Request) error {
	if from, err := l.session(); err == nil {
		if _, err := l.realm().do(presence.Bye{From: from}); err != nil {
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
	if _, err := l.realm().do(presence.Closing{From: from}); err != nil {
		return err
	}
	l.answer(r.ID, nil, nil)
	l.finish(wire.CloseClosing, wire.TypeClosing)
	return nil
}

// ProblemOf turns any error into what a client is told.
func ProblemOf(err error) *wire.Problem {
	var problem *wire.Problem
	var refusal *presence.Refusal
	switch {
	case errors.As(err, &problem):
		return problem
	case errors.As(err, &refusal):
		problemType, _ := wire.ProblemTypeOf(string(refusal.Code))
		return &wire.Problem{Code: string(refusal.Code), Detail: strings.ToLower(problemType.Title[:1]) + problemType.Title[1:],
			Field: refusal.Field, Value: wire.Shorten(refusal.Value), Allowed: refusal.Allowed}
	}
	if records.IsFailure(err) {
		return NotRecorded("it could not be done", err)
	}
	return &wire.Problem{Code: wire.CodeInternal, Detail: "the service failed; its log says more"}
}
