package presence

import "time"

// Input is something that happened, as [Core.Apply] is told of it: one of the
// types of this file. Inputs with a field From come over a link and are a sign of
// life; the others come from the service itself, its operators and back ends.
type Input interface{ input() }

// Hello opens a session, or brings one back, on a new link. It is applied whole
// or refused whole.
//
// Session, Key and Nonce are what the client kept from before; they are empty on
// a first visit. NewSession and NewKey are fresh ids for the case that a new
// session is needed: the core makes no random values of its own.
type Hello struct {
	// Attempt names this hello in the [Settled] that may have to answer it.
	Attempt uint64

	User    UserID
	Profile Profile

	// Issued and Expires are the times of the person's token in Unix milliseconds.
	// Expires 0 stands for never.
	Issued, Expires int64

	Session SessionID
	Key     string
	Nonce   string // names this load of the page, or this run of the process

	NewSession SessionID
	NewKey     string

	// Rooms are the rooms that the session is in from now on. Nil keeps those that
	// a resumed session is still in; an empty list leaves them all.
	Rooms []RoomName
	// OneByOne lets the session into those of Rooms that it may enter; the others are
	// in [Reply.Refused]. Else one that it may not enter refuses the hello.
	OneByOne bool
	// Grants are the rooms that the token grants. A resumed session leaves all others.
	// Nil stands for every room.
	Grants []Pattern
	// Report is what has happened at a leased session since its last hello, or nil.
	Report *Report

	// Leased says that the session has no connection: it comes again within the
	// policy's lease, and each time is a sign of life.
	Leased bool
	// Stream says that the link is an event stream with posts, not a WebSocket.
	Stream bool
	// NoInput says that no human sits at the session (a device, a bot): it is awake
	// while it is alive. Whether the token allows that is checked before.
	NoInput bool
	// PageHidden says that the page is hidden.
	PageHidden bool
	// IdleFor says for how long there has been no activity. Nil: a resumed session
	// keeps what is known, a new one is awake.
	IdleFor *time.Duration
}

// Report is what a session without a connection tells with its hello.
type Report struct {
	Active bool       // a human has done something
	Idle   bool       // nobody is there; not both
	Typing []RoomName // the rooms in which the person types now; nil leaves typing as it is
}

// Withdraw takes back a hello that is pending: its connection has gone. One that has
// been settled is not affected.
type Withdraw struct {
	Session SessionID // that the hello named
	Attempt uint64
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

// Activity is a sign that a human is doing something at the session, or did IdleFor
// ago.
type Activity struct {
	From    LinkID
	IdleFor time.Duration
}

// Idle says that there is nobody at the session now.
type Idle struct{ From LinkID }

// PageHidden says whether the page of the session is hidden.
type PageHidden struct {
	From   LinkID
	Hidden bool
}

// Typing reports that the person composes in a room, or has stopped. Reports over one
// link about one room are numbered from 1; one that is not newer than the last changes
// nothing, which [Reply.Stale] tells. Number 0 stands for the next.
type Typing struct {
	From   LinkID
	Room   RoomName
	Number uint64
	On     bool
}

// Sent says that what was composed has been sent. It is a report like Typing.
type Sent struct {
	From   LinkID
	Room   RoomName
	Number uint64
}

// Renew brings a newer token of the same person.
type Renew struct {
	From            LinkID
	Profile         Profile
	Issued, Expires int64     // as in Hello
	Grants          []Pattern // as in Hello
}

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

// ByeNote ends a session by another way than its link, and proves itself with the
// resume key.
type ByeNote struct {
	Session SessionID
	Key     string
}

// LinkLost says that the connection of a link is gone.
type LinkLost struct{ Link LinkID }

// SetStatus sets what others see of a person, Busy or Away, or with an empty
// Status lets it follow their sessions again. It survives the sessions. Until, in
// Unix milliseconds, is when it ends by itself; 0 stands for never.
type SetStatus struct {
	User   UserID
	Status Status
	Note   string
	Until  int64
}

// Hide takes a person out of the open view, or puts them back into it.
type Hide struct {
	User   UserID
	Hidden bool
}

// SignOut ends all sessions of a person now.
type SignOut struct{ User UserID }

// EndSession ends one session now, by an operator's will.
type EndSession struct{ Session SessionID }

// Remove takes a person out of a room, or with an empty Room out of everything.
// Their tokens issued up to now are refused from then on: there, or altogether.
type Remove struct {
	User UserID
	Room RoomName
}

// Refuse lets tokens issued up to a time, in Unix milliseconds, be refused, as a Remove
// of that time did: for a service that has started anew.
type Refuse struct {
	User UserID
	Room RoomName // empty: altogether
	At   int64
}

// Erase ends all sessions of a person and forgets everything about them, their removals
// too.
type Erase struct{ User UserID }

// Declare lets a room exist while nobody is in it, or no longer.
type Declare struct {
	Room     RoomName
	Declared bool
}

// SetPolicy puts another policy in force. What has begun keeps the time it was given: a
// grace, a typing; beats, idleness, leases and the expiry of tokens are as the new policy
// has them from now on. Its work is of the order of rooms and sessions.
type SetPolicy struct{ Policy Policy }

func (Hello) input()         {}
func (Withdraw) input()      {}
func (Join) input()          {}
func (Leave) input()         {}
func (Beat) input()          {}
func (Activity) input()      {}
func (Idle) input()          {}
func (PageHidden) input()    {}
func (Typing) input()        {}
func (Sent) input()          {}
func (Renew) input()         {}
func (BeatWritten) input()   {}
func (Bye) input()           {}
func (Closing) input()       {}
func (ClosingBeacon) input() {}
func (ByeNote) input()       {}
func (LinkLost) input()      {}
func (SetStatus) input()     {}
func (Hide) input()          {}
func (SignOut) input()       {}
func (EndSession) input()    {}
func (Remove) input()        {}
func (Refuse) input()        {}
func (Erase) input()         {}
func (Declare) input()       {}
func (SetPolicy) input()     {}

// Reply is the answer to an accepted input. Inputs other than [Hello],
// [ClosingBeacon], [ByeNote], [Typing] and [Sent] leave it empty.
type Reply struct {
	// Pending says that the hello waits for the session's older link to be probed;
	// a [Settled] answers it, after the policy's Probe at the latest.
	Pending bool
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
	// Refused are the rooms of a hello with OneByOne that the session may not enter.
	Refused []RefusedRoom
	// Set is the status that the person has set, empty when it follows their sessions,
	// and Hidden that they hide.
	Set    Appearance
	Hidden bool
	// Stale tells that the input came too late to mean anything: the session of a closing
	// beacon or a bye note has ended, or has a newer page; a newer typing report came.
	Stale bool
}

// RefusedRoom is a room that a session may not enter, and why.
type RefusedRoom struct {
	Room RoomName
	Err  *Refusal
}

// NotResumed is the reason for which a hello did not resume the session it named.
type NotResumed string

const (
	// UnknownSession: it has ended, was never there, or is not this person's.
	UnknownSession NotResumed = "unknown"
	// SessionInUse: another page holds it on a live link, as in a duplicated tab.
	SessionInUse NotResumed = "in-use"
)
