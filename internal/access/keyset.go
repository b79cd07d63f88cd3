package access

import (
	"context"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"fmt"
	"net/url"
	"sync"
	"time"

	"github.com/MicahParks/jwkset"
	"golang.org/x/time/rate"

	"tovik.example/tovik/wire"
)

// KeySet is the address of keys that an identity service publishes (RFC 7517) for the tokens of
// a realm. They are fetched at the start, every hour, and when a token names an unknown key, at
// most once a minute.
type KeySet struct {
	Realm    string
	URL      string
	Issuer   string // required: which set a token belongs to
	Audience string
}

// keySet is a key set that is fetched.
type keySet struct {
	KeySet
	known    jwkset.Storage // what was fetched
	anew     jwkset.Storage // fetches again when it does not know a key
	fetching sync.Mutex     // held while a key that is not known is looked for
	allow    *rate.Limiter
}

const (
	keySetEvery   = time.Hour
	keySetAnew    = time.Minute
	keySetTimeout = 10 * time.Second
)

// UseKeySet lets the keys of a set verify tokens. It fetches them until ctx is done, and calls
// failed when that fails; the old keys then remain.
func (k *Keyring) UseKeySet(ctx context.Context, described KeySet, failed func(error)) error {
	set := &keySet{KeySet: described, allow: rate.NewLimiter(rate.Every(keySetAnew), 1)}
	u, err := url.Parse(set.URL)
	if err != nil || u.Host == "" || (u.Scheme != "https" && u.Scheme != "http") {
		return fmt.Errorf("the address of the key set %q is none; allowed: https://HOST/PATH", set.URL)
	}
	if set.Issuer == "" {
		return fmt.Errorf("the key set %s has no issuer, by which the tokens that belong to it are known", set.URL)
	}
	store, err := jwkset.NewStorageFromHTTP(set.URL, jwkset.HTTPClientStorageOptions{
		Ctx: ctx, HTTPTimeout: keySetTimeout, NoErrorReturnFirstHTTPReq: true, RefreshInterval: keySetEvery,
		RefreshErrorHandler: func(_ context.Context, err error) { failed(fmt.Errorf("fetch the key set %s: %w", set.URL, err)) },
	})
	if err != nil {
		return fmt.Errorf("the key set %s: %w", set.URL, err)
	}
	set.known = store
	set.anew, err = jwkset.NewHTTPClient(jwkset.HTTPClientOptions{
		HTTPURLs: map[string]jwkset.Storage{set.URL: store}, RefreshUnknownKID: rate.NewLimiter(rate.Inf, 1),
	})
	if err != nil {
		return fmt.Errorf("the key set %s: %w", set.URL, err)
	}
	return k.change(func(*ring) error { return nil }, func(next *ring) { next.sets = append(next.sets, set) })
}

// read looks a key up. An unknown key is fetched for one token at a time: others that name the
// same key wait for the answer.
func (s *keySet) read(kid string) (jwkset.JWK, error) {
	ctx, cancel := context.WithTimeout(context.Background(), keySetTimeout)
	defer cancel()
	if key, err := s.known.KeyRead(ctx, kid); err == nil {
		return key, nil
	}
	s.fetching.Lock()
	defer s.fetching.Unlock()
	if s.allow.Allow() {
		return s.anew.KeyRead(ctx, kid)
	}
	return s.known.KeyRead(ctx, kid)
}

// find returns a key of the set with its algorithm; nil if there is none that may sign.
func (s *keySet) find(kid string) *TokenKey {
	key, err := s.read(kid)
	if err != nil {
		return nil
	}
	found := &TokenKey{ID: kid, Realm: s.Realm, Issuer: s.Issuer, Audience: s.Audience, key: key.Key()}
	switch public := found.key.(type) {
	case ed25519.PublicKey:
		found.Algorithm = "EdDSA"
	case *ecdsa.PublicKey:
		if public.Curve == elliptic.P256() {
			found.Algorithm = "ES256"
		}
	case *rsa.PublicKey:
		if public.N.BitLen() >= minRSA {
			found.Algorithm = "RS256"
		}
	}
	if said := key.Marshal().ALG.String(); found.Algorithm == "" || (said != "" && said != found.Algorithm) {
		return nil // of a kind that is not understood, or a secret, which nobody publishes
	}
	return found
}

// CheckPicture checks that a picture is a web address.
func CheckPicture(picture string) error {
	if picture == "" {
		return nil
	}
	if u, err := url.Parse(picture); err == nil && u.Host != "" && (u.Scheme == "https" || u.Scheme == "http") {
		return nil
	}
	return &wire.Problem{Code: "bad-profile", Field: "picture", Value: wire.Shorten(picture),
		Detail: "this is not the URL of a picture", Allowed: "https://… or http://…"}
}
