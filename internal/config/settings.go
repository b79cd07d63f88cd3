// Package config reads and checks configuration files. Its errors name the file, the line, the
// key and what is allowed.
//
// Each setting is declared once, as a tagged field of [Settings]. From the tags come the key of
// the file, the environment variable, the flag, the default, the bounds, the documentation, and
// whether a reload takes the setting:
//
//	toml     the key
//	default  the default; policies have theirs from [presence.DefaultPolicy]
//	example  an example, for a key without default
//	flag     "yes": there is a flag for it
//	min, max the bounds of a number
//	choice   the allowed words
//	reload   "yes": a reload applies it; otherwise a change needs a restart
//	listed   "no": the keys below it are listed elsewhere
//	doc      the documentation, with the placeholder of the flag in single quotes
package config

import (
	"net/netip"

	"tovik.example/tovik/internal/presence"
)

// Settings are the settings of a service, in the shape of its file.
type Settings struct {
	Listen            string   `toml:"listen" default:"127.0.0.1:8420" flag:"yes" doc:"The 'HOST:PORT' to listen at; port 0 picks a free one."`
	Data              string   `toml:"data" default:"tovik-data" flag:"yes" doc:"The 'DIR' of the records, made if it is missing; :memory: stores nothing on disk."`
	TLSCert           string   `toml:"tls_cert" example:"cert.pem" flag:"yes" doc:"The 'FILE' of a certificate in PEM; with it the service uses TLS. In the configuration the path is relative to that."`
	TLSKey            string   `toml:"tls_key" example:"key.pem" flag:"yes" doc:"The 'FILE' of the certificate's key in PEM."`
	MaxConnections    int      `toml:"max_connections" default:"0" min:"0" flag:"yes" doc:"At most 'N' connections; 0 means the number of file descriptors minus 200."`
	LinksPerAddress   int      `toml:"links_per_address" default:"4096" min:"1" flag:"yes" doc:"At most 'N' links from one network address. Behind a proxy that is not trusted all links have its address."`
	LinksPerPerson    int      `toml:"links_per_person" default:"128" min:"1" flag:"yes" doc:"At most 'N' links of a person."`
	SlowAfter         Duration `toml:"slow_after" default:"10s" flag:"yes" doc:"The 'TIME' without progress after which a link that does not read is closed."`
	RequestsPerSecond int      `toml:"requests_per_second" default:"500" min:"1" flag:"yes" doc:"At most 'N' HTTP requests per second and key; bursts may have five times as many."`
	Practice          bool     `toml:"practice" default:"false" flag:"yes" doc:"Offers the page /practice, which gives everybody tokens for practice rooms."`
	HideDocs          bool     `toml:"hide_docs" default:"false" flag:"yes" doc:"Does not serve the pages that document the API, the frames and the errors."`
	PrivateHooks      bool     `toml:"private_hooks" default:"false" flag:"yes" doc:"Allows hooks to private network addresses."`
	Log               string   `toml:"log" default:"text" choice:"text json" flag:"yes" doc:"The 'FORM' of the log: text or json, one line per event."`
	TrustedProxies    []Prefix `toml:"trusted_proxies" example:"10.0.0.0/8" doc:"The networks of proxies whose X-Forwarded-For is trusted; none by default."`
	PolicyFile        `reload:"yes"`
	Keep              Keep    `toml:"keep" reload:"yes"`
	Cluster           Cluster `toml:"cluster"`
	Realms            []Realm `toml:"realm"`

	policy presence.Policy
}

// Policy returns the policy that the settings make.
func (s *Settings) Policy() presence.Policy { return s.policy }

// Proxies returns the networks of trusted proxies.
func (s *Settings) Proxies() (proxies []netip.Prefix) {
	for _, p := range s.TrustedProxies {
		proxies = append(proxies, p.Prefix)
	}
	return proxies
}

// Keep is how long records are kept.
type Keep struct {
	Journal            Duration            `toml:"journal" default:"90d" doc:"How long the journal is kept."`
	JournalEntries     int64               `toml:"journal_entries" default:"20000000" min:"1" doc:"The largest number of entries; older ones are deleted. In memory it is 200000 at most."`
	JournalKinds       map[string]Duration `toml:"journal_kinds" example:"session.idle=7d" doc:"How long entries of a kind are kept, if different."`
	JournalKindEntries map[string]int64    `toml:"journal_kind_entries" example:"session.idle=1000000" min:"1" doc:"The largest number of entries of a kind, if different."`
	HeadcountMinutes   Duration            `toml:"headcount_minutes" default:"14d" doc:"How long headcounts by the minute are kept."`
	HeadcountHours     Duration            `toml:"headcount_hours" default:"400d" doc:"How long headcounts by the hour are kept. Those by the day are kept for good."`
	Deliveries         Duration            `toml:"deliveries" default:"7d" doc:"How long delivered and parked deliveries of hooks are kept."`
}

// Realm is the configuration of a realm.
type Realm struct {
	Name      string     `toml:"name" example:"main" doc:"The name of a realm. It is created if it does not exist."`
	Origins   []string   `toml:"origins" example:"https://app.example" reload:"yes" doc:"The origins of pages that may be clients; any by default."`
	Keys      []TokenKey `toml:"key"`
	KeySets   []KeySet   `toml:"key_set"`
	Admission *Admission `toml:"admission"` // nil: none
	// Policy has the keys of the policy that differ in this realm, in the shape of the file.
	Policy *PolicyFile `toml:"policy" listed:"no"` // nil: none

	policy *presence.Policy // the realm's own; nil: that of the service
}

// OwnPolicy returns the policy of the realm; nil if it is that of the service.
func (r *Realm) OwnPolicy() *presence.Policy { return r.policy }

// TokenKey is a key that verifies tokens.
type TokenKey struct {
	ID        string `toml:"id" example:"watch-house" doc:"The kid of the tokens that this key verifies."`
	Algorithm string `toml:"algorithm" example:"EdDSA" doc:"The algorithm: HS256, EdDSA, ES256 or RS256."`
	File      string `toml:"file" example:"watch-house.pem" doc:"A file with a public key in PEM, or the secret for HS256. The path is relative to this file."`
	Issuer    string `toml:"issuer" example:"https://app.example" doc:"The issuer (iss) that tokens must have; any by default."`
	Audience  string `toml:"audience" example:"tovik" doc:"The audience (aud) that tokens must have; any by default."`

	Material []byte `toml:"-"` // the content of the file
}

// KeySet is the URL of keys that verify tokens (RFC 7517).
type KeySet struct {
	URL      string `toml:"url" example:"https://id.example/keys" doc:"The URL at which an identity service publishes its keys (JWKS)."`
	Issuer   string `toml:"issuer" example:"https://id.example" doc:"The issuer (iss) of its tokens; required."`
	Audience string `toml:"audience" example:"tovik" doc:"The audience (aud) that its tokens must have; any by default."`
}

// Admission is how the application is asked who may be in rooms.
type Admission struct {
	Rooms  []presence.Pattern `toml:"rooms" example:"desk.**" doc:"The rooms for which the application is asked who may be in them."`
	URL    string             `toml:"url" example:"https://app.example/presence/admission" doc:"The URL at which the application is asked."`
	Secret string             `toml:"secret" example:"whsec_YSBzZWNyZXQgb2YgdGhlIEFsZGVybW9vcg==" doc:"The secret that signs the request: one of Standard Webhooks, or any text of 24 bytes or more."`
	Wait   Duration           `toml:"wait" example:"3s" doc:"The time limit for the answer; 3s by default."`
}

// PolicyFile is the shape of a policy, in a file of its own or in that of a service.
type PolicyFile struct {
	Beat struct {
		Every     Duration `toml:"every" doc:"The time without a frame over a link after which the service asks it for a beat."`
		Tolerance float64  `toml:"tolerance" min:"1" max:"100" doc:"How long a beat request may stay unanswered before the link counts as lost, as a multiple of beat.every."`
	} `toml:"beat"`
	Probe Duration `toml:"probe" doc:"How long a link has to prove that it is alive when another page claims its session."`
	Lease Duration `toml:"lease" doc:"The time within which a session over HTTP beats must send its next beat."`
	Idle  struct {
		After Duration `toml:"after" doc:"The time without human input after which a session is idle."`
	} `toml:"idle"`
	Activity struct {
		Every Duration `toml:"every" doc:"The shortest interval in which clients report human input."`
	} `toml:"activity"`
	Expiry struct {
		Warning Duration `toml:"warning" doc:"How long before the expiry of its token a link is warned, so that the client can get a new one."`
	} `toml:"expiry"`
	Invitation struct {
		Waits Duration                `toml:"waits" doc:"How long an invitation waits for an answer."`
		Busy  presence.InvitationBusy `toml:"busy" choice:"refuse allow" doc:"Whether people can be invited who have set busy: refuse or allow."`
	} `toml:"invitation"`
	Invitations struct {
		Max int `toml:"max" min:"1" max:"1000" doc:"The largest number of open invitations that a person has received."`
	} `toml:"invitations"`
	Statuses struct {
		Online []string `toml:"online" example:"at the desk,at home" doc:"The application's own words for online, of which a person can choose one."`
		Away   []string `toml:"away" example:"asleep" doc:"The same for away."`
		Busy   []string `toml:"busy" example:"on the radio,at the pumps" doc:"The same for busy."`
	} `toml:"statuses"`
	Quota struct {
		People   int `toml:"people" min:"0" doc:"The largest number of people of a realm at once; 0 means no limit. People who have a session keep it."`
		Sessions int `toml:"sessions" min:"0" doc:"The largest number of sessions of a realm at once, with those in grace; 0 means no limit."`
		Cues     int `toml:"cues" min:"0" doc:"The largest number of cues in a realm in a minute; 0 means no limit."`
	} `toml:"quota"`
	SecondSession     presence.SecondSession `toml:"second_session" choice:"allow replace refuse" doc:"What happens to a person's second session: allow (several are allowed), replace (the older one ends) or refuse (the newer one is refused while the older one has a link)."`
	SessionsPerPerson int                    `toml:"sessions_per_person" min:"1" max:"1000" doc:"The largest number of sessions of a person."`
	RoomsPerSession   int                    `toml:"rooms_per_session" min:"1" max:"1000" doc:"The largest number of rooms of a session."`
	RoomFile
	Rooms []PatternFile `toml:"room"`
}

// RoomFile is the part of a policy that may differ from room to room.
type RoomFile struct {
	Grace struct {
		Closing    Duration `toml:"closing" doc:"How long a session still counts after its page closes or reloads."`
		Lost       Duration `toml:"lost" doc:"How long a session still counts after its link was lost without notice."`
		Background Duration `toml:"background" doc:"The same if the page was hidden, because browsers slow the timers of hidden pages."`
	} `toml:"grace"`
	Typing struct {
		Expires Duration `toml:"expires" doc:"How long after the last report somebody counts as typing."`
	} `toml:"typing"`
	Entry presence.Entry `toml:"entry" choice:"open ask" doc:"How people enter a room: open (if their token grants it) or ask (if they also have a pass; without one they ask its members who may admit)."`
	Ask   struct {
		Waits Duration `toml:"waits" doc:"How long an ask waits for an answer."`
		Pass  Duration `toml:"pass" doc:"How long the pass lasts of somebody who was admitted or has accepted an invitation."`
		Again Duration `toml:"again" doc:"How long somebody who was refused must wait before they ask again."`
	} `toml:"ask"`
	Watch struct {
		Count presence.WatchCount `toml:"count" choice:"admitted anyone" doc:"Who may follow the count of a room that asks: admitted (people who may enter without asking) or anyone (everybody whose token grants watching it)."`
	} `toml:"watch"`
	Engages        *bool `toml:"engages" doc:"Whether the members of a room are busy, as in a call. A person may be in one such room."`
	EngagesSeveral *bool `toml:"engages_several" doc:"Whether a person may be in a room that engages together with others that say so, too."`
	Doing          struct {
		Every Duration `toml:"every" doc:"The shortest interval in which others see what a member is doing change."`
		Bytes int      `toml:"bytes" min:"2" max:"4096" doc:"The largest size of what a member is doing, in bytes of JSON."`
	} `toml:"doing"`
	Capacity int `toml:"capacity" min:"0" doc:"The largest number of people in a room; 0 means no limit."`
	Count    struct {
		Every Duration `toml:"every" doc:"The shortest interval in which counts of a room are sent."`
	} `toml:"count"`
	Members struct {
		Max int `toml:"max" min:"1" doc:"The largest number of people in a room whose members are sent one by one. In a larger room the count is sent, and members are read in pages."`
	} `toml:"members"`
}

// PatternFile is the policy of the rooms of a pattern. Zero fields take the value of the realm.
type PatternFile struct {
	Pattern presence.Pattern `toml:"pattern" example:"desk.**" doc:"The rooms: words, with * for one word and ** for the rest. The most specific matching pattern applies to a room; keys that it leaves out are those of the realm."`
	RoomFile
}
