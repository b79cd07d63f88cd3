package access

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"log/slog"
	"sync"
	"time"

	"tovik.example/tovik/internal/records"
)

// SignInLife is how long a sign-in lasts, and maxSignIns how many there are at once.
const (
	SignInLife = 12 * time.Hour
	maxSignIns = 10_000
)

// SignIns are the browsers that are signed in to the console, by the hash of their cookie. They
// are kept in the records, so that a restart ends none; if the records cannot be written, they
// end with the service.
type SignIns struct {
	store *records.Store
	keys  *Keyring
	log   *slog.Logger

	mu  sync.Mutex
	all map[[sha256.Size]byte]records.SignIn
}

// NewSignIns returns the sign-ins on record.
func NewSignIns(store *records.Store, keys *Keyring, log *slog.Logger) *SignIns {
	s := &SignIns{store: store, keys: keys, log: log, all: map[[sha256.Size]byte]records.SignIn{}}
	kept, err := store.SignIns()
	if err != nil {
		log.Warn("the stored sign-ins could not be read", "error", err)
	}
	for _, one := range kept {
		s.all[[sha256.Size]byte(one.Hash)] = one
	}
	return s
}

// Open signs a browser in with the key of an id, and returns the value of its cookie.
func (s *SignIns) Open(key string, now time.Time) (token string) {
	token = rand.Text() + rand.Text()
	hash := sha256.Sum256([]byte(token))
	one := records.SignIn{Hash: hash[:], Proof: s.keys.Prove(token, key), Key: key, Expires: now.Add(SignInLife).UnixMilli()}
	s.mu.Lock()
	full := len(s.all) >= maxSignIns
	if full {
		clear(s.all) // everybody signs in again
	}
	s.all[hash] = one
	s.mu.Unlock()
	var err error
	if full {
		err = s.store.DropSignIns()
	}
	if err = errors.Join(err, s.store.AddSignIn(one)); err != nil {
		s.log.Warn("a sign-in could not be stored and ends with the service", "error", err)
	}
	return token
}

// HasPut implements [records.Listener]: sign-ins at other nodes.
func (s *SignIns) HasPut(list []records.Rows) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range list {
		for _, c := range list[i].Changes {
			switch {
			case c.AddSignIn != nil:
				s.all[[sha256.Size]byte(c.AddSignIn.Hash)] = *c.AddSignIn
			case c.DropSignIn != nil:
				delete(s.all, [sha256.Size]byte(c.DropSignIn))
			case c.DropSignIns:
				clear(s.all)
			}
		}
	}
}

// Find returns with which key a browser signed in. If the key with this id has been replaced, as
// the service's own may be by a restart, the sign-in is not valid.
func (s *SignIns) Find(token string, now time.Time) (key string, ok bool) {
	s.mu.Lock()
	found, ok := s.all[sha256.Sum256([]byte(token))]
	s.mu.Unlock()
	return found.Key, ok && now.UnixMilli() < found.Expires && hmac.Equal(found.Proof, s.keys.Prove(token, found.Key))
}

// Close ends the sign-in of a browser.
func (s *SignIns) Close(token string) {
	hash := sha256.Sum256([]byte(token))
	s.mu.Lock()
	_, known := s.all[hash]
	delete(s.all, hash)
	s.mu.Unlock()
	if !known {
		return
	}
	if err := s.store.RemoveSignIn(hash[:]); err != nil {
		s.log.Warn("a sign-out could not be stored and is undone by a restart", "error", err)
	}
}
