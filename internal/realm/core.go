package realm

import (
	"context"
	"time"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// Elsewhere is a [Core] that may be on another node. An input whose answer is to outlast everything is
// answered once it is on record, and everybody who was removed is told to Links as a removal.
type Elsewhere interface {
	Core
	// Unanswered returns how many questions had no answer so far, and were answered emptily.
	Unanswered() uint64
	// Here reports whether the core runs at this node now, so that nothing waits for another one.
	Here() bool
}

// Core is the core of a realm: an [engine.Engine], or one that may be on another node (package cluster).
// What its methods do is said there. Inputs, questions and answers are plain data.
type Core interface {
	delivery.Source

	Do(context.Context, presence.Input) (presence.Reply, error)
	Begin(presence.Input) (presence.Reply, func(context.Context) (presence.Reply, error), error)
	Erase(presence.UserID) map[string]int
	SetPolicy(presence.Policy)

	Sealing(engine.Topic) <-chan struct{}
	SnapshotNow(engine.Topic) engine.Snapshot
	Count(engine.Topic) (presence.Count, bool)
	Tally(engine.Topic) (presence.Count, engine.Revision)
	MembersNow(presence.RoomName) []presence.Member
	Rooms(presence.View) map[presence.RoomName]presence.Count

	SightNow(engine.Subject) engine.Sight
	RoomsOf(presence.UserID, presence.View) []presence.RoomName
	Explain(presence.UserID, presence.RoomName) presence.Explanation
	Issued(presence.UserID) time.Time
	Refused(presence.UserID, time.Time) (altogether bool, rooms []presence.RoomName)
	Near(user, other presence.UserID, view presence.View) bool
	LetsWatch(user presence.UserID, admits []presence.Pattern, room presence.RoomName, countOnly bool) bool
	Passes(presence.UserID) []presence.Pass
	Known() []presence.UserID
	Everybody() []presence.SavedPerson

	Session(presence.SessionID, string) (presence.Evidence, presence.UserID, bool)
	RoomsOver(presence.LinkID) []presence.RoomName
	Cue(presence.LinkID, presence.CueTo, []presence.Pattern) ([]presence.Carried, error)

	OpenAsks() []presence.OpenAsk
	OpenInvitations() []presence.Invitation
	RoomOfAsk(presence.AskID) presence.RoomName
	RoomOfInvitation(presence.InvitationID) presence.RoomName
	InvitationRoom(presence.UserID, presence.InvitationID) (presence.RoomName, error)

	Quotas() []presence.QuotaUse
	Size() presence.Size
}
