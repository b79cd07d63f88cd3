// Package journal turns the effects of a core into journal entries and announcements. It
// is a pure fold: it needs nothing but the effects, and knows no database. It may import
// presence, phrase and wire.
package journal

import (
	"fmt"
	"time"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// Kind is the kind of an entry, or of an announcement.
type Kind string

// The kinds of entries; some are also announced.
const (
	SessionOpened  Kind = "session.opened"  // Reason says why it did not resume Wanted
	SessionLost    Kind = "session.lost"    // its link is gone; Reason says how
	SessionResumed Kind = "session.resumed" // after Length without a link
	SessionEnded   Kind = "session.ended"   // after Length, for Reason
	SessionIdle    Kind = "session.idle"    // after Length without activity
	SessionActive  Kind = "session.active"  // the same
	SessionJoined  Kind = "session.joined"  // a further session of somebody who was in the room
	SessionLeft    Kind = "session.left"    // a session of somebody who is still in the room
	MemberJoined   Kind = "member.joined"   // announced
	MemberLeft     Kind = "member.left"     // after Length, for Reason; announced
	StatusChanged  Kind = "status.changed"  // announced
	PersonRemoved  Kind = "person.removed"  // from Room, or altogether
	EngagedBegan   Kind = "engaged.began"   // by Room
	EngagedEnded   Kind = "engaged.ended"   // after Length
	AskOpened      Kind = "ask.opened"      // about Room; announced
	AskAnswered    Kind = "ask.answered"    // after Length, by Other, with Reason as its outcome; announced
	// InvitationOpened and InvitationAnswered are of User, and of Other whom they invited into
	// Room. Announced.
	InvitationOpened   Kind = "invitation.opened"
	InvitationAnswered Kind = "invitation.answered"
	QuotaNear          Kind = "quota.near"      // Reason is the quota, Note the use; announced
	QuotaReached       Kind = "quota.reached"   // the same
	ServiceStarted     Kind = "service.started" // after Length; Reason says how it had ended
	ServiceStopped     Kind = "service.stopped"
	// ServiceSuspended says that the machine stood still for Length, until then.
	ServiceSuspended Kind = "service.suspended"
	Gap              Kind = "journal.gap" // Lost entries in Length
)

// The kinds of entries about what operators did, each with the key that they did it with. Note
// says to what, except that an erasure names nobody.
const (
	KeyAdded        Kind = "key.added"
	KeyRevoked      Kind = "key.revoked"
	TokenKeyAdded   Kind = "token-key.added"
	TokenKeyRevoked Kind = "token-key.revoked"
	HookAdded       Kind = "hook.added"
	HookChanged     Kind = "hook.changed"
	HookRemoved     Kind = "hook.removed"
	RoomDeclared    Kind = "room.declared"
	RoomUndeclared  Kind = "room.undeclared"
	PersonSignedOut Kind = "person.signed-out"
	PersonErased    Kind = "person.erased"
	PersonExported  Kind = "person.exported"
	ConfigReloaded  Kind = "config.reloaded"
	RecordsBackedUp Kind = "records.backed-up"
)

// Kinds are the kinds of entries.
var Kinds = []Kind{
	SessionOpened, SessionLost, SessionResumed, SessionEnded, SessionIdle, SessionActive, SessionJoined, SessionLeft, MemberJoined, MemberLeft,
	StatusChanged, PersonRemoved, EngagedBegan, EngagedEnded, AskOpened, AskAnswered, InvitationOpened, InvitationAnswered, QuotaNear, QuotaReached, ServiceStarted, ServiceStopped, ServiceSuspended, Gap,
	KeyAdded, KeyRevoked, TokenKeyAdded, TokenKeyRevoked, HookAdded, HookChanged, HookRemoved, RoomDeclared, RoomUndeclared,
	PersonSignedOut, PersonErased, PersonExported, ConfigReloaded, RecordsBackedUp,
}

// The kinds of announcements that are not entries.
const (
	RoomFirstIn   Kind = "room.first-in"
	RoomEmpty     Kind = "room.empty"
	Headcount     Kind = "headcount"
	PersonOnline  Kind = "person.online"
	PersonOffline Kind = "person.offline"
)

// Entry is an entry of the journal. Ids increase in the order of events, across all realms.
type Entry struct {
	ID      int64               `gorm:"primaryKey;autoIncrement:false" json:",omitzero"`
	At      int64               `json:",omitzero"` // Unix milliseconds
	Realm   string              `json:",omitzero"`
	Kind    Kind                `json:",omitzero"`
	Room    presence.RoomName   `json:",omitzero"`
	User    presence.UserID     `json:",omitzero"`
	Other   presence.UserID     `json:",omitzero"` // who answered, or was invited
	Session presence.SessionID  `json:",omitzero"`
	Link    presence.LinkNumber `json:",omitzero"`
	Over    string              `json:",omitzero"` // what kind of link
	Status  string              `json:",omitzero"`
	Was     string              `json:",omitzero"` // the status before
	Note    string              `json:",omitzero"`
	Reason  string              `json:",omitzero"`
	Length  int64               `json:",omitzero"` // milliseconds
	Lost    int64               `json:",omitzero"`
	Open    bool                `json:",omitzero"` // those who do not see who hides have seen it
	// Wanted is the session that the client of a new one had wanted to resume.
	Wanted presence.SessionID `json:",omitzero"`
	// Unheard is how long before it the session was last heard of, in milliseconds.
	Unheard    int64  `json:",omitzero"`
	PageHidden bool   `json:",omitzero"` // the page was in the background
	By         string `json:",omitzero"` // the operator key with which it was done
}

// TableName is for gorm.
func (Entry) TableName() string { return "journal" }

// Record returns the entry as its readers get it.
func (e *Entry) Record() wire.Record {
	return wire.Record{
		ID: e.ID, At: wire.Time{Time: time.UnixMilli(e.At)}, Kind: string(e.Kind), Room: string(e.Room), User: string(e.User), Other: string(e.Other),
		Session: string(e.Session), Link: uint64(e.Link), Over: e.Over, Status: e.Status, Was: e.Was, Note: e.Note, Reason: e.Reason,
		Length: e.Length, Lost: e.Lost, Hidden: !e.Open, Wanted: string(e.Wanted), Unheard: e.Unheard, PageHidden: e.PageHidden, By: e.By,
	}
}

// EntryOf returns the entry of a realm that a reader got.
func EntryOf(realm string, r wire.Record) Entry {
	return Entry{
		ID: r.ID, At: r.At.UnixMilli(), Realm: realm, Kind: Kind(r.Kind), Room: presence.RoomName(r.Room), User: presence.UserID(r.User), Other: presence.UserID(r.Other),
		Session: presence.SessionID(r.Session), Link: presence.LinkNumber(r.Link), Over: r.Over, Status: r.Status, Was: r.Was, Note: r.Note, Reason: r.Reason,
		Length: r.Length, Lost: r.Lost, Open: !r.Hidden, Wanted: presence.SessionID(r.Wanted), Unheard: r.Unheard, PageHidden: r.PageHidden, By: r.By,
	}
}

// Announcement is an event for subscribers, as a view sees it.
type Announcement struct {
	Realm    string
	Kind     Kind
	At       int64 // Unix milliseconds
	View     presence.View
	Room     presence.RoomName
	Member   presence.Member // of who joined or left
	Person   presence.UserID
	Profile  presence.Profile
	Was, Is  presence.Appearance // of a person
	Reason   presence.Reason
	LastSeen int64
	// ID, Other, Outcome and Until are of an ask or an invitation.
	ID      string
	Other   presence.UserID
	Outcome presence.Outcome
	Until   int64
	// Quota is of a quota.near or a quota.reached.
	Quota presence.QuotaUse
	// People are in the room after it, and were before it.
	People, Before int
}

// Fold makes the entries and announcements of a realm. It is not safe for concurrent use.
type Fold struct {
	realm    string
	keep     func(Entry)
	announce func(*Announcement)
	said     Announcement                  // memory for the next one of a member or a person
	people   map[presence.RoomName]*[2]int // by view, in rooms with somebody in them
	ended    ended
}

// NewFold returns the fold of an empty realm. It passes entries to keep and announcements to
// announce, in order. Announce must not keep its argument.
func NewFold(realm string, keep func(Entry), announce func(*Announcement)) *Fold {
	return &Fold{realm: realm, keep: keep, announce: announce, people: map[presence.RoomName]*[2]int{}, ended: newEnded()}
}

// Take folds an effect at a time in Unix milliseconds. If restored is true the effect only
// describes the state after a restart: it counts, but makes no entry and no announcement.
func (f *Fold) Take(at int64, effect presence.Effect, restored bool) {
	entry := Entry{At: at, Realm: f.realm, Open: true}
	of := func(kind Kind, user presence.UserID, link presence.LinkID) *Entry {
		entry.Kind, entry.User, entry.Session, entry.Link = kind, user, link.Session, link.Number
		return &entry
	}
	switch e := effect.(type) {
	case presence.MemberChanged:
		f.member(at, e, restored)
		return
	case presence.PersonChanged:
		if !restored {
			f.person(at, e)
		}
		return
	case presence.AskOpened, presence.AskAnswered, presence.InvitationOpened, presence.InvitationAnswered:
		if !restored {
			f.meeting(at, e)
		}
		return
	case presence.QuotaNear:
		f.quota(at, QuotaNear, e.QuotaUse)
		return
	case presence.QuotaReached:
		f.quota(at, QuotaReached, e.QuotaUse)
		return
	case presence.SessionOpened:
		of(SessionOpened, e.User, e.Link).Over = e.Kind.String()
		entry.Reason = string(e.NotResumed)
		if e.NotResumed == presence.SessionInUse || f.ended.has(e.User, e.Wanted) {
			entry.Wanted = e.Wanted
		}
	case presence.SessionInGrace:
		of(SessionLost, e.User, e.Link).Over = e.Kind.String()
		entry.Reason, entry.Unheard, entry.PageHidden = e.Reason.String(), max(at-e.LastSeen, 0), e.PageHidden
	case presence.SessionResumed:
		of(SessionResumed, e.User, e.Link).Over = e.Kind.String()
		entry.Length = e.Gap.Milliseconds()
	case presence.SessionEnded:
		of(SessionEnded, e.User, e.Link).Over = e.Kind.String()
		entry.Reason, entry.Length, entry.Unheard = e.Reason.String(), max(at-e.Opened, 0), max(at-e.LastSeen, 0)
		f.ended.note(e.User, e.Link.Session, at)
	case presence.SessionIdle:
		of(SessionActive, e.User, e.Link)
		entry.Length = e.Quiet.Milliseconds()
		if e.Idle {
			entry.Kind = SessionIdle
		}
	case presence.Suspended:
		entry.Kind, entry.Length = ServiceSuspended, e.For.Milliseconds()
	case presence.PersonRemoved:
		of(PersonRemoved, e.User, presence.LinkID{}).Room = e.Room
		entry.By = e.By
	default:
		return
	}
	if !restored {
		f.keep(entry)
	}
}

// member folds a change of a member.
func (f *Fold) member(at int64, e presence.MemberChanged, restored bool) {
	came, went := e.Before.Sessions == 0 && e.After.Sessions > 0, e.Before.Sessions > 0 && e.After.Sessions == 0
	if !came && !went {
		f.session(at, e, restored)
		return
	}
	people := f.people[e.Room]
	if people == nil {
		people = new([2]int)
		f.people[e.Room] = people
	}
	for _, view := range []presence.View{presence.Full, presence.Open} {
		if !e.Views.Has(view) {
			continue
		}
		before := people[view]
		if people[view]++; went {
			people[view] -= 2
		}
		if !restored {
			f.announceMember(at, e, view, before, people[view])
		}
	}
	if *people == [2]int{} {
		delete(f.people, e.Room)
	}
	if restored || !e.Views.Has(presence.Full) {
		return
	}
	entry := Entry{At: at, Realm: f.realm, Kind: MemberJoined, Room: e.Room, User: e.After.User, Session: e.Session, Status: string(e.After.Status), Open: e.Views.Has(presence.Open)}
	if went {
		entry.Kind, entry.Reason, entry.Length = MemberLeft, e.Reason.String(), max(at-e.Before.Since.UnixMilli(), 0)
	}
	f.keep(entry)
	if e.Engages {
		engaged := Entry{At: at, Realm: f.realm, Kind: EngagedBegan, Room: e.Room, User: e.After.User, Open: entry.Open}
		if went {
			engaged.Kind, engaged.Length = EngagedEnded, entry.Length
		}
		f.keep(engaged)
	}
}

// session folds a session that comes to, or goes from, somebody who is in the room before and
// after it.
func (f *Fold) session(at int64, e presence.MemberChanged, restored bool) {
	if restored || e.Session == "" || !e.Views.Has(presence.Full) || e.Before.Sessions == e.After.Sessions {
		return
	}
	entry := Entry{At: at, Realm: f.realm, Kind: SessionJoined, Room: e.Room, User: e.After.User, Session: e.Session, Open: e.Views.Has(presence.Open)}
	if e.After.Sessions < e.Before.Sessions {
		entry.Kind, entry.Reason = SessionLeft, e.Reason.String()
	}
	f.keep(entry)
}

// meeting folds an ask or an invitation, which is the same in both views.
func (f *Fold) meeting(at int64, effect presence.Effect) {
	ask := func(kind Kind, a presence.OpenAsk) Announcement {
		return Announcement{Kind: kind, Room: a.Room, Person: a.User, Profile: a.Profile, ID: string(a.Ask), Until: a.Until}
	}
	invitation := func(kind Kind, i presence.Invitation) Announcement {
		return Announcement{Kind: kind, Room: i.Room, Person: i.From, Profile: i.FromProfile, Other: i.To, ID: string(i.Invitation), Until: i.Until}
	}
	var a Announcement
	began := at
	switch e := effect.(type) {
	case presence.AskOpened:
		a = ask(AskOpened, e.OpenAsk)
	case presence.AskAnswered:
		a, began = ask(AskAnswered, e.OpenAsk), e.Since
		a.Outcome, a.Other = e.Outcome, e.By
	case presence.InvitationOpened:
		a = invitation(InvitationOpened, e.Invitation)
	case presence.InvitationAnswered:
		a, began = invitation(InvitationAnswered, e.Invitation), e.Since
		a.Outcome = e.Outcome
	}
	f.keep(Entry{At: at, Realm: f.realm, Kind: a.Kind, Room: a.Room, User: a.Person, Other: a.Other, Reason: string(a.Outcome), Length: max(at-began, 0), Open: true})
	a.Realm, a.At = f.realm, at
	for _, a.View = range []presence.View{presence.Full, presence.Open} {
		said := a
		f.announce(&said)
	}
}

// quota folds the use of a quota, which is the same in both views.
func (f *Fold) quota(at int64, kind Kind, use presence.QuotaUse) {
	f.keep(Entry{At: at, Realm: f.realm, Kind: kind, Reason: string(use.Quota), Note: fmt.Sprintf("%d of %d", use.Used, use.Limit), Open: true})
	for _, view := range []presence.View{presence.Full, presence.Open} {
		f.announce(&Announcement{Realm: f.realm, Kind: kind, At: at, View: view, Quota: use})
	}
}

// announceMember announces a join or leave, and what that makes of the room.
func (f *Fold) announceMember(at int64, e presence.MemberChanged, view presence.View, before, after int) {
	a := &f.said
	*a = Announcement{Realm: f.realm, Kind: MemberJoined, At: at, View: view, Room: e.Room, Member: e.After, Person: e.After.User,
		Profile: e.After.Profile, People: after, Before: before}
	if after < before {
		a.Kind, a.Member.Since, a.Member.Sessions = MemberLeft, e.Before.Since, 0
		a.Reason, a.LastSeen = e.Reason, e.LastSeen
	}
	f.announce(a)
	switch {
	case before == 0:
		a.Kind = RoomFirstIn
		f.announce(a)
	case after == 0:
		a.Kind = RoomEmpty
		f.announce(a)
	}
	a.Kind = Headcount
	f.announce(a)
}

// person folds a change of a person.
func (f *Fold) person(at int64, e presence.PersonChanged) {
	came, went := e.Before.Status == presence.Offline, e.After.Status == presence.Offline
	for _, view := range []presence.View{presence.Full, presence.Open} {
		if !e.Views.Has(view) {
			continue
		}
		a := &f.said
		*a = Announcement{Realm: f.realm, Kind: StatusChanged, At: at, View: view, Person: e.User, Profile: e.Profile, Was: e.Before, Is: e.After}
		if went {
			a.LastSeen = e.LastSeen
		}
		f.announce(a)
		switch {
		case came:
			a.Kind = PersonOnline
			f.announce(a)
		case went:
			a.Kind = PersonOffline
			f.announce(a)
		}
	}
	if e.Views.Has(presence.Full) {
		f.keep(Entry{At: at, Realm: f.realm, Kind: StatusChanged, User: e.User, Status: string(e.After.Status), Was: string(e.Before.Status),
			Note: e.After.Note, Open: e.Views.Has(presence.Open)})
	}
}
