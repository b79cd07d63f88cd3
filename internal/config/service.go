package config

import (
	"bytes"
	"fmt"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"github.com/pelletier/go-toml/v2"

	"tovik.example/tovik/internal/presence"
)

// Service is what a service is told in a file about who may come to it.
type Service struct {
	TrustedProxies []netip.Prefix
	Realms         []Realm
	Retention      Retention
}

// Retention says what is kept for how long. What is zero has its default.
type Retention struct {
	Journal     time.Duration
	JournalRows int64
	Kinds       map[string]time.Duration // entries of a kind, where it differs
	Minutes     time.Duration            // headcounts by the minute
	Hours       time.Duration            // headcounts by the hour
	Deliveries  time.Duration            // of hooks, that were made or parked
}

// Realm is what is told about one realm.
type Realm struct {
	Name      string
	Origins   []string // nil: any
	Keys      []TokenKey
	KeySets   []KeySet
	Admission *Admission // nil: there is none
}

// TokenKey verifies tokens.
type TokenKey struct {
	ID, Algorithm    string
	Material         []byte // the secret, or a public key in PEM
	Issuer, Audience string
}

// KeySet is the address of keys that verify tokens (RFC 7517).
type KeySet struct {
	URL, Issuer, Audience string
}

// Admission is where the application is asked who may be in rooms.
type Admission struct {
	Rooms       []presence.Pattern
	URL, Secret string
	Wait        time.Duration // 0: the default
}

// serviceFile is the shape of the file.
type serviceFile struct {
	TrustedProxies []string    `toml:"trusted_proxies"`
	Realms         []realmFile `toml:"realm"`
	Keep           keepFile    `toml:"keep"`
}

type keepFile struct {
	Journal          duration            `toml:"journal"`
	JournalEntries   int64               `toml:"journal_entries"`
	JournalKinds     map[string]duration `toml:"journal_kinds"`
	HeadcountMinutes duration            `toml:"headcount_minutes"`
	HeadcountHours   duration            `toml:"headcount_hours"`
	Deliveries       duration            `toml:"deliveries"`
}

type realmFile struct {
	Name    string   `toml:"name"`
	Origins []string `toml:"origins"`
	Keys    []struct {
		ID        string `toml:"id"`
		Algorithm string `toml:"algorithm"`
		File      string `toml:"file"`
		Issuer    string `toml:"issuer"`
		Audience  string `toml:"audience"`
	} `toml:"key"`
	KeySets []struct {
		URL      string `toml:"url"`
		Issuer   string `toml:"issuer"`
		Audience string `toml:"audience"`
	} `toml:"key_set"`
	Admission *struct {
		Rooms  []string `toml:"rooms"`
		URL    string   `toml:"url"`
		Secret string   `toml:"secret"`
		Wait   duration `toml:"wait"`
	} `toml:"admission"`
}

// ReadService reads a TOML file. An unknown key is an error; each error names the file,
// the key, its value and what is allowed.
func ReadService(path string) (Service, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return Service{}, fmt.Errorf("read the configuration: %w", err)
	}
	return parseService(path, text)
}

func parseService(path string, text []byte) (s Service, err error) {
	var f serviceFile
	if err := decodeStrictly(text, &f); err != nil {
		return s, explain(path, err)
	}
	wrong := func(key, value, allowed string) error {
		return fmt.Errorf("%s: %s is %q; allowed: %s", path, key, value, allowed)
	}
	for _, proxy := range f.TrustedProxies {
		prefix, err := parsePrefix(proxy)
		if err != nil {
			return s, wrong("trusted_proxies", proxy, "an address such as 10.0.0.7, or a network such as 10.0.0.0/8")
		}
		s.TrustedProxies = append(s.TrustedProxies, prefix)
	}
	if f.Keep.JournalEntries < 0 {
		return s, wrong("keep.journal_entries", strconv.FormatInt(f.Keep.JournalEntries, 10), "a whole number above 0")
	}
	s.Retention = Retention{Journal: time.Duration(f.Keep.Journal), JournalRows: f.Keep.JournalEntries, Kinds: map[string]time.Duration{},
		Minutes: time.Duration(f.Keep.HeadcountMinutes), Hours: time.Duration(f.Keep.HeadcountHours), Deliveries: time.Duration(f.Keep.Deliveries)}
	for kind, age := range f.Keep.JournalKinds {
		s.Retention.Kinds[kind] = time.Duration(age)
	}
	for _, r := range f.Realms {
		realm := Realm{Name: r.Name, Origins: r.Origins}
		if _, err := presence.ParseRoom(r.Name); err != nil || len(r.Name) > 64 {
			return s, wrong("realm.name", r.Name, "words of letters, digits, - and _, joined by single dots")
		}
		if slices.ContainsFunc(s.Realms, func(other Realm) bool { return other.Name == r.Name }) {
			return s, wrong("realm.name", r.Name, "each realm once")
		}
		for _, origin := range r.Origins {
			if u, err := url.Parse(origin); err != nil || u.Host == "" || (u.Scheme != "https" && u.Scheme != "http") || u.Scheme+"://"+u.Host != origin {
				return s, wrong("realm.origins", origin, "an origin such as https://app.example, without a path")
			}
		}
		for _, k := range r.Keys {
			file := k.File
			if !filepath.IsAbs(file) {
				file = filepath.Join(filepath.Dir(path), file)
			}
			material, err := os.ReadFile(file)
			if err != nil {
				return s, wrong("realm.key.file", k.File, "a file with the secret, or with a public key in PEM, that can be read")
			}
			realm.Keys = append(realm.Keys, TokenKey{k.ID, k.Algorithm, material, k.Issuer, k.Audience})
		}
		for _, set := range r.KeySets {
			if !isWeb(set.URL) {
				return s, wrong("realm.key_set.url", set.URL, "https://HOST/PATH")
			}
			if set.Issuer == "" {
				return s, wrong("realm.key_set.issuer", "", "the iss of the tokens that the set is for")
			}
			realm.KeySets = append(realm.KeySets, KeySet(set))
		}
		if a := r.Admission; a != nil {
			realm.Admission = &Admission{URL: a.URL, Secret: a.Secret, Wait: time.Duration(a.Wait)}
			for _, name := range a.Rooms {
				pattern, err := presence.ParsePattern(name)
				if err != nil {
					return s, wrong("realm.admission.rooms", name, "room patterns such as desk.**")
				}
				realm.Admission.Rooms = append(realm.Admission.Rooms, pattern)
			}
			switch {
			case len(a.Rooms) == 0:
				return s, wrong("realm.admission.rooms", "", "room patterns such as desk.**")
			case !isWeb(a.URL):
				return s, wrong("realm.admission.url", a.URL, "https://HOST/PATH")
			case len(a.Secret) < 24:
				return s, wrong("realm.admission.secret", "…", "24 bytes or more")
			}
		}
		s.Realms = append(s.Realms, realm)
	}
	return s, nil
}

func isWeb(address string) bool {
	u, err := url.Parse(address)
	return err == nil && u.Host != "" && (u.Scheme == "https" || u.Scheme == "http")
}

func parsePrefix(text string) (netip.Prefix, error) {
	if a, err := netip.ParseAddr(text); err == nil {
		return a.Prefix(a.BitLen())
	}
	return netip.ParsePrefix(text)
}

func decodeStrictly(text []byte, into any) error {
	return toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields().Decode(into)
}
