package wire

import "time"

// SignIn says which key a browser has signed in with at the console; empty if it has not.
type SignIn struct {
	Realm string   `json:"realm"`
	Key   string   `json:"key"` // the id of the operator's key
	Role  string   `json:"role"`
	Rooms []string `json:"rooms,omitempty"` // patterns of the rooms that the key covers; absent: all
	// Practice tells whether the service offers the page Practice.
	Practice bool `json:"practice,omitempty"`
}

// SigningIn is the key with which a browser signs in to the console.
type SigningIn struct {
	Key string `json:"key"` // an operator's
}

// Key describes a key of an operator or back end. The field Key, the key itself, is present only in
// the answer that makes it.
type Key struct {
	ID       string   `json:"id"`
	Realm    string   `json:"realm"`
	Name     string   `json:"name,omitempty"`
	Role     string   `json:"role" jsonschema:"enum=read,enum=write,enum=operate"`
	Rooms    []string `json:"rooms,omitempty"`
	Created  Time     `json:"created"`
	Expires  *Time    `json:"expires,omitempty"`
	Revoked  *Time    `json:"revoked,omitempty"`
	LastUsed *Time    `json:"last_used,omitempty"`
	Key      string   `json:"key,omitempty"`
}

// Keys is a list of keys, newest first.
type Keys struct {
	Keys []Key `json:"keys"`
}

// NewKey describes a key to make.
type NewKey struct {
	Name    string     `json:"name,omitempty"`
	Role    string     `json:"role" jsonschema:"enum=read,enum=write,enum=operate"`
	Rooms   []string   `json:"rooms,omitzero"`  // patterns, at least one; absent: all rooms
	Realm   string     `json:"realm,omitempty"` // absent: the realm of the asking key; only the service's own key may name another
	Expires *time.Time `json:"expires,omitempty"`
}

// TokenKey describes a key that verifies tokens. The key itself is never returned.
type TokenKey struct {
	ID        string `json:"id"` // the kid of tokens
	Realm     string `json:"realm"`
	Algorithm string `json:"algorithm"`
	Issuer    string `json:"issuer,omitempty"`
	Audience  string `json:"audience,omitempty"`
	Created   *Time  `json:"created,omitempty"` // absent for a key in the configuration
	Expires   *Time  `json:"expires,omitempty"`
	Revoked   *Time  `json:"revoked,omitempty"`
	// Configured tells that the key is in tovik.toml rather than on record.
	Configured bool `json:"configured,omitempty"`
}

// TokenKeys is a list of token keys, oldest first.
type TokenKeys struct {
	Keys []TokenKey `json:"keys"`
}

// NewTokenKey describes a key to verify tokens with: a secret for HS256, or a public key in PEM for
// EdDSA, ES256 and RS256.
type NewTokenKey struct {
	ID        string     `json:"id"`
	Algorithm string     `json:"algorithm"`
	Key       string     `json:"key"`
	Issuer    string     `json:"issuer,omitempty"`
	Audience  string     `json:"audience,omitempty"`
	Expires   *time.Time `json:"expires,omitempty"`
}

// Realm is an isolated world of people and rooms.
type Realm struct {
	Name    string   `json:"name"`
	Origins []string `json:"origins,omitempty"` // of pages that may be clients; absent: any origin
}

// Realms is a list of realms, by name.
type Realms struct {
	Realms []Realm `json:"realms"`
}

// NewRealm is a new realm with its first operator key.
type NewRealm struct {
	Realm
	FirstKey Key `json:"first_key"`
}

// Reloaded lists which parts of the configuration a reload has changed: policies, keep, the
// origins of a realm, the certificate.
type Reloaded struct {
	Changed []string `json:"changed"`
}

// Removal says that tokens of a person issued up to At are refused: in a room or, without Room, in
// the realm.
type Removal struct {
	User string `json:"user"`
	Room string `json:"room,omitempty"`
	At   Time   `json:"at"`
}

// Erasure says how much was deleted about a person, by kind.
type Erasure struct {
	User   string           `json:"user"`
	At     Time             `json:"at"`
	Erased map[string]int64 `json:"erased"`
	// LogUntil is up to when the log of a cluster still has what was written about them; absent: the
	// service is alone.
	LogUntil *Time `json:"log_until,omitempty"`
}

// Asks are open asks, the oldest first.
type Asks struct {
	Asks []Ask `json:"asks"`
}

// InvitationList are open invitations, the oldest first.
type InvitationList struct {
	Invitations []Invitation `json:"invitations"`
}

// NewInvitation is an invitation that the back end makes on behalf of a person.
type NewInvitation struct {
	From string `json:"from"` // the user who invites
	To   string `json:"to"`   // the user who is invited
	Room string `json:"room"`
}

// Passes are the passes of a person, by room.
type Passes struct {
	User   string `json:"user"`
	Passes []Pass `json:"passes"`
}

// Pass admits a person to a room that asks.
type Pass struct {
	Room  string `json:"room"`
	Until Time   `json:"until"`
}

// PassWanted is a pass to give. Without Until it lasts as long as the room's policy says.
type PassWanted struct {
	Until *Time `json:"until,omitempty"`
}
