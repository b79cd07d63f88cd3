package wire

// Record is an entry of the journal. Ids increase in the order of events.
type Record struct {
	ID      int64  `json:"id"`
	At      Time   `json:"at"`
	Kind    string `json:"kind"`
	Room    string `json:"room,omitempty"`
	User    string `json:"user,omitempty"`
	Other   string `json:"other,omitempty"` // who answered an ask, or was invited
	Session string `json:"session,omitempty"`
	Link    uint64 `json:"link,omitempty"`
	Over    string `json:"over,omitempty" jsonschema:"enum=websocket,enum=stream,enum=beats"`
	Status  string `json:"status,omitempty"`
	Was     string `json:"was,omitempty"` // the status before
	Note    string `json:"note,omitempty"`
	// Reason of an ask or an invitation is its outcome; of a session.opened, why it did not resume
	// the session that it wanted.
	Reason  string `json:"reason,omitempty"`
	Length  int64  `json:"length,omitempty"`  // milliseconds: how long a session, a stay, a time without a link or without activity lasted
	Lost    int64  `json:"lost,omitempty"`    // of a journal.gap: how many entries are missing
	Hidden  bool   `json:"hidden,omitempty"`  // not visible in the open view
	Wanted  string `json:"wanted,omitempty"`  // the session that the client of a new one wanted to resume
	Unheard int64  `json:"unheard,omitempty"` // milliseconds since the session was last heard of
	// PageHidden says that the page was in the background.
	PageHidden bool   `json:"page_hidden,omitempty"`
	By         string `json:"by,omitempty"` // the id of the operator key with which it was done
}

// Journal is a page of entries by id. Older is the before of the page of older entries, and Newer
// the after of the page of newer ones; each is absent if there is no such page.
//
// With by=cause the entries are in Lines, and Entries is empty.
type Journal struct {
	Entries []Record      `json:"entries"`
	Lines   []JournalLine `json:"lines,omitempty"`
	Older   int64         `json:"older,omitempty"`
	Newer   int64         `json:"newer,omitempty"`
}

// JournalLine is entries that have one cause, in words.
type JournalLine struct {
	ID      int64    `json:"id"` // of the first entry
	At      Time     `json:"at"` // of the newest entry
	User    string   `json:"user,omitempty"`
	Name    string   `json:"name,omitempty"`    // of the person, from the directory
	Room    string   `json:"room,omitempty"`    // of the first entry that names one
	Text    string   `json:"text"`              // the rest of a sentence about the person; without one, a sentence
	Waiting bool     `json:"waiting,omitempty"` // a session is without a link; the line goes on when it returns or ends
	Entries []Record `json:"entries"`
}

// Newest returns the id of the newest entry.
func (l *JournalLine) Newest() int64 { return l.Entries[len(l.Entries)-1].ID }

// Headcount is how many were in a room, or in the realm, during a step of time.
type Headcount struct {
	At       Time   `json:"at"` // when the step begins
	People   Spread `json:"people"`
	Sessions Spread `json:"sessions"`
	Distinct int    `json:"distinct"` // different people
	Joins    int    `json:"joins"`
	Leaves   int    `json:"leaves"`
	PeakAt   Time   `json:"peak_at"`  // when the most people were there, for the first time
	Measured int64  `json:"measured"` // milliseconds of the step during which the service ran
}

// Spread is the smallest, largest and mean value over time.
type Spread struct {
	Min  int     `json:"min"`
	Max  int     `json:"max"`
	Mean float64 `json:"mean"`
}

// Headcounts are steps of the same length, in order. Steps in which the service did not run, or
// nobody was there, are left out.
type Headcounts struct {
	Room  string      `json:"room,omitempty"` // absent: the whole realm
	Step  string      `json:"step" jsonschema:"enum=minute,enum=hour,enum=day"`
	Steps []Headcount `json:"steps"`
	Next  *Time       `json:"next,omitempty"` // the from of the next answer, if one was not enough
}

// Attendance lists who was in a room, or had sessions, between two times.
type Attendance struct {
	Room  string `json:"room,omitempty"`
	From  Time   `json:"from"`
	To    Time   `json:"to"`
	Stays []Stay `json:"stays"`
}

// Stay is one person's stay. Left is absent while it lasts.
type Stay struct {
	User   string `json:"user"`
	Name   string `json:"name,omitempty"`
	Joined Time   `json:"joined"`
	Left   *Time  `json:"left,omitempty"`
}

// Person is an entry of the directory, with the person's present status.
type Person struct {
	User       string            `json:"user"`
	Name       string            `json:"name,omitempty"`
	Picture    string            `json:"picture,omitempty"`
	Attributes map[string]string `json:"attributes,omitempty"`
	Status     string            `json:"status" jsonschema:"enum=online,enum=away,enum=busy,enum=offline"`
	Note       string            `json:"note,omitempty"`
	Until      *Time             `json:"until,omitempty"`
	// Set is the status that the person has set, even while they are offline.
	Set       string   `json:"set,omitempty"`
	Hidden    bool     `json:"hidden,omitempty"`
	Rooms     []string `json:"rooms,omitempty"` // the rooms that they are in now
	FirstSeen *Time    `json:"first_seen,omitempty"`
	LastSeen  *Time    `json:"last_seen,omitempty"` // of an offline person
}

// People is a page of the directory, by user id. Next is the after of the next page; absent on
// the last page.
type People struct {
	People []Person `json:"people"`
	Next   string   `json:"next,omitempty"`
}

// Profile is what a back end puts into the directory about a person.
type Profile struct {
	User       string            `json:"user,omitempty"` // only in lists
	Name       string            `json:"name,omitempty"`
	Picture    string            `json:"picture,omitempty"`
	Attributes map[string]string `json:"attributes,omitempty"`
}

// Imported reports how many lines of an import were accepted, and why others were not.
type Imported struct {
	Taken   int           `json:"taken"`
	Refused []RefusedLine `json:"refused"`
}

// RefusedLine is a line that was not accepted. Lines count from 1.
type RefusedLine struct {
	Line int `json:"line"`
	Problem
}

// Declaration lists the people whom a declared room expects.
type Declaration struct {
	Expected []string `json:"expected"` // user ids
}

// DeclaredRoom is a declared room with the people whom it expects, and those of them who are
// missing now.
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

// Hook is a subscription: which events are sent to an address.
type Hook struct {
	ID     string   `json:"id"`
	Name   string   `json:"name,omitempty"`
	URL    string   `json:"url"`
	Kinds  []string `json:"kinds"`
	Rooms  []string `json:"rooms,omitempty"`                       // patterns; absent: all rooms, and events about people
	View   string   `json:"view" jsonschema:"enum=full,enum=open"` // full, or open: without hidden people
	Above  *int     `json:"above,omitempty"`
	Below  *int     `json:"below,omitempty"`
	Paused bool     `json:"paused"`
	// Created is when the hook was made. Secret is present only in the answers that make or rotate it.
	Created Time   `json:"created"`
	Secret  string `json:"secret,omitempty"`
	// OldSecretUntil is until when requests are also signed with the previous secret.
	OldSecretUntil *Time          `json:"old_secret_until,omitempty"`
	Deliveries     map[string]int `json:"deliveries,omitempty"` // by state
}

// Hooks is a list of hooks, oldest first.
type Hooks struct {
	Hooks []Hook `json:"hooks"`
}

// NewHook describes a hook to make, or what to change a hook to.
type NewHook struct {
	Name   string   `json:"name,omitempty"`
	URL    string   `json:"url"`
	Kinds  []string `json:"kinds"`
	Rooms  []string `json:"rooms,omitzero"`                                  // patterns, at least one; absent: all rooms, and events about people
	View   string   `json:"view,omitempty" jsonschema:"enum=full,enum=open"` // full if absent
	Above  *int     `json:"above,omitempty"`
	Below  *int     `json:"below,omitempty"`
	Paused bool     `json:"paused,omitempty"`
}

// Delivery is the delivery of an event to a hook.
type Delivery struct {
	ID       int64  `json:"id,omitempty"`
	Hook     string `json:"hook"`
	Kind     string `json:"kind"`
	Event    string `json:"event"`
	State    string `json:"state" jsonschema:"enum=waiting,enum=delivered,enum=parked"`
	Attempts int    `json:"attempts"`
	Created  Time   `json:"created"`
	Tried    *Time  `json:"tried,omitempty"` // the time of the last attempt
	Due      *Time  `json:"due,omitempty"`   // the time of the next attempt
	Answered int    `json:"answered,omitempty"`
	Answer   string `json:"answer,omitempty"` // the beginning of the body of the last answer
	Error    string `json:"error,omitempty"`
	Took     int64  `json:"took"` // milliseconds
	Body     string `json:"body,omitempty"`
}

// Deliveries is a page of deliveries, newest first. Older is the before of the next page; absent
// on the last page.
type Deliveries struct {
	Deliveries []Delivery `json:"deliveries"`
	Older      int64      `json:"older,omitempty"`
}

// Event is the body of a delivery: a CloudEvent 1.0 in the JSON format.
type Event struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"`
	Source      string    `json:"source"`
	Type        string    `json:"type"` // "tovik." and the kind
	Subject     string    `json:"subject,omitempty"`
	Time        Time      `json:"time"`
	ContentType string    `json:"datacontenttype"`
	Data        EventData `json:"data"`
}

// EventData is the data of an event.
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
	People   *int   `json:"people,omitempty"` // in the room, after the event
	// Ask or Invitation is the id of one; Other is who answered the ask, or was invited.
	Ask        string `json:"ask,omitempty"`
	Invitation string `json:"invitation,omitempty"`
	Other      string `json:"other,omitempty"`
	Outcome    string `json:"outcome,omitempty"`
	Bound      *int   `json:"bound,omitempty"` // the bound that the headcount crossed, or the limit of the quota
	Quota      string `json:"quota,omitempty" jsonschema:"enum=people,enum=sessions,enum=cues"`
	Used       *int   `json:"used,omitempty"` // of the quota
}

// Health says that the process is running.
type Health struct {
	Status string `json:"status" jsonschema:"enum=ok"`
}

// Readiness says whether the service is ready, and the state of the records.
type Readiness struct {
	Status  string        `json:"status" jsonschema:"enum=ready"`
	Records RecordsHealth `json:"records"`
}

// ServiceHealth is the state of the service, as the holder of a key sees it.
type ServiceHealth struct {
	// Node is the name of the node that answers, of a cluster.
	Node             string        `json:"node,omitempty"`
	Records          RecordsHealth `json:"records"`
	LinksBeforeHello int           `json:"links_before_hello"`
	Realm            *RealmHealth  `json:"realm,omitempty"` // absent for a key limited to some rooms
}

// RealmHealth is the state of a realm in numbers.
type RealmHealth struct {
	Realm    string `json:"realm"`
	People   int    `json:"people"` // with a session
	Sessions int    `json:"sessions"`
	Links    int    `json:"links"`   // of sessions
	Waiting  int    `json:"waiting"` // deliveries to hooks
	Parked   int    `json:"parked"`  // deliveries to hooks
}

// RecordsHealth is the state of the records.
type RecordsHealth struct {
	Status         string `json:"status" jsonschema:"enum=ok,enum=failing"`
	Error          string `json:"error,omitempty"` // why nothing can be written
	Since          *Time  `json:"since,omitempty"`
	Waiting        int    `json:"waiting"` // entries and people waiting to be written
	Lag            int64  `json:"lag"`     // milliseconds for which the oldest of them has waited
	Lost           int64  `json:"lost"`    // journal entries lost since the start
	LostDeliveries int64  `json:"lost_deliveries"`
}
