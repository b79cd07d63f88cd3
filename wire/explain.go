package wire

// Explanation says how a person is shown and why, with the evidence.
type Explanation struct {
	User   string `json:"user"`
	Name   string `json:"name,omitempty"`
	Room   string `json:"room,omitempty"` // the room that was asked about
	At     Time   `json:"at"`
	Status string `json:"status" jsonschema:"enum=online,enum=away,enum=busy,enum=offline"`
	Note   string `json:"note,omitempty"`
	Until  *Time  `json:"until,omitempty"`
	// Open is the status in the open view, if it differs.
	Open string `json:"open,omitempty" jsonschema:"enum=online,enum=away,enum=busy,enum=offline"`
	// Words explain it in sentences.
	Words []string `json:"words"`
	// Rules are the rules that decide a status, in the order in which they are tried.
	Rules []RuleTried `json:"rules"`
	// Member is the person as a member of the room; absent if they are not in it.
	Member   *Member   `json:"member,omitempty"`
	Typing   bool      `json:"typing,omitempty"`
	Sessions []Session `json:"sessions"`
	// Last is the journal entry that says how the last session, or the stay in the room, ended.
	Last *Record `json:"last,omitempty"`
}

// RuleTried is a rule that may decide a status: a code of [Rules].
type RuleTried struct {
	Rule    string `json:"rule"`
	Status  string `json:"status"`  // the status that it leads to, or both: busy or away
	Holds   bool   `json:"holds"`   // whether its condition holds
	Decides bool   `json:"decides"` // whether it is the first that holds
}

// Sessions is a page of sessions, by user id. Next is the after of the next page; absent on the
// last page.
type Sessions struct {
	Sessions []Session `json:"sessions"`
	Next     string    `json:"next,omitempty"`
}

// CountsAsked names rooms.
type CountsAsked struct {
	Rooms []string `json:"rooms"`
}

// Counts are the counts of rooms, in the order of the request. A room that does not exist counts
// as empty.
type Counts struct {
	Counts []Room `json:"counts"`
}

// StatusesAsked names people.
type StatusesAsked struct {
	Users []string `json:"users"`
}

// Statuses are the statuses of people, in the order of the request.
type Statuses struct {
	Statuses []StatusOfPerson `json:"statuses"`
}

// StatusOfPerson is the status of a person.
type StatusOfPerson struct {
	User     string `json:"user"`
	Status   string `json:"status" jsonschema:"enum=online,enum=away,enum=busy,enum=offline"`
	Label    string `json:"label,omitempty"`   // the application's own word for a set status
	Engaged  bool   `json:"engaged,omitempty"` // busy because of a room that engages
	Note     string `json:"note,omitempty"`
	Until    *Time  `json:"until,omitempty"`
	LastSeen *Time  `json:"last_seen,omitempty"`
}

// StatusWanted is the status to set for a person.
type StatusWanted struct {
	Status string `json:"status,omitempty" jsonschema:"enum=busy,enum=away"` // absent: a note alone
	Label  string `json:"label,omitempty"`                                   // one of the policy's words for the status
	Note   string `json:"note,omitempty"`
	Until  *Time  `json:"until,omitempty"`
}

// PersonRooms lists the rooms that a person is in, by name.
type PersonRooms struct {
	User  string       `json:"user"`
	Rooms []PersonRoom `json:"rooms"`
}

// PersonRoom is a room that a person is in.
type PersonRoom struct {
	Room     string `json:"room"`
	Since    Time   `json:"since"`    // when they joined
	Sessions int    `json:"sessions"` // of the person in this room
	Typing   bool   `json:"typing"`
	People   int    `json:"people"` // how many are in the room
}

// Policy is the policy of a room. Times are in milliseconds.
type Policy struct {
	Room            string `json:"room,omitempty"`
	Pattern         string `json:"pattern,omitempty"` // the pattern that decides; absent: the policy of the realm
	GraceClosing    int64  `json:"grace_closing"`
	GraceLost       int64  `json:"grace_lost"`
	GraceBackground int64  `json:"grace_background"`
	TypingExpires   int64  `json:"typing_expires"`
	CountEvery      int64  `json:"count_every"`
	Capacity        int    `json:"capacity,omitempty"` // absent: any number
	MembersMax      int    `json:"members_max"`
	Entry           string `json:"entry" jsonschema:"enum=open,enum=ask"` // how people enter the room
	AskWaits        int64  `json:"ask_waits"`
	AskPass         int64  `json:"ask_pass"`
	AskAgain        int64  `json:"ask_again"`
	WatchCount      string `json:"watch_count" jsonschema:"enum=admitted,enum=anyone"`
	Engages         bool   `json:"engages,omitempty"` // its members are shown busy
	EngagesSeveral  bool   `json:"engages_several,omitempty"`
	DoingEvery      int64  `json:"doing_every"`
	DoingBytes      int    `json:"doing_bytes"`
	// What follows concerns sessions, and is the same in all rooms.
	BeatEvery int64  `json:"beat_every"`
	Silence   int64  `json:"silence"`
	IdleAfter int64  `json:"idle_after"`
	Lease     int64  `json:"lease"`
	Second    string `json:"second_session"` // a second session of a person: allow, replace, refuse
	// InvitationWaits is how long an invitation waits; InvitationBusy says whether people can be
	// invited who have set busy; InvitationsMax limits the open ones of a person.
	InvitationWaits int64  `json:"invitation_waits"`
	InvitationBusy  string `json:"invitation_busy" jsonschema:"enum=refuse,enum=allow"`
	InvitationsMax  int    `json:"invitations_max"`
	// Statuses are the application's own words for statuses, by status.
	Statuses map[string][]string `json:"statuses,omitempty"`
	Ghost    int64               `json:"longest_ghost"` // how long at most a person stays listed whose link died silently
	Words    []string            `json:"words"`
}

// Policies are the policies of the realm and of each pattern.
type Policies struct {
	Policies []Policy `json:"policies"`
}
