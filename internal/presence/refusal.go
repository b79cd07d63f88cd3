package presence

import "fmt"

// Code is the word for a refusal. The wire and the HTTP API use the same words.
type Code string

// The refusals of the core.
const (
	CodeBadRoom         Code = "bad-room"
	CodeBadPattern      Code = "bad-pattern"
	CodeBadUser         Code = "bad-user"
	CodeBadProfile      Code = "bad-profile"
	CodeBadNonce        Code = "bad-nonce"
	CodeBadStatus       Code = "bad-status"
	CodeBadNote         Code = "bad-note"
	CodeTooManyRooms    Code = "too-many-rooms"
	CodeTooManySessions Code = "too-many-sessions"
	CodeAlreadyHere     Code = "already-here"
	CodeRoomFull        Code = "room-full"
	CodeRemoved         Code = "removed"
	CodeExpired         Code = "expired-token"
	CodeNotInRoom       Code = "not-in-room"
	CodeNotGranted      Code = "not-granted"
	CodeHiding          Code = "hiding"
	CodeNoSession       Code = "no-session"
	CodeOldLink         Code = "old-link"
	CodeBadDoing        Code = "bad-doing"
	CodeBadPass         Code = "bad-pass"
	CodeEngaged         Code = "engaged"
	CodeAskedBefore     Code = "asked-before"
	CodeNoAsk           Code = "no-ask"
	CodeMustAsk         Code = "must-ask"
	CodeOffline         Code = "offline"
	CodeSetBusy         Code = "set-busy"
	CodeNoInvitation    Code = "no-invitation"

	CodeTooManyInvitations Code = "too-many-invitations"
	CodeQuotaReached       Code = "quota-reached"
)

// Codes returns all codes.
var Codes = []Code{
	CodeBadRoom, CodeBadPattern, CodeBadUser, CodeBadProfile, CodeBadNonce, CodeBadStatus, CodeBadNote,
	CodeTooManyRooms, CodeTooManySessions, CodeAlreadyHere, CodeRoomFull, CodeRemoved, CodeExpired,
	CodeNotInRoom, CodeNoSession, CodeOldLink, CodeBadDoing, CodeBadPass, CodeEngaged, CodeAskedBefore, CodeNoAsk,
	CodeMustAsk, CodeOffline, CodeSetBusy, CodeNoInvitation, CodeTooManyInvitations, CodeQuotaReached,
}

// Refusal is the error of an input that the core does not accept. The input has changed nothing.
type Refusal struct {
	Code    Code
	Field   string // the field that is wrong, or empty
	Value   string // its value
	Allowed string // what is allowed
}

func (r *Refusal) Error() string {
	if r.Field == "" {
		return fmt.Sprintf("%s: %s", r.Code, r.Allowed)
	}
	return fmt.Sprintf("%s: %s is %q; allowed: %s", r.Code, r.Field, r.Value, r.Allowed)
}

func tooManyRooms(p *Policy) error {
	return &Refusal{Code: CodeTooManyRooms, Field: "rooms", Allowed: atMost(p.RoomsPerSession, "room") + " at once in one session"}
}

func tooManySessions(p *Policy) error {
	return &Refusal{Code: CodeTooManySessions, Field: "user", Allowed: atMost(p.SessionsPerPerson, "session") + " at once for one person"}
}

func roomFull(room RoomName, p *RoomPolicy) error {
	return &Refusal{Code: CodeRoomFull, Field: "room", Value: string(room), Allowed: atMost(p.Capacity, "person")}
}

func atMost(n int, noun string) string {
	switch {
	case n == 1:
		return "at most 1 " + noun
	case noun == "person":
		return fmt.Sprintf("at most %d people", n)
	}
	return fmt.Sprintf("at most %d %ss", n, noun)
}
