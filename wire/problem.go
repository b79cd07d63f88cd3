package wire

import "strings"

// Problem is what went wrong: an error frame on a link, and the members of a
// problem document (RFC 9457) over HTTP.
type Problem struct {
	Code    string `json:"code"`
	Detail  string `json:"detail"`            // what was wrong, for people
	Field   string `json:"field,omitempty"`   // where it was
	Value   string `json:"value,omitempty"`   // what it was, shortened
	Allowed string `json:"allowed,omitempty"` // what it may be
}

func (p *Problem) Error() string {
	s := p.Detail
	if p.Allowed != "" {
		s += " (allowed: " + p.Allowed + ")"
	}
	return s
}

// ErrorFrame tells a client that a request was not carried out. Re is absent
// when the request had no id that could be read.
type ErrorFrame struct {
	Type string `json:"type"`
	Re   ID     `json:"re,omitempty"`
	Problem
	Help string `json:"help"` // the path of the page on this code
}

// Document is an application/problem+json body (RFC 9457). Instance is the path asked for.
type Document struct {
	Type     string `json:"type"` // the path of the page on the code
	Title    string `json:"title"`
	Status   int    `json:"status"`
	Instance string `json:"instance"`
	Request  string `json:"request,omitempty"` // the request's id, which the log has too
	Problem
}

// HelpPath is the path of the page that explains a code.
func HelpPath(code string) string { return "/problems/" + code }

// Codes for what can be wrong before the core is asked.
const (
	CodeNotJSON          = "not-json"
	CodeNoType           = "no-type"
	CodeUnknownType      = "unknown-type"
	CodeBadField         = "bad-field"
	CodeWrongVersion     = "wrong-version"
	CodeHelloFirst       = "hello-first"
	CodeSecondHello      = "second-hello"
	CodeHelloTimeout     = "hello-timeout"
	CodeNoToken          = "no-token"
	CodeBadToken         = "bad-token"
	CodeExpiredToken     = "expired-token"
	CodeNotGranted       = "not-granted"
	CodeNotWatching      = "not-watching"
	CodeTooManyWatches   = "too-many-watches"
	CodeTooLarge         = "too-large"
	CodeWatchOnly        = "watch-only"
	CodeNoKey            = "no-key"
	CodeBadKey           = "bad-key"
	CodeUnknownRoom      = "unknown-room"
	CodeUnknownPath      = "unknown-path"
	CodeMethodNotAllowed = "method-not-allowed"
	CodeNotWebSocket     = "not-websocket"
	CodeNotReady         = "not-ready"
	CodeTooFast          = "too-fast"
	CodeTooManyLinks     = "too-many-links"
	CodeBusy             = "busy"
	CodeBadTicket        = "bad-ticket"
	CodeNoLink           = "no-link"
	CodeOldRevision      = "old-revision"
	CodeHiding           = "hiding"
	CodeNoPractice       = "no-practice"
	CodeInternal         = "internal"
	CodeExists           = "exists"
	CodeBadRequest       = "bad-request"
	CodeUnknownKey       = "unknown-key"
	CodeWrongRole        = "wrong-role"
	CodeUnknownRealm     = "unknown-realm"
	CodeUnknownPerson    = "unknown-person"
	CodeBadOrigin        = "bad-origin"
	CodeLockedOut        = "locked-out"
	CodeNotAdmitted      = "not-admitted"
	CodeNotRecorded      = "not-recorded"
	CodeUnknownHook      = "unknown-hook"
	CodeUnknownDelivery  = "unknown-delivery"
	CodeKeyReused        = "key-reused"
	CodeUnderWay         = "under-way"
	CodeBadConfig        = "bad-config"
)

// ProblemType is what the page on a code says.
type ProblemType struct {
	Code   string
	Title  string
	Status int // of the HTTP answer; 0 when it comes over links only
	Text   string
}

// ProblemTypes are all codes that Tovik uses, in the order in which docs list
// them.
var ProblemTypes = []ProblemType{
	{CodeNotJSON, "Not JSON", 400, "The frame or body is not one JSON object (RFC 8259). On a link, send text frames, each with one object."},
	{CodeNoType, "No type", 400, "Every frame has a type, a string that says what it asks for."},
	{CodeUnknownType, "Unknown type", 400, "The type is none that the service knows. It answers with the list of those it does."},
	{CodeBadField, "Bad field", 400, "A field has a value of the wrong kind or outside what is allowed. The answer names the field, its value and what it may be. Unknown fields are ignored."},
	{CodeWrongVersion, "Wrong protocol version", 400, "The hello states a version of the protocol that this service does not speak."},
	{CodeHelloFirst, "Hello comes first", 0, "The first frame of a link must be hello: nobody exists before they are identified."},
	{CodeSecondHello, "Second hello", 0, "A link says hello once. To be somebody else, or to resume another session, open a new link."},
	{CodeHelloTimeout, "No hello in time", 0, "A link that brings no valid hello within 5 seconds is closed."},
	{CodeNoToken, "No token", 401, "The hello carries neither the token of a person nor the key of an operator."},
	{CodeBadToken, "Bad token", 401, "The token is not one that this service's secret signed, or lacks what it must have. Mint one with: tovik token."},
	{CodeExpiredToken, "Expired token", 401, "The token's time is over. Fetch a fresh one from your back end and say hello on a new link."},
	{CodeNotGranted, "Not granted", 403, "The token does not grant this. Its claim tovik.rooms lists the patterns of rooms to be in and to watch, tovik.cue those to give cues in, tovik.hide that the person may hide, and tovik.people whom to watch."},
	{"bad-room", "Malformed room name", 400, "A room name is words of letters, digits, - and _, joined by single dots: basin.upper-weir. It has at most 128 bytes."},
	{"bad-pattern", "Malformed room pattern", 400, "A pattern is a room name in which a word may be * (any one word) and the last may be ** (the rest): basin.*, desk.**"},
	{"bad-user", "Malformed user id", 400, "The subject of a token, or somebody to be watched, is a person's stable id: 1 to 128 bytes of UTF-8 without control characters."},
	{"bad-profile", "Malformed profile", 400, "The name or picture in the token is too long or has characters that cannot be shown."},
	{"bad-nonce", "Malformed nonce", 400, "The nonce names this load of the page: at most 64 bytes, made anew at each load."},
	{"too-many-rooms", "Too many rooms", 409, "One session may be in a limited number of rooms at once. Leave one first."},
	{"too-many-sessions", "Too many sessions", 409, "One person may have a limited number of sessions at once. End one first, or let it end."},
	{"not-in-room", "Not in the room", 409, "The session can neither leave, nor type or give a cue in, a room that it is not in."},
	{"bad-status", "Malformed status", 400, "A person may set busy or away, until a time in the future, or nothing."},
	{"bad-note", "Malformed note", 400, "The note of a set status has at most 200 bytes of UTF-8 without control or direction characters."},
	{"already-here", "Already here", 409, "This realm lets a person have one session, and refuses a second while the first has a link."},
	{"room-full", "Room full", 409, "The room's policy limits how many people may be in it."},
	{"removed", "Removed", 403, "The person was removed from the room or altogether. Tokens issued before that are refused; a newer one is taken."},
	{CodeNotWatching, "Not watching", 409, "The link cannot stop watching what it does not watch. Name the room or pattern as the watch did."},
	{CodeTooManyWatches, "Too many watches", 409, "One link may watch a limited number of rooms and patterns, and of people. A pattern can stand for many rooms."},
	{"no-session", "No session", 404, "The session of this link has ended. Say hello on a new link."},
	{"old-link", "Older link", 409, "A newer link of the session has taken over, or its page said that it is going away. Nothing that comes over this one counts."},
	{CodeWatchOnly, "May only watch", 409, "A link with an operator's key, or with watch_only, has no session: it may watch, not be in rooms. Say hello with a person's token to take part."},
	{CodeTooFast, "Too fast", 429, "More came than a link, or a key, may bring in a short time. What was too much was not carried out; a link that goes on is closed with 4429. Over HTTP the RateLimit header says how much is left, and Retry-After when to come again."},
	{CodeTooManyLinks, "Too many links", 429, "One network address, and one person, may have a limited number of links at once."},
	{CodeBusy, "Busy", 503, "The service has as much of this as it takes at once. Try again in a moment."},
	{CodeBadTicket, "Bad ticket", 401, "A ticket opens one event stream within 30 seconds. Its own reconnects carry the id of an event that they have read; after the end of its session, or much later, a fresh one is needed."},
	{CodeNoLink, "No such link", 404, "Requests beside an event stream go to the address that its last answer gave as posts, with the session's key as bearer. Each reconnect has another."},
	{CodeOldRevision, "Old revision", 410, "Pages of a large room are of one revision, which is kept for a minute. Begin again with the first page."},
	{CodeHiding, "Hiding", 409, "Whoever hides is seen nowhere, and so can give no cue. Show yourself first: hide with on false."},
	{CodeNoPractice, "No practice room", 404, "Everybody who reaches a service with a practice room gets tokens for rooms of their own in it, so it is off unless it is asked for: tovik serve --practice."},
	{CodeTooLarge, "Too large", 413, "A frame or body may have 16 KB."},
	{CodeNoKey, "No key", 401, "This needs an operator key, sent as Authorization: Bearer KEY."},
	{CodeBadKey, "Wrong key", 401, "The operator key is not that of this service."},
	{CodeUnknownRoom, "Unknown room", 404, "Nobody is in a room of this name now. A room exists while somebody is in it, and asking about one creates nothing."},
	{CodeUnknownPath, "Unknown path", 404, "Nothing is served at this path."},
	{CodeMethodNotAllowed, "Method not allowed", 405, "The path is right, the method is not. The Allow header lists those that are."},
	{CodeNotWebSocket, "Not a WebSocket request", 426, "This path takes WebSocket handshakes (RFC 6455) only."},
	{CodeBadRequest, "Bad request", 400, "What came is no HTTP request that can be read (RFC 9112), or came too slowly."},
	{CodeExists, "Exists", 409, "There is one of this name already, or was. Choose another."},
	{CodeUnknownKey, "Unknown key", 404, "The realm has no key of this id that is in force. List them with: tovik key list."},
	{CodeWrongRole, "Wrong role", 403, "A key has one of the roles read, write and operate, and perhaps room patterns, and may do no more than that."},
	{CodeUnknownRealm, "Unknown realm", 404, "There is no realm of this name, or the key is not one that may see it."},
	{CodeUnknownPerson, "Unknown person", 404, "Nobody of this id is known in the realm."},
	{CodeBadOrigin, "Origin not allowed", 403, "The realm says which origins pages may come from, and this page comes from another. Add its origin to the realm's origins."},
	{CodeLockedOut, "Locked out", 429, "Too many keys from this network address were refused in a short time. Wait a minute."},
	{CodeNotAdmitted, "Not admitted", 403, "The application was asked whether this person may be in the room, and said no, or could not be asked."},
	{CodeNotRecorded, "Not recorded", 503, "The records cannot be written now: the disk is full, or the file is locked or broken. Presence goes on. GET /readyz says what is wrong."},
	{CodeUnknownHook, "Unknown hook", 404, "The realm has no hook of this id. List them with: tovik hook list."},
	{CodeUnknownDelivery, "Unknown delivery", 404, "There is no delivery of this id, or it was so long ago that it is no longer kept."},
	{CodeKeyReused, "Idempotency key reused", 422, "A request with the same Idempotency-Key came before, and was another one. A new request wants a new key; a retry is the same request, to the byte."},
	{CodeUnderWay, "Under way", 409, "The request of this Idempotency-Key is still being carried out. Ask again in a moment for its answer."},
	{CodeBadConfig, "Bad configuration", 409, "The configuration file cannot be taken over as it is: it has a mistake, or changes what needs a restart. Nothing has been changed."},
	{CodeNotReady, "Not ready", 503, "The service is starting or stopping. Try again in a moment."},
	{CodeInternal, "Internal error", 500, "The service failed to do what it should. Its log says more."},
}

// Passing tells whether what was refused with a code may be asked for again, as it is,
// a little later.
func Passing(code string) bool {
	switch code {
	case CodeHelloTimeout, CodeTooFast, CodeTooManyLinks, CodeBusy, CodeNotReady, CodeNotRecorded, CodeUnderWay, CodeInternal:
		return true
	}
	return false
}

// NewTokenMayHelp reports whether a request refused with a code may succeed with a newer
// token.
func NewTokenMayHelp(code string) bool {
	switch code {
	case CodeBadToken, CodeExpiredToken, CodeNotGranted, CodeNotAdmitted, "removed":
		return true
	}
	return false
}

// ProblemTypeOf finds the explanation of a code.
func ProblemTypeOf(code string) (ProblemType, bool) {
	for _, e := range ProblemTypes {
		if e.Code == code {
			return e, true
		}
	}
	return ProblemType{}, false
}

// Shorten makes a value that somebody sent fit to be repeated to them: at most
// 80 bytes, valid UTF-8.
func Shorten(value string) string {
	const most = 80
	if len(value) > most {
		value = value[:most] + "…"
	}
	return strings.ToValidUTF8(value, "�")
}
