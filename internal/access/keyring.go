package access

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// Main is the realm that there always is.
const Main = "main"

// OwnKey is the id of the operator key that the service itself is started with.
const OwnKey = "service"

// Keyring knows the keys of all realms: those that verify the tokens of people, and
// those of operators. What it is told to change it has written before it says so. It is
// safe for concurrent use.
type Keyring struct {
	store *records.Store

	mu        sync.RWMutex
	tokens    map[string]*TokenKey // by kid
	sets      []*keySet
	operators map[string]*operatorKey // by id
	used      map[string]time.Time    // of operators' keys, not yet written
	revoked   map[string]bool         // keys of tokens that were revoked since the start
}

type operatorKey struct {
	records.OperatorKey
	hash [sha256.Size]byte
}

// NewKeyring returns a keyring with what the store has, and with the secret and the
// operator key of the service itself, which are those of the main realm.
func NewKeyring(store *records.Store, secret, own string) (*Keyring, error) {
	key, err := NewTokenKey(TokenKey{Realm: Main, Algorithm: "HS256"}, []byte(secret))
	if err != nil {
		return nil, err
	}
	k := &Keyring{store: store, tokens: map[string]*TokenKey{"": key}, operators: map[string]*operatorKey{}, used: map[string]time.Time{}, revoked: map[string]bool{}}
	k.operators[OwnKey] = &operatorKey{
		records.OperatorKey{ID: OwnKey, Realm: Main, Name: "the key of the service", Role: string(Operate)}, sha256.Sum256([]byte(own)),
	}
	tokens, err := store.TokenKeys()
	if err != nil {
		return nil, err
	}
	for _, kept := range tokens {
		if kept.Revoked != nil {
			continue
		}
		if err := k.use(kept); err != nil {
			return nil, fmt.Errorf("the token key %s cannot be used: %w", kept.ID, err)
		}
	}
	operators, err := store.OperatorKeys()
	if err != nil {
		return nil, err
	}
	for _, kept := range operators {
		k.operators[kept.ID] = &operatorKey{kept, [sha256.Size]byte(kept.Hash)}
	}
	return k, nil
}

func (k *Keyring) use(kept records.TokenKey) error {
	key, err := NewTokenKey(TokenKey{
		ID: kept.ID, Realm: kept.Realm, Algorithm: kept.Algorithm, Issuer: kept.Issuer, Audience: kept.Audience, Expires: timeOf(kept.Expires),
	}, kept.Material)
	if err == nil {
		k.tokens[kept.ID] = key
	}
	return err
}

// UseTokenKey adds a key that is not kept: one of the configuration.
func (k *Keyring) UseTokenKey(key *TokenKey) error {
	if err := checkKeyID(key.ID); err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.tokens[key.ID] != nil {
		return fmt.Errorf("there are two token keys with the id %s", key.ID)
	}
	k.tokens[key.ID] = key
	return nil
}

func timeOf(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

func over(expires *time.Time) bool { return expires != nil && !expires.After(time.Now()) }

// Verify returns the person that a token names. The key is found by its kid, then among
// the key sets by its issuer. Its error is a [*wire.Problem] with code bad-token or
// expired-token.
func (k *Keyring) Verify(token string) (Person, error) {
	var c jwt.RegisteredClaims
	head, _, err := jwt.NewParser().ParseUnverified(token, &c)
	if err != nil {
		return Person{}, badToken("the token is no JWT", "a JWT (RFC 7519) signed with "+strings.Join(Algorithms, ", "))
	}
	kid, _ := head.Header["kid"].(string)
	k.mu.RLock()
	key, sets := k.tokens[kid], k.sets
	k.mu.RUnlock()
	if kid != "" && key == nil {
		for _, set := range sets {
			if set.Issuer == c.Issuer {
				key = set.find(kid)
			}
		}
	}
	switch {
	case key == nil:
		return Person{}, badToken("the token's kid names no key", "the kid of a key that this service has: "+wire.Shorten(kid)+" is none")
	case !key.Expires.IsZero() && !key.Expires.After(time.Now()):
		return Person{}, badToken("the key of the token has expired", "a newer key of the realm")
	}
	person, err := key.verify(token)
	if err == nil {
		err = CheckPicture(person.Profile.Picture)
	}
	return person, err
}

// AddTokenKey adds a key that verifies tokens of a realm, with an id of its own, the
// kid.
func (k *Keyring) AddTokenKey(kept records.TokenKey) error {
	if err := checkKeyID(kept.ID); err != nil {
		return err
	}
	if _, err := keyOf(kept.Algorithm, kept.Material); err != nil {
		return &wire.Problem{Code: wire.CodeBadField, Field: "key", Detail: err.Error(), Allowed: "algorithm and key that fit each other"}
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	err := k.store.AddTokenKey(&kept)
	if errors.Is(err, records.ErrExists) {
		return &wire.Problem{Code: wire.CodeExists, Field: "id", Value: wire.Shorten(kept.ID), Detail: "there is or was a key of this id", Allowed: "an id that was never used"}
	}
	if err == nil {
		err = k.use(kept)
	}
	return err
}

// RevokeTokenKey lets the tokens of a key be refused from now on.
func (k *Keyring) RevokeTokenKey(realm, id string) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if key := k.tokens[id]; id == "" || key == nil || key.Realm != realm {
		return unknownKey(id)
	}
	if err := k.store.RevokeTokenKey(id, time.Now().UTC()); err != nil {
		return err
	}
	delete(k.tokens, id)
	k.revoked[id] = true
	return nil
}

// TokenKeys returns the keys of a realm's tokens, also those that are over.
func (k *Keyring) TokenKeys(realm string) ([]records.TokenKey, error) {
	all, err := k.store.TokenKeys()
	return slices.DeleteFunc(all, func(key records.TokenKey) bool { return key.Realm != realm }), err
}

func checkKeyID(id string) error {
	if room, err := presence.ParseRoom(id); err != nil || len(room) > 64 {
		return &wire.Problem{Code: wire.CodeBadField, Field: "id", Value: wire.Shorten(id), Detail: "a key cannot have this id",
			Allowed: "1 to 64 bytes: words of letters, digits, - and _, joined by single dots"}
	}
	return nil
}

func unknownKey(id string) error {
	return &wire.Problem{Code: wire.CodeUnknownKey, Field: "id", Value: wire.Shorten(id), Detail: "the realm has no key of this id that is in force"}
}

// Check returns who shows a key, and refuses one that has not the role. The comparison
// takes the same time for every wrong key. Its error is a [*wire.Problem].
func (k *Keyring) Check(key string, need Role) (Operator, error) {
	if key == "" {
		return Operator{}, &wire.Problem{Code: wire.CodeNoKey, Field: "key", Detail: "no operator key was sent"}
	}
	hash := sha256.Sum256([]byte(key))
	id, _, ok := strings.Cut(key, ".")
	k.mu.RLock()
	found := k.operators[OwnKey]
	if other := k.operators[id]; ok && other != nil && id != OwnKey {
		found = other
	}
	k.mu.RUnlock()
	if subtle.ConstantTimeCompare(hash[:], found.hash[:]) != 1 || found.Revoked != nil || over(found.Expires) {
		return Operator{}, &wire.Problem{Code: wire.CodeBadKey, Field: "key", Detail: "the operator key is not that of this service"}
	}
	return k.admit(found, need)
}

func (k *Keyring) admit(found *operatorKey, need Role) (Operator, error) {
	k.mu.Lock()
	k.used[found.ID] = time.Now().UTC()
	k.mu.Unlock()
	o := Operator{Realm: found.Realm, Key: found.ID, Role: Role(found.Role), Rooms: found.Rooms, Root: found.ID == OwnKey}
	if !o.May(need) {
		return o, &wire.Problem{Code: wire.CodeWrongRole, Field: "key", Value: found.Role,
			Detail: "this key has not the role for that", Allowed: "a key with the role " + string(need)}
	}
	return o, nil
}

// Again is Check for who was let in before with a key, which may have been revoked
// since.
func (k *Keyring) Again(id string, need Role) (Operator, error) {
	k.mu.RLock()
	found := k.operators[id]
	k.mu.RUnlock()
	if found == nil || found.Revoked != nil || over(found.Expires) {
		return Operator{}, &wire.Problem{Code: wire.CodeBadKey, Field: "key", Detail: "the key with which you signed in is no longer in force"}
	}
	return k.admit(found, need)
}

// Prove makes something of a text and an operator's key that nobody can who has not both.
// It is nil when there is no such key.
func (k *Keyring) Prove(text, id string) []byte {
	k.mu.RLock()
	defer k.mu.RUnlock()
	key := k.operators[id]
	if key == nil {
		return nil
	}
	proof := hmac.New(sha256.New, key.hash[:])
	proof.Write([]byte(text))
	return proof.Sum(nil)
}

// InForce tells whether a key may still be shown: an operator's, or one of tokens that is
// not of a key set.
func (k *Keyring) InForce(operator bool, id string) bool {
	k.mu.RLock()
	defer k.mu.RUnlock()
	if operator {
		key := k.operators[id]
		return key != nil && key.Revoked == nil && !over(key.Expires)
	}
	key := k.tokens[id]
	return (key != nil && (key.Expires.IsZero() || key.Expires.After(time.Now()))) || (key == nil && !k.revoked[id])
}

// AddOperatorKey makes a key. It returns the key itself, which is told once: only its
// hash is kept.
func (k *Keyring) AddOperatorKey(kept records.OperatorKey) (records.OperatorKey, string, error) {
	if _, ok := ParseRole(kept.Role); !ok {
		return kept, "", &wire.Problem{Code: wire.CodeBadField, Field: "role", Value: wire.Shorten(kept.Role), Detail: "there is no such role", Allowed: "read, write, operate"}
	}
	if len(kept.Name) > 128 {
		return kept, "", &wire.Problem{Code: wire.CodeBadField, Field: "name", Value: wire.Shorten(kept.Name), Detail: "the name of the key is too long", Allowed: "up to 128 bytes"}
	}
	if over(kept.Expires) {
		return kept, "", &wire.Problem{Code: wire.CodeBadField, Field: "expires", Value: kept.Expires.Format(time.RFC3339), Detail: "the key would have expired already", Allowed: "a time in the future"}
	}
	kept.ID = "key-" + strings.ToLower(rand.Text()[:10])
	key := kept.ID + "." + rand.Text()
	hash := sha256.Sum256([]byte(key))
	kept.Hash = hash[:]
	k.mu.Lock()
	defer k.mu.Unlock()
	if err := k.store.AddOperatorKey(&kept); err != nil {
		return kept, "", err
	}
	k.operators[kept.ID] = &operatorKey{kept, hash}
	return kept, key, nil
}

// RevokeOperatorKey lets a key be refused from now on.
func (k *Keyring) RevokeOperatorKey(realm, id string) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	found := k.operators[id]
	if id == OwnKey || found == nil || found.Realm != realm || found.Revoked != nil {
		return unknownKey(id)
	}
	at := time.Now().UTC()
	if err := k.store.RevokeOperatorKey(id, at); err != nil {
		return err
	}
	found.Revoked = &at
	return nil
}

// OperatorKeys returns the keys of a realm's operators, also those that are over, the
// newest first, each with its last use.
func (k *Keyring) OperatorKeys(realm string) []records.OperatorKey {
	k.mu.RLock()
	defer k.mu.RUnlock()
	var all []records.OperatorKey
	for id, key := range k.operators {
		if key.Realm == realm && id != OwnKey {
			kept := key.OperatorKey
			if at, ok := k.used[id]; ok {
				kept.LastUsed = &at
			}
			all = append(all, kept)
		}
	}
	slices.SortFunc(all, func(a, b records.OperatorKey) int { return b.Created.Compare(a.Created) })
	return all
}

// Forget drops the keys of a realm that is no more.
func (k *Keyring) Forget(realm string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for id, key := range k.tokens {
		if key.Realm == realm {
			delete(k.tokens, id)
			k.revoked[id] = true
		}
	}
	for id, key := range k.operators {
		if key.Realm == realm {
			delete(k.operators, id)
		}
	}
	k.sets = slices.DeleteFunc(slices.Clone(k.sets), func(set *keySet) bool { return set.Realm == realm })
}

// usedEvery is how often it is written when keys were last used.
const usedEvery = 10 * time.Second

// Run writes when keys were last used, until ctx is over. It tells failed of what it
// could not write.
func (k *Keyring) Run(ctx context.Context, failed func(error)) {
	ticker := time.NewTicker(usedEvery)
	defer ticker.Stop()
	for done := false; !done; {
		select {
		case <-ctx.Done():
			done = true
		case <-ticker.C:
		}
		k.mu.Lock()
		used := k.used
		k.used = map[string]time.Time{}
		for id, at := range used {
			if key := k.operators[id]; key != nil {
				key.LastUsed = &at
			}
		}
		k.mu.Unlock()
		delete(used, OwnKey)
		if len(used) == 0 {
			continue
		}
		if err := k.store.UsedOperatorKeys(used); err != nil {
			failed(fmt.Errorf("write when keys were last used: %w", err))
		}
	}
}
