// Package config reads and checks configuration files. Its errors name the file, the line, the
// key and what is allowed.
package config

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"tovik.example/tovik/internal/presence"
)

// duration is a duration in a file: "3s", "1m30s".
type duration struct{ d time.Duration } // a struct, so that a number without a unit is refused

func (d *duration) UnmarshalText(text []byte) error {
	parsed, err := time.ParseDuration(string(text))
	if days, ok := strings.CutSuffix(string(text), "d"); ok {
		var n int
		n, err = strconv.Atoi(days)
		parsed = time.Duration(min(n, 36500)) * 24 * time.Hour
	}
	if err != nil || parsed <= 0 {
		return fmt.Errorf("%q is no time above zero, such as 3s, 1m30s or 90d", text)
	}
	d.d = parsed
	return nil
}

// policyFile is the shape of a policy, in a file of its own or in that of a service. Missing
// keys keep their defaults.
type policyFile struct {
	Beat struct {
		Every     duration `toml:"every" default:"\"15s\"" doc:"The time without a frame over a link after which the service asks it for a beat."`
		Tolerance float64  `toml:"tolerance" default:"2.5" doc:"How long a beat request may stay unanswered before the link counts as lost, as a multiple of beat.every."`
	} `toml:"beat"`
	Probe duration `toml:"probe" default:"\"2s\"" doc:"How long a link has to prove that it is alive when another page claims its session."`
	Lease duration `toml:"lease" default:"\"150s\"" doc:"The time within which a session over HTTP beats must send its next beat."`
	Idle  struct {
		After duration `toml:"after" default:"\"5m\"" doc:"The time without human input after which a session is idle."`
	} `toml:"idle"`
	Activity struct {
		Every duration `toml:"every" default:"\"20s\"" doc:"The shortest interval in which clients report human input."`
	} `toml:"activity"`
	Expiry struct {
		Warning duration `toml:"warning" default:"\"1m\"" doc:"How long before the expiry of its token a link is warned, so that the client can get a new one."`
	} `toml:"expiry"`
	SecondSession     string `toml:"second_session" default:"\"allow\"" doc:"What happens to a person's second session: allow (several are allowed), replace (the older one ends) or refuse (the newer one is refused while the older one has a link)."`
	SessionsPerPerson int    `toml:"sessions_per_person" default:"64" doc:"The largest number of sessions of a person."`
	RoomsPerSession   int    `toml:"rooms_per_session" default:"64" doc:"The largest number of rooms of a session."`
	roomFile
	Rooms []struct {
		Pattern string `toml:"pattern" default:"\"desk.**\"" doc:"The rooms: words, with * for one word and ** for the rest. The most specific matching pattern applies to a room; keys that it leaves out are those of the realm."`
		roomFile
	} `toml:"room"`
}

type roomFile struct {
	Grace struct {
		Closing    duration `toml:"closing" default:"\"3s\"" doc:"How long a session still counts after its page closes or reloads."`
		Lost       duration `toml:"lost" default:"\"10s\"" doc:"How long a session still counts after its link was lost without notice."`
		Background duration `toml:"background" default:"\"90s\"" doc:"The same if the page was hidden, because browsers slow the timers of hidden pages."`
	} `toml:"grace"`
	Typing struct {
		Expires duration `toml:"expires" default:"\"6s\"" doc:"How long after the last report somebody counts as typing."`
	} `toml:"typing"`
	Capacity int `toml:"capacity" default:"0" doc:"The largest number of people in a room; 0 means no limit."`
	Count    struct {
		Every duration `toml:"every" default:"\"250ms\"" doc:"The shortest interval in which counts of a room are sent."`
	} `toml:"count"`
	Members struct {
		Max int `toml:"max" default:"1000" doc:"The largest number of people in a room whose members are sent one by one. In a larger room the count is sent, and members are read in pages."`
	} `toml:"members"`
}

// ReadPolicy reads a policy from a TOML file. An unknown key is an error.
func ReadPolicy(path string) (presence.Policy, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return presence.Policy{}, fmt.Errorf("read the policy: %w", err)
	}
	return parsePolicy(path, text)
}

func parsePolicy(path string, text []byte) (presence.Policy, error) {
	var f policyFile
	if err := errors.Join(bareTime(path, text), singleTable(path, text)); err != nil {
		return presence.Policy{}, err
	}
	if err := decodeStrictly(text, &f); err != nil {
		return presence.Policy{}, explain(path, err)
	}
	at := linesOf(text)
	return f.policy(func(key, value, allowed string) error { return at.mistake(path, key, value, allowed) })
}

// mostEach limits what one person or session may have in memory.
const mostEach = 1000

// policy returns the policy of the file. Wrong makes the error for a key.
func (f *policyFile) policy(wrong func(key, value, allowed string) error) (presence.Policy, error) {
	policy := presence.DefaultPolicy()
	set(&policy.BeatEvery, f.Beat.Every)
	set(&policy.Probe, f.Probe)
	set(&policy.Lease, f.Lease)
	set(&policy.IdleAfter, f.Idle.After)
	set(&policy.ActivityEvery, f.Activity.Every)
	if f.Beat.Tolerance != 0 {
		if f.Beat.Tolerance < 1 || f.Beat.Tolerance > 100 {
			return policy, wrong("beat.tolerance", fmt.Sprint(f.Beat.Tolerance), "a number from 1 to 100")
		}
		policy.BeatTolerance = f.Beat.Tolerance
	}
	set(&policy.ExpiryWarning, f.Expiry.Warning)
	if f.SecondSession != "" {
		policy.SecondSession = presence.SecondSession(f.SecondSession)
		if s := policy.SecondSession; s != presence.AllowSecond && s != presence.ReplaceFirst && s != presence.RefuseSecond {
			return policy, wrong("second_session", f.SecondSession, "allow, replace or refuse")
		}
	}
	for _, bound := range []struct {
		key   string
		value *int
		given int
	}{{"sessions_per_person", &policy.SessionsPerPerson, f.SessionsPerPerson}, {"rooms_per_session", &policy.RoomsPerSession, f.RoomsPerSession}} {
		if bound.given < 0 || bound.given > mostEach {
			return policy, wrong(bound.key, fmt.Sprint(bound.given), fmt.Sprintf("a whole number from 1 to %d", mostEach))
		}
		if bound.given != 0 {
			*bound.value = bound.given
		}
	}
	if err := f.apply(&policy.RoomPolicy, "", wrong); err != nil {
		return policy, err
	}
	seen := map[presence.Pattern]bool{}
	for i, room := range f.Rooms {
		table := fmt.Sprintf("room#%d.", i+1)
		pattern, err := presence.ParsePattern(room.Pattern)
		if err != nil {
			return policy, wrong(table+"pattern", room.Pattern, "room patterns such as desk.**")
		}
		if seen[pattern] {
			return policy, wrong(table+"pattern", room.Pattern, "each pattern once")
		}
		seen[pattern] = true
		own := presence.PatternPolicy{Pattern: pattern, RoomPolicy: policy.RoomPolicy}
		if err := room.apply(&own.RoomPolicy, table, wrong); err != nil {
			return policy, err
		}
		policy.Rooms = append(policy.Rooms, own)
	}
	return policy, nil
}

func (f *roomFile) apply(p *presence.RoomPolicy, table string, wrong func(key, value, allowed string) error) error {
	set(&p.GraceClosing, f.Grace.Closing)
	set(&p.GraceLost, f.Grace.Lost)
	set(&p.GraceBackground, f.Grace.Background)
	set(&p.TypingExpires, f.Typing.Expires)
	set(&p.CountEvery, f.Count.Every)
	if f.Capacity < 0 {
		return wrong(table+"capacity", fmt.Sprint(f.Capacity), "a whole number above 0, or 0 for any number")
	}
	if f.Members.Max < 0 {
		return wrong(table+"members.max", fmt.Sprint(f.Members.Max), "a whole number above 0")
	}
	if f.Capacity != 0 {
		p.Capacity = f.Capacity
	}
	if f.Members.Max != 0 {
		p.MembersMax = f.Members.Max
	}
	return nil
}

func set(value *time.Duration, given duration) {
	if given.d != 0 {
		*value = given.d
	}
}

func explain(path string, err error) error {
	var strict *toml.StrictMissingError
	var decode *toml.DecodeError
	switch {
	case errors.As(err, &strict) && len(strict.Errors) > 0:
		unknown := strict.Errors[0]
		line, _ := unknown.Position()
		if name, ofRoom := strings.CutPrefix(joinKey(unknown.Key()), "room."); ofRoom && slices.ContainsFunc(Keys(), func(k Key) bool { return k.Name == name }) {
			return fmt.Errorf("%s:%d: %s is set for the realm, not for rooms; allowed: %s outside of [[room]]", path, line, name, name)
		}
		return fmt.Errorf("%s:%d: there is no key %q; allowed: the keys of tovik config init -", path, line, joinKey(unknown.Key()))
	case errors.As(err, &decode):
		line, _ := decode.Position()
		return fmt.Errorf("%s:%d: %s", path, line, decode.Error())
	}
	return fmt.Errorf("%s: %w", path, err)
}

func joinKey(key toml.Key) string {
	text := ""
	for i, word := range key {
		if i > 0 {
			text += "."
		}
		text += word
	}
	return text
}
