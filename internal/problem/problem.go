// Package problem turns errors into what a client is told: problem documents with a code
// of package wire. It holds no rule; presence and records say what is wrong, and this
// package says it in the client's words.
package problem

import (
	"errors"
	"strings"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// Of returns what a client is told of an error: the error itself when it is a problem
// already, the refusal of the core, or that the records or the service failed.
func Of(err error) *wire.Problem {
	var problem *wire.Problem
	var refusal *presence.Refusal
	switch {
	case errors.As(err, &problem):
		return problem
	case errors.As(err, &refusal):
		problemType, _ := wire.ProblemTypeOf(string(refusal.Code))
		return &wire.Problem{Code: string(refusal.Code), Detail: strings.ToLower(problemType.Title[:1]) + problemType.Title[1:],
			Field: refusal.Field, Value: wire.Shorten(refusal.Value), Allowed: refusal.Allowed}
	case errors.Is(err, engine.ErrNotReady):
		return &wire.Problem{Code: wire.CodeNotReady, Detail: "no node answers for this realm at the moment", Allowed: "the same again in a second"}
	case errors.Is(err, engine.ErrNoRealm):
		return &wire.Problem{Code: wire.CodeUnknownRealm, Field: "realm", Detail: "the realm was removed"}
	case records.IsFailure(err):
		return NotRecorded("the request failed", err)
	}
	return &wire.Problem{Code: wire.CodeInternal, Detail: "the service failed; see its log"}
}

// BadField returns the problem of a field whose value cannot be used.
func BadField(field, value, detail, allowed string) error {
	return &wire.Problem{Code: wire.CodeBadField, Field: field, Value: wire.Shorten(value), Detail: detail, Allowed: allowed}
}

// BadRevision returns the problem of a text that is no revision.
func BadRevision(field, text string) error {
	return BadField(field, text, "this is not a revision", "the rev of a frame of this room")
}

// NotGranted returns the problem of something that the token does not grant.
func NotGranted(field, value, allowed string) error {
	return &wire.Problem{Code: wire.CodeNotGranted, Field: field, Value: wire.Shorten(value), Detail: "the token does not grant this", Allowed: allowed}
}

// NotRecorded returns the problem of something that may not outlast the service, because
// the records cannot be written.
func NotRecorded(detail string, err error) *wire.Problem {
	return &wire.Problem{Code: wire.CodeNotRecorded, Detail: detail + ": " + err.Error(), Allowed: "try again when /readyz says that the records can be written"}
}

// UnknownRoom returns the problem of a room that does not exist, or that the key is not
// about.
func UnknownRoom(room presence.RoomName) error {
	return &wire.Problem{Code: wire.CodeUnknownRoom, Field: "room", Value: string(room),
		Detail: "nobody is in a room of this name", Allowed: "a room that GET /v1/rooms lists"}
}

// UnknownPerson returns the problem of a person whom the realm does not know.
func UnknownPerson(user presence.UserID) *wire.Problem {
	return &wire.Problem{Code: wire.CodeUnknownPerson, Field: "user", Value: wire.Shorten(string(user)), Detail: "the realm does not know a person with this id"}
}
