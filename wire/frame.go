package wire

import (
	"encoding/json"
	"time"
)

// Version is the protocol version of a hello.
const Version = 1

// MaxFrame is the largest frame that the service accepts, in bytes.
const MaxFrame = 16 << 10

// Types of the frames that a client sends.
const (
	TypeHello    = "hello"
	TypeJoin     = "join"
	TypeLeave    = "leave"
	TypeWatch    = "watch"
	TypeUnwatch  = "unwatch"
	TypeBeat     = "beat" // also sent by the service, to ask for one
	TypeActivity = "activity"
	TypeIdle     = "idle"
	TypePage     = "page"
	TypeRenew    = "renew"
	TypeBye      = "bye"
	TypeClosing  = "closing"
	TypeTyping   = "typing" // also sent by the service, with the set of typists
	TypeSent     = "sent"
	TypeStatus   = "status"
	TypeHide     = "hide"
	TypeSignOut  = "sign-out"
	TypeRemove   = "remove"
	TypeCue      = "cue" // also sent by the service, to the recipients
	TypeMembers  = "members"
	TypeDoing    = "doing"
	TypeAdmit    = "admit"
	TypeRefuse   = "refuse"
	TypeInvite   = "invite"
	TypeAccept   = "accept"
	TypeDecline  = "decline"
	TypeWithdraw = "withdraw"
)

// Types of the frames that the service sends.
const (
	TypeAnswer   = "answer"
	TypeError    = "error"
	TypeSnapshot = "snapshot"
	TypeChanges  = "changes"
	TypeCount    = "count"
	TypeExpiring = "expiring"
	TypePerson   = "person"
	TypeMoving   = "moving"
	TypeDropped  = "dropped"
	TypeOwn      = "own"
	TypeAsks     = "asks" // the open asks of a room
	TypeAsk      = "ask"  // how an ask ended
	// TypeInvitations has the open invitations of a person, TypeInvitation says how one ended.
	TypeInvitations = "invitations"
	TypeInvitation  = "invitation"
)

// RequestFields lists the JSON names of the fields of each type of request, besides type and
// id. Other fields are ignored.
var RequestFields = map[string][]string{
	TypeJoin:     {"room", "detail", "without", "limit"},
	TypeLeave:    {"room"},
	TypeWatch:    {"room", "detail", "people", "without", "limit"},
	TypeUnwatch:  {"room", "people"},
	TypeBeat:     {},
	TypeActivity: {"idle_for"},
	TypeIdle:     {},
	TypePage:     {"page_hidden"},
	TypeRenew:    {"token"},
	TypeBye:      {},
	TypeClosing:  {},
	TypeTyping:   {"room", "on", "number"},
	TypeSent:     {"room", "number"},
	TypeStatus:   {"status", "label", "note", "until", "this_session"},
	TypeHide:     {"on"},
	TypeSignOut:  {},
	TypeRemove:   {"room", "user"},
	TypeCue:      {"name", "room", "user", "session", "everyone", "data"},
	TypeMembers:  {"room", "rev", "after", "limit"},
	TypeDoing:    {"room", "data", "number"},
	TypeAdmit:    {"ask", "room", "all"},
	TypeRefuse:   {"ask"},
	TypeInvite:   {"user", "room"},
	TypeAccept:   {"invitation", "detail"},
	TypeDecline:  {"invitation"},
	TypeWithdraw: {"invitation"},
}

// Close codes of a link, besides those of RFC 6455 (1000 after bye, 1001 when the
// service goes away, 1009 after a frame that is too large).
const (
	CloseRefused  = 4701 // an error before a valid hello, or one that cannot be mended
	CloseExpired  = 4702 // the token has expired, or a key is no longer in force
	CloseReplaced = 4703 // a newer link carries the session
	CloseSilent   = 4704 // nobody answered the beat requests
	CloseClosing  = 4705 // the page said that it is going away
	CloseEnded    = 4706 // the session has ended: signed out, removed, or replaced where a person may have one
	CloseSlow     = 4707 // the client does not read what it is sent
	CloseTooFast  = 4708 // the client sends more than it may, and was told
)

// ID is the id of a request, a string of at most 64 bytes or a whole number. Its
// answer repeats it as it was.
type ID = json.RawMessage

// Hello is the first frame of a link. It has either a Token, a person's, which opens or resumes a
// session, or a Key, an operator's, which may only watch.
type Hello struct {
	Type    string   `json:"type"`
	ID      ID       `json:"id,omitempty"`
	Version int      `json:"version"`
	Token   string   `json:"token,omitempty"`
	Key     string   `json:"key,omitempty"`
	Nonce   string   `json:"nonce,omitempty"`
	Resume  *Resume  `json:"resume,omitempty"`
	Rooms   []string `json:"rooms,omitzero"`
	// OneByOne asks for each room and watch separately: the answer lists the refused ones in
	// dropped. Without it, one refused room or watch refuses the hello.
	OneByOne bool `json:"one_by_one,omitempty"`
	// Without lists what the rooms are followed without: doing.
	Without []string `json:"without,omitempty"`
	// Limit gives the first members by id of each room only; 0: all.
	Limit int `json:"limit,omitempty"`
	// Device is the kind of the session's device: desktop, phone, tablet or device.
	Device     string  `json:"device,omitempty"`
	Detail     string  `json:"detail,omitempty"` // of following the rooms: members (if empty), count, none
	Watch      []Watch `json:"watch,omitempty"`
	PageHidden bool    `json:"page_hidden,omitempty"`
	IdleFor    *int64  `json:"idle_for,omitempty"` // milliseconds since the last activity
	// NoInput says that the session has no human input. The token must grant it.
	NoInput bool `json:"no_input,omitempty"`
	// WatchOnly asks for a link without a session: the person is not present.
	WatchOnly bool `json:"watch_only,omitempty"`
	// Revs are the revisions of rooms that the client has from an earlier link.
	Revs map[string]string `json:"revs,omitempty"`
}

// Resume names the session to resume, with its resume key.
type Resume struct {
	Session   string `json:"session"`
	ResumeKey string `json:"resume_key"`
}

// Details at which a room is followed.
const (
	DetailCount   = "count"
	DetailMembers = "members"
	DetailNone    = "none" // only of a join or hello: to be in a room without following it
)

// Watch asks to follow rooms or people: either Room, a name or pattern, or People, user ids,
// is set.
type Watch struct {
	Room   string   `json:"room,omitempty"`
	Detail string   `json:"detail,omitempty"` // members when empty
	People []string `json:"people,omitempty"`
	// Without lists what the room is followed without: doing.
	Without []string `json:"without,omitempty"`
	Limit   int      `json:"limit,omitempty"` // the first members by id only; 0: all
}

// Request is a frame of a client other than hello. The comments name the types that use a field.
type Request struct {
	Type       string `json:"type"`
	ID         ID     `json:"id,omitempty"`
	Room       string `json:"room,omitempty"`        // join, leave, watch, unwatch, typing, sent, members, cue
	Detail     string `json:"detail,omitempty"`      // join, watch
	PageHidden bool   `json:"page_hidden,omitempty"` // page
	// IdleFor says how many milliseconds ago the activity was.
	IdleFor int64  `json:"idle_for,omitempty"`
	Token   string `json:"token,omitempty"` // renew

	People  []string `json:"people,omitempty"`  // watch, unwatch
	Without []string `json:"without,omitempty"` // join, watch: doing leaves out what members are doing

	On     *bool  `json:"on,omitempty"`     // typing, hide: true if absent
	Number uint64 `json:"number,omitempty"` // typing, sent, doing: the number of the report; if 0, the service numbers it

	Status string     `json:"status,omitempty"` // status: busy, away, or empty to clear it
	Label  string     `json:"label,omitempty"`  // status: one of the policy's words for it
	Note   string     `json:"note,omitempty"`   // status
	Until  *time.Time `json:"until,omitempty"`  // status
	// ThisSession lets a status end with this session.
	ThisSession bool `json:"this_session,omitempty"`

	Ask        string `json:"ask,omitempty"`        // admit, refuse
	All        bool   `json:"all,omitempty"`        // admit: everybody who asks about the room
	Invitation string `json:"invitation,omitempty"` // accept, decline, withdraw

	Rev   string `json:"rev,omitempty"`   // members: the revision; if empty, a recent one
	After string `json:"after,omitempty"` // members: the last user of the previous page
	Limit int    `json:"limit,omitempty"` // members: 200 if 0; join, watch: the first members by id only, all if 0

	Name     string          `json:"name,omitempty"`     // cue
	User     string          `json:"user,omitempty"`     // cue: the recipient; remove: the person
	Session  string          `json:"session,omitempty"`  // cue: the recipient
	Everyone bool            `json:"everyone,omitempty"` // cue to a room: includes the sender
	Data     json.RawMessage `json:"data,omitempty"`     // cue: any JSON, at most 4 KB; doing: an object, or null for none
}

// Answer says that a request was carried out. Further fields depend on the request.
type Answer struct {
	Type     string `json:"type"`
	Re       ID     `json:"re,omitempty"`
	*Opened         // hello
	*Members        // members
	Links    *int   `json:"links,omitempty"` // cue: how many links it was sent to
	Stale    bool   `json:"stale,omitempty"` // typing, sent, doing: a newer report arrived earlier, so this one had no effect
	// Ask says that the session is not in the room of a join yet: it asks to be let in.
	Ask *Ask `json:"ask,omitempty"`
	// Admitted counts the people let in by an admit with all. NotAdmitted counts those who still
	// ask, because the room is full or they are engaged.
	Admitted    *int `json:"admitted,omitempty"`
	NotAdmitted *int `json:"not_admitted,omitempty"`
	// Invitation is the id of the invitation that an invite opened.
	Invitation string `json:"invitation,omitempty"`
	Joined     string `json:"joined,omitempty"` // accept: the room that the session is in now
}

// Opened is the content of the answer to hello. A link with an operator's key has no session, and
// gets only Timings.
type Opened struct {
	Session    string   `json:"session,omitempty"`
	ResumeKey  string   `json:"resume_key,omitempty"`
	Link       uint64   `json:"link,omitempty"` // the number of this link within the session
	Resumed    bool     `json:"resumed"`
	NotResumed string   `json:"not_resumed,omitempty"` // unknown, in-use
	User       string   `json:"user,omitempty"`
	Rooms      []string `json:"rooms,omitempty"` // the rooms that the session is in
	// Dropped lists what a one-by-one hello asked for and does not get, and rooms that the
	// session may no longer be in.
	Dropped []Drop `json:"dropped,omitempty"`
	// Revs says, for each room in the hello's revs, what follows: current (nothing was missed),
	// changes, snapshot, or new-run (a snapshot, because the service or the room restarted).
	Revs  map[string]string `json:"revs,omitempty"`
	Posts string            `json:"posts,omitempty"` // of an event stream: the address of its requests
	// Asked are the rooms that the session asks to be let into.
	Asked []Ask `json:"asked,omitempty"`
	// Invitations are the open invitations of the person, if there are any.
	Invitations *Invitations `json:"invitations,omitempty"`
	// Own is what the person has set for all of their sessions.
	Own     *Own    `json:"own,omitempty"`
	Timings Timings `json:"timings"`
}

// Own is what a person has set: a status, empty if none is set, and whether they hide.
type Own struct {
	Status string `json:"status,omitempty"` // busy, away
	Label  string `json:"label,omitempty"`
	Note   string `json:"note,omitempty"`
	Until  *Time  `json:"until,omitempty"`
	Hiding bool   `json:"hiding"`
}

// OwnFrame tells all links of a person that Own has changed.
type OwnFrame struct {
	Type string `json:"type"`
	Own
}

// Timings are the times of the policy that a client needs, in milliseconds.
type Timings struct {
	BeatEvery       int64 `json:"beat_every"`       // a quiet link is asked for a beat after this
	Silence         int64 `json:"silence"`          // a link that does not answer within this is lost
	GraceClosing    int64 `json:"grace_closing"`    // how long a page that said closing may return
	GraceLost       int64 `json:"grace_lost"`       // how long a session whose link is lost may return
	GraceBackground int64 `json:"grace_background"` // the same for a hidden page
	IdleAfter       int64 `json:"idle_after"`       // without activity for this long, a session is idle
	// ActivityEvery is the shortest time between two reports of activity.
	ActivityEvery int64 `json:"activity_every"`
	LongestGhost  int64 `json:"longest_ghost"` // how long at most a person stays listed whose link died silently
	// TypingExpires is how long typing lasts after a report. A room's policy may differ.
	TypingExpires int64 `json:"typing_expires"`
}

// Beat is a request for a beat, or a beat.
type Beat struct {
	Type string `json:"type"`
}

// Expiring warns that the link will be closed at a time unless the token is renewed.
type Expiring struct {
	Type    string `json:"type"`
	Expires Time   `json:"expires"`
}

// SnapshotFrame is a whole room. Rev is empty if nobody is in it.
type SnapshotFrame struct {
	Type string `json:"type"`
	Members
}

// Changes leads from the revision Prev of a room to Rev.
type Changes struct {
	Type    string     `json:"type"`
	Room    string     `json:"room"`
	Rev     string     `json:"rev"`
	Prev    string     `json:"prev"`
	At      Time       `json:"at"`
	Joined  []Member   `json:"joined,omitempty"`
	Changed []Member   `json:"changed,omitempty"`
	Left    []Departed `json:"left,omitempty"`
	Doing   []Doing    `json:"doing,omitempty"` // members who only changed what they are doing
	Count   Count      `json:"count"`
}

// Doing is what a member is doing in a room.
type Doing struct {
	User  string          `json:"user"`
	Doing json.RawMessage `json:"doing"` // an object, or null for nothing
}

// Ask is somebody who asks to be let into a room.
type Ask struct {
	Ask     string `json:"ask"` // its id
	Room    string `json:"room"`
	User    string `json:"user"`
	Name    string `json:"name,omitempty"`
	Picture string `json:"picture,omitempty"`
	Since   Time   `json:"since"`
	Until   Time   `json:"until"` // when it expires without an answer
}

// AsksFrame has all open asks of a room, the oldest first. It is sent to its members who may
// admit.
type AsksFrame struct {
	Type string `json:"type"`
	Room string `json:"room"`
	Asks []Ask  `json:"asks"`
}

// AskFrame tells the session that asked how its ask ended: a code of [Outcomes].
type AskFrame struct {
	Type    string `json:"type"`
	Ask     string `json:"ask"`
	Room    string `json:"room"`
	Outcome string `json:"outcome"`
	By      string `json:"by,omitempty"` // the user who answered
	// Again is when somebody who was refused may ask again.
	Again *Time `json:"again,omitempty"`
}

// Invitation is an invitation that waits for an answer.
type Invitation struct {
	Invitation string `json:"invitation"` // its id
	Room       string `json:"room"`
	From       Party  `json:"from"`
	To         Party  `json:"to"`
	Since      Time   `json:"since"`
	Until      Time   `json:"until"` // when it expires without an answer
}

// Party is a person who invites or is invited.
type Party struct {
	User    string `json:"user"`
	Name    string `json:"name,omitempty"`
	Picture string `json:"picture,omitempty"`
}

// Invitations are the open invitations of a person, the oldest first.
type Invitations struct {
	Received []Invitation `json:"received"`
	Sent     []Invitation `json:"sent"`
}

// InvitationsFrame tells all links of a person that Invitations have changed.
type InvitationsFrame struct {
	Type string `json:"type"`
	Invitations
}

// InvitationFrame tells the links of both sides how an invitation ended: a code of [Outcomes].
type InvitationFrame struct {
	Type    string `json:"type"`
	Outcome string `json:"outcome"`
	Invitation
}

// Departed is a person who left a room.
type Departed struct {
	User     string `json:"user"`
	Status   string `json:"status"`
	Reason   string `json:"reason"`
	LastSeen Time   `json:"last_seen"`
}

// CountFrame is the newest count of a room that is followed at count.
type CountFrame struct {
	Type string `json:"type"`
	Room string `json:"room"`
	Rev  string `json:"rev"`
	Count
}

// TypingFrame is the set of typists in a room, in the order in which they began. It is sent to
// followers at members.
type TypingFrame struct {
	Type  string   `json:"type"`
	Room  string   `json:"room"`
	Users []string `json:"users"`
}

// PersonFrame is the status of a watched person.
type PersonFrame struct {
	Type     string `json:"type"`
	User     string `json:"user"`
	Name     string `json:"name,omitempty"`    // from the directory, when the watch began
	Picture  string `json:"picture,omitempty"` // the same
	Status   string `json:"status"`
	Label    string `json:"label,omitempty"`
	Engaged  bool   `json:"engaged,omitempty"` // busy because of a room that engages
	Note     string `json:"note,omitempty"`
	Until    *Time  `json:"until,omitempty"`
	LastSeen *Time  `json:"last_seen,omitempty"` // of an offline person, if known
}

// CueFrame is a cue, as its recipients get it.
type CueFrame struct {
	Type string          `json:"type"`
	Name string          `json:"name"`
	From *Sender         `json:"from,omitempty"` // absent: the back end
	Room string          `json:"room,omitempty"` // if it was given to a room
	At   Time            `json:"at"`
	Data json.RawMessage `json:"data,omitempty"`
}

// Sender is the person and session that gave a cue.
type Sender struct {
	User    string `json:"user"`
	Session string `json:"session"`
}

// NewCue is a cue of the back end.
type NewCue struct {
	Name string          `json:"name"`           // 1 to 64 bytes
	Data json.RawMessage `json:"data,omitempty"` // any JSON, at most 4 KB
}

// CueGiven says how many links a cue was sent to.
type CueGiven struct {
	Links int `json:"links"`
}

// Moving says that the service is about to stop, and how long to wait before reconnecting, so
// that clients do not all reconnect at once.
type Moving struct {
	Type  string `json:"type"`
	After int64  `json:"after"` // milliseconds
}

// Drop is a room, a pattern or a person that a client does not get, or no longer gets, with the
// reason.
type Drop struct {
	Room  string `json:"room,omitempty"`  // a room that the session is not in; with Watch, a room or pattern that is not watched
	User  string `json:"user,omitempty"`  // a person who is not watched
	Watch bool   `json:"watch,omitempty"` // it is about watching
	Problem
	Help string `json:"help"` // the path of the page on the code
}

// DropFrame reports a Drop when it happens, as after a removal, or when a renewed token grants less.
type DropFrame struct {
	Type string `json:"type"`
	Drop
}

// Time is a time.Time that marshals in UTC with milliseconds (RFC 3339).
type Time struct{ time.Time }

const layout = "2006-01-02T15:04:05.000Z07:00"

func (t Time) MarshalJSON() ([]byte, error) {
	return t.UTC().AppendFormat(append(make([]byte, 0, len(layout)+2), '"'), layout+`"`), nil
}

// TimeOf converts a time in Unix milliseconds; zero becomes nil.
func TimeOf(at int64) *Time {
	if at == 0 {
		return nil
	}
	return &Time{Time: time.UnixMilli(at)}
}
