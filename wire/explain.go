package wire

// Explanation says why a person is shown as they are, with the evidence.
type Explanation struct {
	User   string `json:"user"`
	Name   string `json:"name,omitempty"`
	Room   string `json:"room,omitempty"` // that was asked about
	At     Time   `json:"at"`
	Status string `json:"status"`
	Note   string `json:"note,omitempty"`
	Until  *Time  `json:"until,omitempty"`
	// Open is what those see who do not see who hides, where it differs.
	Open string `json:"open,omitempty"`
	// Words are sentences that say it.
	Words []string `json:"words"`
	// Rules are those that decide a status, in the order in which they are tried.
	Rules []RuleTried `json:"rules"`
	// Member is how they are in the room, when they are.
	Member   *Member   `json:"member,omitempty"`
	Typing   bool      `json:"typing,omitempty"`
	Sessions []Session `json:"sessions"`
	// Last is the last entry of the journal that ended what is no longer.
	Last *Record `json:"last,omitempty"`
}

// RuleTried is one of the rules that decide a status.
type RuleTried struct {
	Rule    string `json:"rule"`
	Status  string `json:"status"`  // what it would make
	Holds   bool   `json:"holds"`   // whether what it asks for is so
	Decides bool   `json:"decides"` // it is the first that holds
}

// Sessions are sessions by person. Next, when set, is the after of the next page.
type Sessions struct {
	Sessions []Session `json:"sessions"`
	Next     string    `json:"next,omitempty"`
}

// CountsAsked names rooms.
type CountsAsked struct {
	Rooms []string `json:"rooms"`
}

// Counts are the counts of rooms, in the order in which they were asked for. A room that
// is not there has nobody in it.
type Counts struct {
	Counts []Room `json:"counts"`
}

// StatusesAsked names people.
type StatusesAsked struct {
	Users []string `json:"users"`
}

// Statuses are what is seen of people, in the order in which they were asked for.
type Statuses struct {
	Statuses []PersonStatus `json:"statuses"`
}

// PersonStatus is what is seen of a person as such.
type PersonStatus struct {
	User     string `json:"user"`
	Status   string `json:"status"`
	Note     string `json:"note,omitempty"`
	Until    *Time  `json:"until,omitempty"`
	LastSeen *Time  `json:"last_seen,omitempty"`
}

// StatusWanted is what a person's status is to be set to; nothing lets it follow their
// sessions again.
type StatusWanted struct {
	Status string `json:"status"`
	Note   string `json:"note,omitempty"`
	Until  *Time  `json:"until,omitempty"`
}

// PersonRooms are the rooms that a person is in, by name.
type PersonRooms struct {
	User  string       `json:"user"`
	Rooms []PersonRoom `json:"rooms"`
}

// PersonRoom is a room that a person is in.
type PersonRoom struct {
	Room     string `json:"room"`
	Since    Time   `json:"since"`    // when they came
	Sessions int    `json:"sessions"` // of the person in this room
	Typing   bool   `json:"typing"`
	People   int    `json:"people"` // in the room
}

// Policy says what applies to a room. Times are milliseconds.
type Policy struct {
	Room            string `json:"room,omitempty"`
	Pattern         string `json:"pattern,omitempty"` // that the room matches best; the realm's when left out
	GraceClosing    int64  `json:"grace_closing"`
	GraceLost       int64  `json:"grace_lost"`
	GraceBackground int64  `json:"grace_background"`
	TypingExpires   int64  `json:"typing_expires"`
	CountEvery      int64  `json:"count_every"`
	Capacity        int    `json:"capacity,omitempty"` // any number when left out
	MembersMax      int    `json:"members_max"`
	// What follows is of sessions, and the same everywhere.
	BeatEvery int64    `json:"beat_every"`
	Silence   int64    `json:"silence"`
	IdleAfter int64    `json:"idle_after"`
	Lease     int64    `json:"lease"`
	Second    string   `json:"second_session"` // of a person: allow, replace, refuse
	Ghost     int64    `json:"longest_ghost"`  // how long at most somebody is shown whose link died without a word
	Words     []string `json:"words"`
}

// Policies are those of the realm and of each pattern.
type Policies struct {
	Policies []Policy `json:"policies"`
}
