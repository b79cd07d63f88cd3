package access

import (
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// Main is the realm that always exists.
const Main = "main"

// OwnKey is the id of the service's own operator key.
const OwnKey = "service"

// Keyring holds the keys of all realms: those that verify tokens, and those of operators. A
// change is written before it takes effect. A Keyring is safe for concurrent use, and checking a
// key never waits for a change.
type Keyring struct {
	store *records.Store
	ring  atomic.Pointer[ring]

	shared   sharing
	changing sync.Mutex // serialises changes together with their writes
}

// ring is all keys at one time. It is never changed: another takes its place.
type ring struct {
	tokens    map[string]*TokenKey // by kid
	sets      []*keySet
	operators map[string]*operatorKey // by id
	revoked   map[string]bool         // keys of tokens that were revoked since the start
}

func (r *ring) clone() *ring {
	return &ring{maps.Clone(r.tokens), slices.Clone(r.sets), maps.Clone(r.operators), maps.Clone(r.revoked)}
}

// operatorKey is a key of an operator; only its last use changes.
type operatorKey struct {
	records.OperatorKey
	hash [sha256.Size]byte
	used *atomic.Int64 // Unix nanoseconds of the last use that is not written yet; 0: there is none
}

func newOperatorKey(kept records.OperatorKey, hash [sha256.Size]byte) *operatorKey {
	return &operatorKey{kept, hash, new(atomic.Int64)}
}

func (k *operatorKey) inForce() bool { return k != nil && k.Revoked == nil && !over(k.Expires) }

// NewKeyring returns a keyring with the keys of the store, and with the secret and operator key
// of the service, which belong to the main realm.
func NewKeyring(store *records.Store, secret, own string) (*Keyring, error) {
	key, err := NewTokenKey(TokenKey{Realm: Main, Algorithm: "HS256"}, []byte(secret))
	if err != nil {
		return nil, err
	}
	k := &Keyring{store: store}
	r := &ring{tokens: map[string]*TokenKey{"": key}, operators: map[string]*operatorKey{}, revoked: map[string]bool{}}
	r.operators[OwnKey] = newOperatorKey(records.OperatorKey{ID: OwnKey, Realm: Main, Name: "the key of the service", Role: string(Operate)}, sha256.Sum256([]byte(own)))
	tokens, err := store.TokenKeys()
	if err != nil {
		return nil, err
	}
	for _, kept := range tokens {
		if kept.Revoked != nil {
			continue
		}
		if r.tokens[kept.ID], err = tokenKeyOf(kept); err != nil {
			return nil, fmt.Errorf("the token key %s cannot be used: %w", kept.ID, err)
		}
	}
	operators, err := store.OperatorKeys()
	if err != nil {
		return nil, err
	}
	for _, kept := range operators {
		r.operators[kept.ID] = newOperatorKey(kept, [sha256.Size]byte(kept.Hash))
	}
	k.ring.Store(r)
	return k, nil
}

// change changes the ring, unless write fails. Others use the old ring meanwhile.
func (k *Keyring) change(write func(now *ring) error, change func(next *ring)) error {
	k.changing.Lock()
	defer k.changing.Unlock()
	if err := write(k.ring.Load()); err != nil {
		return err
	}
	k.turn(change)
	return nil
}

// turn changes the ring. A change may come twice, from here and from the log.
func (k *Keyring) turn(change func(next *ring)) {
	for {
		now := k.ring.Load()
		next := now.clone()
		change(next)
		if k.ring.CompareAndSwap(now, next) {
			return
		}
	}
}

// HasPut implements [records.Listener]: keys that other nodes have made or revoked.
func (k *Keyring) HasPut(list []records.Rows) {
	for i := range list {
		for j := range list[i].Changes {
			k.take(&list[i].Changes[j])
		}
	}
}

func (k *Keyring) take(c *records.Change) {
	switch {
	case c.AddOperatorKey != nil:
		kept := *c.AddOperatorKey
		k.turn(func(next *ring) { next.operators[kept.ID] = newOperatorKey(kept, [sha256.Size]byte(kept.Hash)) })
	case c.RevokeOperatorKey != nil:
		k.turn(func(next *ring) { next.revokeOperator(c.RevokeOperatorKey.Key, c.RevokeOperatorKey.At) })
	case c.AddTokenKey != nil:
		if key, err := tokenKeyOf(*c.AddTokenKey); err == nil { // which was checked before it was written
			k.turn(func(next *ring) { next.tokens[key.ID] = key })
		}
	case c.RevokeTokenKey != nil:
		k.turn(func(next *ring) { next.revokeToken(c.RevokeTokenKey.Key) })
	case c.DropRealm != "":
		k.turn(func(next *ring) { next.forget(c.DropRealm) })
	}
}

func (r *ring) revokeToken(id string) {
	delete(r.tokens, id)
	r.revoked[id] = true
}

func (r *ring) revokeOperator(id string, at time.Time) {
	if key := r.operators[id]; key != nil {
		revoked := *key
		revoked.Revoked = &at
		r.operators[id] = &revoked
	}
}

func tokenKeyOf(kept records.TokenKey) (*TokenKey, error) {
	return NewTokenKey(TokenKey{
		ID: kept.ID, Realm: kept.Realm, Algorithm: kept.Algorithm, Issuer: kept.Issuer, Audience: kept.Audience, Expires: timeOf(kept.Expires),
	}, kept.Material)
}

// UseTokenKey adds a key of the configuration, which is not kept.
func (k *Keyring) UseTokenKey(key *TokenKey) error {
	if err := checkKeyID(key.ID); err != nil {
		return err
	}
	key.configured = true
	return k.change(func(now *ring) error {
		if now.tokens[key.ID] != nil {
			return fmt.Errorf("there are two token keys with the id %s", key.ID)
		}
		return nil
	}, func(next *ring) { next.tokens[key.ID] = key })
}

func timeOf(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

func over(expires *time.Time) bool { return expires != nil && !expires.After(time.Now()) }

// Verify returns the person of a token. The key is found by its kid, then among the key sets by
// its issuer. Its error is a [*wire.Problem] with code bad-token or expired-token.
func (k *Keyring) Verify(text string) (Person, error) {
	t, err := parseToken(text)
	if err != nil {
		return Person{}, err
	}
	kid := ""
	if t.head.Kid != nil {
		kid = *t.head.Kid
	}
	r := k.ring.Load()
	key := r.tokens[kid]
	if kid != "" && key == nil {
		for _, set := range r.sets {
			if set.Issuer == t.claims.Issuer {
				key = set.find(kid)
			}
		}
	}
	switch {
	case key == nil:
		return Person{}, badToken("the token's kid is "+wire.Shorten(kid)+", and the service has no such key", "the kid of a key of the realm (tovik token-key list)")
	case !key.Expires.IsZero() && !key.Expires.After(time.Now()):
		return Person{}, badToken("the key of the token has expired", "a newer key of the realm")
	}
	person, err := key.verify(t)
	if err == nil {
		person.Grants = k.shared.like(person.Grants, t.grants)
		err = CheckPicture(person.Profile.Picture)
	}
	return person, err
}

// AddTokenKey adds a key that verifies tokens of a realm: a public key, or the secret of HS256.
// Its id, the kid of tokens, must never have been used.
func (k *Keyring) AddTokenKey(realm string, asked wire.NewTokenKey) (wire.TokenKey, error) {
	kept := records.TokenKey{ID: asked.ID, Realm: realm, Algorithm: asked.Algorithm, Material: []byte(asked.Key),
		Issuer: asked.Issuer, Audience: asked.Audience, Expires: asked.Expires}
	if err := checkKeyID(kept.ID); err != nil {
		return wire.TokenKey{}, err
	}
	key, err := tokenKeyOf(kept)
	if err != nil {
		return wire.TokenKey{}, &wire.Problem{Code: wire.CodeBadField, Field: "key", Detail: err.Error(), Allowed: "a key that fits the algorithm"}
	}
	taken := &wire.Problem{Code: wire.CodeExists, Field: "id", Value: wire.Shorten(kept.ID), Detail: "this id is or was used", Allowed: "an id that was never used"}
	err = k.change(func(now *ring) error {
		if now.tokens[kept.ID] != nil {
			return taken
		}
		err := k.store.AddTokenKey(&kept)
		if errors.Is(err, records.ErrExists) {
			return taken
		}
		return err
	}, func(next *ring) { next.tokens[kept.ID] = key })
	kept.Created = time.Now()
	return tokenKeyDocument(kept), err
}

// RevokeTokenKey revokes a key that verifies tokens.
func (k *Keyring) RevokeTokenKey(realm, id string) error {
	return k.change(func(now *ring) error {
		key := now.tokens[id]
		if id == "" || key == nil || key.Realm != realm {
			return unknownKey(id)
		}
		if key.configured {
			return &wire.Problem{Code: wire.CodeBadField, Field: "id", Value: wire.Shorten(id), Detail: "this key is in the configuration", Allowed: "remove it from tovik.toml and restart"}
		}
		return k.store.RevokeTokenKey(id, time.Now().UTC())
	}, func(next *ring) { next.revokeToken(id) })
}

// TokenKeys returns the token keys of a realm, including revoked and expired ones: those of the
// configuration by id, then the others, oldest first.
func (k *Keyring) TokenKeys(realm string) (wire.TokenKeys, error) {
	list := wire.TokenKeys{Keys: []wire.TokenKey{}}
	kept, err := k.store.TokenKeys()
	if err != nil {
		return list, err
	}
	for id, key := range k.ring.Load().tokens {
		if key.Realm == realm && key.configured {
			listed := wire.TokenKey{ID: id, Realm: realm, Algorithm: key.Algorithm, Issuer: key.Issuer, Audience: key.Audience, Configured: true}
			if !key.Expires.IsZero() {
				listed.Expires = &wire.Time{Time: key.Expires}
			}
			list.Keys = append(list.Keys, listed)
		}
	}
	slices.SortFunc(list.Keys, func(a, b wire.TokenKey) int { return strings.Compare(a.ID, b.ID) })
	for _, key := range kept {
		if key.Realm == realm {
			list.Keys = append(list.Keys, tokenKeyDocument(key))
		}
	}
	return list, nil
}

func tokenKeyDocument(k records.TokenKey) wire.TokenKey {
	return wire.TokenKey{ID: k.ID, Realm: k.Realm, Algorithm: k.Algorithm, Issuer: k.Issuer, Audience: k.Audience,
		Created: wireTime(&k.Created), Expires: wireTime(k.Expires), Revoked: wireTime(k.Revoked)}
}

func operatorKeyDocument(k records.OperatorKey) wire.Key {
	doc := wire.Key{ID: k.ID, Realm: k.Realm, Name: k.Name, Role: k.Role, Created: wire.Time{Time: k.Created}, Expires: wireTime(k.Expires), Revoked: wireTime(k.Revoked), LastUsed: wireTime(k.LastUsed)}
	for _, room := range k.Rooms {
		doc.Rooms = append(doc.Rooms, string(room))
	}
	return doc
}

func wireTime(t *time.Time) *wire.Time {
	if t == nil {
		return nil
	}
	return &wire.Time{Time: *t}
}

func checkKeyID(id string) error {
	if room, err := presence.ParseRoom(id); err != nil || len(room) > 64 {
		return &wire.Problem{Code: wire.CodeBadField, Field: "id", Value: wire.Shorten(id), Detail: "invalid id of a key",
			Allowed: "1 to 64 bytes: words of letters, digits, - and _, joined by single dots"}
	}
	return nil
}

func unknownKey(id string) error {
	return &wire.Problem{Code: wire.CodeUnknownKey, Field: "id", Value: wire.Shorten(id), Detail: "the realm has no valid key with this id"}
}

// keyWanted says what an operator shows.
const keyWanted = "Authorization: Bearer KEY, with a key of tovik key create or that of the file operator.key"

// Check returns the operator of a key. It refuses a key whose role does not permit the request.
// The comparison takes the same time for every wrong key. Its error is a [*wire.Problem].
func (k *Keyring) Check(key string, need Role) (Operator, error) {
	if strings.TrimSpace(key) == "" {
		return Operator{}, &wire.Problem{Code: wire.CodeNoKey, Field: "key", Detail: "no operator key was sent", Allowed: keyWanted}
	}
	hash := sha256.Sum256([]byte(key))
	id, _, ok := strings.Cut(key, ".")
	r := k.ring.Load()
	found := r.operators[OwnKey]
	if other := r.operators[id]; ok && other != nil && id != OwnKey {
		found = other
	}
	if subtle.ConstantTimeCompare(hash[:], found.hash[:]) != 1 || !found.inForce() {
		return Operator{}, badKey(key, id)
	}
	return found.admit(need)
}

// badKey says why a key is not accepted.
func badKey(key, id string) error {
	detail := "the key that was sent is not an operator key of this service"
	switch {
	case IsToken(key):
		detail = "a person's token was sent; here an operator key is wanted"
	case strings.HasPrefix(id, "key-") && id != key:
		detail = "the key " + wire.Shorten(id) + " is unknown, revoked or expired"
	}
	return &wire.Problem{Code: wire.CodeBadKey, Field: "key", Detail: detail, Allowed: keyWanted}
}

func (k *operatorKey) admit(need Role) (Operator, error) {
	k.used.Store(time.Now().UnixNano())
	o := Operator{Realm: k.Realm, Key: k.ID, Role: Role(k.Role), Rooms: k.Rooms, Root: k.ID == OwnKey, Expires: timeOf(k.Expires)}
	if !o.May(need) {
		return o, &wire.Problem{Code: wire.CodeWrongRole, Field: "key", Value: k.Role,
			Detail: "this key's role does not permit that", Allowed: "a key with the role " + string(need)}
	}
	return o, nil
}

// Again is Check for the holder of a key that was accepted before, and may have been revoked
// since.
func (k *Keyring) Again(id string, need Role) (Operator, error) {
	found := k.ring.Load().operators[id]
	if !found.inForce() {
		return Operator{}, &wire.Problem{Code: wire.CodeBadKey, Field: "key", Detail: "the key you signed in with was revoked or has expired", Allowed: "signing in again with a valid key"}
	}
	return found.admit(need)
}

// Prove returns a proof of a text that only somebody with both the text and the operator key can
// make; nil if there is no such key.
func (k *Keyring) Prove(text, id string) []byte {
	key := k.ring.Load().operators[id]
	if key == nil {
		return nil
	}
	proof := hmac.New(sha256.New, key.hash[:])
	proof.Write([]byte(text))
	return proof.Sum(nil)
}

// InForce tells whether a key is valid: an operator key, or a token key that is not of a key
// set.
func (k *Keyring) InForce(operator bool, id string) bool {
	r := k.ring.Load()
	if operator {
		return r.operators[id].inForce()
	}
	key := r.tokens[id]
	return (key != nil && (key.Expires.IsZero() || key.Expires.After(time.Now()))) || (key == nil && !r.revoked[id])
}

// AddOperatorKey makes a key of a realm for the holder of another key, or for the service itself
// if by is nil. No key makes one that may do more than itself, or lives longer. The document has
// the key itself, which is returned only once: only its hash is kept.
func (k *Keyring) AddOperatorKey(by *Operator, realm string, asked wire.NewKey) (wire.Key, error) {
	if asked.Rooms != nil && len(asked.Rooms) == 0 {
		return wire.Key{}, &wire.Problem{Code: wire.CodeBadField, Field: "rooms", Value: "[]", Detail: "the key would cover no room", Allowed: "patterns of rooms, or no list for a key that covers all"}
	}
	kept := records.OperatorKey{Realm: realm, Name: asked.Name, Role: asked.Role, Expires: asked.Expires}
	for _, name := range asked.Rooms {
		pattern, err := presence.ParsePattern(name)
		if err != nil {
			return wire.Key{}, err
		}
		kept.Rooms = append(kept.Rooms, pattern)
	}
	if err := checkNewKey(by, &kept); err != nil {
		return wire.Key{}, err
	}
	kept.ID = "key-" + strings.ToLower(rand.Text()[:10])
	key := kept.ID + "." + rand.Text()
	hash := sha256.Sum256([]byte(key))
	kept.Hash = hash[:]
	err := k.change(func(*ring) error { return k.store.AddOperatorKey(&kept) }, func(next *ring) { next.operators[kept.ID] = newOperatorKey(kept, hash) })
	if err != nil {
		return wire.Key{}, err
	}
	doc := operatorKeyDocument(kept)
	doc.Key = key
	return doc, nil
}

// checkNewKey checks a key to be made, and lets it expire with the key that makes it.
func checkNewKey(by *Operator, kept *records.OperatorKey) error {
	role, ok := ParseRole(kept.Role)
	switch {
	case !ok:
		return &wire.Problem{Code: wire.CodeBadField, Field: "role", Value: wire.Shorten(kept.Role), Detail: "there is no such role", Allowed: "read, write, operate"}
	case len(kept.Name) > 128:
		return &wire.Problem{Code: wire.CodeBadField, Field: "name", Value: wire.Shorten(kept.Name), Detail: "the name of the key is too long", Allowed: "up to 128 bytes"}
	case over(kept.Expires):
		return &wire.Problem{Code: wire.CodeBadField, Field: "expires", Value: kept.Expires.Format(time.RFC3339), Detail: "the key would already have expired", Allowed: "a time in the future"}
	case by != nil && !by.Covers(role, kept.Rooms):
		return &wire.Problem{Code: wire.CodeNotGranted, Field: "role", Value: kept.Role, Detail: "a key cannot make a key that may do more than itself", Allowed: "up to the role " + string(by.Role) + ", and rooms that the key itself is about"}
	case by != nil && !by.Expires.IsZero() && kept.Expires == nil:
		kept.Expires = &by.Expires
	case by != nil && !by.Expires.IsZero() && kept.Expires.After(by.Expires):
		return &wire.Problem{Code: wire.CodeNotGranted, Field: "expires", Value: kept.Expires.Format(time.RFC3339), Detail: "a key cannot make a key that outlives it", Allowed: "up to " + by.Expires.UTC().Format(time.RFC3339)}
	}
	return nil
}

// RevokeOperatorKey revokes a key for the holder of another key, which must cover it. A key that
// is not covered is answered like an unknown one.
func (k *Keyring) RevokeOperatorKey(by Operator, id string) error {
	at := time.Now().UTC()
	return k.change(func(now *ring) error {
		found := now.operators[id]
		if id == OwnKey || found == nil || found.Realm != by.Realm || found.Revoked != nil || !by.Covers(Role(found.Role), found.Rooms) {
			return unknownKey(id)
		}
		return k.store.RevokeOperatorKey(id, at)
	}, func(next *ring) { next.revokeOperator(id, at) })
}

// OperatorKeys returns the operator keys of the realm that the asking key covers, including
// revoked and expired ones, newest first.
func (k *Keyring) OperatorKeys(by Operator) wire.Keys {
	list := wire.Keys{Keys: []wire.Key{}}
	for id, key := range k.ring.Load().operators {
		if key.Realm != by.Realm || id == OwnKey || !by.Covers(Role(key.Role), key.Rooms) {
			continue
		}
		kept := key.OperatorKey
		if used := key.used.Load(); used != 0 {
			at := time.Unix(0, used).UTC()
			kept.LastUsed = &at
		}
		list.Keys = append(list.Keys, operatorKeyDocument(kept))
	}
	slices.SortFunc(list.Keys, func(a, b wire.Key) int {
		return cmp.Or(b.Created.Compare(a.Created.Time), strings.Compare(a.ID, b.ID))
	})
	return list
}

// Forget drops the keys of a removed realm.
func (k *Keyring) Forget(realm string) {
	k.turn(func(next *ring) { next.forget(realm) })
}

func (r *ring) forget(realm string) {
	for id, key := range r.tokens {
		if key.Realm == realm {
			r.revokeToken(id)
		}
	}
	maps.DeleteFunc(r.operators, func(_ string, key *operatorKey) bool { return key.Realm == realm })
	r.sets = slices.DeleteFunc(r.sets, func(set *keySet) bool { return set.Realm == realm })
}

// usedEvery is how often the last uses of keys are written.
const usedEvery = 10 * time.Second

// Run writes when keys were last used, until ctx is done. It calls failed with what could not be
// written.
func (k *Keyring) Run(ctx context.Context, failed func(error)) {
	ticker := time.NewTicker(usedEvery)
	defer ticker.Stop()
	for done := false; !done; {
		select {
		case <-ctx.Done():
			done = true
		case <-ticker.C:
		}
		if err := k.writeUsed(); err != nil {
			failed(fmt.Errorf("write when keys were last used: %w", err))
		}
	}
}

func (k *Keyring) writeUsed() error {
	used := map[string]time.Time{}
	for id, key := range k.ring.Load().operators {
		if at := key.used.Load(); at != 0 && id != OwnKey {
			used[id] = time.Unix(0, at).UTC()
		}
	}
	if len(used) == 0 {
		return nil
	}
	if err := k.store.UsedOperatorKeys(used); err != nil {
		return err
	}
	k.turn(func(next *ring) {
		for id, at := range used {
			if key := next.operators[id]; key != nil {
				written := *key
				written.LastUsed = &at
				next.operators[id] = &written
				key.used.CompareAndSwap(at.UnixNano(), 0)
			}
		}
	})
	return nil
}
