package wire

import "strings"

// Outcomes say in sentences how an ask or an invitation ended. Each follows "the ask" or "the
// invitation".
var Outcomes = map[string]string{
	"admitted":  "was answered: they were let in",
	"refused":   "was answered: they were not let in",
	"accepted":  "was accepted",
	"declined":  "was declined",
	"withdrawn": "was withdrawn",
	"expired":   "was not answered in time",
	"gone":      "ended with the session that it came from",
}

// ReasonWords say in sentences why a link, a session or a stay is over.
type ReasonWords struct {
	// Short goes into a line: "page closed".
	Short string `json:"short"`
	// Left follows the name of a person who left a room: "closed the page and did not return in
	// time".
	Left string `json:"left"`
	// Ended follows "because", of a session that ended or a stay that did.
	Ended string `json:"ended"`
	// Lost says why a session has no link, and is in its grace. Empty: that is no reason for it.
	Lost string `json:"lost,omitempty"`
	// Cause follows a colon in a line of the journal: "the page closed and did not return".
	// Empty: the line has said it.
	Cause string `json:"-"`
}

// Reasons are the words for the codes of reasons.
var Reasons = map[string]ReasonWords{
	"leave": {Short: "left the room", Left: "left the room", Ended: "they asked to leave it"},
	"bye":   {Short: "signed off", Left: "signed off", Ended: "it signed off, or they signed out everywhere", Cause: "signed off"},
	"closing": {
		Short: "page closed",
		Left:  "closed the page and did not return in time",
		Ended: "the page was closed and did not come back within its grace, as a reload would have",
		Lost:  "its page is going away (closed or reloaded; nobody can tell which yet)",
		Cause: "the page closed and did not return",
	},
	"lost": {
		Short: "link lost",
		Left:  "lost the link and did not return in time",
		Ended: "its link was lost without a word and did not come back within the grace",
		Lost:  "its link was lost without a word",
		Cause: "the link was lost and did not return",
	},
	"silent": {
		Short: "no answer",
		Left:  "did not answer, although the link was up",
		Ended: "nothing more was heard of it, although its link was up, or its lease ran out",
		Lost:  "it did not answer, although its link was up",
		Cause: "the link fell silent and did not return",
	},
	"expired": {
		Short: "token expired",
		Left:  "had a token that expired",
		Ended: "its token expired and no newer one came within the grace",
		Lost:  "its token expired",
		Cause: "the token expired and no newer one came",
	},
	"removed":  {Short: "removed", Left: "was removed", Ended: "an operator, a moderator or the back end removed them", Cause: "removed"},
	"replaced": {Short: "replaced", Left: "went on in another session", Ended: "another session of theirs took its place", Cause: "a newer session took over"},
}

// Rules are the words for the codes of the rules that decide a status.
var Rules = map[string]string{
	"no-session": "there is no unended session",
	"hiding":     "the person hides from this view",
	"set":        "the person has set it",
	"engaged":    "the person is in a room that engages",
	"awake":      "somebody is awake at a session",
	"idle":       "every session is idle",
}

// Acts are the words for the codes of what happens to a session if nothing more is heard of
// it. {room} stands for the room that it is about.
var Acts = map[string]string{
	"ask-beat":     "the service asks for a beat",
	"lose":         "the link counts as lost",
	"end-lease":    "the lease ends, and the session with it",
	"leave":        "the session leaves {room}",
	"end-grace":    "the grace ends, and the session with it",
	"fall-idle":    "the session falls idle",
	"stop-typing":  "typing in {room} ends",
	"warn-expiry":  "the client is warned that its token expires",
	"expire":       "the token expires",
	"settle-probe": "the newer page takes the session over",
}

// ActWords returns the words for an act that is about a room, which may be empty.
func ActWords(act, room string) string {
	words, ok := Acts[act]
	if !ok {
		return act
	}
	return strings.ReplaceAll(words, "{room}", room)
}

// Overs are the words for the kinds of links.
var Overs = map[string]string{"websocket": "a WebSocket", "stream": "an event stream", "beats": "HTTP beats"}
