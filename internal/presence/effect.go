package presence

import "time"

// Effect is something that follows from an input or from the passing of time:
// one of the types of this file.
type Effect interface{ effect() }

// Effects collects the effects of one or more calls, in order. The zero value
// is ready to use; Reset keeps the memory for the next call.
type Effects struct {
	List []Effect
	// Touched are people of whom something has changed that [Core.SavePerson] gives,
	// other than when they were last heard and active; some of them more than once.
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

// MemberChanged says that what is seen of a person in a room has changed in these
// views. Before or After has no sessions when the person was not, or is no
// longer, a member. Reason and LastSeen go with a leave.
type MemberChanged struct {
	Views         Views
	Room          RoomName
	Before, After Member
	Reason        Reason
	LastSeen      int64 // Unix milliseconds
}

// TypingChanged says that a person has begun or ceased to type in a room.
type TypingChanged struct {
	Views Views
	Room  RoomName
	User  UserID
	On    bool
}

// PersonChanged says that what is seen of a person as such has changed.
type PersonChanged struct {
	Views         Views
	User          UserID
	Before, After Appearance
	LastSeen      int64 // Unix milliseconds; goes with After.Status Offline
}

// AskBeat wants a beat request written to a link, and [BeatWritten] told when it
// has been. A probe is urgent: another page claims the session.
type AskBeat struct {
	Link  LinkID
	Probe bool
}

// Cut wants the connection of a link closed: the session has gone on, or ended,
// without it.
type Cut struct {
	Link   LinkID
	Reason Reason
	Ended  bool // the session has ended by somebody's will, and its client is not to come back by itself
}

// TakenOut tells the link that its session is no longer in a room, although nobody
// over that link has said so, and what the link follows there ended.
type TakenOut struct {
	Link   LinkID
	Room   RoomName
	Reason Reason // ReasonRemoved, or ReasonLeave: the token does not grant the room any more
}

// OwnChanged wants the links of a person told what the person has set for all their
// sessions: a status, empty when it follows the sessions, and whether they hide.
type OwnChanged struct {
	Links  []LinkID
	Set    Appearance
	Hidden bool
}

// WarnExpiry wants the link told that its token expires soon.
type WarnExpiry struct {
	Link    LinkID
	Expires int64 // Unix milliseconds
}

// Settled answers a hello that was pending.
type Settled struct {
	Attempt uint64
	Reply   Reply
	Err     error // a [*Refusal], or nil
}

// SessionOpened says that a new session has begun.
type SessionOpened struct {
	Link LinkID
	User UserID
	Kind LinkKind
}

// SessionInGrace says that the link of a session is gone. It still counts, and
// ends with this reason unless it returns.
type SessionInGrace struct {
	Link     LinkID
	User     UserID
	Kind     LinkKind
	Reason   Reason
	LastSeen int64 // Unix milliseconds
}

// SessionResumed says that a session goes on over a new link, after it had been without
// one for Gap.
type SessionResumed struct {
	Link LinkID
	User UserID
	Kind LinkKind
	Gap  time.Duration
}

// SessionIdle says that somebody has ceased to be at a session, or is there again.
type SessionIdle struct {
	Link LinkID
	User UserID
	Idle bool
}

// PersonRemoved says that somebody was removed from a room, or with an empty Room
// altogether.
type PersonRemoved struct {
	User UserID
	Room RoomName
}

// SessionEnded says that a session is over for good.
type SessionEnded struct {
	Link     LinkID
	User     UserID
	Kind     LinkKind
	Reason   Reason
	LastSeen int64 // Unix milliseconds
	Opened   int64 // the same
}

func (MemberChanged) effect()  {}
func (TypingChanged) effect()  {}
func (PersonChanged) effect()  {}
func (AskBeat) effect()        {}
func (Cut) effect()            {}
func (TakenOut) effect()       {}
func (OwnChanged) effect()     {}
func (WarnExpiry) effect()     {}
func (Settled) effect()        {}
func (SessionOpened) effect()  {}
func (SessionInGrace) effect() {}
func (SessionResumed) effect() {}
func (SessionEnded) effect()   {}
func (SessionIdle) effect()    {}
func (PersonRemoved) effect()  {}
