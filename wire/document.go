package wire

import "encoding/json"

// Count says how many people and sessions are in a room.
type Count struct {
	People   int   `json:"people"`
	Sessions int   `json:"sessions"`
	Online   Tally `json:"online"` // of them, by the status of the person
	Away     Tally `json:"away"`
	Busy     Tally `json:"busy"`
}

// Tally is a part of a count.
type Tally struct {
	People   int `json:"people"`
	Sessions int `json:"sessions"`
}

// Member is a person in a room.
type Member struct {
	User     string `json:"user"`
	Name     string `json:"name,omitempty"`
	Picture  string `json:"picture,omitempty"`
	Status   string `json:"status" jsonschema:"enum=online,enum=away,enum=busy"`
	Label    string `json:"label,omitempty"`   // the application's own word for a set status
	Engaged  bool   `json:"engaged,omitempty"` // busy because of a room that engages
	Note     string `json:"note,omitempty"`    // that the person has set
	Until    *Time  `json:"until,omitempty"`   // when a set status ends
	Since    Time   `json:"since"`
	Sessions int    `json:"sessions"` // of the person in this room
	// Devices are the kinds of devices of these sessions, as far as they say.
	Devices []string `json:"devices,omitempty" jsonschema:"enum=desktop,enum=phone,enum=tablet,enum=device"`
	// Doing is what they are doing in this room: a JSON object; absent: nothing.
	Doing json.RawMessage `json:"doing,omitempty" jsonschema:"type=object"`
}

// Members is a room with its members, by user id.
type Members struct {
	Room    string   `json:"room"`
	Rev     string   `json:"rev"`
	Count   Count    `json:"count"`
	Members []Member `json:"members"`
	// Next is the after of the next page; absent on the last page.
	Next string `json:"next,omitempty"`
}

// Room is a room with its count.
type Room struct {
	Room string `json:"room"`
	Count
}

// Rooms is a page of rooms. Next is the after of the next page; absent on the last page.
type Rooms struct {
	Rooms []Room `json:"rooms"`
	Total int    `json:"total"` // how many rooms match, on all pages
	Next  string `json:"next,omitempty"`
}

// ClosingNote is the body of POST /v1/closing: a page's beacon.
type ClosingNote struct {
	Session   string `json:"session"`
	ResumeKey string `json:"resume_key"`
	Nonce     string `json:"nonce"`
}

// Ticket opens one event stream at the address Feed, within 30 seconds.
type Ticket struct {
	Ticket  string `json:"ticket"`
	Expires Time   `json:"expires"`
	Feed    string `json:"feed"`
}

// Beating is the body of PUT /v1/sessions/{id}: a beat over HTTP, with what has changed since
// the previous one.
type Beating struct {
	ResumeKey  string   `json:"resume_key,omitempty"` // empty for a new session
	Nonce      string   `json:"nonce,omitempty"`
	Rooms      []string `json:"rooms,omitzero"`   // the rooms to be in from now on; null keeps them
	Active     bool     `json:"active,omitempty"` // there was human input
	Idle       bool     `json:"idle,omitempty"`   // there is no human input
	PageHidden bool     `json:"page_hidden,omitempty"`
	NoInput    bool     `json:"no_input,omitempty"` // the session has no human input; the token must grant it
	Device     string   `json:"device,omitempty" jsonschema:"enum=desktop,enum=phone,enum=tablet,enum=device"`
	IdleFor    *int64   `json:"idle_for,omitempty"` // milliseconds
	Typing     []string `json:"typing,omitzero"`    // the rooms in which the person is typing now; null keeps them
	// Doing is what the person is doing, by room: an object, or null for nothing. Other rooms keep
	// what they have.
	Doing map[string]json.RawMessage `json:"doing,omitempty"`
	// Revs are the revisions of counts that the client has, by room.
	Revs map[string]string `json:"revs,omitempty"`
}

// Lease is the answer to a beat over HTTP.
type Lease struct {
	Session    string   `json:"session"`
	ResumeKey  string   `json:"resume_key"`
	Resumed    bool     `json:"resumed"`
	NotResumed string   `json:"not_resumed,omitempty" jsonschema:"enum=unknown,enum=in-use"`
	User       string   `json:"user"`
	Rooms      []string `json:"rooms"`
	Dropped    []Drop   `json:"dropped,omitempty"` // rooms that the session may no longer be in
	// Asked are the rooms that the session asks to be let into.
	Asked []Ask `json:"asked,omitempty"`
	// Invitations are the open invitations of the person, if there are any.
	Invitations *Invitations `json:"invitations,omitempty"`
	Lease       int64        `json:"lease"`  // milliseconds within which the next beat must come
	Counts      []Tallied    `json:"counts"` // of its rooms, those whose count has changed
}

// Tallied is the count of a room at a revision.
type Tallied struct {
	Room string `json:"room"`
	Rev  string `json:"rev"`
	Count
}

// Session is what the service knows about a session.
type Session struct {
	Session  string `json:"session"`
	State    string `json:"state" jsonschema:"enum=live,enum=grace,enum=ended"`
	*Unended        // absent when it has ended
}

// Unended is what the service knows about a session that has not ended.
type Unended struct {
	User   string `json:"user"`
	Over   string `json:"over" jsonschema:"enum=websocket,enum=stream,enum=beats"` // the kind of its link
	Opened Time   `json:"opened"`
	Reason string `json:"reason,omitempty"` // in grace: the reason that it will end with
	Link   uint64 `json:"link"`             // the number of its link; in grace, of its last link
	// LostAt is when its grace began.
	LostAt       *Time    `json:"lost_at,omitempty"`
	LastHeard    Time     `json:"last_heard"`
	LastActivity Time     `json:"last_activity"`
	Idle         bool     `json:"idle"`
	NoInput      bool     `json:"no_input,omitempty"` // without human input
	PageHidden   bool     `json:"page_hidden"`
	Device       string   `json:"device,omitempty" jsonschema:"enum=desktop,enum=phone,enum=tablet,enum=device"`
	Rooms        []string `json:"rooms"`
	// Next is what will happen to it if nothing more is heard, in order.
	Next []Upcoming `json:"next"`
}

// Upcoming is something that will happen to a session at a time: a code of [Acts].
type Upcoming struct {
	At   Time   `json:"at"`
	Act  string `json:"act"`
	Room string `json:"room,omitempty"`
}

// Practice is a room to practise in, with the people to play there.
type Practice struct {
	Room   string   `json:"room"`
	Gate   string   `json:"gate"` // a room that asks; the first of the people may admit there
	Call   string   `json:"call"` // a room that engages
	People []Player `json:"people"`
}

// Player is a person to play, with a token that is valid for an hour.
type Player struct {
	User  string `json:"user"`
	Name  string `json:"name"`
	Token string `json:"token"`
}

// ClosingAnswer tells whether the note had an effect. It had none if the session has ended, or has
// a newer page.
type ClosingAnswer struct {
	Applied bool `json:"applied"`
}
