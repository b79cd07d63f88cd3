package wire

import "time"

// SignIn is who a browser is signed in as at the console; all empty when it is not.
type SignIn struct {
	Realm string   `json:"realm"`
	Key   string   `json:"key"` // the id of the operator's key
	Role  string   `json:"role"`
	Rooms []string `json:"rooms,omitempty"` // patterns that the key is about; all when left out
	// Practice tells that the service offers rooms to practise in, to anybody.
	Practice bool `json:"practice,omitempty"`
}

// SigningIn is what a browser signs in to the console with.
type SigningIn struct {
	Key string `json:"key"` // an operator's
}

// Key is a key of an operator or back end. Key itself is there once, in the answer that
// makes it.
type Key struct {
	ID       string   `json:"id"`
	Realm    string   `json:"realm"`
	Name     string   `json:"name,omitempty"`
	Role     string   `json:"role"` // read, write, operate
	Rooms    []string `json:"rooms,omitempty"`
	Created  Time     `json:"created"`
	Expires  *Time    `json:"expires,omitempty"`
	Revoked  *Time    `json:"revoked,omitempty"`
	LastUsed *Time    `json:"last_used,omitempty"`
	Key      string   `json:"key,omitempty"`
}

// Keys is a list of them, the newest first.
type Keys struct {
	Keys []Key `json:"keys"`
}

// NewKey asks for a key.
type NewKey struct {
	Name    string     `json:"name,omitempty"`
	Role    string     `json:"role"`
	Rooms   []string   `json:"rooms,omitempty"` // patterns; all rooms when left out
	Realm   string     `json:"realm,omitempty"` // that of the key that asks when left out; another one is for the key of the service itself
	Expires *time.Time `json:"expires,omitempty"`
}

// TokenKey verifies the tokens of people. What it is made of is never told.
type TokenKey struct {
	ID        string `json:"id"` // the kid of tokens
	Realm     string `json:"realm"`
	Algorithm string `json:"algorithm"`
	Issuer    string `json:"issuer,omitempty"`
	Audience  string `json:"audience,omitempty"`
	Created   *Time  `json:"created,omitempty"` // absent for one of the configuration
	Expires   *Time  `json:"expires,omitempty"`
	Revoked   *Time  `json:"revoked,omitempty"`
	// Configured tells that the key is in tovik.toml and not on record.
	Configured bool `json:"configured,omitempty"`
}

// TokenKeys is a list of them, the oldest first.
type TokenKeys struct {
	Keys []TokenKey `json:"keys"`
}

// NewTokenKey asks for tokens to be taken that are signed with a key: a secret for
// HS256, a public key in PEM for EdDSA, ES256 and RS256.
type NewTokenKey struct {
	ID        string     `json:"id"`
	Algorithm string     `json:"algorithm"`
	Key       string     `json:"key"`
	Issuer    string     `json:"issuer,omitempty"`
	Audience  string     `json:"audience,omitempty"`
	Expires   *time.Time `json:"expires,omitempty"`
}

// Realm is a world of people and rooms.
type Realm struct {
	Name    string   `json:"name"`
	Origins []string `json:"origins,omitempty"` // of pages that may be clients; any when there are none
}

// Realms is a list of them, by name.
type Realms struct {
	Realms []Realm `json:"realms"`
}

// NewRealm is a realm that was made, with the first key of its operators.
type NewRealm struct {
	Realm
	FirstKey Key `json:"first_key"`
}

// Reloaded says what of the configuration is another since it was read anew: policies,
// keep, the origins of a realm, the certificate.
type Reloaded struct {
	Changed []string `json:"changed"`
}

// Removal refuses the tokens of a person that were issued up to At, in a room or with an
// empty Room altogether.
type Removal struct {
	User string `json:"user"`
	Room string `json:"room,omitempty"`
	At   Time   `json:"at"`
}

// Erasure is the receipt of what was deleted about a person, by kind.
type Erasure struct {
	User   string           `json:"user"`
	At     Time             `json:"at"`
	Erased map[string]int64 `json:"erased"`
}
