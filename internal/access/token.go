package access

import (
	"encoding/base64"
	"errors"
	"strings"

	"tovik.example/tovik/internal/strictjson"
	"tovik.example/tovik/wire"
)

// token is a JWT (RFC 7519) as it came. Nothing in it may be trusted before its signature is
// verified.
type token struct {
	head      tokenHead
	claims    claims
	grants    []byte // the claim tovik
	signed    string // what the signature is of
	signature []byte
}

// tokenHead is the header of a token (RFC 7515 §4.1).
type tokenHead struct {
	Algorithm string  `json:"alg"`
	Kid       *string `json:"kid"`
}

// claims are the claims of RFC 7519 §4.1 that are used here, and ours. Times are in seconds
// since 1970.
type claims struct {
	Issuer    string   `json:"iss"`
	Subject   string   `json:"sub"`
	Expires   *float64 `json:"exp"`
	NotBefore *float64 `json:"nbf"`
	Issued    *float64 `json:"iat"`
	audience  []string
	wire.Claims
}

// timeClaim is a claim with a time, nil if the token has none.
type timeClaim struct {
	name string
	at   *float64
}

// maxTime is the last second of the year 9999.
const maxTime = 253_402_300_799

// IsToken reports whether a credential has the three parts of a token. Keys have fewer.
func IsToken(credential string) bool { return strings.Count(credential, ".") == 2 }

// parseToken reads a token without verifying it. Names count exactly as RFC 7519 spells them, no
// name may occur twice, and a critical header parameter (crit) is refused, because none is
// understood. Its error is a [*wire.Problem].
func parseToken(text string) (*token, error) {
	head, rest, ok := strings.Cut(text, ".")
	payload, signature, whole := strings.Cut(rest, ".")
	if !ok || !whole || strings.Contains(signature, ".") {
		return nil, badToken("the token is not a JWT: it does not have three parts", jwtWanted)
	}
	t := &token{signed: text[:len(head)+1+len(payload)]}
	if err := t.readHead(head); err != nil {
		return nil, err
	}
	if err := t.readClaims(payload); err != nil {
		return nil, err
	}
	var err error
	if t.signature, err = base64.RawURLEncoding.Strict().DecodeString(signature); err != nil {
		return nil, badToken("the token is not a JWT: its signature is not base64url", jwtWanted)
	}
	return t, nil
}

var jwtWanted = "a JWT (RFC 7519) signed with " + strings.Join(Algorithms, ", ")

func (t *token) readHead(text string) error {
	object, err := readPart("header", text)
	if err != nil {
		return err
	}
	if object.Get("crit") != nil {
		return badToken("the token's header has crit: it wants something understood that is not (RFC 7515 §4.1.11)", "a header without crit")
	}
	if kid := object.Get("kid"); kid != nil && kid.Kind() != '"' {
		return badToken("the token's kid is "+wire.Shorten(string(kid))+", not a string", "a string, the id of a key")
	}
	return inToken("header", object.Into(&t.head))
}

func (t *token) readClaims(text string) error {
	object, err := readPart("payload", text)
	if err != nil {
		return err
	}
	if err := inToken("claim", object.Into(&t.claims)); err != nil {
		return err
	}
	for _, claim := range []timeClaim{{"exp", t.claims.Expires}, {"nbf", t.claims.NotBefore}, {"iat", t.claims.Issued}} {
		if at := claim.at; at != nil && (*at < 0 || *at > maxTime) {
			return badToken("the token's "+claim.name+" is no time: "+string(object.Get(claim.name)), "seconds since 1970, up to the year 9999")
		}
	}
	t.grants = object.Get("tovik")
	switch aud := object.Get("aud"); {
	case aud == nil || aud.Kind() == 'n':
	case aud.Kind() == '"':
		one, err := object.String("aud")
		t.claims.audience = []string{one}
		return inToken("claim", err)
	default:
		var list struct {
			Audience []string `json:"aud"`
		}
		err := object.Into(&list)
		t.claims.audience = list.Audience
		return inToken("claim", err)
	}
	return nil
}

func readPart(name, text string) (strictjson.Object, error) {
	data, err := base64.RawURLEncoding.Strict().DecodeString(text)
	if err != nil {
		return nil, badToken("the token is not a JWT: its "+name+" is not base64url", jwtWanted)
	}
	object, err := strictjson.Scan(data)
	return object, inToken(name, err)
}

// inToken says of an error in JSON that it is in the token.
func inToken(part string, err error) error {
	var problem *wire.Problem
	if !errors.As(err, &problem) {
		return err
	}
	if problem.Field == "" {
		return badToken("the token's "+part+" cannot be read: "+problem.Detail, problem.Allowed)
	}
	detail := "the token's " + part + " " + problem.Field + ": " + problem.Detail
	if problem.Value != "" {
		detail = "the token's " + part + " " + problem.Field + " is " + problem.Value
	}
	return badToken(detail, problem.Allowed)
}
