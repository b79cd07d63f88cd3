package realm

import (
	"context"
	"fmt"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/wire"
)

// normalClosure is the close code after bye (RFC 6455 §7.4.1).
const normalClosure = 1000

// By identifies the link of a request. Link is zero without a session.
type By struct {
	Link   presence.LinkID
	Caller Caller
}

// Done is the outcome of a request.
type Done struct {
	Answer wire.Answer
	// Before and After, if not nil, are called right before and right after the answer is
	// written: what the client follows starts after the answer, and stops before it.
	Before, After func()
	// Dropped is what is no longer delivered. It is sent before the answer.
	Dropped []wire.Drop
	// Wait, if not nil, returns the answer when it is ready, or the error to send instead.
	// Later requests do not wait for it, unless Hold is set.
	Wait func() (wire.Answer, error)
	Hold bool
	// Narrow asks for a call of [Conversation.Narrow] once the answer is queued.
	Narrow bool
	// Then, if not nil, is called once the answer is queued.
	Then func()
	// End, if not nil, closes the link after the answer.
	End *End
}

// Do carries out a request after the hello. The context ends with the connection. The error is
// a problem, or a refusal of the core; Dropped is valid even then.
func (t *Conversation) Do(ctx context.Context, by By, r wire.Request) (Done, error) {
	if t.Guest().realm.elsewhere != nil {
		return t.doElsewhere(ctx, by, r)
	}
	return t.do(ctx, by, r)
}

func (t *Conversation) doElsewhere(ctx context.Context, by By, r wire.Request) (done Done, err error) {
	err = t.Guest().realm.Answered(func() error {
		done, err = t.do(ctx, by, r)
		return err
	})
	return done, err
}

func (t *Conversation) do(ctx context.Context, by By, r wire.Request) (Done, error) {
	switch r.Type {
	case wire.TypeJoin:
		return t.join(ctx, by, r)
	case wire.TypeLeave:
		return t.leave(by, r)
	case wire.TypeWatch:
		return t.watch(ctx, by, r)
	case wire.TypeUnwatch:
		return t.unwatch(by, r)
	case wire.TypeBeat:
		return Done{}, t.hears(by)
	case wire.TypeActivity:
		return t.activity(by, r)
	case wire.TypeIdle:
		return t.tell(by, presence.Idle{From: by.Link})
	case wire.TypePage:
		return t.pageHidden(by, r)
	case wire.TypeRenew:
		return t.renew(ctx, by, r)
	case wire.TypeBye:
		return t.bye(by)
	case wire.TypeClosing:
		return t.closing(by)
	case wire.TypeTyping:
		return t.tell(by, presence.Typing{From: by.Link, Room: presence.RoomName(r.Room), Number: r.Number, On: r.On == nil || *r.On})
	case wire.TypeSent:
		return t.tell(by, presence.Sent{From: by.Link, Room: presence.RoomName(r.Room), Number: r.Number})
	case wire.TypeStatus:
		return t.status(by, r)
	case wire.TypeHide:
		return t.hide(by, r)
	case wire.TypeSignOut:
		return t.signOut(by)
	case wire.TypeRemove:
		return t.remove(by, r)
	case wire.TypeCue:
		return t.cue(by, r)
	case wire.TypeMembers:
		return t.members(ctx, by, r)
	case wire.TypeDoing:
		return t.does(by, r)
	case wire.TypeAdmit, wire.TypeRefuse:
		return t.answerAsk(by, r)
	case wire.TypeInvite:
		return t.invite(by, r)
	case wire.TypeAccept:
		return t.accept(ctx, by, r)
	case wire.TypeDecline:
		return t.tell(by, presence.Decline{From: by.Link, Invitation: presence.InvitationID(r.Invitation)})
	case wire.TypeWithdraw:
		return t.tell(by, presence.TakeBack{From: by.Link, Invitation: presence.InvitationID(r.Invitation)})
	}
	panic("realm: a type of request that is defined and not handled: " + r.Type)
}

// Hear notes a sign of life: a frame that could not be read, or that was refused.
func (t *Conversation) Hear(link presence.LinkID) {
	_ = t.hears(By{Link: link})
}

// hears gives the core a sign of life that comes with no other input. A link without a session
// needs none.
func (t *Conversation) hears(by By) error {
	if by.Link == (presence.LinkID{}) {
		return nil
	}
	_, err := t.Guest().realm.do(presence.Beat{From: by.Link})
	return err
}

// needSession refuses a link without a session.
func needSession(by By) error {
	if by.Link == (presence.LinkID{}) {
		return &wire.Problem{Code: wire.CodeWatchOnly, Detail: "this link has no session", Allowed: "watch, unwatch, members, beat, bye"}
	}
	return nil
}

// tell gives the core an input about the session.
func (t *Conversation) tell(by By, in presence.Input) (Done, error) {
	if err := needSession(by); err != nil {
		return Done{}, err
	}
	reply, err := t.Guest().realm.do(in)
	return Done{Answer: wire.Answer{Stale: reply.Stale}}, err
}

func (t *Conversation) join(ctx context.Context, by By, r wire.Request) (Done, error) {
	if err := needSession(by); err != nil {
		return Done{}, err
	}
	who := t.Guest()
	room, err := who.room(r.Room)
	if err != nil {
		return Done{}, err
	}
	how, err := joinedHow(r)
	if err != nil {
		return Done{}, err
	}
	if dropped, err := t.admitted(ctx, by, room); err != nil {
		return Done{Dropped: dropped}, err
	}
	t.asks(room, how) // before an answer can come
	reply, err := who.realm.do(presence.Join{From: by.Link, Room: room, NewAsk: newAskID()})
	if err != nil {
		return Done{}, err
	}
	if len(reply.Asked) > 0 {
		return Done{Answer: wire.Answer{Ask: &delivery.Asks(reply.Asked)[0]}}, nil
	}
	return Done{After: func() { t.followJoined(by.Link, room, how) }}, nil
}

// joinedHow reads how a room is followed that the session is in.
func joinedHow(r wire.Request) (delivery.How, error) {
	detail, err := detailOf(r.Detail, true)
	if err != nil {
		return delivery.How{}, err
	}
	return howOf(detail, r.Without, r.Limit)
}

func badLimit(limit int) error {
	return problem.BadField("limit", fmt.Sprint(limit), "the limit of members cannot be this", fmt.Sprintf("a whole number from 1 to %d", maxPage))
}

// admitted asks the application whether the person may be in a room. If not, and they are in
// it, they are taken out.
func (t *Conversation) admitted(ctx context.Context, by By, room presence.RoomName) ([]wire.Drop, error) {
	who := t.Guest()
	realm := who.realm
	if !realm.admission.Asks(room) {
		return nil, nil
	}
	profile, err := realm.admission.Admit(ctx, realm.name, who.person, room)
	if err != nil {
		if _, notThere := realm.do(presence.Leave{From: by.Link, Room: room}); notThere == nil {
			return []wire.Drop{t.dropRoom(room, err)}, err
		}
		return nil, err
	}
	if called := who.called(profile); called != who {
		t.guest.Store(called)
		_, err = realm.do(called.renewal(by.Link))
	}
	return nil, err
}

// renewal gives the core the grants and profile of a renewed token.
func (g *Guest) renewal(from presence.LinkID) presence.Renew {
	p := g.person
	return presence.Renew{From: from, Profile: p.Profile, Issued: p.Issued.UnixMilli(), Expires: p.Expires.UnixMilli(), Grants: g.grants(), Admits: g.admits()}
}

func (t *Conversation) leave(by By, r wire.Request) (Done, error) {
	if err := needSession(by); err != nil {
		return Done{}, err
	}
	room, err := presence.ParseRoom(r.Room)
	if err != nil {
		return Done{}, err
	}
	if _, err := t.Guest().realm.do(presence.Leave{From: by.Link, Room: room}); err != nil {
		return Done{}, err
	}
	return Done{Before: func() { t.receiver.Unfollow(delivery.Joined, presence.Pattern(room)) }}, nil
}

func (t *Conversation) watch(ctx context.Context, by By, r wire.Request) (Done, error) {
	wish, err := t.Guest().wishOf(ctx, wire.Watch{Room: r.Room, Detail: r.Detail, People: r.People, Without: r.Without, Limit: r.Limit})
	if err != nil {
		return Done{}, err
	}
	if err := t.hears(by); err != nil {
		return Done{}, err
	}
	if err := t.note(wish); err != nil {
		return Done{}, err
	}
	// A removal since the grants were checked is found by Narrow.
	return Done{After: func() { t.follow(wish) }, Narrow: true}, nil
}

func (t *Conversation) unwatch(by By, r wire.Request) (Done, error) {
	if len(r.People) > 0 {
		return t.unwatchPeople(by, r)
	}
	if r.Room == "" {
		return Done{}, problem.BadField("room", "", "the unwatch names neither a room nor people", "room: a room or pattern as a watch named it; or people: user ids")
	}
	pattern, err := presence.ParsePattern(r.Room)
	if err != nil {
		return Done{}, err
	}
	if err := t.hears(by); err != nil {
		return Done{}, err
	}
	if !t.stopWatching(pattern) {
		return Done{}, notWatching("room", r.Room, "a room or pattern as a watch named it")
	}
	return Done{Before: func() { t.receiver.Unfollow(delivery.Watched, pattern) }}, nil
}

func (t *Conversation) unwatchPeople(by By, r wire.Request) (Done, error) {
	if err := t.hears(by); err != nil {
		return Done{}, err
	}
	users := normalized(r.People)
	if unknown := t.stopWatchingPeople(users); unknown != "" {
		return Done{}, notWatching("people", string(unknown), "people whom a watch named")
	}
	return Done{Before: func() { t.receiver.UnfollowPeople(users) }}, nil
}

func notWatching(field, value, allowed string) error {
	return &wire.Problem{Code: wire.CodeNotWatching, Field: field, Value: wire.Shorten(value), Detail: "the link does not watch this", Allowed: allowed}
}

// members answers with a page of a room whose members the client may follow.
func (t *Conversation) members(ctx context.Context, by By, r wire.Request) (Done, error) {
	room, err := presence.ParseRoom(r.Room)
	if err != nil {
		return Done{}, err
	}
	if err := t.mayList(ctx, by.Link, room); err != nil {
		return Done{}, err
	}
	revision, ok := engine.ParseRevision(r.Rev)
	if !ok {
		return Done{}, problem.BadRevision("rev", r.Rev)
	}
	if r.Limit == 0 {
		r.Limit = pageSize
	}
	if r.Limit < 1 || r.Limit > maxPage {
		return Done{}, badLimit(r.Limit)
	}
	if err := t.hears(by); err != nil {
		return Done{}, err
	}
	who := t.Guest()
	topic := engine.Topic{Room: room, View: who.view()}
	give := func() (wire.Answer, error) {
		page, err := t.page(r, topic, revision)
		return wire.Answer{Members: &page}, err
	}
	if sealing := who.realm.core.Sealing(topic); sealing != nil && r.Rev == "" {
		return Done{Hold: true, Wait: func() (wire.Answer, error) { // so that clients see their own changes
			<-sealing
			return give()
		}}, nil
	}
	answer, err := give()
	return Done{Answer: answer}, err
}

func (t *Conversation) activity(by By, r wire.Request) (Done, error) {
	ago, err := idleFor(r.IdleFor)
	if err != nil {
		return Done{}, err
	}
	return t.tell(by, presence.Activity{From: by.Link, IdleFor: ago})
}

func (t *Conversation) pageHidden(by By, r wire.Request) (Done, error) {
	if t.again != nil {
		t.again.PageHidden = r.PageHidden // also after a return
	}
	return t.tell(by, presence.PageHidden{From: by.Link, Hidden: r.PageHidden})
}

// renew accepts a newer token of the same person. The session leaves the rooms that it no longer
// grants, and watches that it no longer grants end. The view is the one that it grants.
func (t *Conversation) renew(ctx context.Context, by By, r wire.Request) (Done, error) {
	before := t.Guest()
	if before.operator {
		return Done{}, needSession(By{})
	}
	who, err := t.realms.identify(wire.Hello{Token: r.Token}, by.Caller)
	if err != nil {
		return Done{}, err
	}
	if who.ID() != before.ID() {
		return Done{}, &wire.Problem{Code: wire.CodeBadToken, Field: "token", Detail: "the token is another person's",
			Allowed: "a newer token of the person of this link"}
	}
	if err := needSession(by); err != nil {
		return Done{}, err
	}
	if _, err = who.realm.do(who.renewal(by.Link)); err != nil {
		return Done{}, err
	}
	t.guest.Store(who)
	t.receiver.See(who.view())
	t.receiver.Admit(who.admits())
	var done Done
	for _, room := range who.realm.core.RoomsOver(by.Link) {
		dropped, _ := t.admitted(ctx, by, room)
		done.Dropped = append(done.Dropped, dropped...)
	}
	done.Dropped = append(done.Dropped, t.narrow(func(pattern presence.Pattern) error { return who.admittedToWatch(ctx, pattern) })...)
	return done, nil
}

func (t *Conversation) bye(by By) (Done, error) {
	if by.Link != (presence.LinkID{}) {
		if _, err := t.Guest().realm.do(presence.Bye{From: by.Link}); err != nil {
			return Done{}, err
		}
	}
	return Done{End: &End{normalClosure, wire.TypeBye}}, nil
}

func (t *Conversation) closing(by By) (Done, error) {
	done, err := t.tell(by, presence.Closing{From: by.Link})
	done.Answer, done.End = wire.Answer{}, &End{wire.CloseClosing, wire.TypeClosing}
	return done, err
}

// status sets the person's status, for all their sessions.
func (t *Conversation) status(by By, r wire.Request) (Done, error) {
	in := presence.SetStatus{User: t.Guest().person.User, Status: presence.Status(r.Status), Label: r.Label, Note: r.Note}
	if r.ThisSession {
		in.Session = by.Link.Session
	}
	if r.Until != nil {
		in.Until = r.Until.UnixMilli()
	}
	return t.tellOfPerson(by, in)
}

// hide hides the person from others, or ends that. Ending it needs no grant.
func (t *Conversation) hide(by By, r wire.Request) (Done, error) {
	who, on := t.Guest(), r.On == nil || *r.On
	if on && !who.person.MayHide {
		if err := needSession(by); err != nil {
			return Done{}, err
		}
		return Done{}, problem.NotGranted("on", "true", "a token with tovik.hide")
	}
	return t.tellOfPerson(by, presence.Hide{User: who.person.User, Hidden: on})
}

// tellOfPerson gives the core an input about the person of the session. The answer waits until
// it is written.
func (t *Conversation) tellOfPerson(by By, in presence.Input) (Done, error) {
	if err := needSession(by); err != nil {
		return Done{}, err
	}
	if err := t.hears(by); err != nil {
		return Done{}, err
	}
	realm := t.Guest().realm
	if _, err := realm.do(in); err != nil {
		return Done{}, err
	}
	return Done{Wait: func() (wire.Answer, error) { return wire.Answer{}, realm.kept(context.Background()) }}, nil
}

// signOut ends all sessions of the person, this one last.
func (t *Conversation) signOut(by By) (Done, error) {
	if err := needSession(by); err != nil {
		return Done{}, err
	}
	who := t.Guest()
	return Done{Then: func() { who.realm.Apply(presence.SignOut{User: who.person.User}) }}, nil
}

// remove removes somebody from a room that the person may moderate.
func (t *Conversation) remove(by By, r wire.Request) (Done, error) {
	if err := needSession(by); err != nil {
		return Done{}, err
	}
	room, err := presence.ParseRoom(r.Room)
	if err != nil {
		return Done{}, err
	}
	who := t.Guest()
	if !who.person.MayModerate(room) {
		return Done{}, problem.NotGranted("room", r.Room, grantList(who.person.Moderate, "moderation"))
	}
	user, err := userOf(r.User)
	if err != nil {
		return Done{}, err
	}
	if err := t.hears(by); err != nil {
		return Done{}, err
	}
	_, err = who.realm.remove(user, room, "")
	return Done{}, err
}
