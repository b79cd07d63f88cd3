package hooks

import (
	"crypto/rand"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// The kinds of events that are not announced as such: a headcount that crosses a bound, and a
// test.
const (
	HeadcountAbove = "headcount.above"
	HeadcountBelow = "headcount.below"
	Test           = "hook.test"
)

// Kinds are the kinds that a hook can subscribe to.
var Kinds = []string{
	string(journal.RoomFirstIn), string(journal.RoomEmpty), string(journal.MemberJoined), string(journal.MemberLeft),
	string(journal.PersonOnline), string(journal.PersonOffline), string(journal.StatusChanged),
	string(journal.AskOpened), string(journal.AskAnswered), string(journal.InvitationOpened), string(journal.InvitationAnswered), HeadcountAbove, HeadcountBelow,
	string(journal.QuotaNear), string(journal.QuotaReached),
}

// typePrefix turns a kind into the type of a CloudEvent.
const typePrefix = "tovik."

// tells returns the kinds of the events that an announcement makes for a hook.
func tells(h *records.Hook, a *journal.Announcement) (kinds []string) {
	if (a.View == presence.Open) != (h.View == wire.ViewOpen) || !about(h, a.Room) {
		return nil
	}
	if a.Kind != journal.Headcount {
		if kind := string(a.Kind); slices.Contains(h.Kinds, kind) {
			kinds = append(kinds, kind)
		}
		return kinds
	}
	if h.Above != nil && slices.Contains(h.Kinds, HeadcountAbove) && a.Before <= *h.Above && a.People > *h.Above {
		kinds = append(kinds, HeadcountAbove)
	}
	if h.Below != nil && slices.Contains(h.Kinds, HeadcountBelow) && a.Before >= *h.Below && a.People < *h.Below {
		kinds = append(kinds, HeadcountBelow)
	}
	return kinds
}

// about reports whether a hook covers a room; without a room, whether it covers people.
func about(h *records.Hook, room presence.RoomName) bool {
	if h.Rooms == nil || room == "" {
		return h.Rooms == nil
	}
	return slices.ContainsFunc(h.Rooms, func(p presence.Pattern) bool { return p.Match(room) })
}

// delivery makes the delivery of an event to a hook.
func delivery(h *records.Hook, kind string, a *journal.Announcement) records.Delivery {
	data := wire.EventData{Room: string(a.Room), User: string(a.Person), Name: a.Profile.Name, Picture: a.Profile.Picture}
	subject := string(a.Person)
	if a.Room != "" {
		subject = string(a.Room)
		if people := a.People; a.ID == "" {
			data.People = &people
		}
	}
	switch journal.Kind(kind) {
	case journal.MemberJoined, journal.MemberLeft:
		data.Status, data.Since = string(a.Member.Status), &wire.Time{Time: a.Member.Since}
	case journal.PersonOnline, journal.PersonOffline, journal.StatusChanged:
		data.Status, data.Was, data.Note = string(a.Is.Status), string(a.Was.Status), a.Is.Note
		if a.Is.Until != 0 {
			data.Until = &wire.Time{Time: time.UnixMilli(a.Is.Until)}
		}
	case journal.AskOpened, journal.AskAnswered:
		data.Ask, data.Other, data.Outcome = a.ID, string(a.Other), string(a.Outcome)
	case journal.InvitationOpened, journal.InvitationAnswered:
		data.Invitation, data.Other, data.Outcome = a.ID, string(a.Other), string(a.Outcome)
	case journal.QuotaNear, journal.QuotaReached:
		data = wire.EventData{Quota: string(a.Quota.Quota), Used: &a.Quota.Used, Bound: &a.Quota.Limit}
		subject = data.Quota
	case HeadcountAbove:
		data = wire.EventData{Room: string(a.Room), People: data.People, Bound: h.Above}
	case HeadcountBelow:
		data = wire.EventData{Room: string(a.Room), People: data.People, Bound: h.Below}
	}
	if a.ID != "" && a.Outcome == "" {
		data.Until = wire.TimeOf(a.Until)
	}
	if a.LastSeen != 0 && kind != HeadcountAbove && kind != HeadcountBelow {
		data.LastSeen = &wire.Time{Time: time.UnixMilli(a.LastSeen)}
	}
	if a.Reason != presence.NoReason && kind == string(journal.MemberLeft) {
		data.Reason = a.Reason.String()
	}
	d := records.Delivery{
		Hook: h.ID, Lane: subject, Kind: kind, Room: a.Room, User: presence.UserID(data.User), Other: presence.UserID(data.Other), Event: "event-" + strings.ToLower(rand.Text()),
		Created: a.At, State: records.Waiting,
	}
	d.Body = body(h, &d, subject, data)
	return d
}

// body returns the event in the JSON format of CloudEvents.
func body(h *records.Hook, d *records.Delivery, subject string, data wire.EventData) []byte {
	text, err := json.Marshal(wire.Event{
		SpecVersion: "1.0", ID: d.Event, Source: "/realms/" + h.Realm, Type: typePrefix + d.Kind, Subject: subject,
		Time: wire.Time{Time: time.UnixMilli(d.Created)}, ContentType: "application/json", Data: data,
	})
	if err != nil {
		panic("hooks: what is plain data can be written: " + err.Error())
	}
	return text
}

// WithoutRoom reports whether events of a kind are about people or the realm, whatever its rooms.
func WithoutRoom(kind string) bool {
	return slices.Contains([]journal.Kind{journal.PersonOnline, journal.PersonOffline, journal.StatusChanged, journal.QuotaNear, journal.QuotaReached}, journal.Kind(kind))
}
