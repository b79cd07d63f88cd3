// Package access decides who somebody is and what they may do: it verifies the
// tokens of people and the keys of operators, and holds what a token grants.
package access

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// MinSecret is the least length of a token secret in bytes: HS256 wants a key at
// least as long as its hash (RFC 7518 §3.2).
const MinSecret = 32

// Person is what a token says: who somebody is, and which rooms they may be in
// and watch.
type Person struct {
	User    presence.UserID
	Profile presence.Profile
	Rooms   []presence.Pattern
	Cue     []presence.Pattern // the rooms in which they may give cues
	People  []string           // whom they may watch: ids, or beginnings of ids followed by *
	MayHide bool               // from everybody but operators
	// Issued and Expires are the token's times. A token without iat counts as issued
	// before everything.
	Issued, Expires time.Time
}

// May tells whether the person is granted every room that the pattern names.
func (p Person) May(asked presence.Pattern) bool {
	return slices.ContainsFunc(p.Rooms, func(grant presence.Pattern) bool { return grant.Covers(asked) })
}

// MayCue tells whether the person may give cues in a room, and to those in it.
func (p Person) MayCue(room presence.RoomName) bool {
	return slices.ContainsFunc(p.Cue, func(grant presence.Pattern) bool { return grant.Match(room) })
}

// MayWatch tells whether the person may watch another as such.
func (p Person) MayWatch(user presence.UserID) bool {
	return slices.ContainsFunc(p.People, func(grant string) bool {
		beginning, any := strings.CutSuffix(grant, "*")
		return string(user) == grant || (any && strings.HasPrefix(string(user), beginning))
	})
}

type claims struct {
	jwt.RegisteredClaims
	wire.Claims
}

// Tokens verifies the tokens of people: JWT (RFC 7519) signed with
// HS256.
type Tokens struct {
	secret []byte
	parser *jwt.Parser
}

// NewTokens returns Tokens for a secret of at least [MinSecret] bytes.
func NewTokens(secret []byte) (*Tokens, error) {
	if len(secret) < MinSecret {
		return nil, fmt.Errorf("the token secret has %d bytes; HS256 needs at least %d", len(secret), MinSecret)
	}
	return &Tokens{
		secret: secret,
		parser: jwt.NewParser(jwt.WithValidMethods([]string{"HS256"}), jwt.WithExpirationRequired()),
	}, nil
}

// Verify returns the person that a token names. Its error is a [*wire.Problem]
// with code bad-token or expired-token.
func (t *Tokens) Verify(token string) (Person, error) {
	var c claims
	_, err := t.parser.ParseWithClaims(token, &c, func(*jwt.Token) (any, error) { return t.secret, nil })
	switch {
	case errors.Is(err, jwt.ErrTokenExpired) && !errors.Is(err, jwt.ErrTokenSignatureInvalid):
		return Person{}, &wire.Problem{Code: wire.CodeExpiredToken, Field: "token",
			Detail:  "the token expired at " + c.ExpiresAt.UTC().Format(time.RFC3339),
			Allowed: "a token whose exp is in the future"}
	case err != nil:
		return Person{}, badToken(reason(err))
	case c.Subject == "":
		return Person{}, badToken("the token has no sub, the id of its person")
	}
	p := Person{
		User:    presence.UserID(c.Subject),
		Profile: presence.Profile{Name: c.Name, Picture: c.Picture},
		Expires: c.ExpiresAt.Time,
	}
	if c.IssuedAt != nil {
		p.Issued = c.IssuedAt.Time
	}
	p.People, p.MayHide = c.Grants.People, c.Grants.Hide
	if p.Rooms, err = patterns("rooms", c.Grants.Rooms); err != nil {
		return Person{}, err
	}
	p.Cue, err = patterns("cue", c.Grants.Cue)
	return p, err
}

func patterns(claim string, names []string) ([]presence.Pattern, error) {
	var list []presence.Pattern
	for _, name := range names {
		pattern, err := presence.ParsePattern(name)
		if err != nil {
			return nil, badToken(fmt.Sprintf("its claim tovik.%s has %q, which is no room pattern", claim, wire.Shorten(name)))
		}
		list = append(list, pattern)
	}
	return list, nil
}

func badToken(detail string) error {
	return &wire.Problem{Code: wire.CodeBadToken, Field: "token", Detail: detail,
		Allowed: "a JWT signed with HS256 and this service's secret, with sub, exp and tovik.rooms"}
}

func reason(err error) string {
	switch {
	case errors.Is(err, jwt.ErrTokenMalformed):
		return "the token is no JWT"
	case errors.Is(err, jwt.ErrTokenSignatureInvalid):
		return "the token is not signed by this service's secret with HS256"
	case errors.Is(err, jwt.ErrTokenRequiredClaimMissing):
		return "the token has no exp, the time of its expiry"
	case errors.Is(err, jwt.ErrTokenNotValidYet):
		return "the token is not valid yet (nbf)"
	}
	return "the token was refused: " + strings.TrimPrefix(err.Error(), "token has invalid claims: ")
}
