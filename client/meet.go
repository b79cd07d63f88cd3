package client

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"

	"tovik.example/tovik/wire"
)

// JoinOrAsk joins a room. If the person must ask to enter it, JoinOrAsk returns the ask, and OnAsk is
// told the outcome later.
func (l *Link) JoinOrAsk(ctx context.Context, room string) (*wire.Ask, error) {
	var answer struct {
		Ask *wire.Ask `json:"ask"`
	}
	err := l.ask(ctx, wire.Request{Type: wire.TypeJoin, Room: room}, &answer)
	return answer.Ask, err
}

// Doing says what the person is doing in a room: anything that marshals to a JSON object, or nil
// for nothing.
func (l *Link) Doing(ctx context.Context, room string, doing any) error {
	data, err := json.Marshal(doing)
	if err != nil {
		return err
	}
	return l.request(ctx, wire.Request{Type: wire.TypeDoing, Room: room, Data: data})
}

// Admit lets somebody in who asks. The token must grant it, and the session must be in the room.
func (l *Link) Admit(ctx context.Context, ask string) error {
	return l.request(ctx, wire.Request{Type: wire.TypeAdmit, Ask: ask})
}

// AdmitAll lets in everybody who asks about a room. It returns how many people were let in, and
// how many still ask because the room is full or they are engaged.
func (l *Link) AdmitAll(ctx context.Context, room string) (admitted, not int, err error) {
	var answer struct {
		Admitted    int `json:"admitted"`
		NotAdmitted int `json:"not_admitted"`
	}
	err = l.ask(ctx, wire.Request{Type: wire.TypeAdmit, Room: room, All: true}, &answer)
	return answer.Admitted, answer.NotAdmitted, err
}

// Refuse refuses somebody who asks.
func (l *Link) Refuse(ctx context.Context, ask string) error {
	return l.request(ctx, wire.Request{Type: wire.TypeRefuse, Ask: ask})
}

// Invite invites somebody into a room, and returns the id of the invitation. OnInvitation is told
// the outcome.
func (l *Link) Invite(ctx context.Context, user, room string) (invitation string, err error) {
	var answer struct {
		Invitation string `json:"invitation"`
	}
	err = l.ask(ctx, wire.Request{Type: wire.TypeInvite, User: user, Room: room}, &answer)
	return answer.Invitation, err
}

// Accept accepts an invitation, and returns the room that the session is in now.
func (l *Link) Accept(ctx context.Context, invitation string) (room string, err error) {
	var answer struct {
		Joined string `json:"joined"`
	}
	err = l.ask(ctx, wire.Request{Type: wire.TypeAccept, Invitation: invitation}, &answer)
	return answer.Joined, err
}

// Decline declines an invitation.
func (l *Link) Decline(ctx context.Context, invitation string) error {
	return l.request(ctx, wire.Request{Type: wire.TypeDecline, Invitation: invitation})
}

// Withdraw withdraws an invitation that the person sent.
func (l *Link) Withdraw(ctx context.Context, invitation string) error {
	return l.request(ctx, wire.Request{Type: wire.TypeWithdraw, Invitation: invitation})
}

// Asks lists the open asks about a room, or with an empty room of all that the key covers.
func (a API) Asks(ctx context.Context, room string) (wire.Asks, error) {
	var doc wire.Asks
	return doc, a.call(ctx, http.MethodGet, "/v1/asks"+oneOf("room", room), nil, &doc)
}

// Admit lets somebody in who asks.
func (a API) Admit(ctx context.Context, ask string) error {
	return a.call(ctx, http.MethodPost, "/v1/asks/"+url.PathEscape(ask)+"/admit", nil, nil)
}

// Refuse refuses somebody who asks.
func (a API) Refuse(ctx context.Context, ask string) error {
	return a.call(ctx, http.MethodPost, "/v1/asks/"+url.PathEscape(ask)+"/refuse", nil, nil)
}

// Invitations lists the open invitations that a person received or sent, or with an empty user
// all that the key covers.
func (a API) Invitations(ctx context.Context, user string) (wire.InvitationList, error) {
	var doc wire.InvitationList
	return doc, a.call(ctx, http.MethodGet, "/v1/invitations"+oneOf("user", user), nil, &doc)
}

// Invite invites somebody on behalf of somebody else.
func (a API) Invite(ctx context.Context, wanted wire.NewInvitation) (wire.Invitation, error) {
	var doc wire.Invitation
	return doc, a.call(ctx, http.MethodPost, "/v1/invitations", wanted, &doc)
}

// WithdrawInvitation withdraws an invitation.
func (a API) WithdrawInvitation(ctx context.Context, invitation string) error {
	return a.call(ctx, http.MethodDelete, "/v1/invitations/"+url.PathEscape(invitation), nil, nil)
}

// Passes lists the passes of a person.
func (a API) Passes(ctx context.Context, user string) (wire.Passes, error) {
	var doc wire.Passes
	return doc, a.call(ctx, http.MethodGet, "/v1/people/"+url.PathEscape(user)+"/passes", nil, &doc)
}

// GrantPass gives a person a pass for a room.
func (a API) GrantPass(ctx context.Context, room, user string, wanted wire.PassWanted) (wire.Pass, error) {
	var doc wire.Pass
	return doc, a.call(ctx, http.MethodPut, passPath(room, user), wanted, &doc)
}

// RevokePass revokes a pass. Members stay in the room.
func (a API) RevokePass(ctx context.Context, room, user string) error {
	return a.call(ctx, http.MethodDelete, passPath(room, user), nil, nil)
}

func passPath(room, user string) string {
	return "/v1/rooms/" + url.PathEscape(room) + "/passes/" + url.PathEscape(user)
}

// oneOf returns a query with one parameter, or nothing for an empty value.
func oneOf(name, value string) string {
	if value == "" {
		return ""
	}
	return "?" + url.Values{name: {value}}.Encode()
}
