// Package access decides who somebody is and what they may do: it verifies the
// tokens of people and the keys of operators of each realm, and holds what they grant.
package access

import (
	"cmp"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"tovik.example/tovik/internal/records"
)

// Files of the data directory that hold secrets, one line each.
const (
	secretFile = "token.secret"
	keyFile    = "operator.key"
)

// Secrets are what the service needs to start: the secret that signs tokens, and the operator
// key.
type Secrets struct {
	Token       string
	OperatorKey string
	KeyFile     string // where the operator key was read from; empty when it was given
}

// Settle fills empty fields of given from files in dir. A file that does not exist is written
// with a new secret, readable by its owner only, so that the next start finds the same. The
// directory is made if necessary. For records in memory nothing is kept.
func Settle(dir string, given Secrets) (Secrets, error) {
	s := given
	if dir == records.Memory {
		s.Token, s.OperatorKey = cmp.Or(s.Token, rand.Text()+rand.Text()), cmp.Or(s.OperatorKey, rand.Text())
		return s, nil
	}
	err := os.MkdirAll(dir, 0o700)
	if err != nil {
		return Secrets{}, fmt.Errorf("the data directory cannot be made: %w", err)
	}
	if s.Token == "" {
		if s.Token, err = readOrMake(filepath.Join(dir, secretFile)); err != nil {
			return Secrets{}, err
		}
	}
	if s.OperatorKey == "" {
		s.KeyFile = filepath.Join(dir, keyFile)
		if s.OperatorKey, err = readOrMake(s.KeyFile); err != nil {
			return Secrets{}, err
		}
	}
	return s, nil
}

// ReadTokenSecret returns the token secret that a service keeps in dir.
func ReadTokenSecret(dir string) (string, error) { return read(filepath.Join(dir, secretFile)) }

func readOrMake(path string) (string, error) {
	secret, err := read(path)
	if !errors.Is(err, os.ErrNotExist) {
		return secret, err
	}
	secret = rand.Text() + rand.Text()
	// Written aside and linked into place: no start finds half a file, and of two
	// that race for it one wins for both.
	temp, err := os.CreateTemp(filepath.Dir(path), ".new-*")
	if err != nil {
		return "", err
	}
	defer func() { _ = os.Remove(temp.Name()) }()
	_, err = fmt.Fprintln(temp, secret)
	if err := errors.Join(err, temp.Sync(), temp.Close()); err != nil {
		return "", fmt.Errorf("%s cannot be written: %w", path, err)
	}
	if err := os.Link(temp.Name(), path); err != nil && !errors.Is(err, os.ErrExist) {
		return "", err
	}
	return read(path)
}

func read(path string) (string, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return "", err
	}
	secret := strings.TrimSpace(string(text))
	if secret == "" {
		return "", fmt.Errorf("%s is empty; delete it to have a new one made", path)
	}
	return secret, nil
}
