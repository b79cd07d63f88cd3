package presence

// Input is something that happened, as [Core.Apply] is told of it: one of the
// types of this file.
type Input interface{ input() }

// Hello opens a session, or brings one back, on a new link. It is applied whole
// or refused whole.
//
// Session, Key and Nonce are what the client kept from before; they are empty
// on a first visit. NewSession and NewKey are fresh ids for the case that a new
// session is needed: the core makes no random values of its own.
type Hello struct {
	User    UserID
	Profile Profile

	Session SessionID
	Key     string
	Nonce   string // names this load of the page, or this run of the process

	NewSession SessionID
	NewKey     string

	// Rooms are the rooms that the session is in from now on. Nil keeps those of
	// a resumed session; an empty list leaves them all.
	Rooms []RoomName
}

// Join puts the session into a room, which comes into being if need be. Joining
// a room twice is no error and changes nothing.
type Join struct {
	From LinkID
	Room RoomName
}

// Leave takes the session out of a room.
type Leave struct {
	From LinkID
	Room RoomName
}

// Beat is a sign of life: any frame of the client's own code.
type Beat struct{ From LinkID }

// BeatWritten says that the beat request asked for by [AskBeat] has really been
// written to the link. Silence counts from here.
type BeatWritten struct{ To LinkID }

// Bye ends the session now. Closing the connection is up to whoever carries it.
type Bye struct{ From LinkID }

// Closing says that the page is going away, closed or reloaded. It comes over
// the link itself, and is the last that counts there; closing the connection is
// up to whoever carries it.
type Closing struct{ From LinkID }

// ClosingBeacon is the same by another way than the link, so it proves itself
// with the resume key, and with the nonce of the page that says it: one that
// comes late, after the next page took over, changes nothing.
type ClosingBeacon struct {
	Session SessionID
	Key     string
	Nonce   string
}

// LinkLost says that the connection of a link is gone.
type LinkLost struct{ Link LinkID }

func (Hello) input()         {}
func (Join) input()          {}
func (Leave) input()         {}
func (Beat) input()          {}
func (BeatWritten) input()   {}
func (Bye) input()           {}
func (Closing) input()       {}
func (ClosingBeacon) input() {}
func (LinkLost) input()      {}

// Reply is the answer to an accepted input. Inputs other than [Hello] and
// [ClosingBeacon] leave it empty.
type Reply struct {
	// Link is the link that the session has from now on.
	Link LinkID
	// Key is the secret with which the client can resume the session.
	Key string
	// Resumed tells that the session was there before. When it is false although
	// the client named a session, NotResumed says why.
	Resumed    bool
	NotResumed NotResumed
	// Rooms are the rooms that the session is in, in the order of joining.
	Rooms []RoomName
	// Stale tells that a closing beacon came too late to mean anything: the
	// session has ended, or has a newer page.
	Stale bool
}

// NotResumed is the reason for which a hello did not resume the session it named.
type NotResumed string

const (
	// UnknownSession: it has ended, was never there, or is not this person's.
	UnknownSession NotResumed = "unknown"
	// SessionInUse: another page holds it on a live link, as in a duplicated tab.
	SessionInUse NotResumed = "in-use"
)
