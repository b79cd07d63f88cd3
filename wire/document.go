package wire

// Count says how many are in a room.
type Count struct {
	People   int   `json:"people"`
	Sessions int   `json:"sessions"`
	Online   Tally `json:"online"` // the same by the status of the person
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
	Status   string `json:"status"`          // online, away, busy
	Note     string `json:"note,omitempty"`  // of a set status
	Until    *Time  `json:"until,omitempty"` // when a set status ends
	Since    Time   `json:"since"`
	Sessions int    `json:"sessions"` // of the person in this room
}

// Members is a room with everybody in it, ordered by user.
type Members struct {
	Room    string   `json:"room"`
	Rev     string   `json:"rev"`
	Count   Count    `json:"count"`
	Members []Member `json:"members"`
	// Next, when set, tells that there are more: it is what to pass as after for the
	// page that follows.
	Next string `json:"next,omitempty"`
}

// Room is a room with its count.
type Room struct {
	Room string `json:"room"`
	Count
}

// Rooms is a page of rooms ordered by name. Next, when set, is the name to pass
// as after for the next page.
type Rooms struct {
	Rooms []Room `json:"rooms"`
	Total int    `json:"total"` // rooms that match, on all pages
	Next  string `json:"next,omitempty"`
}

// ClosingNote is the body of POST /v1/closing, as a page's beacon sends it.
type ClosingNote struct {
	Session   string `json:"session"`
	ResumeKey string `json:"resume_key"`
	Nonce     string `json:"nonce"`
}

// Ticket opens one event stream within half a minute, by the address Feed.
type Ticket struct {
	Ticket  string `json:"ticket"`
	Expires Time   `json:"expires"`
	Feed    string `json:"feed"`
}

// Beating is the body of PUT /v1/sessions/{id}: a session without a connection says
// that it is there, and what has become of it since.
type Beating struct {
	ResumeKey  string   `json:"resume_key,omitempty"` // empty for a new session
	Nonce      string   `json:"nonce,omitempty"`
	Rooms      []string `json:"rooms,omitzero"`   // to be in from now on; null keeps them
	Active     bool     `json:"active,omitempty"` // a human has done something
	Idle       bool     `json:"idle,omitempty"`   // nobody is there
	PageHidden bool     `json:"page_hidden,omitempty"`
	NoInput    bool     `json:"no_input,omitempty"` // no human sits at the session, which the token has to grant
	IdleFor    *int64   `json:"idle_for,omitempty"` // milliseconds
	Typing     []string `json:"typing,omitzero"`    // the rooms in which the person types now; null leaves it
	// Revs are the revisions of the counts that the client has.
	Revs map[string]string `json:"revs,omitempty"`
}

// Lease answers it.
type Lease struct {
	Session    string    `json:"session"`
	ResumeKey  string    `json:"resume_key"`
	Resumed    bool      `json:"resumed"`
	NotResumed string    `json:"not_resumed,omitempty"` // unknown, in-use
	User       string    `json:"user"`
	Rooms      []string  `json:"rooms"`
	Dropped    []Drop    `json:"dropped,omitempty"` // rooms in which the session may not be any more
	Lease      int64     `json:"lease"`             // milliseconds within which to come again
	Counts     []Tallied `json:"counts"`            // of its rooms, those that have changed
}

// Tallied is the count of a room at a revision.
type Tallied struct {
	Room string `json:"room"`
	Rev  string `json:"rev"`
	Count
}

// Session is what the service knows of a session: GET /v1/sessions/{id}.
type Session struct {
	Session  string `json:"session"`
	State    string `json:"state"` // live, grace, ended
	*Unended        // nil when it has ended
}

// Unended is what there is to know of a session before its end.
type Unended struct {
	User   string `json:"user"`
	Over   string `json:"over"` // what kind of link: websocket, stream, beats
	Opened Time   `json:"opened"`
	Reason string `json:"reason,omitempty"` // in grace: what it ends with
	Link   uint32 `json:"link"`             // the number of its link, the last one when it is in grace
	// LostAt is since when it is in grace.
	LostAt       *Time    `json:"lost_at,omitempty"`
	LastHeard    Time     `json:"last_heard"`
	LastActivity Time     `json:"last_activity"`
	Idle         bool     `json:"idle"`
	NoInput      bool     `json:"no_input,omitempty"` // no human sits at it
	PageHidden   bool     `json:"page_hidden"`
	Rooms        []string `json:"rooms"`
	// Next is what becomes of it if nothing more is heard, the first at the front.
	Next []Upcoming `json:"next"`
}

// Upcoming is something that will happen to a session, or to it in a room.
type Upcoming struct {
	At   Time   `json:"at"`
	Act  string `json:"act"`
	Room string `json:"room,omitempty"`
}

// Practice is a room to practise in, and those whom to play there: the answer of POST
// /v1/practice.
type Practice struct {
	Room   string   `json:"room"`
	People []Player `json:"people"`
}

// Player is somebody to be played, with their token, which is valid for an hour.
type Player struct {
	User  string `json:"user"`
	Name  string `json:"name"`
	Token string `json:"token"`
}

// ClosingAnswer tells whether the note meant anything: not when the session has
// ended or has a newer page.
type ClosingAnswer struct {
	Applied bool `json:"applied"`
}
