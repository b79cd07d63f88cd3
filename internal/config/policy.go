// Package config reads what Tovik is told in files, checks it, and says in words
// what is wrong: the file, the line, the key, and what is allowed.
package config

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"tovik.example/tovik/internal/presence"
)

// duration is a time as a file says it: "3s", "1m30s".
type duration time.Duration

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
	*d = duration(parsed)
	return nil
}

// policyFile is the shape of a policy file. What it leaves out keeps its default.
type policyFile struct {
	Beat struct {
		Every     duration `toml:"every"`
		Tolerance float64  `toml:"tolerance"`
	} `toml:"beat"`
	Probe duration `toml:"probe"`
	Lease duration `toml:"lease"`
	Idle  struct {
		After duration `toml:"after"`
	} `toml:"idle"`
	Activity struct {
		Every duration `toml:"every"`
	} `toml:"activity"`
	roomFile
	Rooms []struct {
		Pattern string `toml:"pattern"`
		roomFile
	} `toml:"room"`
}

type roomFile struct {
	Grace struct {
		Closing duration `toml:"closing"`
		Lost    duration `toml:"lost"`
		Hidden  duration `toml:"hidden"`
	} `toml:"grace"`
	Typing struct {
		Expires duration `toml:"expires"`
	} `toml:"typing"`
	Capacity int `toml:"capacity"`
	Count    struct {
		Every duration `toml:"every"`
	} `toml:"count"`
	Members struct {
		Max int `toml:"max"`
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
	if err := decodeStrictly(text, &f); err != nil {
		return presence.Policy{}, explain(path, err)
	}
	policy := presence.DefaultPolicy()
	set(&policy.BeatEvery, f.Beat.Every)
	set(&policy.Probe, f.Probe)
	set(&policy.Lease, f.Lease)
	set(&policy.IdleAfter, f.Idle.After)
	set(&policy.ActivityEvery, f.Activity.Every)
	if f.Beat.Tolerance != 0 {
		if f.Beat.Tolerance < 1 {
			return policy, fmt.Errorf("%s: beat.tolerance is %g; allowed: 1 or more", path, f.Beat.Tolerance)
		}
		policy.BeatTolerance = f.Beat.Tolerance
	}
	f.apply(&policy.RoomPolicy)
	for _, room := range f.Rooms {
		pattern, err := presence.ParsePattern(room.Pattern)
		if err != nil {
			return policy, fmt.Errorf("%s: %w", path, err)
		}
		own := presence.PatternPolicy{Pattern: pattern, RoomPolicy: policy.RoomPolicy}
		room.apply(&own.RoomPolicy)
		policy.Rooms = append(policy.Rooms, own)
	}
	return policy, nil
}

func (f roomFile) apply(p *presence.RoomPolicy) {
	set(&p.GraceClosing, f.Grace.Closing)
	set(&p.GraceLost, f.Grace.Lost)
	set(&p.GraceHidden, f.Grace.Hidden)
	set(&p.TypingExpires, f.Typing.Expires)
	set(&p.CountEvery, f.Count.Every)
	if f.Capacity != 0 {
		p.Capacity = f.Capacity
	}
	if f.Members.Max != 0 {
		p.MembersMax = f.Members.Max
	}
}

func set(value *time.Duration, given duration) {
	if given != 0 {
		*value = time.Duration(given)
	}
}

func explain(path string, err error) error {
	var strict *toml.StrictMissingError
	var decode *toml.DecodeError
	switch {
	case errors.As(err, &strict) && len(strict.Errors) > 0:
		unknown := strict.Errors[0]
		line, _ := unknown.Position()
		return fmt.Errorf("%s:%d: there is no key %q", path, line, joinKey(unknown.Key()))
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
