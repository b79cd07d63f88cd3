package access

import (
	"encoding/base64"
	"strings"
	"testing"
	"time"

	"github.com/golang-jwt/jwt/v5"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

const secret = "a secret that is long enough to be one"

func keyring(t testing.TB) *Keyring {
	store, err := records.Open(records.Memory)
	require.NoError(t, err)
	t.Cleanup(func() { _ = store.Close() })
	keys, err := NewKeyring(store, secret, "own")
	require.NoError(t, err)
	return keys
}

// FuzzTokens tries signed tokens with arbitrary claims, and arbitrary texts as tokens. The core
// must accept the user id of every accepted token.
func FuzzTokens(f *testing.F) {
	f.Add(`{"sub":"ilse","exp":4102444800,"tovik":{"rooms":["basin.*"],"people":["w-*"]}}`, "")
	f.Add(`{"sub":7,"exp":"soon","nbf":1e300,"aud":[1,{}],"tovik":[]}`, "x.y.z")
	f.Add(`{"sub":"\u202e","exp":1e18,"iat":-1e18,"picture":"//","tovik":{"rooms":["**.a"]}}`, strings.Repeat(".", 50))
	keys := keyring(f)
	policy := presence.DefaultPolicy()
	f.Fuzz(func(t *testing.T, claims, noise string) {
		head := base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"HS256"}`)) + "." + base64.RawURLEncoding.EncodeToString([]byte(claims))
		signature, err := jwt.SigningMethodHS256.Sign(head, []byte(secret))
		require.NoError(t, err)
		person, err := keys.Verify(head + "." + base64.RawURLEncoding.EncodeToString(signature))
		if err == nil {
			require.Equal(t, Main, person.Realm)
			require.True(t, person.Expires.After(time.Now()))
			require.NotEmpty(t, person.User)
			_ = policy.CheckPerson(person.User, person.Profile)
		}
		if _, err := keys.Verify(noise); err == nil {
			t.Fatalf("%q was taken for a token", noise)
		}
	})
}

func TestAGuardForgetsAndIsBounded(t *testing.T) {
	var g Guard
	now := time.Now()
	for range refusals {
		require.NoError(t, g.admits("10.0.0.1", now))
		g.refused("10.0.0.1", now)
	}
	require.Error(t, g.admits("10.0.0.1", now))
	require.NoError(t, g.admits("10.0.0.2", now))
	require.NoError(t, g.admits("10.0.0.1", now.Add(refusalEvery)), "one more each time")
	for i := range 3 * maxGuarded {
		g.refused(string(rune(i+1000)), now)
	}
	require.LessOrEqual(t, len(g.failed), maxGuarded)
}

func TestRolesAndRooms(t *testing.T) {
	keys := keyring(t)
	kept, err := keys.AddOperatorKey(nil, Main, wire.NewKey{Role: "write", Rooms: []string{"desk.*"}})
	require.NoError(t, err)
	key := kept.Key
	o, err := keys.Check(key, Read)
	require.NoError(t, err)
	require.True(t, o.Sees("desk.night"))
	require.False(t, o.Sees("desk.**"))
	_, err = keys.Check(key, Operate)
	require.ErrorContains(t, err, "role")
	_, err = keys.Check(key+"x", Read)
	require.Error(t, err)
	_, err = keys.AddOperatorKey(nil, Main, wire.NewKey{Role: "read", Rooms: []string{}})
	require.ErrorContains(t, err, "rooms", "a list that came out empty is not all rooms")
	past := time.Now().Add(-time.Second)
	_, err = keys.AddOperatorKey(nil, Main, wire.NewKey{Role: "read", Expires: &past})
	require.ErrorContains(t, err, "expired")
	require.Error(t, keys.RevokeOperatorKey(Operator{Realm: "training", Role: Operate}, kept.ID), "another realm's")
	require.NoError(t, keys.RevokeOperatorKey(Operator{Realm: Main, Role: Operate}, kept.ID))
	_, err = keys.Check(key, Read)
	require.Error(t, err)
	require.False(t, keys.InForce(true, kept.ID))
}
