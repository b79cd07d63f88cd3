package config

import (
	"fmt"
	"os"
	"reflect"
	"slices"

	"tovik.example/tovik/internal/presence"
)

// pair is a field of the file with the same field of a policy.
type pair struct{ file, policy any }

// pairs returns the fields of the realm's policy.
func (f *PolicyFile) pairs(p *presence.Policy) []pair {
	return []pair{
		{&f.Beat.Every.Duration, &p.BeatEvery}, {&f.Beat.Tolerance, &p.BeatTolerance}, {&f.Probe.Duration, &p.Probe}, {&f.Lease.Duration, &p.Lease},
		{&f.Idle.After.Duration, &p.IdleAfter}, {&f.Activity.Every.Duration, &p.ActivityEvery}, {&f.Expiry.Warning.Duration, &p.ExpiryWarning},
		{&f.Invitation.Waits.Duration, &p.InvitationWaits}, {&f.Invitations.Max, &p.InvitationsMax}, {&f.Invitation.Busy, &p.InvitationBusy},
		{&f.Quota.People, &p.Quota.People}, {&f.Quota.Sessions, &p.Quota.Sessions}, {&f.Quota.Cues, &p.Quota.Cues},
		{&f.SecondSession, &p.SecondSession}, {&f.SessionsPerPerson, &p.SessionsPerPerson}, {&f.RoomsPerSession, &p.RoomsPerSession},
	}
}

// pairs returns the fields that can differ between rooms.
func (f *RoomFile) pairs(p *presence.RoomPolicy) []pair {
	return []pair{
		{&f.Grace.Closing.Duration, &p.GraceClosing}, {&f.Grace.Lost.Duration, &p.GraceLost}, {&f.Grace.Background.Duration, &p.GraceBackground},
		{&f.Entry, &p.Entry}, {&f.Watch.Count, &p.WatchCount}, {&f.Engages, &p.Engages}, {&f.EngagesSeveral, &p.EngagesSeveral},
		{&f.Ask.Waits.Duration, &p.AskWaits}, {&f.Ask.Pass.Duration, &p.AskPass}, {&f.Ask.Again.Duration, &p.AskAgain},
		{&f.Doing.Every.Duration, &p.DoingEvery}, {&f.Doing.Bytes, &p.DoingBytes},
		{&f.Typing.Expires.Duration, &p.TypingExpires}, {&f.Capacity, &p.Capacity}, {&f.Count.Every.Duration, &p.CountEvery}, {&f.Members.Max, &p.MembersMax},
	}
}

// apply copies the fields that are set to the policy.
func apply(pairs []pair) {
	for _, p := range pairs {
		given := reflect.ValueOf(p.file).Elem()
		if given.IsZero() {
			continue
		}
		if given.Kind() == reflect.Pointer {
			given = given.Elem()
		}
		reflect.ValueOf(p.policy).Elem().Set(given)
	}
}

// defaultPolicy returns the default policy in the shape of the file.
func defaultPolicy() (f PolicyFile) {
	policy := presence.DefaultPolicy()
	for _, p := range append(f.pairs(&policy), f.RoomFile.pairs(&policy.RoomPolicy)...) {
		file := reflect.ValueOf(p.file).Elem()
		if file.Kind() == reflect.Pointer {
			file.Set(reflect.New(file.Type().Elem()))
			file = file.Elem()
		}
		file.Set(reflect.ValueOf(p.policy).Elem())
	}
	return f
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
	f := defaultPolicy()
	if err := decode(path, text, &f); err != nil {
		return presence.Policy{}, err
	}
	at := linesOf(text)
	wrong := func(key, value, allowed string) error { return at.mistake(path, key, value, allowed) }
	if err := withinBounds(&f, wrong); err != nil {
		return presence.Policy{}, err
	}
	return f.policy(wrong)
}

// within returns the policy of a realm: that of the file, with the keys that differ in the realm.
// The rooms of a pattern have the policy of the service for that pattern, and the realm's own in
// front of it. It returns nil for a realm without a policy of its own.
func (f PolicyFile) within(own *PolicyFile, wrong wrong) (*presence.Policy, error) {
	if own == nil {
		return nil, nil
	}
	rooms := slices.Clone(f.Rooms)
	f.Rooms = nil
	overlay(reflect.ValueOf(&f).Elem(), reflect.ValueOf(own).Elem())
	seen := map[presence.Pattern]bool{}
	for i, room := range own.Rooms {
		if seen[room.Pattern] {
			return nil, wrong(fmt.Sprintf("room#%d.pattern", i+1), string(room.Pattern), "each pattern once")
		}
		seen[room.Pattern] = true
		at := slices.IndexFunc(rooms, func(other PatternFile) bool { return other.Pattern == room.Pattern })
		if at < 0 {
			rooms = append(rooms, PatternFile{})
			at = len(rooms) - 1
		}
		overlay(reflect.ValueOf(&rooms[at]).Elem(), reflect.ValueOf(&room).Elem())
	}
	f.Rooms = rooms
	policy, err := f.policy(wrong)
	return &policy, err
}

// overlay copies the fields that are set, also in tables.
func overlay(into, from reflect.Value) {
	for i := range from.NumField() {
		field := from.Field(i)
		switch {
		case field.IsZero():
		case isTable(field.Type()):
			overlay(into.Field(i), field)
		default:
			into.Field(i).Set(field)
		}
	}
}

// policy returns the policy of the file. Wrong makes the error for a key.
func (f *PolicyFile) policy(wrong wrong) (presence.Policy, error) {
	policy := presence.DefaultPolicy()
	apply(f.pairs(&policy))
	apply(f.RoomFile.pairs(&policy.RoomPolicy))
	for status, words := range map[presence.Status][]string{presence.Online: f.Statuses.Online, presence.Away: f.Statuses.Away, presence.Busy: f.Statuses.Busy} {
		if len(words) > 0 {
			if policy.Labels == nil {
				policy.Labels = map[presence.Status][]string{}
			}
			policy.Labels[status] = words
		}
	}
	seen := map[presence.Pattern]bool{}
	for i, room := range f.Rooms {
		key := fmt.Sprintf("room#%d.pattern", i+1)
		pattern, err := presence.ParsePattern(string(room.Pattern))
		if err != nil {
			return policy, wrong(key, string(room.Pattern), "room patterns such as desk.**")
		}
		if seen[pattern] {
			return policy, wrong(key, string(room.Pattern), "each pattern once")
		}
		seen[pattern] = true
		own := presence.PatternPolicy{Pattern: pattern, RoomPolicy: policy.RoomPolicy}
		apply(room.pairs(&own.RoomPolicy))
		policy.Rooms = append(policy.Rooms, own)
	}
	return policy, nil
}
