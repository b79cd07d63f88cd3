package records

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
)

// Realm is an isolated world of people and rooms.
type Realm struct {
	Name    string `gorm:"primaryKey"`
	Created time.Time
}

// OperatorKey is a key of an operator or back end. Only its hash is kept.
type OperatorKey struct {
	ID       string `gorm:"primaryKey"`
	Realm    string `gorm:"index"`
	Name     string
	Role     string
	Rooms    []presence.Pattern `gorm:"serializer:json"`
	Hash     []byte
	Created  time.Time
	Expires  *time.Time
	Revoked  *time.Time
	LastUsed *time.Time
}

// TokenKey verifies the tokens of a realm's people. Material is the secret of HS256, or a public
// key in PEM.
type TokenKey struct {
	ID        string `gorm:"primaryKey"` // the kid of tokens
	Realm     string `gorm:"index"`
	Algorithm string
	Material  []byte
	Issuer    string
	Audience  string
	Created   time.Time
	Expires   *time.Time
	Revoked   *time.Time
}

// Removal refuses the tokens of a person issued up to a time: in a room, or with an empty Room
// in the realm.
type Removal struct {
	Realm string            `gorm:"primaryKey"`
	User  presence.UserID   `gorm:"primaryKey"`
	Room  presence.RoomName `gorm:"primaryKey"`
	At    time.Time
}

// SignIn is a browser that is signed in to the console, by the hash of its cookie. Proof covers
// the cookie and the operator's key, so that it does not outlive the key.
type SignIn struct {
	Hash    []byte `gorm:"primaryKey"`
	Proof   []byte
	Key     string // the id of the operator's key
	Expires int64
}

// SignIns returns the valid sign-ins. Alone, it drops the others.
func (s *Store) SignIns() ([]SignIn, error) {
	var all []SignIn
	if s.through == nil { // otherwise an owner tidies
		if err := s.db().Where("expires <= ?", now().UnixMilli()).Delete(&SignIn{}).Error; err != nil {
			return nil, err
		}
	}
	return all, s.db().Where("expires > ?", now().UnixMilli()).Find(&all).Error
}

// Act adds an entry about what an operator did, through the log. Alone, [Writer.Act] does.
func (s *Store) Act(e journal.Entry) error { return s.change(Change{Act: &e}) }

// AddSignIn adds a sign-in.
func (s *Store) AddSignIn(one SignIn) error { return s.change(Change{AddSignIn: &one}) }

// DropSignIns drops all sign-ins.
func (s *Store) DropSignIns() error { return s.change(Change{DropSignIns: true}) }

// RemoveSignIn drops a sign-in by its hash, if it exists.
func (s *Store) RemoveSignIn(hash []byte) error { return s.change(Change{DropSignIn: hash}) }

// Realms returns all realms by name.
func (s *Store) Realms() ([]Realm, error) {
	var all []Realm
	return all, s.db().Order("name").Find(&all).Error
}

// AddRealm adds a realm. If it exists, the error is [ErrExists].
func (s *Store) AddRealm(name string) (Realm, error) {
	realm := Realm{Name: name, Created: now()}
	return realm, s.change(Change{AddRealm: &realm})
}

// RemoveRealm removes a realm and everything in it.
func (s *Store) RemoveRealm(name string) error { return s.change(Change{DropRealm: name}) }

// OperatorKeys returns all operator keys, including revoked and expired ones.
func (s *Store) OperatorKeys() ([]OperatorKey, error) {
	var all []OperatorKey
	return all, s.db().Order("created").Find(&all).Error
}

// AddOperatorKey adds a key.
func (s *Store) AddOperatorKey(k *OperatorKey) error {
	k.Created = now()
	return s.change(Change{AddOperatorKey: k})
}

// RevokeOperatorKey revokes a key.
func (s *Store) RevokeOperatorKey(id string, at time.Time) error {
	return s.change(Change{RevokeOperatorKey: &Revocation{id, at}})
}

// UsedOperatorKeys notes when keys were last used.
func (s *Store) UsedOperatorKeys(last map[string]time.Time) error {
	return s.change(Change{UsedOperatorKeys: last})
}

// TokenKeys returns all token keys, including revoked and expired ones.
func (s *Store) TokenKeys() ([]TokenKey, error) {
	var all []TokenKey
	return all, s.db().Order("created").Find(&all).Error
}

// AddTokenKey adds a key. If there is a key with its id in any realm, the error is [ErrExists].
func (s *Store) AddTokenKey(k *TokenKey) error {
	k.Created = now()
	return s.change(Change{AddTokenKey: k})
}

// RevokeTokenKey revokes a key.
func (s *Store) RevokeTokenKey(id string, at time.Time) error {
	return s.change(Change{RevokeTokenKey: &Revocation{id, at}})
}

// Removals returns the removals of a realm.
func (s *Store) Removals(realm string) ([]Removal, error) {
	var all []Removal
	return all, s.db().Where("realm = ?", realm).Find(&all).Error
}

// Remove keeps a removal: the latest of each person and room.
func (s *Store) Remove(r Removal) error { return s.change(Change{Remove: &r}) }

// errCounted rolls back an erasure that only counted.
var errCounted = errors.New("counted")

// Erase deletes everything about a person, and returns how many rows there were of each kind.
// Headcounts keep that somebody was there, but not who. When it returns without an error, no
// byte of it is left in the file, its free pages or the log beside it.
func (s *Store) Erase(ctx context.Context, realm string, user presence.UserID) (map[string]int64, error) {
	var erased map[string]int64
	err := s.db().Transaction(func(tx *gorm.DB) (err error) {
		erased, err = erase(tx, PersonID{realm, user})
		if err == nil && s.through != nil {
			return errCounted
		}
		return err
	})
	if errors.Is(err, errCounted) {
		err = s.change(Change{Erase: &PersonID{realm, user}})
	}
	if err == nil {
		err = s.forgetLog(ctx)
	}
	return erased, err
}
