package presence

import "fmt"

// Code is the word that names a refusal. The wire and the HTTP API use the same
// words.
type Code string

// The refusals of the core.
const (
	CodeBadRoom         Code = "bad-room"
	CodeBadPattern      Code = "bad-pattern"
	CodeBadUser         Code = "bad-user"
	CodeBadProfile      Code = "bad-profile"
	CodeBadNonce        Code = "bad-nonce"
	CodeTooManyRooms    Code = "too-many-rooms"
	CodeTooManySessions Code = "too-many-sessions"
	CodeNotInRoom       Code = "not-in-room"
	CodeNoSession       Code = "no-session"
	CodeOldLink         Code = "old-link"
)

// Codes are all of them.
var Codes = []Code{
	CodeBadRoom, CodeBadPattern, CodeBadUser, CodeBadProfile, CodeBadNonce, CodeTooManyRooms, CodeTooManySessions,
	CodeNotInRoom, CodeNoSession, CodeOldLink,
}

// Refusal is the error of every input that the core does not accept. A refused
// input has changed nothing.
type Refusal struct {
	Code    Code
	Field   string // the field at fault, empty when it is none in particular
	Value   string // what it was
	Allowed string // what it may be
}

func (r *Refusal) Error() string {
	if r.Field == "" {
		return fmt.Sprintf("%s: %s", r.Code, r.Allowed)
	}
	return fmt.Sprintf("%s: %s is %q; allowed: %s", r.Code, r.Field, r.Value, r.Allowed)
}
