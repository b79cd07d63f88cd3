package client

import (
	"fmt"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"tovik.example/tovik/wire"
)

// Token is what a back end says about a person: who they are, and what they may do. User is
// required.
type Token struct {
	User    string // the person's stable id
	Name    string
	Picture string // an address
	wire.Grants
	// Issued is the present when zero. Whoever is removed needs a token issued after
	// that.
	Issued time.Time
	// TTL is how long it is valid; an hour when zero.
	TTL time.Duration
}

// minSecret is the least length of a token secret in bytes: HS256 wants a key at
// least as long as its hash (RFC 7518 §3.2).
const minSecret = 32

// Sign returns the token as a JWT (RFC 7519), signed with HS256 and the service's token secret,
// which has at least 32 bytes.
func (t Token) Sign(secret string) (string, error) {
	if len(secret) < minSecret {
		return "", fmt.Errorf("the token secret has %d bytes; HS256 needs at least %d", len(secret), minSecret)
	}
	if t.Issued.IsZero() {
		t.Issued = time.Now()
	}
	if t.TTL == 0 {
		t.TTL = time.Hour
	}
	return jwt.NewWithClaims(jwt.SigningMethodHS256, struct {
		jwt.RegisteredClaims
		wire.Claims
	}{
		jwt.RegisteredClaims{Subject: t.User, IssuedAt: jwt.NewNumericDate(t.Issued), ExpiresAt: jwt.NewNumericDate(t.Issued.Add(t.TTL))},
		wire.Claims{Name: t.Name, Picture: t.Picture, Grants: t.Grants},
	}).SignedString([]byte(secret))
}
