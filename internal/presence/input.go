package presence

import "time"

// Input is something that happened, given to [Core.Apply]: one of the types of this file. Inputs
// with a field From come over a link and are a sign of life. The others come from the service
// itself, its operators and back ends.
type Input interface{ input() }

// Hello opens a session, or resumes one, on a new link. It is applied whole or refused whole.
//
// Session, Key and Nonce are what the client has kept; they are empty on a first visit.
// NewSession and NewKey are used if a new session is needed, because the core makes no random
// values.
type Hello struct {
	// Attempt identifies this hello in a later [Settled].
	Attempt uint64

	User    UserID
	Profile Profile

	// Issued and Expires are the times of the person's token in Unix milliseconds. Expires 0
	// means never.
	Issued, Expires int64

	Session SessionID
	Key     string
	Nonce   string // a name for this load of the page, or this run of the process

	NewSession SessionID
	NewKey     string
	// NewAsk is the id of the ask that it opens, if it must ask to be let into a room; further
	// ones get ids made from it.
	NewAsk AskID

	// Rooms are the rooms that the session is in from now on. Nil keeps the rooms of a resumed
	// session; an empty list leaves all.
	Rooms []RoomName
	// OneByOne lets the session into those of Rooms that it may enter; the others are in
	// [Reply.Refused]. Without it, a room that the session may not enter refuses the hello.
	OneByOne bool
	// Grants are the rooms that the token grants. A resumed session leaves all others. Nil means
	// all rooms.
	Grants []Pattern
	// Admits are the rooms into which the token allows to let others.
	Admits []Pattern
	// Report is what has happened at a leased session since its last hello, or nil.
	Report *Report

	// Leased says that the session has no connection: it sends a hello again and again, each
	// within the policy's lease, and each is a sign of life.
	Leased bool
	// Stream says that the link is an event stream with posts, not a WebSocket.
	Stream bool
	// NoInput says that the session has no human input (a device, a bot), so that it is active
	// while it is alive. The caller checks whether the token allows that.
	NoInput bool
	// Device is what kind of device the session is on.
	Device Device
	// PageHidden says that the page is hidden.
	PageHidden bool
	// IdleFor is the time since the last activity. Nil: a resumed session stays as it was, a new
	// one is active.
	IdleFor *time.Duration
}

// Report is what a session without a connection reports with its hello.
type Report struct {
	Active bool       // there was human input
	Idle   bool       // there is no human input; never together with Active
	Typing []RoomName // the rooms in which the person is typing now; nil keeps them
	// Doing is what the person is doing now, by room: a JSON object, or empty for nothing. Other
	// rooms keep what they have.
	Doing map[RoomName]string
}

// Withdraw removes a pending hello whose connection has ended. It does not affect a settled one.
type Withdraw struct {
	Session SessionID // named by the hello
	Attempt uint64
}

// Join puts the session into a room, which is created if needed. Joining a room twice is not an
// error and changes nothing.
type Join struct {
	From   LinkID
	Room   RoomName
	NewAsk AskID // the id of the ask that it opens, if the session must ask to be let in
}

// Leave takes the session out of a room, or withdraws its ask to be let in.
type Leave struct {
	From LinkID
	Room RoomName
}

// Beat is a sign of life: any frame that the client's own code sends.
type Beat struct{ From LinkID }

// Activity is a sign of human input at the session, now or IdleFor ago.
type Activity struct {
	From    LinkID
	IdleFor time.Duration
}

// Idle says that there is no human input at the session now.
type Idle struct{ From LinkID }

// PageHidden says whether the page of the session is hidden.
type PageHidden struct {
	From   LinkID
	Hidden bool
}

// Typing reports that the person is typing in a room, or has stopped. The reports of a link
// about a room are numbered from 1. A report that is not newer than the last one changes
// nothing, and sets [Reply.Stale]. Number 0 means the next number.
type Typing struct {
	From   LinkID
	Room   RoomName
	Number uint64
	On     bool
}

// Sent says that the text was sent. It is a report like Typing.
type Sent struct {
	From   LinkID
	Room   RoomName
	Number uint64
}

// Doing reports what the person is doing in a room. Its reports are numbered like those of
// [Typing].
type Doing struct {
	From   LinkID
	Room   RoomName
	Number uint64
	Object string // a JSON object without insignificant space, or empty for none
}

// AnswerAsk admits the person of an ask, or refuses them, at the word of a member who may.
type AnswerAsk struct {
	From  LinkID
	Ask   AskID
	Admit bool
}

// DecideAsk is the same at the word of the back end.
type DecideAsk struct {
	Ask   AskID
	Admit bool
}

// Invite invites a person into a room. The caller checks that the token of the session allows
// that.
type Invite struct {
	From LinkID
	To   UserID
	Room RoomName
	New  InvitationID
	// Anywhere says that the token shows the other person wherever they are. Otherwise they must
	// be in a room with the one who invites.
	Anywhere bool
}

// InviteFor invites a person into a room on behalf of another one.
type InviteFor struct {
	User UserID // who invites
	To   UserID
	Room RoomName
	New  InvitationID
}

// Accept lets the session into the room of an invitation that its person received.
type Accept struct {
	From       LinkID
	Invitation InvitationID
}

// Decline declines an invitation that the person received.
type Decline struct {
	From       LinkID
	Invitation InvitationID
}

// TakeBack withdraws an invitation that the person sent.
type TakeBack struct {
	From       LinkID
	Invitation InvitationID
}

// EndInvitation withdraws an invitation at the word of the back end.
type EndInvitation struct{ Invitation InvitationID }

// GrantPass admits a person to a room until a time, in Unix milliseconds.
type GrantPass struct {
	User  UserID
	Room  RoomName
	Until int64
}

// RevokePass ends a pass. A member stays in the room.
type RevokePass struct {
	User UserID
	Room RoomName
}

// Renew is a newer token of the same person.
type Renew struct {
	From            LinkID
	Profile         Profile
	Issued, Expires int64     // as in Hello
	Grants          []Pattern // as in Hello
	Admits          []Pattern // as in Hello
}

// BeatWritten says that the beat request of an [AskBeat] has been written to the link. Silence
// counts from now. Probe says that the request was a probe's: what the link says from now on is an
// answer to it.
type BeatWritten struct {
	To    LinkID
	Probe bool
}

// Bye ends the session now. The caller closes the connection.
type Bye struct{ From LinkID }

// Closing says that the page is closing or reloading. It comes over the link, and nothing after
// it counts there. The caller closes the connection.
type Closing struct{ From LinkID }

// ClosingBeacon is the same, but sent beside the link. It proves itself with the resume key and
// the nonce of the page. If it arrives after the next page took over, it changes nothing.
type ClosingBeacon struct {
	Session SessionID
	Key     string
	Nonce   string
}

// ByeNote is a bye sent beside the link. It proves itself with the resume key.
type ByeNote struct {
	Session SessionID
	Key     string
}

// LinkLost says that the connection of a link has ended.
type LinkLost struct{ Link LinkID }

// SetStatus sets a person's status to Busy or Away, or with an empty Status a note or a label
// alone; all empty clear what is set. What is set outlives the sessions. Until, in Unix milliseconds, is its
// end; 0 means never.
type SetStatus struct {
	User   UserID
	Status Status
	Note   string
	Until  int64
	// Label is the application's own word for the status, one of those in the policy.
	Label string
	// Session is a session of the person with which the status ends; empty: with none.
	Session SessionID
}

// Hide hides a person in the open view, or shows them again.
type Hide struct {
	User   UserID
	Hidden bool
}

// SignOut ends all sessions of a person now.
type SignOut struct{ User UserID }

// EndSession ends one session now, by order of an operator.
type EndSession struct{ Session SessionID }

// Remove removes a person from a room, or with an empty Room from the realm. From then on it
// refuses their tokens issued until now: for that room, or for everything.
type Remove struct {
	User   UserID
	By     string // for the record: the key with which it is done
	Room   RoomName
	Issued int64 // when their newest token was issued that is known, in Unix milliseconds; 0: none is
}

// Refuse refuses tokens issued until a time, in Unix milliseconds, as after a Remove at that
// time. It is for a service that has restarted.
type Refuse struct {
	User UserID
	Room RoomName // empty: the realm
	At   int64
}

// Erase ends all sessions of a person and forgets everything about them, including their
// removals.
type Erase struct{ User UserID }

// Declare makes a room exist while nobody is in it, or ends that.
type Declare struct {
	Room     RoomName
	Declared bool
}

// SetPolicy replaces the policy. A grace or a typing that has begun keeps its length. Beats,
// idleness, leases and the expiry of tokens follow the new policy from now on. The work grows
// with the number of rooms and sessions.
type SetPolicy struct{ Policy Policy }

// From returns the link over which an input comes; empty if it comes over none.
func From(in Input) LinkID {
	switch in := in.(type) {
	case Join:
		return in.From
	case Leave:
		return in.From
	case Beat:
		return in.From
	case Activity:
		return in.From
	case Idle:
		return in.From
	case PageHidden:
		return in.From
	case Typing:
		return in.From
	case Sent:
		return in.From
	case Renew:
		return in.From
	case Bye:
		return in.From
	case Closing:
		return in.From
	case Doing:
		return in.From
	case AnswerAsk:
		return in.From
	case Invite:
		return in.From
	case Accept:
		return in.From
	case Decline:
		return in.From
	case TakeBack:
		return in.From
	}
	return LinkID{}
}

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
func (Doing) input()         {}
func (AnswerAsk) input()     {}
func (DecideAsk) input()     {}
func (Invite) input()        {}
func (InviteFor) input()     {}
func (Accept) input()        {}
func (Decline) input()       {}
func (TakeBack) input()      {}
func (EndInvitation) input() {}
func (GrantPass) input()     {}
func (RevokePass) input()    {}

// Reply is the answer to an accepted input. It is empty except for [Hello], [ClosingBeacon],
// [ByeNote], [Join], [Accept], [Typing], [Sent], [Doing] and [Invite].
type Reply struct {
	// Pending says that the hello waits for a probe of the session's old link. A [Settled]
	// answers it, at the latest after the policy's Probe.
	Pending bool
	// Link is the link that the session has from now on.
	Link LinkID
	// Key is the secret with which the client can resume the session.
	Key string
	// Opened is when the session was opened, in Unix milliseconds.
	Opened int64
	// Resumed says that the session existed before. If the client named a session and Resumed is
	// false, NotResumed says why.
	Resumed    bool
	NotResumed NotResumed
	// Rooms are the rooms that the session is in, in the order of joining; of [Accept], the room into
	// which it was let.
	Rooms []RoomName
	// Refused are the rooms of a hello with OneByOne that the session may not enter.
	Refused []RefusedRoom
	// Set is the status that the person has set, empty if it follows their sessions. Hidden says
	// that they hide.
	Set    Appearance
	Hidden bool
	// Asked are the asks that the session waits for: of a join the one that it opened, of a hello
	// all.
	Asked []OpenAsk
	// Invitation is the invitation that an invite opened, or the open one that was there already.
	Invitation InvitationID
	// Invitations are the open invitations of the person, in answer to a hello.
	Invitations Invitations
	// Stale says that the input came too late to have an effect: the session of a closing beacon
	// or a bye note has ended or has a newer page, or a newer typing report came first.
	Stale bool
}

// RefusedRoom is a room that a session may not enter, and why.
type RefusedRoom struct {
	Room RoomName
	Err  *Refusal
}

// NotResumed is the reason why a hello did not resume the session that it named.
type NotResumed string

const (
	// UnknownSession: it has ended, never existed, or is another person's.
	UnknownSession NotResumed = "unknown"
	// SessionInUse: another page has it on a live link, as with a duplicated tab.
	SessionInUse NotResumed = "in-use"
)
