package wire

import (
	"encoding/json"
	"strconv"
	"strings"
)

// Problem says what went wrong: in an error frame on a link, and in a problem document
// (RFC 9457) over HTTP.
type Problem struct {
	Code    string `json:"code"`
	Detail  string `json:"detail"`            // what is wrong, in words
	Field   string `json:"field,omitempty"`   // which field is wrong
	Value   string `json:"value,omitempty"`   // its value, shortened
	Allowed string `json:"allowed,omitempty"` // what is allowed
}

// Error returns the detail, the field with its value, and what is allowed, in one line.
func (p *Problem) Error() string {
	s := p.Detail
	if p.Field != "" && p.Value != "" {
		value := p.Value
		if value[0] != '"' || !json.Valid([]byte(value)) { // a string in JSON has its quotes
			value = strconv.Quote(value)
		}
		s += ": " + p.Field + " is " + value
	}
	if p.Allowed != "" {
		s += "; allowed: " + p.Allowed
	}
	return s
}

// ErrorFrame tells a client that a request was not carried out. Re is absent when the request
// had no readable id.
type ErrorFrame struct {
	Type string `json:"type"`
	Re   ID     `json:"re,omitempty"`
	Problem
	Help string `json:"help"` // the path of the page on this code
}

// Document is an application/problem+json body (RFC 9457). Instance is the path of the request.
type Document struct {
	Type     string `json:"type"` // the path of the page on the code
	Title    string `json:"title"`
	Status   int    `json:"status"`
	Instance string `json:"instance"`
	Request  string `json:"request,omitempty"` // the id of the request, as in the log
	Problem
}

// HelpPath is the path of the page that explains a code.
func HelpPath(code string) string { return "/problems/" + code }

// Codes of problems that are found before the core is asked.
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
	CodeAlone            = "alone"
	CodeUnknownNode      = "unknown-node"
)

// ProblemType describes a code (RFC 9457 §3.1.1), as the page on it does.
type ProblemType struct {
	Code   string
	Title  string
	Status int // of the HTTP answer; 0 for a code that occurs on links only
	Text   string
}

// ProblemTypes describes all codes, in the order in which the page /problems lists them.
var ProblemTypes = []ProblemType{
	{CodeNotJSON, "Not JSON", 400, "The frame or body is not a single JSON object (RFC 8259). On a link, send text frames with one object each."},
	{CodeNoType, "No type", 400, "Every frame needs a type: a string that says what the frame asks for."},
	{CodeUnknownType, "Unknown type", 400, "The service does not know this type. The answer lists the types that it knows."},
	{CodeBadField, "Bad field", 400, "A field has a value of the wrong type or outside the allowed range. The answer names the field, its value and what is allowed. Unknown fields are ignored."},
	{CodeWrongVersion, "Wrong protocol version", 400, "The hello asks for a protocol version that this service does not speak."},
	{CodeHelloFirst, "Hello comes first", 0, "The first frame of a link must be hello: nobody exists before they are identified."},
	{CodeSecondHello, "Second hello", 0, "A link says hello once. To be somebody else, or to resume another session, open a new link."},
	{CodeHelloTimeout, "No hello in time", 0, "A link is closed when no valid hello arrives within 5 seconds."},
	{CodeNoToken, "No token", 401, "The hello has neither a person's token nor an operator's key."},
	{CodeBadToken, "Bad token", 401, "The token is not signed by a key of this service, or lacks a required claim. To mint one: tovik token."},
	{CodeExpiredToken, "Expired token", 401, "The token has expired. Fetch a new one from your back end, and say hello on a new link."},
	{CodeNotGranted, "Not granted", 403, "The token does not grant this. Its claim tovik.rooms lists the rooms to be in and to watch, tovik.cue the rooms to give cues in, tovik.admit and tovik.invite the rooms to let and invite people into, and tovik.people the people to watch; tovik.hide permits hiding."},
	{"bad-room", "Malformed room name", 400, "A room name is words of letters, digits, - and _, joined by single dots: basin.upper-weir. It has at most 128 bytes."},
	{"bad-pattern", "Malformed room pattern", 400, "A pattern is a room name in which a word may be * (any one word) and the last may be ** (the rest): basin.*, desk.**"},
	{"bad-user", "Malformed user id", 400, "A user id, as in the subject of a token or in a watch, has 1 to 128 bytes of UTF-8 without control characters."},
	{"bad-profile", "Malformed profile", 400, "The name or the picture in the token is too long, or has characters that cannot be displayed."},
	{"bad-nonce", "Malformed nonce", 400, "The nonce identifies one load of a page. It has at most 64 bytes and is made anew at each load."},
	{"too-many-rooms", "Too many rooms", 409, "The session is in as many rooms as it may be. Leave one first."},
	{"too-many-sessions", "Too many sessions", 409, "The person has as many sessions as allowed. End one first, or let it end."},
	{"not-in-room", "Not in the room", 409, "The session is not in this room, so it cannot leave it, type in it, or give a cue in it."},
	{"bad-status", "Malformed status", 400, "A person may set busy or away, optionally until a time in the future, or clear the status."},
	{"bad-note", "Malformed note", 400, "The note of a set status has at most 200 bytes of UTF-8 without control or direction characters."},
	{"already-here", "Already here", 409, "This realm allows one session per person, and refuses a second one while the first has a link."},
	{"room-full", "Room full", 409, "The room holds as many people as its policy allows."},
	{"removed", "Removed", 403, "The person was removed from the room or from the realm. Tokens issued before the removal are refused; a newer token is accepted."},
	{"bad-doing", "Malformed doing", 400, "What a member is doing is a JSON object within the bound of the room's policy (doing.bytes), or null for nothing."},
	{"engaged", "Person engaged", 409, "The person is in a room that engages them, as a call or a handover: they cannot be invited meanwhile, and cannot enter another such room unless its policy allows several."},
	{"must-ask", "Must ask", 403, "The room lets people in who were admitted. Join it: that asks its members who may admit. To watch it or to invite somebody into it needs the same."},
	{"asked-before", "Asked before", 409, "The person was refused a moment ago, and may ask again later. The answer says when."},
	{"no-ask", "No such ask", 404, "There is no open ask with this id that you may answer. It may be over: the answer then says how it ended."},
	{"no-invitation", "No such invitation", 404, "There is no open invitation of yours with this id. It is over, somebody else's, or unknown; the answer says which."},
	{"offline", "Person offline", 409, "Only people who are here can be invited. People you may not see count as offline."},
	{"set-busy", "Person set busy", 409, "The person has set busy, and the policy does not let busy people be invited (invitation.busy)."},
	{"quota-reached", "Quota reached", 429, "The realm uses all that its quota allows: of people or sessions at once, or of cues in a minute. Sessions that are open stay open. Try again later. To see the use: tovik usage."},
	{"too-many-invitations", "Too many invitations", 409, "The person has as many open invitations as the policy allows (invitations.max)."},
	{"bad-pass", "Bad pass", 400, "A pass ends at a time in the future."},
	{CodeNotWatching, "Not watching", 409, "The link does not watch this. Name the room or pattern exactly as the watch did."},
	{CodeTooManyWatches, "Too many watches", 409, "The link watches as many rooms and patterns, or people, as it may. One pattern can stand for many rooms."},
	{"no-session", "No session", 404, "The session of this link has ended. Say hello on a new link."},
	{"old-link", "Older link", 409, "A newer link carries the session, or the page said that it is going away. Frames over this link have no effect."},
	{CodeWatchOnly, "May only watch", 409, "A link with an operator's key, or with watch_only, has no session: it can watch rooms but not be in them. To take part, say hello with a person's token."},
	{CodeTooFast, "Too fast", 429, "Too many frames or requests arrived in a short time. This one was not carried out; a link that goes on is closed with 4708. Over HTTP the RateLimit header says how many are left, and Retry-After when to try again."},
	{CodeTooManyLinks, "Too many links", 429, "This network address, or this person, has as many links as allowed."},
	{CodeBusy, "Busy", 503, "The service is at a limit. Try again in a moment."},
	{CodeBadTicket, "Bad ticket", 401, "A ticket opens one event stream within 30 seconds. When the stream reconnects, it sends the id of the last event instead. After the session has ended, or after a minute, a new ticket is needed."},
	{CodeNoLink, "No such link", 404, "Requests of an event stream go to the address posts of its last answer, with the resume key as bearer. Each reconnect has a new address."},
	{CodeOldRevision, "Old revision", 410, "All pages of a large room are of one revision, which is kept for a minute. Begin again with the first page."},
	{CodeHiding, "Hiding", 409, "A hidden person cannot give cues, ask, admit, or invite, because that would show them. First stop hiding: hide with on false."},
	{CodeNoPractice, "No practice room", 404, "Practice is off. It gives a token to everybody who can reach the service, so it has to be switched on: tovik serve --practice."},
	{CodeTooLarge, "Too large", 413, "A frame or body has at most 16 KB."},
	{CodeNoKey, "No key", 401, "This needs an operator key, sent as Authorization: Bearer KEY."},
	{CodeBadKey, "Wrong key", 401, "This service does not accept the operator key: it is unknown, revoked or expired."},
	{CodeUnknownRoom, "Unknown room", 404, "The room does not exist. A room exists while somebody is in it, or while it is declared. Asking about a room does not create it."},
	{CodeUnknownPath, "Unknown path", 404, "Nothing is served at this path."},
	{CodeMethodNotAllowed, "Method not allowed", 405, "This path does not accept this method. The Allow header lists those that it accepts."},
	{CodeNotWebSocket, "Not a WebSocket request", 426, "This path accepts only WebSocket handshakes (RFC 6455)."},
	{CodeBadRequest, "Bad request", 400, "The request is not valid HTTP (RFC 9112), or arrived too slowly."},
	{CodeExists, "Exists", 409, "The name or id is taken, or was used before. Choose another."},
	{CodeUnknownKey, "Unknown key", 404, "The realm has no valid key with this id. To list the keys: tovik key list."},
	{CodeWrongRole, "Wrong role", 403, "The role of the key (read, write or operate), or its room patterns, do not permit this."},
	{CodeUnknownRealm, "Unknown realm", 404, "There is no realm of this name, or the key may not see it."},
	{CodeUnknownPerson, "Unknown person", 404, "The realm does not know a person with this id."},
	{CodeBadOrigin, "Origin not allowed", 403, "Pages of this origin may not use the realm. Add the origin to the realm's origins."},
	{CodeLockedOut, "Locked out", 429, "Too many wrong keys came from this network address. Wait a minute."},
	{CodeNotAdmitted, "Not admitted", 403, "The application did not admit this person to the room, or could not be reached."},
	{CodeNotRecorded, "Not recorded", 503, "The records cannot be written: the disk is full, or the file is locked or damaged. Presence goes on. GET /readyz says what is wrong."},
	{CodeUnknownHook, "Unknown hook", 404, "The realm has no hook with this id. To list the hooks: tovik hook list."},
	{CodeUnknownDelivery, "Unknown delivery", 404, "There is no delivery with this id, or it is no longer kept."},
	{CodeKeyReused, "Idempotency key reused", 422, "A different request used this Idempotency-Key before. Use a new key for a new request; a retry must be identical, byte for byte."},
	{CodeUnderWay, "Under way", 409, "The request with this Idempotency-Key is still in progress. Ask again in a moment."},
	{CodeAlone, "Alone", 404, "The service is no node of a cluster: its configuration has no cluster.node."},
	{CodeUnknownNode, "Unknown node", 404, "The cluster has no node of this name, or it does not answer. To list the nodes: tovik nodes."},
	{CodeBadConfig, "Bad configuration", 409, "The configuration file has a mistake, or changes a setting that needs a restart. Nothing was changed."},
	{CodeNotReady, "Not ready", 503, "The service is starting or stopping. Try again in a moment."},
	{CodeInternal, "Internal error", 500, "The service failed. Its log says more."},
}

// Passing tells whether the same request may succeed a little later.
func Passing(code string) bool {
	switch code {
	case CodeHelloTimeout, CodeTooFast, CodeTooManyLinks, CodeBusy, CodeNotReady, CodeNotRecorded, CodeUnderWay, CodeInternal, "quota-reached":
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

// ProblemTypeOf returns the description of a code, and false for an unknown one.
func ProblemTypeOf(code string) (ProblemType, bool) {
	for _, e := range ProblemTypes {
		if e.Code == code {
			return e, true
		}
	}
	return ProblemType{}, false
}

// Shorten returns a value in the form in which an error may repeat it: at most 80 bytes of
// valid UTF-8.
func Shorten(value string) string {
	const most = 80
	if len(value) > most {
		value = value[:most] + "…"
	}
	return strings.ToValidUTF8(value, "�")
}
