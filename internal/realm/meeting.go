package realm

import (
	"bytes"
	"context"
	"encoding/json"
	"slices"
	"time"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/wire"
)

// What a client and the back end may ask for so that people meet: saying what one is doing,
// answering asks, giving passes, inviting, and answering invitations.

// does reports what the person is doing in a room.
func (t *Conversation) does(by By, r wire.Request) (Done, error) {
	object, err := objectOf(r.Data)
	if err != nil {
		return Done{}, err
	}
	return t.tell(by, presence.Doing{From: by.Link, Room: presence.RoomName(r.Room), Number: r.Number, Object: object})
}

// objectOf returns a JSON object without insignificant space, or for null or nothing the empty
// string. An empty object stands for nothing, too.
func objectOf(data json.RawMessage) (string, error) {
	var compact bytes.Buffer
	if len(data) > 0 && json.Compact(&compact, data) != nil { // cannot happen: the frame was read
		return "", badDoing(data)
	}
	switch text := compact.String(); {
	case text == "" || text == "null" || text == "{}":
		return "", nil
	case text[0] != '{':
		return "", badDoing(data)
	default:
		return text, nil
	}
}

func badDoing(data json.RawMessage) error {
	return problem.BadField("data", string(data), "what somebody is doing is not an object", "a JSON object, or null for nothing")
}

// answerAsk admits or refuses somebody who asks, or admits everybody who does.
func (t *Conversation) answerAsk(by By, r wire.Request) (Done, error) {
	if err := needSession(by); err != nil {
		return Done{}, err
	}
	if r.All {
		return t.admitAll(by, r)
	}
	realm := t.Guest().realm
	if _, err := realm.do(presence.AnswerAsk{From: by.Link, Ask: presence.AskID(r.Ask), Admit: r.Type == wire.TypeAdmit}); err != nil {
		return Done{}, err
	}
	return realm.whenKept(wire.Answer{}), nil
}

// admitAll lets in everybody who asks about a room, the oldest ask first.
func (t *Conversation) admitAll(by By, r wire.Request) (Done, error) {
	room, err := presence.ParseRoom(r.Room)
	if err != nil {
		return Done{}, err
	}
	who := t.Guest()
	if !who.person.MayAdmit(room) || !slices.Contains(who.realm.core.RoomsOver(by.Link), room) {
		return Done{}, problem.NotGranted("room", r.Room, grantList(who.person.Admit, "admitting")+"; and to be in the room")
	}
	admitted, not := 0, 0
	for _, ask := range who.realm.core.OpenAsks() {
		if ask.Room != room {
			continue
		}
		if _, err := who.realm.do(presence.AnswerAsk{From: by.Link, Ask: ask.Ask, Admit: true}); err != nil {
			if problem.Of(err).Code == wire.CodeHiding {
				return Done{}, err
			}
			not++
			continue
		}
		admitted++
	}
	return who.realm.whenKept(wire.Answer{Admitted: &admitted, NotAdmitted: &not}), nil
}

// whenKept returns an answer that waits until everything that has happened is written.
func (r *Realm) whenKept(answer wire.Answer) Done {
	return Done{Answer: answer, Wait: func() (wire.Answer, error) { return answer, r.kept(context.Background()) }}
}

// invite invites somebody into a room.
func (t *Conversation) invite(by By, r wire.Request) (Done, error) {
	if err := needSession(by); err != nil {
		return Done{}, err
	}
	who := t.Guest()
	room, err := who.room(r.Room)
	if err != nil {
		return Done{}, err
	}
	if !who.person.MayInvite(room) {
		return Done{}, problem.NotGranted("room", r.Room, grantList(who.person.Invite, "inviting"))
	}
	user, err := userOf(r.User)
	if err != nil {
		return Done{}, err
	}
	reply, err := who.realm.do(presence.Invite{From: by.Link, To: user, Room: room, New: newInvitationID(), Anywhere: who.person.MayWatchPerson(user)})
	return Done{Answer: wire.Answer{Invitation: string(reply.Invitation)}}, err
}

// accept joins the room of an invitation, if the token grants the room and the application
// admits the person.
func (t *Conversation) accept(ctx context.Context, by By, r wire.Request) (Done, error) {
	if err := needSession(by); err != nil {
		return Done{}, err
	}
	how, err := joinedHow(r)
	if err != nil {
		return Done{}, err
	}
	who := t.Guest()
	id := presence.InvitationID(r.Invitation)
	room, err := who.realm.core.InvitationRoom(who.person.User, id)
	if err != nil {
		return Done{}, err
	}
	if _, err := who.room(string(room)); err != nil {
		return Done{}, err
	}
	if dropped, err := t.admitted(ctx, by, room); err != nil {
		return Done{Dropped: dropped}, err
	}
	if _, err := who.realm.do(presence.Accept{From: by.Link, Invitation: id}); err != nil {
		return Done{}, err
	}
	done := who.realm.whenKept(wire.Answer{Joined: string(room)})
	done.After = func() { t.followJoined(by.Link, room, how) }
	return done, nil
}

// AskFrame returns the frame that tells a client how its ask ended.
func AskFrame(answered presence.AskAnswered) []byte {
	return wire.Encode(wire.AskFrame{Type: wire.TypeAsk, Ask: string(answered.Ask), Room: string(answered.Room),
		Outcome: string(answered.Outcome), By: string(answered.By), Again: wire.TimeOf(answered.Again)})
}

// InvitationFrame returns the frame that tells both sides how an invitation ended.
func InvitationFrame(answered presence.InvitationAnswered) []byte {
	return wire.Encode(wire.InvitationFrame{Type: wire.TypeInvitation, Outcome: string(answered.Outcome), Invitation: invitationOf(answered.Invitation)})
}

// InvitationsFrame returns the frame that tells a person's clients their open invitations.
func InvitationsFrame(all presence.Invitations) []byte {
	return wire.Encode(wire.InvitationsFrame{Type: wire.TypeInvitations, Invitations: wire.Invitations{Received: invitationList(all.Received), Sent: invitationList(all.Sent)}})
}

// invitationsOf returns open invitations in their wire form; nil if there are none.
func invitationsOf(all presence.Invitations) *wire.Invitations {
	if len(all.Received)+len(all.Sent) == 0 {
		return nil
	}
	return &wire.Invitations{Received: invitationList(all.Received), Sent: invitationList(all.Sent)}
}

func invitationList(list []presence.Invitation) []wire.Invitation {
	all := make([]wire.Invitation, len(list))
	for i, one := range list {
		all[i] = invitationOf(one)
	}
	return all
}

func invitationOf(i presence.Invitation) wire.Invitation {
	party := func(user presence.UserID, p presence.Profile) wire.Party {
		return wire.Party{User: string(user), Name: p.Name, Picture: p.Picture}
	}
	return wire.Invitation{Invitation: string(i.Invitation), Room: string(i.Room), From: party(i.From, i.FromProfile), To: party(i.To, i.ToProfile),
		Since: *wire.TimeOf(i.Since), Until: *wire.TimeOf(i.Until)}
}

// The desk.

// Asks returns the open asks of the rooms that the key covers, or of one room.
func (d Desk) Asks(name string) (wire.Asks, error) {
	doc := wire.Asks{Asks: []wire.Ask{}}
	var room presence.RoomName
	if name != "" {
		var err error
		if room, err = d.room(name); err != nil {
			return doc, err
		}
	}
	open := slices.DeleteFunc(d.realm.core.OpenAsks(), func(a presence.OpenAsk) bool {
		return !d.sees(a.Room) || room != "" && a.Room != room
	})
	doc.Asks = delivery.Asks(open)
	return doc, nil
}

// AnswerAsk admits or refuses somebody who asks. An ask about a room that the key does not cover
// is unknown to it, also once it is over.
func (d Desk) AnswerAsk(ctx context.Context, id string, admit bool) error {
	if !d.sees(d.realm.core.RoomOfAsk(presence.AskID(id))) {
		return &presence.Refusal{Code: presence.CodeNoAsk, Field: "ask", Value: id, Allowed: "an open ask about a room that the key covers"}
	}
	if _, err := d.realm.do(presence.DecideAsk{Ask: presence.AskID(id), Admit: admit}); err != nil {
		return err
	}
	return d.realm.kept(ctx)
}

// Invitations returns the open invitations into rooms that the key covers, or those that a
// person has received or sent.
func (d Desk) Invitations(id string) (wire.InvitationList, error) {
	doc := wire.InvitationList{}
	var user presence.UserID
	if id != "" {
		var err error
		if user, err = userOf(id); err != nil {
			return doc, err
		}
	}
	open := slices.DeleteFunc(d.realm.core.OpenInvitations(), func(i presence.Invitation) bool {
		return !d.sees(i.Room) || user != "" && i.From != user && i.To != user
	})
	doc.Invitations = invitationList(open)
	return doc, nil
}

// Invite invites somebody into a room on behalf of somebody else.
func (d Desk) Invite(asked wire.NewInvitation) (wire.Invitation, error) {
	room, err := d.room(asked.Room)
	if err != nil {
		return wire.Invitation{}, err
	}
	from, err := userOf(asked.From)
	if err != nil {
		return wire.Invitation{}, inField("from", err)
	}
	to, err := userOf(asked.To)
	if err != nil {
		return wire.Invitation{}, inField("to", err)
	}
	reply, err := d.realm.do(presence.InviteFor{User: from, To: to, Room: room, New: newInvitationID()})
	if err != nil {
		return wire.Invitation{}, err
	}
	for _, i := range d.realm.core.OpenInvitations() {
		if i.Invitation == reply.Invitation {
			return invitationOf(i), nil
		}
	}
	return wire.Invitation{}, &presence.Refusal{Code: presence.CodeNoInvitation, Field: "invitation", Value: string(reply.Invitation), Allowed: "one that is open; this one is over already"}
}

// inField names the field of a request in which a bad user id was found.
func inField(field string, err error) error {
	p := *problem.Of(err)
	p.Field = field
	return &p
}

// EndInvitation withdraws an invitation. One into a room that the key does not cover is unknown
// to it, also once it is over.
func (d Desk) EndInvitation(id string) error {
	if !d.sees(d.realm.core.RoomOfInvitation(presence.InvitationID(id))) {
		return &presence.Refusal{Code: presence.CodeNoInvitation, Field: "invitation", Value: id, Allowed: "an open invitation into a room that the key covers"}
	}
	_, err := d.realm.do(presence.EndInvitation{Invitation: presence.InvitationID(id)})
	return err
}

// Passes returns the passes of a person for rooms that the key covers.
func (d Desk) Passes(id string) (wire.Passes, error) {
	user, err := userOf(id)
	if err != nil {
		return wire.Passes{}, err
	}
	doc := wire.Passes{User: string(user), Passes: []wire.Pass{}}
	for _, pass := range d.realm.core.Passes(user) {
		if d.sees(pass.Room) {
			doc.Passes = append(doc.Passes, wire.Pass{Room: string(pass.Room), Until: *wire.TimeOf(pass.Until)})
		}
	}
	return doc, nil
}

// GrantPass admits a person to a room until a time, or without one for as long as the policy
// says.
func (d Desk) GrantPass(ctx context.Context, name, id string, asked wire.PassWanted) (wire.Pass, error) {
	room, user, err := d.roomAndUser(name, id)
	if err != nil {
		return wire.Pass{}, err
	}
	until := time.Now().Add(d.realm.Policy().For(room).AskPass)
	if asked.Until != nil {
		until = asked.Until.Time
	}
	if _, err := d.realm.do(presence.GrantPass{User: user, Room: room, Until: until.UnixMilli()}); err != nil {
		return wire.Pass{}, err
	}
	return wire.Pass{Room: string(room), Until: wire.Time{Time: until}}, d.realm.kept(ctx)
}

// RevokePass ends a pass. A member stays in the room.
func (d Desk) RevokePass(ctx context.Context, name, id string) error {
	room, user, err := d.roomAndUser(name, id)
	if err != nil {
		return err
	}
	if _, err := d.realm.do(presence.RevokePass{User: user, Room: room}); err != nil {
		return err
	}
	return d.realm.kept(ctx)
}

func (d Desk) roomAndUser(name, id string) (presence.RoomName, presence.UserID, error) {
	room, err := d.room(name)
	if err != nil {
		return "", "", err
	}
	user, err := userOf(id)
	return room, user, err
}
