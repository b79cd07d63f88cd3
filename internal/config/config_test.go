package config

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/presence"
)

const whole = `
trusted_proxies = ["10.0.0.0/8", "192.168.0.7"]

[[realm]]
name = "main"
origins = ["https://app.example"]

[[realm.key]]
id = "2026"
algorithm = "HS256"
file = "secret"

[[realm.key_set]]
url = "https://id.example/keys"
issuer = "https://id.example"

[realm.admission]
rooms = ["desk.**"]
url = "https://app.example/admission"
secret = "a secret of the application"
wait = "2s"
`

func TestTheServiceFileIsReadAndItsMistakesAreNamed(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("s"), 0o600))
	path := filepath.Join(dir, "tovik.toml")
	require.NoError(t, os.WriteFile(path, []byte(whole), 0o600))
	s, err := ReadService(path)
	require.NoError(t, err)
	require.Len(t, s.TrustedProxies, 2)
	require.Equal(t, "main", s.Realms[0].Name)
	require.Equal(t, []byte("s"), s.Realms[0].Keys[0].Material)
	require.Equal(t, 2*time.Second, s.Realms[0].Admission.Wait)
	require.Equal(t, []presence.Pattern{"desk.**"}, s.Realms[0].Admission.Rooms)

	for text, want := range map[string]string{
		`trusted_proxy = []`:                                                                       `tovik.toml:1: there is no key "trusted_proxy"`,
		`trusted_proxies = ["here"]`:                                                               `trusted_proxies is "here"; allowed: an address`,
		"[[realm]]\nname = \"a b\"":                                                                `realm.name is "a b"; allowed: words`,
		"[[realm]]\nname=\"a\"\n[[realm]]\nname=\"a\"":                                             `realm.name is "a"; allowed: each realm once`,
		"[[realm]]\nname=\"a\"\norigins=[\"a.com/x\"]":                                             `realm.origins is "a.com/x"; allowed: an origin`,
		"[[realm]]\nname=\"a\"\n[[realm.key]]\nid=\"k\"\nfile=\"none\"":                            `realm.key.file is "none"; allowed: a file`,
		"[[realm]]\nname=\"a\"\n[[realm.key_set]]\nurl=\"ftp://x\"":                                `realm.key_set.url is "ftp://x"; allowed: https://HOST/PATH`,
		"[[realm]]\nname=\"a\"\n[[realm.key_set]]\nurl=\"https://x\"":                              `realm.key_set.issuer is ""; allowed: the iss`,
		"[[realm]]\nname=\"a\"\n[realm.admission]\nrooms=[\"a..b\"]":                               `realm.admission.rooms is "a..b"; allowed: room patterns`,
		"[[realm]]\nname=\"a\"\n[realm.admission]\nrooms=[\"a\"]\nurl=\"x\"":                       `realm.admission.url is "x"; allowed: https://HOST/PATH`,
		"[[realm]]\nname=\"a\"\n[realm.admission]\nrooms=[\"a\"]\nurl=\"https://x\"\nsecret=\"s\"": `realm.admission.secret is "…"; allowed: 24 bytes or more`,
		"name = \"unclosed":                                                                        `tovik.toml:1: `,
	} {
		_, err := parseService("tovik.toml", []byte(text))
		require.ErrorContains(t, err, want, text)
	}
}

// FuzzFiles reads whatever is written as a configuration or policy. What is taken is
// sound.
func FuzzFiles(f *testing.F) {
	f.Add(whole)
	f.Add("beat.every = \"10s\"\n[[room]]\npattern = \"desk.*\"\ncapacity = 40")
	f.Add("[[realm]]\nname = 7")
	f.Fuzz(func(t *testing.T, text string) {
		if s, err := parseService("f", []byte(text)); err == nil {
			for _, realm := range s.Realms {
				_, err := presence.ParseRoom(realm.Name)
				require.NoError(t, err)
			}
		}
		if p, err := parsePolicy("f", []byte(text)); err == nil {
			require.Positive(t, p.BeatEvery)
			require.Positive(t, p.GraceLost)
		}
	})
}
