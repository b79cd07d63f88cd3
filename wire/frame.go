package wire

import (
	"encoding/json"
	"time"
)

// Version is the protocol version that a hello states.
const Version = 1

// MaxFrame is the size of the largest frame that the service accepts, in bytes.
const MaxFrame = 16 << 10

// Types of the frames that a client sends.
const (
	TypeHello    = "hello"
	TypeJoin     = "join"
	TypeLeave    = "leave"
	TypeWatch    = "watch"
	TypeUnwatch  = "unwatch"
	TypeBeat     = "beat" // the service sends it too, to ask for one
	TypeActivity = "activity"
	TypeIdle     = "idle"
	TypePage     = "page"
	TypeRenew    = "renew"
	TypeBye      = "bye"
	TypeClosing  = "closing"
	TypeTyping   = "typing" // the service sends it too, with the set of those who type
	TypeSent     = "sent"
	TypeStatus   = "status"
	TypeHide     = "hide"
	TypeSignOut  = "sign-out"
	TypeRemove   = "remove"
	TypeCue      = "cue" // the service sends it too, to those it is for
	TypeMembers  = "members"
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
)

// RequestFields are the fields that each type of request defines besides type and id, by
// their JSON names. Others are ignored, whatever they hold.
var RequestFields = map[string][]string{
	TypeJoin:     {"room", "detail"},
	TypeLeave:    {"room"},
	TypeWatch:    {"room", "detail", "people"},
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
	TypeStatus:   {"status", "note", "until"},
	TypeHide:     {"on"},
	TypeSignOut:  {},
	TypeRemove:   {"room", "user"},
	TypeCue:      {"name", "room", "user", "session", "everyone", "data"},
	TypeMembers:  {"room", "rev", "after", "limit"},
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

// Hello is the first frame of a link. Either Token (of a person: opens or
// resumes a session) or Key (of an operator: may only watch) is set.
type Hello struct {
	Type    string   `json:"type"`
	ID      ID       `json:"id,omitempty"`
	Version int      `json:"version"`
	Token   string   `json:"token,omitempty"`
	Key     string   `json:"key,omitempty"`
	Nonce   string   `json:"nonce,omitempty"`
	Resume  *Resume  `json:"resume,omitempty"`
	Rooms   []string `json:"rooms,omitzero"`
	// OneByOne asks for each room and watch separately: refused ones are listed in the
	// answer's dropped. Else one that is not given refuses the hello.
	OneByOne   bool    `json:"one_by_one,omitempty"`
	Detail     string  `json:"detail,omitempty"` // at which the rooms are followed: members when empty, count, none
	Watch      []Watch `json:"watch,omitempty"`
	PageHidden bool    `json:"page_hidden,omitempty"`
	IdleFor    *int64  `json:"idle_for,omitempty"` // milliseconds since the last activity
	// NoInput says that no human sits at the session, which the token has to grant.
	NoInput bool `json:"no_input,omitempty"`
	// WatchOnly asks for a link without a session: the person is not there.
	WatchOnly bool `json:"watch_only,omitempty"`
	// Revs are the revisions that the client has of rooms, from a link before.
	Revs map[string]string `json:"revs,omitempty"`
}

// Resume names the session that a client had, with its resume key.
type Resume struct {
	Session   string `json:"session"`
	ResumeKey string `json:"resume_key"`
}

// Details that a room can be watched at.
const (
	DetailCount   = "count"
	DetailMembers = "members"
	DetailNone    = "none" // of a join: to be in a room without following it
)

// Watch asks to follow the rooms that Room, a name or a pattern, names, or People,
// ids. One of them is set.
type Watch struct {
	Room   string   `json:"room,omitempty"`
	Detail string   `json:"detail,omitempty"` // members when empty
	People []string `json:"people,omitempty"`
}

// Request is any frame of a client other than hello.
type Request struct {
	Type       string `json:"type"`
	ID         ID     `json:"id,omitempty"`
	Room       string `json:"room,omitempty"`        // join, leave, watch, unwatch, typing, sent, members, cue
	Detail     string `json:"detail,omitempty"`      // join, watch
	PageHidden bool   `json:"page_hidden,omitempty"` // page
	// IdleFor is how long ago the activity was, in milliseconds.
	IdleFor int64  `json:"idle_for,omitempty"`
	Token   string `json:"token,omitempty"` // renew

	People []string `json:"people,omitempty"` // watch, unwatch

	On     *bool  `json:"on,omitempty"`     // typing, hide: true when left out
	Number uint64 `json:"number,omitempty"` // typing, sent: of the report; 0 lets the service number it

	Status string     `json:"status,omitempty"` // status: busy, away, or empty to follow the sessions
	Note   string     `json:"note,omitempty"`   // status
	Until  *time.Time `json:"until,omitempty"`  // status

	Rev   string `json:"rev,omitempty"`   // members: the revision; empty for a recent one
	After string `json:"after,omitempty"` // members: the last user of the page before
	Limit int    `json:"limit,omitempty"` // members: 200 when 0

	Name     string          `json:"name,omitempty"`     // cue
	User     string          `json:"user,omitempty"`     // cue: instead of a room; remove: who
	Session  string          `json:"session,omitempty"`  // cue: instead of a room
	Everyone bool            `json:"everyone,omitempty"` // cue to a room: the sender too
	Data     json.RawMessage `json:"data,omitempty"`     // cue: any JSON of up to 4 KB
}

// Answer says that a request was carried out. What it says besides depends on the
// request.
type Answer struct {
	Type     string `json:"type"`
	Re       ID     `json:"re,omitempty"`
	*Opened         // hello
	*Members        // members
	Links    *int   `json:"links,omitempty"` // cue: how many it went to
	Stale    bool   `json:"stale,omitempty"` // typing, sent: a newer report came before, so this one changed nothing
}

// Opened is what the answer to hello says. A link with an operator's key has no
// session and gets only Timings.
type Opened struct {
	Session    string   `json:"session,omitempty"`
	ResumeKey  string   `json:"resume_key,omitempty"`
	Link       uint32   `json:"link,omitempty"` // the number of this link in the session
	Resumed    bool     `json:"resumed"`
	NotResumed string   `json:"not_resumed,omitempty"` // unknown, in-use
	User       string   `json:"user,omitempty"`
	Rooms      []string `json:"rooms,omitempty"` // that the session is in
	// Dropped is what the hello asked for and does not get, when it asked one by one, and
	// rooms that a session may not be in any more.
	Dropped []Drop `json:"dropped,omitempty"`
	// Revs says of each room of which the hello had a revision what comes: current
	// (nothing was missed), changes, snapshot, or new-run (a snapshot, for the service
	// or the room has begun anew).
	Revs  map[string]string `json:"revs,omitempty"`
	Posts string            `json:"posts,omitempty"` // of an event stream: where its requests go
	// Own is what the person has set for all their sessions.
	Own     *Own    `json:"own,omitempty"`
	Timings Timings `json:"timings"`
}

// Own is a status that a person has set, empty when it follows their sessions, and
// whether they hide.
type Own struct {
	Status string `json:"status,omitempty"` // busy, away
	Note   string `json:"note,omitempty"`
	Until  *Time  `json:"until,omitempty"`
	Hiding bool   `json:"hiding"`
}

// OwnFrame says so when it changes, to all links of the person.
type OwnFrame struct {
	Type string `json:"type"`
	Own
}

// Timings tells a client what the service waits for, in milliseconds.
type Timings struct {
	BeatEvery       int64 `json:"beat_every"`       // a quiet link is asked for a beat this often
	Silence         int64 `json:"silence"`          // an unanswered request means that the link is lost
	GraceClosing    int64 `json:"grace_closing"`    // a page that said closing may return within it
	GraceLost       int64 `json:"grace_lost"`       // a lost link may return within it
	GraceBackground int64 `json:"grace_background"` // the same for a page that was hidden
	IdleAfter       int64 `json:"idle_after"`       // without activity, a session is idle
	// ActivityEvery is how often at most activity is reported.
	ActivityEvery int64 `json:"activity_every"`
	LongestGhost  int64 `json:"longest_ghost"` // whoever vanishes without a word is shown for at most so long
	// TypingExpires is how long typing lasts after a report; a room may differ.
	TypingExpires int64 `json:"typing_expires"`
}

// Beat asks for a sign of life, or is one.
type Beat struct {
	Type string `json:"type"`
}

// Expiring warns that the link is closed at a time unless a newer token comes.
type Expiring struct {
	Type    string `json:"type"`
	Expires Time   `json:"expires"`
}

// SnapshotFrame is a whole room. Rev is empty when nobody is in it.
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
	Count   Count      `json:"count"`
}

// Departed is a person who left a room.
type Departed struct {
	User     string `json:"user"`
	Status   string `json:"status"`
	Reason   string `json:"reason"`
	LastSeen Time   `json:"last_seen"`
}

// CountFrame is the newest count of a room that is watched at count.
type CountFrame struct {
	Type string `json:"type"`
	Room string `json:"room"`
	Rev  string `json:"rev"`
	Count
}

// TypingFrame is the set of those who type in a room, in the order in which they
// began. It comes to whoever follows the room at members.
type TypingFrame struct {
	Type  string   `json:"type"`
	Room  string   `json:"room"`
	Users []string `json:"users"`
}

// PersonFrame is what is seen of a person who is watched.
type PersonFrame struct {
	Type     string `json:"type"`
	User     string `json:"user"`
	Name     string `json:"name,omitempty"`    // as the directory had it when the watch began
	Picture  string `json:"picture,omitempty"` // the same
	Status   string `json:"status"`
	Note     string `json:"note,omitempty"`
	Until    *Time  `json:"until,omitempty"`
	LastSeen *Time  `json:"last_seen,omitempty"` // of somebody offline, if it is known
}

// CueFrame is a cue that somebody gave.
type CueFrame struct {
	Type string          `json:"type"`
	Name string          `json:"name"`
	From *Sender         `json:"from,omitempty"` // nil: the back end
	Room string          `json:"room,omitempty"` // when it was given to a room
	At   Time            `json:"at"`
	Data json.RawMessage `json:"data,omitempty"`
}

// Sender is who gave a cue.
type Sender struct {
	User    string `json:"user"`
	Session string `json:"session"`
}

// NewCue is a cue that the back end gives.
type NewCue struct {
	Name string          `json:"name"`           // 1 to 64 bytes
	Data json.RawMessage `json:"data,omitempty"` // any JSON of up to 4 KB
}

// CueGiven says to how many links a cue went.
type CueGiven struct {
	Links int `json:"links"`
}

// Moving says that the service goes away, and for how long to wait before coming
// back, so that not all come at once.
type Moving struct {
	Type  string `json:"type"`
	After int64  `json:"after"` // milliseconds
}

// Drop is a room, a pattern or a person that a client does not get, or no longer, and
// why.
type Drop struct {
	Room  string `json:"room,omitempty"`  // the session is not in it; with Watch a room or pattern that is not watched
	User  string `json:"user,omitempty"`  // a person whose watch was refused or ended
	Watch bool   `json:"watch,omitempty"` // it is about watching
	Problem
	Help string `json:"help"` // the path of the page on this code
}

// DropFrame tells of a Drop when it happens: a removal, a token that grants less.
type DropFrame struct {
	Type string `json:"type"`
	Drop
}

// Time is a time.Time that is written in UTC with milliseconds (RFC 3339).
type Time struct{ time.Time }

const layout = "2006-01-02T15:04:05.000Z07:00"

func (t Time) MarshalJSON() ([]byte, error) {
	return t.UTC().AppendFormat(append(make([]byte, 0, len(layout)+2), '"'), layout+`"`), nil
}
