package access

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/golang-jwt/jwt/v5"
	"golang.org/x/text/unicode/norm"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// MinSecret is the least length of a token secret in bytes: HS256 needs a key that is at least
// as long as its hash (RFC 7518 §3.2).
const MinSecret = 32

// minRSA is the least size of an RSA key in bits (RFC 7518 §3.3).
const minRSA = 2048

// skew is how far ahead the clock of the minting service may be.
const skew = 30 * time.Second

// Algorithms are the signatures that are understood (RFC 7518 §3, RFC 8037).
var Algorithms = []string{"HS256", "EdDSA", "ES256", "RS256"}

// TokenKey verifies tokens of one realm, with one algorithm.
type TokenKey struct {
	ID        string // the kid of the tokens; empty for those without
	Realm     string
	Algorithm string
	Issuer    string // that tokens must have as iss, when it is set
	Audience  string // that tokens must have in aud, when it is set
	Expires   time.Time

	key        any
	configured bool // it is in the configuration, not on record
}

// NewTokenKey checks the material of a key: the secret of HS256, or a public key in PEM
// (RFC 7468).
func NewTokenKey(k TokenKey, material []byte) (*TokenKey, error) {
	var err error
	k.key, err = keyOf(k.Algorithm, material)
	return &k, err
}

func keyOf(algorithm string, material []byte) (any, error) {
	if !slices.Contains(Algorithms, algorithm) {
		return nil, fmt.Errorf("the algorithm %q is not understood; allowed: %s", algorithm, strings.Join(Algorithms, ", "))
	}
	if algorithm == "HS256" {
		if len(material) < MinSecret {
			return nil, fmt.Errorf("the token secret has %d bytes; HS256 needs at least %d", len(material), MinSecret)
		}
		return slices.Clone(material), nil
	}
	block, _ := pem.Decode(material)
	if block == nil || block.Type != "PUBLIC KEY" {
		return nil, fmt.Errorf("the key of %s is not a public key in PEM, which begins with -----BEGIN PUBLIC KEY-----", algorithm)
	}
	public, err := x509.ParsePKIXPublicKey(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("the public key cannot be read: %w", err)
	}
	switch key := public.(type) {
	case ed25519.PublicKey:
		if algorithm == "EdDSA" {
			return key, nil
		}
	case *ecdsa.PublicKey:
		if algorithm == "ES256" && key.Curve == elliptic.P256() {
			return key, nil
		}
	case *rsa.PublicKey:
		if algorithm == "RS256" && key.N.BitLen() >= minRSA {
			return key, nil
		}
	}
	return nil, fmt.Errorf("this public key is none for %s; allowed: Ed25519 for EdDSA, P-256 for ES256, RSA of at least %d bits for RS256", algorithm, minRSA)
}

// verify returns the person of a token that the key has signed. Its error is a
// [*wire.Problem] with code bad-token or expired-token.
func (k *TokenKey) verify(t *token) (Person, error) {
	if t.head.Algorithm != k.Algorithm {
		return Person{}, k.otherAlgorithm(t)
	}
	if err := jwt.GetSigningMethod(k.Algorithm).Verify(t.signed, t.signature, k.key); err != nil {
		return Person{}, k.bad("the token's signature is not that of this key and " + k.Algorithm)
	}
	c := &t.claims
	if c.Expires == nil {
		return Person{}, k.bad("the token has no exp, the time of its expiry")
	}
	expires := timeAt(*c.Expires)
	if !expires.After(time.Now()) {
		return Person{}, &wire.Problem{Code: wire.CodeExpiredToken, Field: "token",
			Detail:  "the token expired at " + expires.UTC().Format(time.RFC3339),
			Allowed: "a token whose exp is in the future"}
	}
	for _, claim := range []timeClaim{{"nbf", c.NotBefore}, {"iat", c.Issued}} {
		if at := claim.at; at != nil && time.Until(timeAt(*at)) > skew {
			return Person{}, k.bad(fmt.Sprintf("the token begins %s ahead of this service's clock (%s); the clocks may differ by %s",
				time.Until(timeAt(*at)).Round(time.Second), claim.name, skew))
		}
	}
	if k.Issuer != "" && c.Issuer != k.Issuer {
		return Person{}, k.bad("the token has another issuer (iss)")
	}
	if k.Audience != "" && !slices.Contains(c.audience, k.Audience) {
		return Person{}, k.bad("the token is for another audience (aud)")
	}
	return k.person(c)
}

func timeAt(seconds float64) time.Time {
	return time.UnixMilli(int64(seconds * 1000))
}

// otherAlgorithm returns the error of a token whose algorithm is not that of its key.
func (k *TokenKey) otherAlgorithm(t *token) error {
	came := wire.Shorten(t.head.Algorithm)
	if t.head.Kid == nil || *t.head.Kid == "" {
		return badToken("the token has no kid, which stands for the service's token secret and HS256, but is signed with "+came,
			"in the header the kid of a key of the realm (tovik token-key list), or a token signed with the token secret and HS256")
	}
	return badToken("the token is signed with "+came+", but the key "+k.ID+" is for "+k.Algorithm, "a token signed with "+k.Algorithm)
}

func (k *TokenKey) person(c *claims) (Person, error) {
	if c.Subject == "" {
		return Person{}, k.bad("the token has no sub, the id of its person")
	}
	g := c.Grants
	p := Person{
		Realm: k.Realm, Key: k.ID, User: presence.UserID(norm.NFC.String(c.Subject)),
		Profile: presence.Profile{Name: norm.NFC.String(c.Name), Picture: c.Picture},
		Grants:  &Grants{People: g.People, Near: g.Near, MayHide: g.Hide, Sees: g.SeeHidden, NoInput: g.NoInput},
		Expires: timeAt(*c.Expires),
	}
	for i, grant := range p.People {
		p.People[i] = norm.NFC.String(grant)
	}
	if c.Issued != nil {
		p.Issued = timeAt(*c.Issued)
	}
	for _, list := range []struct {
		claim string
		names []string
		into  *[]presence.Pattern
	}{
		{"rooms", g.Rooms, &p.Rooms}, {"watch", g.Watch, &p.Watch}, {"count", g.Count, &p.Count}, {"cue", g.Cue, &p.Cue}, {"moderate", g.Moderate, &p.Moderate},
		{"admit", g.Admit, &p.Admit}, {"invite", g.Invite, &p.Invite},
	} {
		for _, name := range list.names {
			pattern, err := presence.ParsePattern(name)
			if err != nil {
				return Person{}, k.bad(fmt.Sprintf("its claim tovik.%s has %q, which is not a room pattern", list.claim, wire.Shorten(name)))
			}
			*list.into = append(*list.into, pattern)
		}
	}
	return p, nil
}

func (k *TokenKey) bad(detail string) error {
	allowed := "a JWT signed with " + k.Algorithm + " and the realm's key, with sub, exp and tovik.rooms"
	if k.Issuer != "" {
		allowed += ", iss " + k.Issuer
	}
	if k.Audience != "" {
		allowed += ", aud " + k.Audience
	}
	return badToken(detail, allowed)
}

func badToken(detail, allowed string) error {
	return &wire.Problem{Code: wire.CodeBadToken, Field: "token", Detail: detail, Allowed: allowed}
}
