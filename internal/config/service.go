package config

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"tovik.example/tovik/internal/presence"
)

// Service is the configuration of a service in a file. Zero fields were not set.
type Service struct {
	Listen, Data, TLSCert, TLSKey    string
	MaxConnections                   int
	LinksPerAddress, LinksPerPerson  int
	SlowAfter                        time.Duration
	RequestsPerSecond                int
	Practice, HideDocs, PrivateHooks bool
	Log                              string // text or json
	Policy                           presence.Policy
	TrustedProxies                   []netip.Prefix
	Realms                           []Realm
	Retention                        Retention
}

// Retention says how long records are kept. Zero fields mean the defaults.
type Retention struct {
	Journal     time.Duration
	JournalRows int64
	Kinds       map[string]time.Duration // entries of a kind, if different
	KindRows    map[string]int64         // maximum number of entries of a kind
	Minutes     time.Duration            // headcounts by the minute
	Hours       time.Duration            // headcounts by the hour
	Deliveries  time.Duration            // of hooks, after they were delivered or parked
}

// Realm is the configuration of a realm.
type Realm struct {
	Name      string
	Origins   []string // nil: any
	Keys      []TokenKey
	KeySets   []KeySet
	Admission *Admission // nil: none
}

// TokenKey is a key that verifies tokens.
type TokenKey struct {
	ID, Algorithm    string
	Material         []byte // the secret, or a public key in PEM
	Issuer, Audience string
}

// KeySet is the URL of keys that verify tokens (RFC 7517).
type KeySet struct {
	URL, Issuer, Audience string
}

// Admission is how the application is asked who may be in rooms.
type Admission struct {
	Rooms       []presence.Pattern
	URL, Secret string
	Wait        time.Duration // 0: the default
}

// serviceFile is the shape of the file. Its tags also document the keys.
type serviceFile struct {
	Listen            string   `toml:"listen" default:"\"127.0.0.1:8420\"" doc:"The address to listen at, HOST:PORT."`
	Data              string   `toml:"data" default:"\"tovik-data\"" doc:"The directory of the records; \":memory:\" stores nothing on disk."`
	TLSCert           string   `toml:"tls_cert" default:"\"cert.pem\"" doc:"A certificate in PEM; with it the service uses TLS. The path is relative to this file. None by default."`
	TLSKey            string   `toml:"tls_key" default:"\"key.pem\"" doc:"The key of the certificate in PEM."`
	MaxConnections    int      `toml:"max_connections" default:"0" doc:"The largest number of connections; 0 means the number of file descriptors minus 200."`
	LinksPerAddress   int      `toml:"links_per_address" default:"4096" doc:"The largest number of links from one network address."`
	LinksPerPerson    int      `toml:"links_per_person" default:"128" doc:"The largest number of links of a person."`
	SlowAfter         duration `toml:"slow_after" default:"\"10s\"" doc:"The time without progress after which a link that does not read is closed."`
	RequestsPerSecond int      `toml:"requests_per_second" default:"500" doc:"HTTP requests per second and key; bursts may have five times as many."`
	Practice          bool     `toml:"practice" default:"false" doc:"Offers the page /practice, which gives everybody tokens for practice rooms."`
	HideDocs          bool     `toml:"hide_docs" default:"false" doc:"Does not serve the pages that document the API, the frames and the errors."`
	PrivateHooks      bool     `toml:"private_hooks" default:"false" doc:"Allows hooks to private network addresses."`
	Log               string   `toml:"log" default:"\"text\"" doc:"The form of the log: text or json, one line per event."`
	TrustedProxies    []string `toml:"trusted_proxies" default:"[\"10.0.0.0/8\"]" doc:"The networks of proxies whose X-Forwarded-For is trusted. None by default."`
	policyFile
	Keep   keepFile    `toml:"keep"`
	Realms []realmFile `toml:"realm"`
}

type keepFile struct {
	Journal            duration            `toml:"journal" default:"\"90d\"" doc:"How long the journal is kept."`
	JournalEntries     int64               `toml:"journal_entries" default:"20000000" doc:"The largest number of entries; older ones are deleted."`
	JournalKinds       map[string]duration `toml:"journal_kinds" default:"{ \"session.idle\" = \"7d\" }" doc:"How long entries of a kind are kept, if different. None by default."`
	JournalKindEntries map[string]int64    `toml:"journal_kind_entries" default:"{ \"session.idle\" = 1000000 }" doc:"The largest number of entries of a kind. None by default."`
	HeadcountMinutes   duration            `toml:"headcount_minutes" default:"\"14d\"" doc:"How long headcounts by the minute are kept."`
	HeadcountHours     duration            `toml:"headcount_hours" default:"\"400d\"" doc:"How long headcounts by the hour are kept. Those by the day are kept for good."`
	Deliveries         duration            `toml:"deliveries" default:"\"7d\"" doc:"How long delivered and parked deliveries of hooks are kept."`
}

type realmFile struct {
	Name    string   `toml:"name" default:"\"main\"" doc:"The name of a realm. It is created if it does not exist."`
	Origins []string `toml:"origins" default:"[\"https://app.example\"]" doc:"The origins of pages that may be clients; any by default."`
	Keys    []struct {
		ID        string `toml:"id" default:"\"watch-house\"" doc:"The kid of the tokens that this key verifies."`
		Algorithm string `toml:"algorithm" default:"\"EdDSA\"" doc:"The algorithm: HS256, EdDSA, ES256 or RS256."`
		File      string `toml:"file" default:"\"watch-house.pem\"" doc:"A file with a public key in PEM, or the secret for HS256. The path is relative to this file."`
		Issuer    string `toml:"issuer" default:"\"https://app.example\"" doc:"The issuer (iss) that tokens must have; any by default."`
		Audience  string `toml:"audience" default:"\"tovik\"" doc:"The audience (aud) that tokens must have; any by default."`
	} `toml:"key"`
	KeySets []struct {
		URL      string `toml:"url" default:"\"https://id.example/keys\"" doc:"The URL at which an identity service publishes its keys (JWKS)."`
		Issuer   string `toml:"issuer" default:"\"https://id.example\"" doc:"The issuer (iss) of its tokens; required."`
		Audience string `toml:"audience" default:"\"tovik\"" doc:"The audience (aud) that its tokens must have; any by default."`
	} `toml:"key_set"`
	Admission *struct {
		Rooms  []string `toml:"rooms" default:"[\"desk.**\"]" doc:"The rooms for which the application is asked who may be in them."`
		URL    string   `toml:"url" default:"\"https://app.example/presence/admission\"" doc:"The URL at which the application is asked."`
		Secret string   `toml:"secret" default:"\"whsec_YSBzZWNyZXQgb2YgdGhlIEFsZGVybW9vcg==\"" doc:"The secret that signs the request: one of Standard Webhooks, or any text of 24 bytes or more."`
		Wait   duration `toml:"wait" default:"\"3s\"" doc:"The time limit for the answer."`
	} `toml:"admission"`
}

// ReadService reads a TOML file (none if path is empty), and the environment variables of its
// keys, which take precedence. An unknown key is an error. Each error names the file and line,
// or the variable; the key, its value and what is allowed.
func ReadService(path string, environment func(string) (string, bool)) (Service, error) {
	var text []byte
	if path != "" {
		var err error
		if text, err = os.ReadFile(path); err != nil {
			return Service{}, fmt.Errorf("read the configuration: %w", err)
		}
	}
	return parseService(path, text, environment)
}

func parseService(path string, text []byte, environment func(string) (string, bool)) (s Service, err error) {
	var f serviceFile
	if err := errors.Join(bareTime(path, text), singleTable(path, text)); err != nil {
		return s, err
	}
	if err := decodeStrictly(text, &f); err != nil {
		return s, explain(path, err)
	}
	from, err := f.overlay(environment)
	if err != nil {
		return s, err
	}
	at := linesOf(text)
	wrong := func(key, value, allowed string) error {
		if variable := from[key]; variable != "" {
			return fmt.Errorf("%s is %q; allowed: %s", variable, value, allowed)
		}
		return at.mistake(path, key, value, allowed)
	}
	if err := f.basics(&s, filepath.Dir(path), wrong); err != nil {
		return s, err
	}
	if s.Policy, err = f.policy(wrong); err != nil {
		return s, err
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
	s.Retention = Retention{Journal: f.Keep.Journal.d, JournalRows: f.Keep.JournalEntries, Kinds: map[string]time.Duration{},
		Minutes: f.Keep.HeadcountMinutes.d, Hours: f.Keep.HeadcountHours.d, Deliveries: f.Keep.Deliveries.d}
	s.Retention.KindRows = f.Keep.JournalKindEntries
	for kind, n := range f.Keep.JournalKindEntries {
		if n < 0 {
			return s, wrong("keep.journal_kind_entries", fmt.Sprint(kind, " = ", n), "whole numbers above 0")
		}
	}
	for kind, age := range f.Keep.JournalKinds {
		s.Retention.Kinds[kind] = age.d
	}
	kids := map[string]bool{}
	for i, r := range f.Realms {
		table := fmt.Sprintf("realm#%d.", i+1)
		realm := Realm{Name: r.Name, Origins: r.Origins}
		if _, err := presence.ParseRoom(r.Name); err != nil || len(r.Name) > 64 {
			return s, wrong(table+"name", r.Name, "words of letters, digits, - and _, joined by single dots")
		}
		if slices.ContainsFunc(s.Realms, func(other Realm) bool { return other.Name == r.Name }) {
			return s, wrong(table+"name", r.Name, "each realm once")
		}
		for _, origin := range r.Origins {
			if u, err := url.Parse(origin); err != nil || u.Host == "" || (u.Scheme != "https" && u.Scheme != "http") || u.Scheme+"://"+u.Host != origin {
				return s, wrong(table+"origins", origin, "an origin such as https://app.example, without a path")
			}
		}
		for j, k := range r.Keys {
			material, err := os.ReadFile(beside(filepath.Dir(path), k.File))
			if err != nil {
				return s, wrong(fmt.Sprintf("%skey#%d.file", table, j+1), k.File, "a file with the secret, or with a public key in PEM, that can be read")
			}
			if kids[k.ID] {
				return s, wrong(fmt.Sprintf("%skey#%d.id", table, j+1), k.ID, "each id (kid) once, in all realms")
			}
			kids[k.ID] = true
			realm.Keys = append(realm.Keys, TokenKey{k.ID, k.Algorithm, material, k.Issuer, k.Audience})
		}
		for j, set := range r.KeySets {
			if !isWeb(set.URL) {
				return s, wrong(fmt.Sprintf("%skey_set#%d.url", table, j+1), set.URL, "https://HOST/PATH")
			}
			if set.Issuer == "" {
				return s, wrong(fmt.Sprintf("%skey_set#%d.issuer", table, j+1), "", "the iss of the tokens that the set is for")
			}
			realm.KeySets = append(realm.KeySets, KeySet(set))
		}
		if a := r.Admission; a != nil {
			realm.Admission = &Admission{URL: a.URL, Secret: a.Secret, Wait: a.Wait.d}
			for _, name := range a.Rooms {
				pattern, err := presence.ParsePattern(name)
				if err != nil {
					return s, wrong(table+"admission.rooms", name, "room patterns such as desk.**")
				}
				realm.Admission.Rooms = append(realm.Admission.Rooms, pattern)
			}
			switch {
			case len(a.Rooms) == 0:
				return s, wrong(table+"admission.rooms", "", "room patterns such as desk.**")
			case !isWeb(a.URL):
				return s, wrong(table+"admission.url", a.URL, "https://HOST/PATH")
			case !isSecret(a.Secret):
				return s, wrong(table+"admission.secret", "…", "whsec_ and 16 bytes or more in base64 (Standard Webhooks), or 24 bytes or more of any other text")
			}
		}
		s.Realms = append(s.Realms, realm)
	}
	return s, nil
}

// basics reads the keys that are not about policies, records or realms. File names are relative
// to dir.
func (f *serviceFile) basics(s *Service, dir string, wrong func(key, value, allowed string) error) error {
	if f.Listen != "" {
		_, port, err := net.SplitHostPort(f.Listen)
		if n, bad := strconv.ParseUint(port, 10, 16); err != nil || bad != nil || n > 65535 {
			return wrong("listen", f.Listen, "HOST:PORT, as in 127.0.0.1:8420 or :8420")
		}
	}
	for key, pair := range map[string][2]string{"tls_cert": {f.TLSCert, f.TLSKey}, "tls_key": {f.TLSKey, f.TLSCert}} {
		if pair[0] != "" && pair[1] == "" {
			return wrong(key, pair[0], "a certificate and its key, both tls_cert and tls_key")
		}
	}
	for key, n := range map[string]int{"max_connections": f.MaxConnections, "links_per_address": f.LinksPerAddress, "links_per_person": f.LinksPerPerson, "requests_per_second": f.RequestsPerSecond} {
		if n < 0 {
			return wrong(key, strconv.Itoa(n), "a whole number of 0 or more")
		}
	}
	if f.Log != "" && f.Log != "text" && f.Log != "json" {
		return wrong("log", f.Log, "text, json")
	}
	s.Listen, s.Data, s.Log = f.Listen, f.Data, f.Log
	s.MaxConnections, s.LinksPerAddress, s.LinksPerPerson, s.SlowAfter = f.MaxConnections, f.LinksPerAddress, f.LinksPerPerson, f.SlowAfter.d
	s.RequestsPerSecond = f.RequestsPerSecond
	s.Practice, s.HideDocs, s.PrivateHooks = f.Practice, f.HideDocs, f.PrivateHooks
	for key, pair := range map[string][2]*string{"tls_cert": {&f.TLSCert, &s.TLSCert}, "tls_key": {&f.TLSKey, &s.TLSKey}} {
		if *pair[0] == "" {
			continue
		}
		*pair[1] = beside(dir, *pair[0])
		if _, err := os.Stat(*pair[1]); err != nil {
			return wrong(key, *pair[0], "a file in PEM that is there")
		}
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

func parsePrefix(text string) (netip.Prefix, error) {
	if a, err := netip.ParseAddr(text); err == nil {
		return a.Prefix(a.BitLen())
	}
	return netip.ParsePrefix(text)
}

func decodeStrictly(text []byte, into any) error {
	return toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields().Decode(into)
}
