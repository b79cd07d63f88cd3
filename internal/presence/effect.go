package presence

import "time"

// Effect is a consequence of an input or of time: one of the types of this file.
type Effect interface{ effect() }

// Effects collects the effects of one or more calls, in order. The zero value is ready to use;
// Reset keeps the memory.
type Effects struct {
	List []Effect
	// Touched are the people for whom [Core.SavePerson] now returns something different, apart
	// from the times of the last sign of life and activity. A person may be listed more than
	// once.
	Touched []UserID
}

// Reset empties the list.
func (e *Effects) Reset() {
	clear(e.List)
	e.List = e.List[:0]
	clear(e.Touched)
	e.Touched = e.Touched[:0]
}

func (e *Effects) touch(p *person) {
	if n := len(e.Touched); n == 0 || e.Touched[n-1] != p.id {
		e.Touched = append(e.Touched, p.id)
	}
}

func (e *Effects) add(effect Effect) { e.List = append(e.List, effect) }

// MemberChanged says that these views now see something different of a person in a room. Before
// has no sessions if the person was not a member, After if the person no longer is. Session is
// the one that came or went; it is empty if several went at once. Reason says why it went, and
// LastSeen belongs to a leave.
type MemberChanged struct {
	Views         Views
	Room          RoomName
	Engages       bool // the room engages its members
	Before, After Member
	Session       SessionID
	Reason        Reason
	LastSeen      int64 // Unix milliseconds
}

// TypingChanged says that a person has started or stopped typing in a room.
type TypingChanged struct {
	Views   Views
	Room    RoomName
	User    UserID
	On      bool
	Expired bool // it stopped because no report came any more
}

// PersonChanged says that these views now see something different of a person, apart from rooms.
type PersonChanged struct {
	Views         Views
	User          UserID
	Profile       Profile
	Before, After Appearance
	LastSeen      int64 // Unix milliseconds; goes with After.Status Offline
}

// AskBeat asks for a beat request on a link, and for [BeatWritten] when it has been written. A
// probe is urgent: another page claims the session.
type AskBeat struct {
	Link  LinkID
	Probe bool
}

// Cut asks for the connection of a link to be closed: its session has ended, or continues
// without it.
type Cut struct {
	Link   LinkID
	Reason Reason
	Ended  bool // the session was ended on purpose, so its client must not return by itself
}

// TakenOut says that a session is no longer in a room, although its client did not leave. What
// the link follows there must end.
type TakenOut struct {
	Link   LinkID
	Room   RoomName
	Reason Reason // ReasonRemoved, or ReasonLeave if the token no longer grants the room
}

// OwnChanged asks for the links of a person to be told what the person has set for all their
// sessions: a status, empty if it follows the sessions, and whether they hide.
type OwnChanged struct {
	Links  []LinkID
	Set    Appearance
	Hidden bool
}

// WarnExpiry asks for the link to be told that its token expires soon.
type WarnExpiry struct {
	Link    LinkID
	Expires int64 // Unix milliseconds
}

// Settled is the answer to a pending hello.
type Settled struct {
	Attempt uint64
	Reply   Reply
	Err     error // a [*Refusal], or nil
}

// SessionOpened says that a session has begun. If its client wanted to resume another session,
// Wanted is that one, and NotResumed why it could not.
type SessionOpened struct {
	Link       LinkID
	User       UserID
	Kind       LinkKind
	Wanted     SessionID
	NotResumed NotResumed
}

// SessionRestored says that a session is there, after a restart or a takeover, with a link or without.
type SessionRestored struct {
	Link LinkID
	Lost bool // it has no link
}

// SessionInGrace says that a session has lost its link. It still counts, and ends with this
// reason unless it returns.
type SessionInGrace struct {
	Link     LinkID
	User     UserID
	Kind     LinkKind
	Reason   Reason
	LastSeen int64 // Unix milliseconds
	// PageHidden says that the page was in the background.
	PageHidden bool
	// Again says that the link was lost before: this is a second sign of it.
	Again bool
}

// SessionResumed says that a session continues over a new link, after Gap without one.
type SessionResumed struct {
	Link LinkID
	User UserID
	Kind LinkKind
	Gap  time.Duration
	Lost bool // it had no link until then
}

// SessionIdle says that a session has become idle, or active again. Since its activity before,
// Quiet has passed: until now, or until the activity that ended it.
type SessionIdle struct {
	Link  LinkID
	User  UserID
	Idle  bool
	Quiet time.Duration
}

// PersonRemoved says that somebody was removed from a room, or with an empty Room from the
// realm.
type PersonRemoved struct {
	User    UserID
	Room    RoomName
	By      string // of the [Remove]
	Refused int64  // tokens issued until then are refused, in Unix milliseconds
}

// Suspended says that the machine stood still for a while, by which all deadlines have moved.
type Suspended struct{ For time.Duration }

// AskOpened says that somebody asks to be let into a room.
type AskOpened struct{ OpenAsk }

// AskAnswered says that an ask is over. Its sessions are to be told over Links.
type AskAnswered struct {
	OpenAsk
	Outcome Outcome
	By      UserID // who answered; empty: the back end, or nobody
	Again   int64  // refused: from when on they may ask again, in Unix milliseconds
	Links   []LinkID
}

// PassEnded asks for what the links of a person follow to be checked again, because a pass of
// theirs has ended.
type PassEnded struct {
	Links []LinkID
	Room  RoomName
}

// InvitationOpened says that somebody has invited somebody.
type InvitationOpened struct{ Invitation }

// InvitationAnswered says that an invitation is over. Both sides are to be told over Links.
type InvitationAnswered struct {
	Invitation
	Outcome Outcome
	Links   []LinkID
}

// InvitationsChanged asks for the links of a person to be told their open invitations.
type InvitationsChanged struct {
	Links []LinkID
	Invitations
}

// SessionEnded says that a session has ended.
type SessionEnded struct {
	Link     LinkID
	User     UserID
	Kind     LinkKind
	Reason   Reason
	LastSeen int64 // Unix milliseconds
	Opened   int64 // the same
	Lost     bool  // it had no link
}

// CueGiven says that a cue was given.
type CueGiven struct{}

// QuotaNear says that a realm uses 80 % or more of a quota. It is said again only after less than 70 % was used, or
// after a restart.
type QuotaNear struct{ QuotaUse }

// QuotaReached says that a quota has refused something. It is said again as [QuotaNear] is.
type QuotaReached struct{ QuotaUse }

func (MemberChanged) effect()   {}
func (TypingChanged) effect()   {}
func (PersonChanged) effect()   {}
func (AskBeat) effect()         {}
func (Cut) effect()             {}
func (TakenOut) effect()        {}
func (OwnChanged) effect()      {}
func (WarnExpiry) effect()      {}
func (Settled) effect()         {}
func (SessionOpened) effect()   {}
func (SessionInGrace) effect()  {}
func (SessionRestored) effect() {}
func (SessionResumed) effect()  {}
func (SessionEnded) effect()    {}
func (SessionIdle) effect()     {}
func (PersonRemoved) effect()   {}
func (Suspended) effect()       {}

func (AskOpened) effect()          {}
func (AskAnswered) effect()        {}
func (PassEnded) effect()          {}
func (InvitationOpened) effect()   {}
func (InvitationAnswered) effect() {}
func (InvitationsChanged) effect() {}

func (CueGiven) effect()     {}
func (QuotaNear) effect()    {}
func (QuotaReached) effect() {}
