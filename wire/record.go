package wire

// Record is an entry of the journal. Ids go up in the order of what happened.
type Record struct {
	ID      int64  `json:"id"`
	At      Time   `json:"at"`
	Kind    string `json:"kind"`
	Room    string `json:"room,omitempty"`
	User    string `json:"user,omitempty"`
	Session string `json:"session,omitempty"`
	Link    uint32 `json:"link,omitempty"`
	Over    string `json:"over,omitempty"` // websocket, stream, beats
	Status  string `json:"status,omitempty"`
	Was     string `json:"was,omitempty"` // the status before
	Note    string `json:"note,omitempty"`
	Reason  string `json:"reason,omitempty"`
	Length  int64  `json:"length,omitempty"` // milliseconds: of a session, a stay, a time without a link
	Lost    int64  `json:"lost,omitempty"`   // entries that are missing, of a journal.gap
	Hidden  bool   `json:"hidden,omitempty"` // those who do not see who hides have not seen it
}

// Journal is a page of entries in the order of their ids. Older, when set, is the before
// of the page of those before, and Newer the after of the page of those after.
type Journal struct {
	Entries []Record `json:"entries"`
	Older   int64    `json:"older,omitempty"`
	Newer   int64    `json:"newer,omitempty"`
}

// Headcount is how many were in a room, or in the realm, in a stretch of time.
type Headcount struct {
	At       Time   `json:"at"` // where it begins
	People   Spread `json:"people"`
	Sessions Spread `json:"sessions"`
	Distinct int    `json:"distinct"` // people
	Joins    int    `json:"joins"`
	Leaves   int    `json:"leaves"`
	PeakAt   Time   `json:"peak_at"`  // when there were the most people, the first time
	Measured int64  `json:"measured"` // milliseconds of it in which the service ran
}

// Spread is between what something was, and how much on average.
type Spread struct {
	Min  int     `json:"min"`
	Max  int     `json:"max"`
	Mean float64 `json:"mean"`
}

// Headcounts are stretches of the same length, in order. Those in which the service did
// not run, or in which nobody was there, are left out.
type Headcounts struct {
	Room  string      `json:"room,omitempty"` // the whole realm when left out
	Step  string      `json:"step"`           // minute, hour, day
	Steps []Headcount `json:"steps"`
	Next  *Time       `json:"next,omitempty"` // the from of what was too much for one answer
}

// Attendance is who was in a room, or had sessions, between two times.
type Attendance struct {
	Room  string `json:"room,omitempty"`
	From  Time   `json:"from"`
	To    Time   `json:"to"`
	Stays []Stay `json:"stays"`
}

// Stay is how long somebody was there. Left is absent when they still are.
type Stay struct {
	User   string `json:"user"`
	Name   string `json:"name,omitempty"`
	Joined Time   `json:"joined"`
	Left   *Time  `json:"left,omitempty"`
}

// Person is somebody of the directory, with how they are now.
type Person struct {
	User       string            `json:"user"`
	Name       string            `json:"name,omitempty"`
	Picture    string            `json:"picture,omitempty"`
	Attributes map[string]string `json:"attributes,omitempty"`
	Status     string            `json:"status"` // online, away, busy, offline
	Note       string            `json:"note,omitempty"`
	Until      *Time             `json:"until,omitempty"`
	// Set is the status that the person has set, also while they are offline.
	Set       string   `json:"set,omitempty"`
	Hidden    bool     `json:"hidden,omitempty"`
	Rooms     []string `json:"rooms,omitempty"` // that they are in now
	FirstSeen *Time    `json:"first_seen,omitempty"`
	LastSeen  *Time    `json:"last_seen,omitempty"` // of who is offline
}

// People is a page of the directory, by user. Next, when set, is the after of the next.
type People struct {
	People []Person `json:"people"`
	Next   string   `json:"next,omitempty"`
}

// Profile is what a back end keeps of a person ahead of time.
type Profile struct {
	User       string            `json:"user,omitempty"` // in lists
	Name       string            `json:"name,omitempty"`
	Picture    string            `json:"picture,omitempty"`
	Attributes map[string]string `json:"attributes,omitempty"`
}

// Imported reports what has become of each line of an import.
type Imported struct {
	Taken   int           `json:"taken"`
	Refused []RefusedLine `json:"refused"`
}

// RefusedLine is a line that was not taken. Lines count from 1.
type RefusedLine struct {
	Line int `json:"line"`
	Problem
}

// Declaration says whom a declared room expects.
type Declaration struct {
	Expected []string `json:"expected"` // users
}

// DeclaredRoom is a room that exists while nobody is in it, with those whom it expects,
// and whom of them it misses now.
type DeclaredRoom struct {
	Room     string   `json:"room"`
	Declared bool     `json:"declared"`
	Expected []string `json:"expected"`
	Missing  []string `json:"missing"`
}

// The views of a hook.
const (
	ViewFull = "full"
	ViewOpen = "open"
)

// Hook says what is to be told to an address.
type Hook struct {
	ID     string   `json:"id"`
	Name   string   `json:"name,omitempty"`
	URL    string   `json:"url"`
	Kinds  []string `json:"kinds"`
	Rooms  []string `json:"rooms,omitempty"` // patterns; all, and people as such, when left out
	View   string   `json:"view"`            // full, or open: nothing of who hides
	Above  *int     `json:"above,omitempty"`
	Below  *int     `json:"below,omitempty"`
	Paused bool     `json:"paused"`
	// Created is when it was made; Secret is there in the answers that make it or rotate it.
	Created Time   `json:"created"`
	Secret  string `json:"secret,omitempty"`
	// OldSecretUntil is until when requests are signed with the secret before this one too.
	OldSecretUntil *Time          `json:"old_secret_until,omitempty"`
	Deliveries     map[string]int `json:"deliveries,omitempty"` // by state
}

// Hooks is a list of them, the oldest first.
type Hooks struct {
	Hooks []Hook `json:"hooks"`
}

// NewHook asks for a hook, or what it is to be changed to.
type NewHook struct {
	Name   string   `json:"name,omitempty"`
	URL    string   `json:"url"`
	Kinds  []string `json:"kinds"`
	Rooms  []string `json:"rooms,omitempty"`
	View   string   `json:"view,omitempty"` // full when left out
	Above  *int     `json:"above,omitempty"`
	Below  *int     `json:"below,omitempty"`
	Paused bool     `json:"paused,omitempty"`
}

// Delivery is an event that was told to a hook, or is to be.
type Delivery struct {
	ID       int64  `json:"id,omitempty"`
	Hook     string `json:"hook"`
	Kind     string `json:"kind"`
	Event    string `json:"event"`
	State    string `json:"state"` // waiting, delivered, parked
	Attempts int    `json:"attempts"`
	Created  Time   `json:"created"`
	Tried    *Time  `json:"tried,omitempty"` // when last
	Due      *Time  `json:"due,omitempty"`   // when again
	Answered int    `json:"answered,omitempty"`
	Answer   string `json:"answer,omitempty"` // how the body of the last answer begins
	Error    string `json:"error,omitempty"`
	Took     int64  `json:"took"` // milliseconds
	Body     string `json:"body,omitempty"`
}

// Deliveries is a page of them, the newest first. Older, when set, is the before of the
// next.
type Deliveries struct {
	Deliveries []Delivery `json:"deliveries"`
	Older      int64      `json:"older,omitempty"`
}

// Event is what a hook is told: a CloudEvent 1.0 in its JSON format.
type Event struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"`
	Source      string    `json:"source"`
	Type        string    `json:"type"` // the kind after "tovik."
	Subject     string    `json:"subject,omitempty"`
	Time        Time      `json:"time"`
	ContentType string    `json:"datacontenttype"`
	Data        EventData `json:"data"`
}

// EventData is what has happened.
type EventData struct {
	Room     string `json:"room,omitempty"`
	User     string `json:"user,omitempty"`
	Name     string `json:"name,omitempty"`
	Picture  string `json:"picture,omitempty"`
	Status   string `json:"status,omitempty"`
	Was      string `json:"was,omitempty"`
	Note     string `json:"note,omitempty"`
	Until    *Time  `json:"until,omitempty"`
	Since    *Time  `json:"since,omitempty"`
	LastSeen *Time  `json:"last_seen,omitempty"`
	Reason   string `json:"reason,omitempty"`
	People   *int   `json:"people,omitempty"` // in the room, after it
	Bound    *int   `json:"bound,omitempty"`  // that the headcount has crossed
}

// Health says that the process is alive.
type Health struct {
	Status string `json:"status"` // ok
}

// Readiness is how the service is: GET /readyz.
type Readiness struct {
	Status  string        `json:"status"` // ready
	Records RecordsHealth `json:"records"`
}

// RecordsHealth is how the records are.
type RecordsHealth struct {
	Status         string `json:"status"`          // ok, failing
	Error          string `json:"error,omitempty"` // why nothing can be written now
	Since          *Time  `json:"since,omitempty"`
	Waiting        int    `json:"waiting"` // to be written
	Lost           int64  `json:"lost"`    // entries of the journal since the start
	LostDeliveries int64  `json:"lost_deliveries"`
}
