package httpapi

import (
	"encoding/json"
	"slices"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/wire"
)

// Operation is an operation of the HTTP API, as the OpenAPI document describes it.
type Operation struct {
	Method, Path string // the path as OpenAPI has it: /v1/rooms/{room}
	ID, Topic    string
	Says, More   string // in one line, and in more detail
	// Shows is the credential that the caller needs: a role of operator keys, or one of the
	// constants below.
	Shows  string
	Reach  Reach // of the key; empty if no key is needed
	Query  []Parameter
	Takes  any      // an example of the body; nil: no body
	Media  string   // of the body, if not JSON
	Gives  any      // a value of the answer's type; nil: no content
	Status int      // of the answer
	Forms  []string // media types of the answer, besides or instead of JSON
	Fails  []string // codes of its particular problems
}

// Reach says which rooms a key must cover for an operation.
type Reach string

// The reaches, narrowest first.
const (
	ReachRooms   Reach = "its rooms"   // a key limited to rooms may use it, and sees those rooms only
	ReachRealm   Reach = "the realm"   // a key for all rooms
	ReachService Reach = "the service" // the key that the service is started with
)

// Credentials other than operator keys.
const (
	showsNothing = "nothing"
	showsToken   = "token"   // of a person
	showsSession = "session" // the session's resume key
)

// Parameter is a parameter of the query.
type Parameter struct {
	Name, Says string
	Example    any // its type is that of the parameter
	Repeats    bool
	OneOf      []string
}

// The forms of an answer besides JSON.
var (
	tables   = []string{mediaType(asNDJSON), mediaType(asCSV)}
	followed = []string{mediaType(asStream)}
	page     = []string{"text/html"}
)

func mediaType(form string) string {
	media, _, _ := strings.Cut(mediaTypes[form], ";")
	return media
}

// Parameters of several operations.
var (
	qLimit  = Parameter{Name: "limit", Says: "how many at most, 1 to 1000", Example: 50}
	qFrom   = Parameter{Name: "from", Says: "from this time on: RFC 3339, or how long ago, as in 90m or 7d", Example: "2h"}
	qTo     = Parameter{Name: "to", Says: "before this time: now when left out"}
	qRoom   = Parameter{Name: "room", Says: "a room", Example: "basin.upper-weir"}
	qFormat = Parameter{Name: "format", Says: "the form of the answer, in the place of Accept", Example: "ndjson", OneOf: []string{"json", "ndjson", "csv"}}
)

func afterOf(what, example string) Parameter {
	return Parameter{Name: "after", Says: "the next of the previous page: " + what, Example: example}
}

// route is an operation and its handler.
type route struct {
	Operation
	do fiber.Handler
}

// Operations returns all operations, in the order of the document.
func Operations() []Operation {
	var all []Operation
	for _, r := range new(API).routes() {
		all = append(all, r.Operation)
	}
	return all
}

const (
	get, post, put, del = fiber.MethodGet, fiber.MethodPost, fiber.MethodPut, fiber.MethodDelete
	read, write         = string(access.Read), string(access.Write)
	operate             = string(access.Operate)
)

var (
	exampleTime = wire.Time{Time: time.Date(2026, 11, 24, 3, 0, 0, 0, time.UTC)}
	exampleCue  = wire.NewCue{Name: "drill", Data: json.RawMessage(`{"sluice":"mill-lane"}`)}
	exampleHook = wire.NewHook{Name: "the flood desk", URL: "https://desk.aldermoor.example/presence", Kinds: []string{"room.empty", "member.left"}, Rooms: []string{"basin.*"}}
)

// routes returns all routes. Requests of operators and back ends first pass the same checks: the
// key, the rate, and for writes the idempotency key.
func (a *API) routes() []route {
	return slices.Concat(a.roomRoutes(), a.peopleRoutes(), a.meetingRoutes(), a.recordRoutes(), a.adminRoutes(), a.linkRoutes(), a.visitRoutes(), a.serviceRoutes())
}

func (a *API) roomRoutes() []route {
	declaration := wire.Declaration{Expected: []string{"e-01", "w-02"}}
	return []route{
		{Operation{Method: put, Path: "/v1/rooms/{room}", ID: "declareRoom", Topic: "Rooms", Says: "Declare a room and the people whom it expects",
			More:  "A declared room exists even while nobody is in it. Declaring it again replaces the list of expected people.",
			Shows: write, Reach: ReachRooms, Takes: declaration, Gives: wire.DeclaredRoom{}, Fails: []string{"bad-user", "unknown-room"}}, a.declare},
		{Operation{Method: get, Path: "/v1/rooms", ID: "listRooms", Topic: "Rooms", Says: "List rooms with their counts",
			More:  "Rooms exist while somebody is in them, or while they are declared. As an event stream: the count of each room, then every change.",
			Shows: read, Reach: ReachRooms, Gives: wire.Rooms{}, Forms: append(tables, followed...), Fails: []string{"bad-pattern"},
			Query: []Parameter{{Name: "match", Says: "only rooms that match this pattern", Example: "basin.*"},
				{Name: "sort", Says: "the order: by name, or by size with the largest first", Example: realm.ByPeople, OneOf: []string{realm.ByName, realm.ByPeople, realm.BySessions}}, afterOf("a cursor", "9:basin.fen-end"), qLimit, qFormat}}, a.rooms},
		{Operation{Method: get, Path: "/v1/rooms/{room}", ID: "getRoom", Topic: "Rooms", Says: "Count who is in a room",
			More: "As an event stream: the count, then every change.", Shows: read, Reach: ReachRooms, Gives: wire.Room{}, Forms: followed, Fails: []string{"unknown-room"}}, a.room},
		{Operation{Method: get, Path: "/v1/rooms/{room}/count", ID: "countRoom", Topic: "Rooms", Says: "Count who is in a room (same as GET /v1/rooms/{room})",
			Shows: read, Reach: ReachRooms, Gives: wire.Room{}, Forms: followed, Fails: []string{"unknown-room"}}, a.room},
		{Operation{Method: get, Path: "/v1/rooms/{room}/members", ID: "listMembers", Topic: "Rooms", Says: "List the members of a room",
			More:  "All pages are of one revision, which is kept for a minute: pass rev and next of a page as rev and after of the next request. As an event stream: all members, then every change, as on a link that watches the room.",
			Shows: read, Reach: ReachRooms, Gives: wire.Members{}, Forms: append(tables, followed...), Fails: []string{"unknown-room", "old-revision"},
			Query: []Parameter{{Name: "status", Says: "only members of this status", Example: "online", OneOf: []string{"online", "away", "busy"}},
				{Name: "limit", Says: "how many at most, 1 to 1000; 1000 if absent", Example: 200}, afterOf("a user", "a"), {Name: "rev", Says: "the revision of the previous page"}, qFormat}}, a.members},
		{Operation{Method: get, Path: "/v1/rooms/{room}/expected", ID: "getExpected", Topic: "Rooms", Says: "List the people whom a declared room expects, and who of them is missing",
			Shows: read, Reach: ReachRooms, Gives: wire.DeclaredRoom{}, Fails: []string{"unknown-room"}}, a.expectations},
		{Operation{Method: post, Path: "/v1/rooms/{room}/cues", ID: "cueRoom", Topic: "Rooms", Says: "Give a cue to everybody in a room",
			More: "A cue is a small ephemeral message. It is sent to the links that exist now, and is never stored or retried.", Shows: write, Reach: ReachRooms, Takes: exampleCue, Gives: wire.CueGiven{}, Fails: []string{"bad-field", "unknown-room"}}, a.cueRoom},
		{Operation{Method: post, Path: "/v1/counts", ID: "countRooms", Topic: "Rooms", Says: "Count who is in each of up to 1000 rooms",
			More: "The answer has the order of the request. A room that does not exist counts as empty.", Shows: read, Reach: ReachRooms, Takes: wire.CountsAsked{Rooms: []string{"basin.upper-weir", "sluice.mill-lane"}},
			Gives: wire.Counts{}, Forms: tables, Query: []Parameter{qFormat}, Fails: []string{"bad-field", "bad-room", "unknown-room"}}, a.counts},
		{Operation{Method: del, Path: "/v1/rooms/{room}/members/{user}", ID: "removeFromRoom", Topic: "Rooms", Says: "Remove a person from a room",
			More: "Tokens issued before now are refused in the room, durably; newer tokens are accepted.", Shows: operate, Reach: ReachRooms, Gives: wire.Removal{}, Fails: []string{"unknown-room"}}, a.removeFromRoom},
		{Operation{Method: del, Path: "/v1/rooms/{room}", ID: "undeclareRoom", Topic: "Rooms", Says: "Undo the declaration of a room", Shows: write, Reach: ReachRooms, Fails: []string{"unknown-room"}}, a.undeclare},
	}
}

func (a *API) peopleRoutes() []route {
	const people = "People"
	return []route{
		{Operation{Method: put, Path: "/v1/people/{user}", ID: "putPerson", Topic: people, Says: "Add a person to the directory, or change their entry",
			Shows: write, Reach: ReachRealm, Takes: wire.Profile{Name: "Ilse Marrow", Attributes: map[string]string{"team": "night watch"}}, Gives: wire.Person{}, Fails: []string{"bad-field", "bad-profile"}}, a.putPerson},
		{Operation{Method: post, Path: importPath, ID: "importPeople", Topic: people, Says: "Import people into the directory",
			More:  "The body is NDJSON, or CSV with the columns user, name, picture and your own attributes, up to 16 MB. The answer lists the refused lines; all others are imported.",
			Shows: write, Reach: ReachRealm, Takes: "user,name,team\nw-02,Tobin Saltmarch,night watch\n", Media: "text/csv", Gives: wire.Imported{}, Fails: []string{"bad-field"}}, a.importPeople},
		{Operation{Method: get, Path: "/v1/people", ID: "listPeople", Topic: people, Says: "Search the directory, with the present status of each person",
			Shows: read, Reach: ReachRealm, Gives: wire.People{}, Forms: tables,
			Query: []Parameter{{Name: "text", Says: "only people whose id begins with this, or whose name contains it", Example: "marrow"}, {Name: "user", Says: "only these people", Example: "e-01", Repeats: true}, afterOf("a user", "a"), qLimit, qFormat}, Fails: []string{"bad-user"}}, a.people},
		{Operation{Method: get, Path: "/v1/people/{user}", ID: "getPerson", Topic: people, Says: "Get a person of the directory, with their present status", Shows: read, Reach: ReachRealm, Gives: wire.Person{}, Fails: []string{"unknown-person"}}, a.person},
		{Operation{Method: get, Path: "/v1/people/{user}/status", ID: "getStatus", Topic: people, Says: "Get the status of a person",
			More:  "An unknown person is offline. Also as a presence document (PIDF, RFC 3863, with activities of RPID, RFC 4480), or as an event stream.",
			Shows: read, Reach: ReachRealm, Gives: wire.StatusOfPerson{}, Forms: append([]string{pidfType}, followed...)}, a.status},
		{Operation{Method: put, Path: "/v1/people/{user}/status", ID: "setStatus", Topic: people, Says: "Set the status of a person on their behalf",
			More: "The status holds until its end time, if it has one, whatever the person's sessions do.", Shows: write, Reach: ReachRealm, Takes: wire.StatusWanted{Status: "busy", Note: "at the sluice", Until: &exampleTime},
			Gives: wire.StatusOfPerson{}, Fails: []string{"bad-field", "bad-status", "bad-note", "not-recorded"}}, a.setStatus},
		{Operation{Method: del, Path: "/v1/people/{user}/status", ID: "clearStatus", Topic: people, Says: "Clear the status that is set for a person", Shows: write, Reach: ReachRealm, Gives: wire.StatusOfPerson{}, Fails: []string{"not-recorded"}}, a.clearStatus},
		{Operation{Method: post, Path: "/v1/statuses", ID: "listStatuses", Topic: people, Says: "Get the statuses of up to 1000 people",
			More: "The answer has the order of the request. An unknown person is offline.", Shows: read, Reach: ReachRealm, Takes: wire.StatusesAsked{Users: []string{"e-01", "w-02"}}, Gives: wire.Statuses{}, Forms: tables, Query: []Parameter{qFormat},
			Fails: []string{"bad-field", "bad-user"}}, a.statuses},
		{Operation{Method: get, Path: "/v1/people/{user}/rooms", ID: "listRoomsOfPerson", Topic: people, Says: "List the rooms that a person is in", Shows: read, Reach: ReachRealm, Gives: wire.PersonRooms{}, Forms: tables, Query: []Parameter{qFormat}}, a.roomsOfPerson},
		{Operation{Method: get, Path: "/v1/people/{user}/sessions", ID: "listSessionsOfPerson", Topic: people, Says: "List the sessions of a person", Shows: read, Reach: ReachRealm, Gives: wire.Sessions{}, Forms: tables, Query: []Parameter{qFormat}}, a.sessionsOf},
		{Operation{Method: get, Path: "/v1/people/{user}/explain", ID: "explainPerson", Topic: people, Says: "Explain why a person is shown as they are",
			More: "The answer says which rule decides, on what evidence, and what will happen next; with room=, also why the person is in it or not. As an event stream: the explanation, and again whenever it may have changed.", Shows: read, Reach: ReachRealm, Gives: wire.Explanation{}, Forms: followed, Query: []Parameter{qRoom}, Fails: []string{"bad-room", "unknown-person"}}, a.explain},
		{Operation{Method: get, Path: "/v1/sessions", ID: "listSessions", Topic: people, Says: "List the sessions of the realm",
			More: "They are sorted by person; one person's sessions are never split between pages.", Shows: read, Reach: ReachRooms, Gives: wire.Sessions{}, Forms: tables, Query: []Parameter{qRoom, afterOf("a user", "a"), qLimit, qFormat}, Fails: []string{"bad-room", "unknown-room"}}, a.sessions},
		{Operation{Method: post, Path: "/v1/people/{user}/cues", ID: "cuePerson", Topic: people, Says: "Give a cue to all links of a person", Shows: write, Reach: ReachRealm, Takes: exampleCue, Gives: wire.CueGiven{}, Fails: []string{"bad-field"}}, a.cuePerson},
		{Operation{Method: post, Path: "/v1/sessions/{session}/cues", ID: "cueSession", Topic: people, Says: "Give a cue to one session", Shows: write, Reach: ReachRealm, Takes: exampleCue, Gives: wire.CueGiven{}, Fails: []string{"bad-field", "no-session"}}, a.cueSession},
		{Operation{Method: post, Path: "/v1/sessions/{session}/end", ID: "endSession", Topic: people, Says: "End a session", More: "If it was the person's last session in a room, others see a leave at once.", Shows: write, Reach: ReachRealm, Fails: []string{"no-session"}}, a.endSession},
		{Operation{Method: post, Path: "/v1/people/{user}/sign-out", ID: "signOutPerson", Topic: people, Says: "End all sessions of a person", More: "Their tokens remain valid: they may come back.", Shows: write, Reach: ReachRealm}, a.signOutPerson},
		{Operation{Method: post, Path: "/v1/people/{user}/removal", ID: "removePerson", Topic: people, Says: "Remove a person from the realm",
			More: "This ends all their sessions. Tokens issued before now are refused, durably.", Shows: operate, Reach: ReachRealm, Gives: wire.Removal{}}, a.remove},
		{Operation{Method: del, Path: "/v1/people/{user}", ID: "dropPerson", Topic: people, Says: "Remove a person from the directory who was never present", Shows: write, Reach: ReachRealm, Fails: []string{"unknown-person"}}, a.dropPerson},
		{Operation{Method: get, Path: "/v1/people/{user}/export", ID: "exportPerson", Topic: people, Says: "Export everything about a person",
			More: "The answer has a line for each thing: the directory's entry, sessions, passes, removals, asks, invitations, rooms that expect the person, entries of the journal, and deliveries of hooks.", Shows: operate, Reach: ReachRealm, Forms: []string{mediaType(asNDJSON)}, Fails: []string{"unknown-person"}}, a.exportPerson},
		{Operation{Method: post, Path: "/v1/people/{user}/erasure", ID: "erasePerson", Topic: people, Says: "Delete everything about a person", More: "The receipt says how much was deleted, by kind.", Shows: operate, Reach: ReachRealm, Gives: wire.Erasure{}, Fails: []string{"not-recorded"}}, a.erase},
	}
}

func (a *API) recordRoutes() []route {
	const topic, hook = "Records", "Hooks"
	kinds := Parameter{Name: "kind", Says: "only entries of this kind", Example: "member.joined", Repeats: true}
	patterns := Parameter{Name: "room", Says: "only rooms that match this pattern", Example: "basin.*", Repeats: true}
	return []route{
		{Operation{Method: get, Path: "/v1/journal", ID: "listJournal", Topic: topic, Says: "Read the journal",
			More:  "The answer is a page of the last entries, or of the entries after a time or an entry. As NDJSON or CSV: everything that matches. As an event stream: new entries, after Last-Event-ID if it is given.",
			Shows: read, Reach: ReachRooms, Gives: wire.Journal{}, Forms: append(tables, followed...), Fails: []string{"bad-pattern", "bad-user"},
			Query: []Parameter{qFrom, qTo, patterns, {Name: "user", Says: "only about these people, up to 100", Example: "e-01", Repeats: true}, kinds, {Name: "after", Says: "only entries after this id", Example: 0},
				{Name: "before", Says: "only entries before this id", Example: 1000000}, {Name: "by", Says: "put entries with one cause together, in words; as JSON or event stream", OneOf: []string{"cause"}}, qLimit, qFormat}}, a.journal},
		{Operation{Method: get, Path: "/v1/attendance", ID: "listAttendance", Topic: topic, Says: "List who was in a room, or had sessions, between two times",
			Shows: read, Reach: ReachRooms, Gives: wire.Attendance{}, Forms: tables, Query: []Parameter{qRoom, qFrom, qTo, qFormat}, Fails: []string{"bad-room", "unknown-room", "bad-field"}}, a.attendance},
		{Operation{Method: get, Path: "/v1/headcount", ID: "listHeadcount", Topic: topic, Says: "Get how many were in a room, or in the realm, over time",
			More:  "The answer has one entry per step, or with top only the steps with the most people. As an event stream: the steps of up to 100 rooms, each in an event of its own, and what is added or changed, once a minute.",
			Shows: read, Reach: ReachRooms, Gives: wire.Headcounts{}, Forms: append(tables, followed...), Query: []Parameter{qRoom, {Name: "step", Says: "the length of a step", Example: "minute", OneOf: []string{"minute", "hour", "day"}}, qFrom, qTo,
				{Name: "top", Says: "only this many steps: those with the most people", Example: 3}, qFormat}, Fails: []string{"bad-room", "unknown-room", "bad-field"}}, a.headcount},
		{Operation{Method: get, Path: "/v1/usage", ID: "getUsage", Topic: topic, Says: "Get what the realm has used over time, and how much of its quotas it uses now",
			More:  "People-minutes, session-minutes, the most people, sessions and links at once, and cues: hour by hour, day by day or month by month, in UTC, with the sum. Steps are counted whole, even if from or to falls inside one. As an event stream: the same until now, and again every five seconds.",
			Shows: read, Reach: ReachRealm, Gives: wire.Usage{}, Forms: append(tables, followed...), Query: []Parameter{{Name: "step", Says: "the length of a step", Example: "day", OneOf: []string{"hour", "day", "month"}}, qFrom, qTo, qFormat}, Fails: []string{"bad-field"}}, a.usage},
		{Operation{Method: get, Path: "/v1/timing", ID: "getTiming", Topic: topic, Says: "Study what the journal says about the timings of the policy",
			More:  "What happened to links, what others would have seen under another policy (the journal is played again), and advice. As an event stream: progress, then the report or a problem. By default of the last 7 days.",
			Shows: read, Reach: ReachRealm, Gives: wire.Timing{}, Forms: followed, Fails: []string{"bad-field", "bad-pattern"},
			Query: []Parameter{qFrom, qTo, {Name: "room", Says: "only rooms that match this pattern", Example: "basin.*"}, {Name: "try", Says: "a key of another policy, KEY=VALUE", Example: "grace.lost=20s", Repeats: true}}}, a.timing},
		{Operation{Method: get, Path: "/v1/backup", ID: "backup", Topic: topic, Says: "Download a backup of the records", More: "The answer is a complete SQLite file, as of one moment. The service goes on meanwhile.", Shows: operate, Reach: ReachService, Forms: []string{"application/vnd.sqlite3"}}, a.backup},
		{Operation{Method: post, Path: "/v1/hooks", ID: "addHook", Topic: hook, Says: "Make a hook: have events sent to an address", More: "Events are sent as CloudEvents 1.0, with signatures of Standard Webhooks. Only this answer has the secret.",
			Shows: operate, Reach: ReachRealm, Takes: exampleHook, Gives: wire.Hook{}, Status: 201, Fails: []string{"bad-field", "bad-pattern"}}, a.addHook},
		{Operation{Method: get, Path: "/v1/hooks", ID: "listHooks", Topic: hook, Says: "List the hooks of the realm", Shows: operate, Reach: ReachRealm, Gives: wire.Hooks{}, Forms: tables, Query: []Parameter{qFormat}}, a.listHooks},
		{Operation{Method: get, Path: "/v1/hooks/{hook}", ID: "getHook", Topic: hook, Says: "Get a hook, with the number of its deliveries by state", Shows: operate, Reach: ReachRealm, Gives: wire.Hook{}, Fails: []string{"unknown-hook"}}, a.hook},
		{Operation{Method: put, Path: "/v1/hooks/{hook}", ID: "changeHook", Topic: hook, Says: "Change a hook", More: "Its secret and its waiting deliveries are kept.", Shows: operate, Reach: ReachRealm, Takes: exampleHook, Gives: wire.Hook{}, Fails: []string{"unknown-hook", "bad-field", "bad-pattern"}}, a.changeHook},
		{Operation{Method: post, Path: "/v1/hooks/{hook}/secret", ID: "rotateHookSecret", Topic: hook, Says: "Rotate the secret of a hook", More: "For a day, requests are signed with both secrets.", Shows: operate, Reach: ReachRealm, Gives: wire.Hook{}, Fails: []string{"unknown-hook"}}, a.rotateSecret},
		{Operation{Method: post, Path: "/v1/hooks/{hook}/test", ID: "testHook", Topic: hook, Says: "Send a test event to a hook now, and return the outcome", Shows: operate, Reach: ReachRealm, Gives: wire.Delivery{}, Fails: []string{"unknown-hook"}}, a.tryHook},
		{Operation{Method: get, Path: "/v1/hooks/{hook}/deliveries", ID: "listDeliveries", Topic: hook, Says: "List the deliveries of a hook, newest first", More: "As an event stream: the page, and again whenever it has changed.", Shows: operate, Reach: ReachRealm, Gives: wire.Deliveries{}, Forms: append(tables, followed...),
			Query: []Parameter{{Name: "state", Says: "only those in this state", Example: "delivered", OneOf: []string{"waiting", "delivered", "parked"}}, {Name: "before", Says: "only deliveries before this id", Example: 1000000}, qLimit, qFormat}, Fails: []string{"unknown-hook"}}, a.deliveries},
		{Operation{Method: get, Path: "/v1/deliveries/{delivery}", ID: "getDelivery", Topic: hook, Says: "Get a delivery with its body", Shows: operate, Reach: ReachRealm, Gives: wire.Delivery{}, Fails: []string{"unknown-delivery"}}, a.delivery},
		{Operation{Method: post, Path: "/v1/deliveries/{delivery}/again", ID: "redeliver", Topic: hook, Says: "Deliver an event again that was delivered or parked", Shows: operate, Reach: ReachRealm, Gives: wire.Delivery{}, Status: 202, Fails: []string{"unknown-delivery", "exists"}}, a.redeliver},
		{Operation{Method: del, Path: "/v1/hooks/{hook}", ID: "removeHook", Topic: hook, Says: "Remove a hook and its waiting deliveries", Shows: operate, Reach: ReachRealm, Fails: []string{"unknown-hook"}}, a.removeHook},
	}
}

func (a *API) adminRoutes() []route {
	const topic, keys = "Administration", "Keys and realms"
	return []route{
		{Operation{Method: get, Path: "/v1/policies", ID: "listPolicies", Topic: topic, Says: "Get the policies, with what they mean in sentences", More: "With room=: the policy of that room, and the pattern that it comes from.",
			Shows: read, Reach: ReachRooms, Gives: wire.Policies{}, Forms: tables, Query: []Parameter{qRoom, qFormat}, Fails: []string{"bad-room"}}, a.policies},
		{Operation{Method: get, Path: "/v1/health", ID: "getHealth", Topic: topic, Says: "Get the state of the service: the records, and the realm in numbers", More: "A key limited to some rooms gets no numbers of the realm. As an event stream: the state, then every change, at most each second.",
			Shows: read, Reach: ReachRooms, Gives: wire.ServiceHealth{}, Forms: followed}, a.health},
		{Operation{Method: post, Path: "/v1/reload", ID: "reload", Topic: topic, Says: "Reload the configuration file", More: "The file is applied whole or not at all: policies, origins of realms, how long records are kept, the certificate. A change that needs a restart is refused by name.",
			Shows: operate, Reach: ReachService, Gives: wire.Reloaded{}, Fails: []string{"bad-config"}}, a.reload},
		{Operation{Method: get, Path: "/v1/nodes", ID: "listNodes", Topic: topic, Says: "List the nodes of the cluster", More: "What each of them owns and carries, how far it has read the log, and whom it hears; which node owns each realm; and the last changes of owners. As an event stream: the same, then every change, at most each second.",
			Shows: read, Reach: ReachService, Gives: wire.Nodes{}, Forms: append(tables, followed...), Query: []Parameter{qFormat}, Fails: []string{"alone"}}, a.nodes},
		{Operation{Method: post, Path: "/v1/nodes/{node}/drain", ID: "drainNode", Topic: topic, Says: "Have a node hand over what it owns, and end", More: "The node refuses new links, hands its realms over, sends its clients to other nodes, and exits with 0.",
			Shows: operate, Reach: ReachService, Gives: wire.Drained{}, Status: 202, Fails: []string{"alone", "unknown-node"}}, a.drainNode},
		{Operation{Method: get, Path: "/metrics", ID: "metrics", Topic: topic, Says: "Metrics in the Prometheus text format", Shows: read, Reach: ReachService, Forms: []string{"text/plain"}}, func(c fiber.Ctx) error { return a.exposition(c) }},
		{Operation{Method: get, Path: "/debug/pprof/{profile}", ID: "profile", Topic: topic, Says: "A profile of the running service, for go tool pprof",
			More: "The profiles of Go's runtime/pprof: allocs, block, goroutine, heap, mutex, threadcreate; profile (of the processor) and trace take seconds.", Shows: operate, Reach: ReachService,
			Query: []Parameter{{Name: "seconds", Says: "seconds to record, of profile and trace; at most 60", Example: 1}}, Forms: []string{"application/octet-stream"}, Fails: []string{"unknown-path"}}, a.takeProfile},
		{Operation{Method: post, Path: "/v1/keys", ID: "addKey", Topic: keys, Says: "Make a key for a back end or an operator", More: "Only this answer has the key itself.",
			Shows: operate, Reach: ReachRealm, Takes: wire.NewKey{Name: "flood-log", Role: "read", Rooms: []string{"desk.**"}}, Gives: wire.Key{}, Status: 201, Fails: []string{"bad-field", "bad-pattern", "not-granted"}}, a.addKey},
		{Operation{Method: get, Path: "/v1/keys", ID: "listKeys", Topic: keys, Says: "List the keys of the realm", Shows: operate, Reach: ReachRealm, Gives: wire.Keys{}, Forms: tables, Query: []Parameter{qFormat}}, a.listKeys},
		{Operation{Method: del, Path: "/v1/keys/{key}", ID: "revokeKey", Topic: keys, Says: "Revoke a key", Shows: operate, Reach: ReachRealm, Fails: []string{"unknown-key"}}, a.revokeKey},
		{Operation{Method: post, Path: "/v1/token-keys", ID: "addTokenKey", Topic: keys, Says: "Add a key that verifies tokens",
			Shows: operate, Reach: ReachRealm, Takes: wire.NewTokenKey{ID: "watch-house", Algorithm: "HS256", Key: "a secret of the Aldermoor, of 32 bytes or more"}, Gives: wire.TokenKey{}, Status: 201, Fails: []string{"bad-field", "exists"}}, a.addTokenKey},
		{Operation{Method: get, Path: "/v1/token-keys", ID: "listTokenKeys", Topic: keys, Says: "List the keys that verify tokens", Shows: operate, Reach: ReachRealm, Gives: wire.TokenKeys{}, Forms: tables, Query: []Parameter{qFormat}}, a.listTokenKeys},
		{Operation{Method: del, Path: "/v1/token-keys/{kid}", ID: "revokeTokenKey", Topic: keys, Says: "Revoke a key that verifies tokens", Shows: operate, Reach: ReachRealm, Fails: []string{"unknown-key"}}, a.revokeTokenKey},
		{Operation{Method: post, Path: "/v1/realms", ID: "addRealm", Topic: keys, Says: "Make a realm, with its first operator key", Shows: operate, Reach: ReachService, Takes: wire.Realm{Name: "training"}, Gives: wire.NewRealm{}, Status: 201, Fails: []string{"bad-field", "exists"}}, a.addRealm},
		{Operation{Method: get, Path: "/v1/realms", ID: "listRealms", Topic: keys, Says: "List the realms of the service", Shows: operate, Reach: ReachService, Gives: wire.Realms{}, Forms: tables, Query: []Parameter{qFormat}}, a.listRealms},
		{Operation{Method: del, Path: "/v1/realms/{realm}", ID: "removeRealm", Topic: keys, Says: "Remove a realm, and delete everything in it", Shows: operate, Reach: ReachService, Fails: []string{"bad-field", "unknown-realm"}}, a.removeRealm},
	}
}

// linkRoutes are for the clients of people, who have tokens, and for browsers.
func (a *API) linkRoutes() []route {
	const links, console = "Links", "Console"
	beating := wire.Beating{Rooms: []string{"basin.upper-weir"}, Active: true}
	return []route{
		{Operation{Method: get, Path: "/v1/link", ID: "openLink", Topic: links, Says: "Open a WebSocket link (RFC 6455)", More: "Its frames are described in /asyncapi.yaml.", Shows: showsNothing, Status: 101, Fails: []string{"not-websocket"}},
			a.openLink},
		{Operation{Method: post, Path: "/v1/tickets", ID: "getTicket", Topic: links, Says: "Get a ticket for an event stream", More: "The body is a hello. The ticket opens one stream within 30 seconds, so that no token appears in an address.",
			Shows: showsToken, Takes: wire.Hello{Version: wire.Version, Rooms: []string{"basin.upper-weir"}}, Gives: wire.Ticket{}, Status: 201, Fails: []string{"not-json", "wrong-version", "no-token", "bad-token", "not-granted", "bad-room"}}, a.ticket},
		{Operation{Method: get, Path: "/v1/feed", ID: "openFeed", Topic: links, Says: "Open an event stream link", More: "Send a ticket, or a token as bearer with what to follow in the address. The frames are those of a WebSocket link.", Shows: showsToken,
			Query: []Parameter{{Name: "ticket", Says: "a ticket of POST /v1/tickets"}, {Name: "room", Says: "to be in", Example: "basin.upper-weir", Repeats: true}, {Name: "watch", Says: "rooms to watch, or patterns", Repeats: true}, {Name: "people", Says: "people to watch", Repeats: true},
				{Name: "detail", Says: "how much of rooms", OneOf: []string{wire.DetailCount, wire.DetailMembers}}, {Name: "watch_only", Says: "open no session"}},
			Forms: followed, Fails: []string{"no-token", "bad-token", "bad-ticket", "not-granted", "bad-field"}}, a.feed},
		{Operation{Method: put, Path: "/v1/sessions/{session}", ID: "beat", Topic: links, Says: "Beat over HTTP, for a session without a connection", More: "The first beat goes to /v1/sessions/new. Each answer has a lease: the time within which the next beat must come.",
			Shows: showsToken, Takes: beating, Gives: wire.Lease{}, Fails: []string{"not-json", "no-token", "bad-token", "not-granted", "bad-field", "bad-room"}}, a.beat},
		{Operation{Method: get, Path: "/v1/sessions/{session}", ID: "getSession", Topic: links, Says: "Get a session, with its resume key", More: "An unknown session, or a wrong key, is answered like a session that has ended.", Shows: showsSession, Gives: wire.Session{}, Fails: []string{"bad-field"}}, a.session},
		{Operation{Method: post, Path: "/v1/sessions/{session}/links/{link}", ID: "postToLink", Topic: links, Says: "Send a request of an event stream", More: "The address, with its query, is posts of the stream's first frame. The body and the answer are frames.", Query: []Parameter{{Name: "node", Says: "of a cluster: the node that carries the stream", Example: "dipper"}},
			Shows: showsSession, Takes: map[string]any{"type": "leave", "id": 1, "room": "basin.upper-weir"}, Gives: map[string]any{}, Fails: []string{"no-link", "bad-field"}}, a.post},
		{Operation{Method: post, Path: "/v1/closing", ID: "closing", Topic: links, Says: "Report that a page is going away", More: "A browser sends it as a beacon, with the resume key in the body.",
			Shows: showsNothing, Takes: wire.ClosingNote{Session: "session-7qk2", ResumeKey: "5QOG", Nonce: "page-load-8f3a"}, Gives: wire.ClosingAnswer{}, Fails: []string{"not-json", "too-large", "bad-field"}}, a.closing},
		{Operation{Method: del, Path: "/v1/sessions/{session}", ID: "bye", Topic: links, Says: "End a session, with its resume key", Shows: showsSession, Gives: wire.ClosingAnswer{}, Fails: []string{"bad-field"}}, a.bye},
		{Operation{Method: post, Path: "/v1/practice", ID: "practise", Topic: links, Says: "Get a practice room, with people to play", More: "Only if the service offers it.", Shows: showsNothing, Takes: map[string]any{}, Gives: wire.Practice{}, Fails: []string{"no-practice", "not-json"}}, a.practice},
		{Operation{Method: post, Path: "/v1/sign-in", ID: "signIn", Topic: console, Says: "Sign a browser in at the console", Shows: showsNothing, Takes: wire.SigningIn{Key: "KEY"}, Gives: wire.SignIn{}, Fails: []string{"not-json", "bad-key", "bad-origin"}}, a.signIn},
		{Operation{Method: get, Path: "/v1/sign-in", ID: "signedIn", Topic: console, Says: "Get the key with which a browser is signed in", Shows: showsNothing, Gives: wire.SignIn{}}, a.signedIn},
		{Operation{Method: del, Path: "/v1/sign-in", ID: "signOut", Topic: console, Says: "Sign a browser out", Shows: showsNothing, Fails: []string{"bad-origin"}}, a.signOut},
	}
}

func (a *API) serviceRoutes() []route {
	const topic = "Service"
	routes := []route{
		{Operation{Method: get, Path: "/healthz", ID: "health", Topic: topic, Says: "Check that the process is running", Shows: showsNothing, Gives: wire.Health{}}, func(c fiber.Ctx) error { return c.JSON(wire.Health{Status: "ok"}) }},
		{Operation{Method: get, Path: "/readyz", ID: "readiness", Topic: topic, Says: "Check that the service is ready, and the state of the records", Shows: showsNothing, Gives: wire.Readiness{}, Fails: []string{"not-ready"}}, a.readyz},
	}
	if a.hideDocs {
		return routes
	}
	return append(routes,
		route{Operation{Method: get, Path: "/openapi.json", ID: "openapi", Topic: topic, Says: "This document", Shows: showsNothing, Forms: []string{"application/json"}}, func(c fiber.Ctx) error { return c.Type("json").Send(wire.OpenAPI) }},
		route{Operation{Method: get, Path: "/asyncapi.yaml", ID: "asyncapi", Topic: topic, Says: "The description of the frames of links (AsyncAPI 3.0)", Shows: showsNothing, Forms: []string{"application/yaml"}}, func(c fiber.Ctx) error { return c.Type("yaml").Send(wire.AsyncAPI) }},
		route{Operation{Method: get, Path: "/api", ID: "apiPage", Topic: topic, Says: "This document as a page", Shows: showsNothing, Forms: page}, a.apiPage},
		route{Operation{Method: get, Path: "/problems", ID: "problems", Topic: topic, Says: "All codes of problems, as a page", Shows: showsNothing, Forms: page}, problemIndex},
		route{Operation{Method: get, Path: "/problems/{code}", ID: "problem", Topic: topic, Says: "What a code of problems means, as a page", Shows: showsNothing, Forms: page, Fails: []string{"unknown-path"}}, problemPage},
	)
}
