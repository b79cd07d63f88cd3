package config

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"tovik.example/tovik/internal/presence"
)

// Given returns the value of a key from a source other than the file, and the name of that
// source, such as --listen or TOVIK_LISTEN. Empty texts mean none.
type Given func(Key) (text, where string)

// FromEnvironment returns the values of environment variables.
func FromEnvironment(lookup func(string) (string, bool)) Given {
	return func(k Key) (text, where string) {
		if where = k.Variable(); where != "" {
			text, _ = lookup(where)
		}
		return text, where
	}
}

// wrong makes the error for a key with a value that is not allowed.
type wrong func(key, value, allowed string) error

// Read reads a TOML file (none if path is empty). Other sources take precedence. An unknown key
// is an error. Each error names the file and line, or the other source; the key, its value and
// what is allowed.
func Read(path string, given Given) (Settings, error) {
	var text []byte
	if path != "" {
		var err error
		if text, err = os.ReadFile(path); err != nil {
			return Settings{}, fmt.Errorf("read the configuration: %w", err)
		}
	}
	return parse(path, text, given)
}

func parse(path string, text []byte, given Given) (Settings, error) {
	s := defaults()
	if err := decode(path, text, &s); err != nil {
		return s, err
	}
	from, err := s.overlay(given)
	if err != nil {
		return s, err
	}
	at := linesOf(text)
	mistake := func(key, value, allowed string) error {
		if where := from[key]; where != "" {
			return fmt.Errorf("%s is %q; allowed: %s", where, value, allowed)
		}
		return at.mistake(path, key, value, allowed)
	}
	if err := withinBounds(&s, mistake); err != nil {
		return s, err
	}
	dir := filepath.Dir(path)
	if err := s.edge(dir, from, mistake); err != nil {
		return s, err
	}
	if err := s.Cluster.check(dir, from, mistake); err != nil {
		return s, err
	}
	if s.policy, err = s.PolicyFile.policy(mistake); err != nil {
		return s, err
	}
	kids := map[string]bool{}
	for i := range s.Realms {
		table := fmt.Sprintf("realm#%d.", i+1)
		r := &s.Realms[i]
		if slices.ContainsFunc(s.Realms[:i], func(other Realm) bool { return other.Name == r.Name }) {
			return s, mistake(table+"name", r.Name, "each realm once")
		}
		within := func(key, value, allowed string) error { return mistake(table+key, value, allowed) }
		if err := errors.Join(r.check(within), r.readKeys(dir, kids, within), r.Admission.check(within)); err != nil {
			return s, first(err)
		}
		if r.policy, err = s.PolicyFile.within(r.Policy, func(key, value, allowed string) error { return within("policy."+key, value, allowed) }); err != nil {
			return s, err
		}
	}
	return s, nil
}

// first returns the first of several joined errors.
func first(err error) error {
	if joined, ok := err.(interface{ Unwrap() []error }); ok {
		return joined.Unwrap()[0]
	}
	return err
}

// edge checks the address to listen at, and resolves the files of the certificate. Paths in the
// file are relative to it.
func (s *Settings) edge(dir string, from map[string]string, wrong wrong) error {
	_, port, err := net.SplitHostPort(s.Listen)
	if n, bad := strconv.ParseUint(port, 10, 16); err != nil || bad != nil || n > 65535 {
		return wrong("listen", s.Listen, "HOST:PORT, as in 127.0.0.1:8420 or :8420")
	}
	files := []struct {
		key  string
		file *string
	}{{"tls_cert", &s.TLSCert}, {"tls_key", &s.TLSKey}}
	for i, one := range files {
		if *one.file == "" {
			continue
		}
		if *files[1-i].file == "" {
			return wrong(one.key, *one.file, "a certificate and its key, both tls_cert and tls_key")
		}
		named := *one.file
		if from[one.key] == "" {
			*one.file = beside(dir, named)
		}
		if _, err := os.Stat(*one.file); err != nil {
			return wrong(one.key, named, "a file in PEM that is there")
		}
	}
	return nil
}

func (r *Realm) check(wrong wrong) error {
	if _, err := presence.ParseRoom(r.Name); err != nil || len(r.Name) > 64 {
		return wrong("name", r.Name, "words of letters, digits, - and _, joined by single dots")
	}
	for _, origin := range r.Origins {
		if u, err := url.Parse(origin); err != nil || !isWeb(origin) || u.Scheme+"://"+u.Host != origin {
			return wrong("origins", origin, "an origin such as https://app.example, without a path")
		}
	}
	for i, set := range r.KeySets {
		table := fmt.Sprintf("key_set#%d.", i+1)
		if !isWeb(set.URL) {
			return wrong(table+"url", set.URL, "https://HOST/PATH")
		}
		if set.Issuer == "" {
			return wrong(table+"issuer", "", "the iss of the tokens that the set is for")
		}
	}
	return nil
}

// readKeys reads the files of a realm's keys. Kids holds the ids of all keys so far.
func (r *Realm) readKeys(dir string, kids map[string]bool, wrong wrong) (err error) {
	for i := range r.Keys {
		k, table := &r.Keys[i], fmt.Sprintf("key#%d.", i+1)
		if k.Material, err = os.ReadFile(beside(dir, k.File)); err != nil {
			return wrong(table+"file", k.File, "a file with the secret, or with a public key in PEM, that can be read")
		}
		if kids[k.ID] {
			return wrong(table+"id", k.ID, "each id (kid) once, in all realms")
		}
		kids[k.ID] = true
	}
	return nil
}

func (a *Admission) check(wrong wrong) error {
	if a == nil {
		return nil
	}
	for _, name := range a.Rooms {
		if _, err := presence.ParsePattern(string(name)); err != nil {
			return wrong("admission.rooms", string(name), "room patterns such as desk.**")
		}
	}
	switch {
	case len(a.Rooms) == 0:
		return wrong("admission.rooms", "", "room patterns such as desk.**")
	case !isWeb(a.URL):
		return wrong("admission.url", a.URL, "https://HOST/PATH")
	case !isSecret(a.Secret):
		return wrong("admission.secret", "…", "whsec_ and 16 bytes or more in base64 (Standard Webhooks), or 24 bytes or more of any other text")
	}
	return nil
}

// beside returns a file name relative to a directory.
func beside(dir, file string) string {
	if filepath.IsAbs(file) {
		return file
	}
	return filepath.Join(dir, file)
}

// isSecret reports whether a text can be a signing secret: one of Standard Webhooks, or any text
// that is long enough.
func isSecret(text string) bool {
	if encoded, ok := strings.CutPrefix(text, "whsec_"); ok {
		secret, err := base64.StdEncoding.DecodeString(encoded)
		return err == nil && len(secret) >= 16
	}
	return len(text) >= 24
}

func isWeb(address string) bool {
	u, err := url.Parse(address)
	return err == nil && u.Host != "" && (u.Scheme == "https" || u.Scheme == "http")
}

// overlay applies the values of other sources, and returns their names by key.
func (s *Settings) overlay(given Given) (from map[string]string, err error) {
	from = map[string]string{}
	each(s, func(k Key, field reflect.Value) {
		text, where := given(k)
		if err != nil || text == "" {
			return
		}
		if wrong := set(field, text); wrong != nil {
			err = fmt.Errorf("%s is %q; allowed: %w", where, text, wrong)
		}
		from[k.Name] = where
	})
	return from, err
}

// decode reads a file into a struct. Keys that are not in the file keep their values.
func decode(path string, text []byte, into any) error {
	if err := errors.Join(bareTime(path, text), singleTable(path, text)); err != nil {
		return first(err)
	}
	err := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields().Decode(into)
	var strict *toml.StrictMissingError
	var decode *toml.DecodeError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &strict) && len(strict.Errors) > 0:
		unknown := strict.Errors[0]
		line, _ := unknown.Position()
		key := strings.Join(unknown.Key(), ".")
		if name, ofRoom := strings.CutPrefix(key, "room."); ofRoom && slices.ContainsFunc(Keys(), func(k Key) bool { return k.Name == name }) {
			return fmt.Errorf("%s:%d: %s is set for the realm, not for rooms; allowed: %s outside of [[room]]", path, line, name, name)
		}
		return fmt.Errorf("%s:%d: there is no key %q; allowed: the keys of tovik config init -", path, line, key)
	case errors.As(err, &decode):
		line, _ := decode.Position()
		key := strings.Join(decode.Key(), ".")
		if said, ours := strings.CutPrefix(decode.Error(), "toml: is "); ours { // of UnmarshalText
			return fmt.Errorf("%s:%d: %s is %s", path, line, key, said)
		}
		return fmt.Errorf("%s:%d: %s: %s", path, line, key, decode.Error())
	}
	return fmt.Errorf("%s: %w", path, err)
}
