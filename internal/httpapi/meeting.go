package httpapi

import (
	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/wire"
)

// asks lists the open asks of the rooms that the key covers.
func (a *API) asks(c fiber.Ctx) error { return respond(c)(deskOf(c).Asks(c.Query("room"))) }

func (a *API) admit(c fiber.Ctx) error {
	return nothing(c, deskOf(c).AnswerAsk(c, param(c, "ask"), true))
}

func (a *API) refuse(c fiber.Ctx) error {
	return nothing(c, deskOf(c).AnswerAsk(c, param(c, "ask"), false))
}

// invitations lists the open invitations.
func (a *API) invitations(c fiber.Ctx) error {
	return respond(c)(deskOf(c).Invitations(c.Query("user")))
}

func (a *API) invite(c fiber.Ctx) error {
	asked, err := bodyOf[wire.NewInvitation](c)
	if err != nil {
		return err
	}
	invitation, err := deskOf(c).Invite(asked)
	if err != nil {
		return err
	}
	return c.Status(fiber.StatusCreated).JSON(invitation)
}

func (a *API) endInvitation(c fiber.Ctx) error {
	return nothing(c, deskOf(c).EndInvitation(param(c, "invitation")))
}

func (a *API) passes(c fiber.Ctx) error { return respond(c)(deskOf(c).Passes(param(c, "user"))) }

func (a *API) grantPass(c fiber.Ctx) error {
	asked, err := bodyOf[wire.PassWanted](c)
	if err != nil {
		return err
	}
	return respond(c)(deskOf(c).GrantPass(c, param(c, "room"), param(c, "user"), asked))
}

func (a *API) revokePass(c fiber.Ctx) error {
	return nothing(c, deskOf(c).RevokePass(c, param(c, "room"), param(c, "user")))
}

// meetingRoutes are about people who ask to be let in, and who are invited.
func (a *API) meetingRoutes() []route {
	const topic = "Meeting"
	return []route{
		{Operation{Method: get, Path: "/v1/asks", ID: "listAsks", Topic: topic, Says: "List the open asks to be let into rooms, oldest first",
			Shows: read, Reach: ReachRooms, Gives: wire.Asks{}, Query: []Parameter{{Name: "room", Says: "only those about this room", Example: "desk.meeting"}}, Fails: []string{"bad-room", "unknown-room"}}, a.asks},
		{Operation{Method: post, Path: "/v1/asks/{ask}/admit", ID: "admit", Topic: topic, Says: "Let somebody in who asks",
			More: "The sessions that asked are in the room at once, and the person has a pass for as long as the room's policy says.", Shows: write, Reach: ReachRooms, Fails: []string{"no-ask", "room-full", "engaged", "not-recorded"}}, a.admit},
		{Operation{Method: post, Path: "/v1/asks/{ask}/refuse", ID: "refuse", Topic: topic, Says: "Refuse somebody who asks",
			Shows: write, Reach: ReachRooms, Fails: []string{"no-ask", "not-recorded"}}, a.refuse},
		{Operation{Method: get, Path: "/v1/invitations", ID: "listInvitations", Topic: topic, Says: "List the open invitations, oldest first",
			Shows: read, Reach: ReachRooms, Gives: wire.InvitationList{}, Query: []Parameter{{Name: "user", Says: "only those that this person received or sent", Example: "w-02"}}, Fails: []string{"bad-user"}}, a.invitations},
		{Operation{Method: post, Path: "/v1/invitations", ID: "invite", Topic: topic, Says: "Invite a person into a room on behalf of another",
			More: "It is refused at once if the person is offline, engaged, has set busy, or has too many open invitations. Otherwise they accept or decline over a link, or it expires.", Shows: write, Reach: ReachRooms,
			Takes: wire.NewInvitation{From: "e-01", To: "w-10", Room: "call.upstream"}, Gives: wire.Invitation{}, Status: 201, Fails: []string{"bad-field", "bad-room", "bad-user", "unknown-room", "offline", "engaged", "set-busy", "already-here", "too-many-invitations", "hiding"}}, a.invite},
		{Operation{Method: del, Path: "/v1/invitations/{invitation}", ID: "withdrawInvitation", Topic: topic, Says: "Withdraw an invitation",
			Shows: write, Reach: ReachRooms, Fails: []string{"no-invitation"}}, a.endInvitation},
		{Operation{Method: get, Path: "/v1/people/{user}/passes", ID: "listPasses", Topic: topic, Says: "List the passes of a person for rooms that ask",
			Shows: read, Reach: ReachRooms, Gives: wire.Passes{}}, a.passes},
		{Operation{Method: put, Path: "/v1/rooms/{room}/passes/{user}", ID: "grantPass", Topic: topic, Says: "Give a person a pass for a room",
			More: "If the person asks to be let in, they are in at once. Without until the pass lasts as long as the room's policy says.", Shows: write, Reach: ReachRooms, Takes: wire.PassWanted{Until: &exampleTime}, Gives: wire.Pass{}, Fails: []string{"bad-pass", "unknown-room", "not-recorded"}}, a.grantPass},
		{Operation{Method: del, Path: "/v1/rooms/{room}/passes/{user}", ID: "revokePass", Topic: topic, Says: "Revoke a pass", More: "A member stays in the room; DELETE /v1/rooms/{room}/members/{user} removes them.",
			Shows: write, Reach: ReachRooms, Fails: []string{"unknown-room", "not-recorded"}}, a.revokePass},
	}
}
