package access

import (
	"context"
	"encoding/base64"
	"errors"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/golang-jwt/jwt/v5"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// signed returns a token with exactly this header and these claims.
func signed(t *testing.T, head, claims string) string {
	t.Helper()
	text := base64.RawURLEncoding.EncodeToString([]byte(head)) + "." + base64.RawURLEncoding.EncodeToString([]byte(claims))
	signature, err := jwt.SigningMethodHS256.Sign(text, []byte(secret))
	require.NoError(t, err)
	return text + "." + base64.RawURLEncoding.EncodeToString(signature)
}

const plainHead = `{"alg":"HS256","typ":"JWT"}`

func TestClaimsAreThoseThatRFC7519SpellsSo(t *testing.T) {
	keys := keyring(t)
	person, err := keys.Verify(signed(t, plainHead, `{"sub":"ilse","SUB":"mallory","ſub":"mallory","exp":4102444800,"EXP":1,"iat":1700000000,"IAT":4102444800,"tovik":{"ROOMS":["**"],"rooms":["basin.*"]},"TOVIK":{}}`))
	require.NoError(t, err)
	require.Equal(t, "ilse", string(person.User))
	require.Equal(t, int64(1700000000), person.Issued.Unix())
	require.Equal(t, int64(4102444800), person.Expires.Unix())
	require.Len(t, person.Rooms, 1)
	_, err = keys.Verify(signed(t, plainHead, `{"SUB":"ilse","exp":4102444800}`))
	require.ErrorContains(t, err, "no sub")
}

func TestATokenThatCanBeReadInTwoWaysIsRefused(t *testing.T) {
	keys := keyring(t)
	for name, c := range map[string]struct{ head, claims, says string }{
		"sub twice":               {plainHead, `{"sub":"ilse","sub":"tobin","exp":4102444800}`, "twice"},
		"a grant twice":           {plainHead, `{"sub":"ilse","exp":4102444800,"tovik":{"rooms":[],"rooms":["**"]}}`, "twice"},
		"alg twice":               {`{"alg":"none","alg":"HS256"}`, `{"sub":"ilse","exp":4102444800}`, "twice"},
		"an unknown crit":         {`{"alg":"HS256","crit":["b64"],"b64":false}`, `{"sub":"ilse","exp":4102444800}`, "crit"},
		"a kid that is a number":  {`{"alg":"HS256","kid":7}`, `{"sub":"ilse","exp":4102444800}`, "kid is 7, not a string"},
		"a kid that is null":      {`{"alg":"HS256","kid":null}`, `{"sub":"ilse","exp":4102444800}`, "kid is null"},
		"a kid of nobody":         {`{"alg":"HS256","kid":"gone"}`, `{"sub":"ilse","exp":4102444800}`, "kid is gone"},
		"exp as text":             {plainHead, `{"sub":"ilse","exp":"4102444800"}`, `exp is "4102444800"`},
		"iat as text":             {plainHead, `{"sub":"ilse","exp":4102444800,"iat":"now"}`, `iat is "now"`},
		"exp beyond all time":     {plainHead, `{"sub":"ilse","exp":1e300}`, "exp is no time: 1e300"},
		"iat before all time":     {plainHead, `{"sub":"ilse","exp":4102444800,"iat":-1e18}`, "iat is no time"},
		"a number beyond numbers": {plainHead, `{"sub":"ilse","exp":1e999}`, "exp"},
		"rooms as text":           {plainHead, `{"sub":"ilse","exp":4102444800,"tovik":{"rooms":"basin.*"}}`, `tovik.rooms is "basin.*"`},
		"another algorithm":       {`{"alg":"EdDSA"}`, `{"sub":"ilse","exp":4102444800}`, "no kid, which stands for the service's token secret and HS256, but is signed with EdDSA"},
		"claims that are a list":  {plainHead, `[]`, "list"},
	} {
		_, err := keys.Verify(signed(t, c.head, c.claims))
		require.ErrorContains(t, err, c.says, name)
		requireBadToken(t, name, err)
	}
	for _, noise := range []string{"", "a", "a.b", "a.b.c", "a.b.c.d", "..", strings.Repeat(".", 50), "e30.e30.!"} {
		_, err := keys.Verify(noise)
		requireBadToken(t, noise, err)
	}
}

func requireBadToken(t *testing.T, name string, err error) {
	t.Helper()
	require.Error(t, err, name)
	require.Contains(t, []string{"bad-token", "expired-token"}, codeOf(err), name)
}

// TestNobodyWhoShowsAKeyWaitsForTheDisk uses keys while others are listed, made, revoked and
// written, under the race detector.
func TestNobodyWhoShowsAKeyWaitsForTheDisk(t *testing.T) {
	keys := keyring(t)
	shown, err := keys.AddOperatorKey(nil, Main, wire.NewKey{Role: "operate"})
	require.NoError(t, err)
	key := shown.Key
	token := signed(t, plainHead, `{"sub":"ilse","exp":4102444800}`)
	ctx, cancel := context.WithCancel(t.Context())
	var busy sync.WaitGroup
	for range 4 {
		busy.Go(func() {
			for ctx.Err() == nil {
				_, checked := keys.Check(key, Read)
				_, verified := keys.Verify(token)
				if checked != nil || verified != nil {
					t.Errorf("%v, %v", checked, verified)
					return
				}
			}
		})
	}
	by := Operator{Realm: Main, Role: Operate}
	for range 20 {
		made, err := keys.AddOperatorKey(&by, Main, wire.NewKey{Role: "read"})
		require.NoError(t, err)
		require.NotEmpty(t, keys.OperatorKeys(by).Keys)
		require.NoError(t, keys.RevokeOperatorKey(by, made.ID))
		require.NoError(t, keys.writeUsed())
	}
	cancel()
	busy.Wait()

	// Keys are checked even while a change is being written.
	held, release := make(chan struct{}), make(chan struct{})
	busy.Go(func() {
		_ = keys.change(func(*ring) error { close(held); <-release; return nil }, func(*ring) {})
	})
	<-held
	checked := make(chan error, 1)
	go func() {
		_, err := keys.Check(key, Read)
		checked <- err
	}()
	select {
	case err := <-checked:
		require.NoError(t, err)
	case <-time.After(20 * time.Second):
		t.Fatal("a key waits for the disk")
	}
	close(release)
	busy.Wait()
}

func TestNoKeyReachesOneThatMayDoMore(t *testing.T) {
	keys := keyring(t)
	whole, err := keys.AddOperatorKey(nil, Main, wire.NewKey{Role: "operate"})
	require.NoError(t, err)
	narrow := Operator{Realm: Main, Role: Operate, Rooms: patterns("desk.**")}
	writer := Operator{Realm: Main, Role: Write}
	for _, by := range []Operator{narrow, writer} {
		_, err := keys.AddOperatorKey(&by, Main, wire.NewKey{Role: "operate"})
		require.Equal(t, "not-granted", codeOf(err))
		require.Equal(t, "unknown-key", codeOf(keys.RevokeOperatorKey(by, whole.ID)))
		require.Empty(t, keys.OperatorKeys(by).Keys)
	}
	own, err := keys.AddOperatorKey(&narrow, Main, wire.NewKey{Role: "read", Rooms: []string{"desk.night"}})
	require.NoError(t, err)
	require.Len(t, keys.OperatorKeys(narrow).Keys, 1)
	require.NoError(t, keys.RevokeOperatorKey(narrow, own.ID))
}

func TestNoKeyMakesOneThatOutlivesIt(t *testing.T) {
	keys := keyring(t)
	brief := Operator{Realm: Main, Role: Operate, Expires: time.Now().Add(time.Hour)}
	longer, within := brief.Expires.Add(time.Minute), brief.Expires.Add(-time.Minute)
	_, err := keys.AddOperatorKey(&brief, Main, wire.NewKey{Role: "read", Expires: &longer})
	require.Equal(t, "not-granted", codeOf(err))
	kept, err := keys.AddOperatorKey(&brief, Main, wire.NewKey{Role: "read", Expires: &within})
	require.NoError(t, err)
	require.True(t, kept.Expires.Time.Equal(within))
	kept, err = keys.AddOperatorKey(&brief, Main, wire.NewKey{Role: "read"})
	require.NoError(t, err)
	require.True(t, kept.Expires.Time.Equal(brief.Expires), "one that names no end has that of its maker")
}

func patterns(names ...presence.Pattern) []presence.Pattern { return names }

func codeOf(err error) string {
	var problem *wire.Problem
	if errors.As(err, &problem) {
		return problem.Code
	}
	return ""
}
