package presence

// Effect is something that follows from an input or from the passing of time:
// one of the types of this file.
type Effect interface{ effect() }

// Effects collects the effects of one or more calls, in order. The zero value
// is ready to use; Reset keeps the memory for the next call.
type Effects struct{ List []Effect }

// Reset empties the list.
func (e *Effects) Reset() {
	clear(e.List)
	e.List = e.List[:0]
}

func (e *Effects) add(effect Effect) { e.List = append(e.List, effect) }

// MemberChanged says that what others see of a person in a room has changed.
// Before or After has no sessions when the person was not, or is no longer, a
// member. Reason and the time of the last sign of life go with a leave.
type MemberChanged struct {
	Room          RoomName
	Before, After Member
	Reason        Reason
	LastSeen      int64 // Unix milliseconds
}

// AskBeat wants a beat request written to a link, and [BeatWritten] told when it
// has been.
type AskBeat struct{ Link LinkID }

// Cut wants the connection of a link closed: the session has gone on without it.
type Cut struct {
	Link   LinkID
	Reason Reason
}

// SessionOpened says that a new session has begun.
type SessionOpened struct {
	Link LinkID
	User UserID
}

// SessionInGrace says that the link of a session is gone. It still counts, and
// ends with this reason unless it returns.
type SessionInGrace struct {
	Link   LinkID
	Reason Reason
}

// SessionResumed says that a session goes on over a new link.
type SessionResumed struct{ Link LinkID }

// SessionEnded says that a session is over for good.
type SessionEnded struct {
	Link     LinkID
	User     UserID
	Reason   Reason
	LastSeen int64 // Unix milliseconds
}

func (MemberChanged) effect()  {}
func (AskBeat) effect()        {}
func (Cut) effect()            {}
func (SessionOpened) effect()  {}
func (SessionInGrace) effect() {}
func (SessionResumed) effect() {}
func (SessionEnded) effect()   {}
