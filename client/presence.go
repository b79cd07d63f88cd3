package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"tovik.example/tovik/wire"
)

// Counts returns how many are in each of up to 1,000 rooms, in their order.
func (a API) Counts(ctx context.Context, rooms ...string) (wire.Counts, error) {
	var doc wire.Counts
	return doc, a.call(ctx, http.MethodPost, "/v1/counts", wire.CountsAsked{Rooms: rooms}, &doc)
}

// Statuses returns the statuses of up to 1,000 people, in their order. An unknown person is
// offline.
func (a API) Statuses(ctx context.Context, users ...string) (wire.Statuses, error) {
	var doc wire.Statuses
	return doc, a.call(ctx, http.MethodPost, "/v1/statuses", wire.StatusesAsked{Users: users}, &doc)
}

// Sessions returns a page of sessions by person, of a room or with an empty room of the realm.
// After is the Next of the previous page, or empty.
func (a API) Sessions(ctx context.Context, room, after string, limit int) (wire.Sessions, error) {
	v := url.Values{"limit": {strconv.Itoa(limit)}}
	if room != "" {
		v.Set("room", room)
	}
	if after != "" {
		v.Set("after", after)
	}
	var doc wire.Sessions
	return doc, a.call(ctx, http.MethodGet, "/v1/sessions?"+v.Encode(), nil, &doc)
}

// SessionsOf lists the sessions of a person.
func (a API) SessionsOf(ctx context.Context, user string) (wire.Sessions, error) {
	var doc wire.Sessions
	return doc, a.call(ctx, http.MethodGet, "/v1/people/"+url.PathEscape(user)+"/sessions", nil, &doc)
}

// Explain explains how a person is shown, and with a room why they are in it or not.
func (a API) Explain(ctx context.Context, user, room string) (wire.Explanation, error) {
	path := "/v1/people/" + url.PathEscape(user) + "/explain"
	if room != "" {
		path += "?room=" + url.QueryEscape(room)
	}
	var doc wire.Explanation
	return doc, a.call(ctx, http.MethodGet, path, nil, &doc)
}

// SetStatus sets the status of a person on their behalf, or a note alone. Without both it clears
// what is set.
func (a API) SetStatus(ctx context.Context, user string, wanted wire.StatusWanted) (wire.StatusOfPerson, error) {
	var doc wire.StatusOfPerson
	path := "/v1/people/" + url.PathEscape(user) + "/status"
	if wanted.Status == "" && wanted.Note == "" {
		return doc, a.call(ctx, http.MethodDelete, path, nil, &doc)
	}
	return doc, a.call(ctx, http.MethodPut, path, wanted, &doc)
}

// Policies returns the policies of the realm and its patterns, or with a room the policy of that
// room.
func (a API) Policies(ctx context.Context, room string) (wire.Policies, error) {
	path := "/v1/policies"
	if room != "" {
		path += "?room=" + url.QueryEscape(room)
	}
	var doc wire.Policies
	return doc, a.call(ctx, http.MethodGet, path, nil, &doc)
}

// RoomsOf lists the rooms that a person is in.
func (a API) RoomsOf(ctx context.Context, user string) (wire.PersonRooms, error) {
	var doc wire.PersonRooms
	return doc, a.call(ctx, http.MethodGet, "/v1/people/"+url.PathEscape(user)+"/rooms", nil, &doc)
}

// CueRoom gives a cue to everybody in a room, and returns how many links it was sent to.
func (a API) CueRoom(ctx context.Context, room string, cue wire.NewCue) (wire.CueGiven, error) {
	return a.cue(ctx, "/v1/rooms/"+url.PathEscape(room), cue)
}

// CuePerson gives a cue to all links of a person.
func (a API) CuePerson(ctx context.Context, user string, cue wire.NewCue) (wire.CueGiven, error) {
	return a.cue(ctx, "/v1/people/"+url.PathEscape(user), cue)
}

// CueSession gives a cue to one session.
func (a API) CueSession(ctx context.Context, session string, cue wire.NewCue) (wire.CueGiven, error) {
	return a.cue(ctx, "/v1/sessions/"+url.PathEscape(session), cue)
}

func (a API) cue(ctx context.Context, to string, cue wire.NewCue) (wire.CueGiven, error) {
	var given wire.CueGiven
	return given, a.call(ctx, http.MethodPost, to+"/cues", cue, &given)
}

// Reload makes the service reload its configuration, whole or not at all.
func (a API) Reload(ctx context.Context) (wire.Reloaded, error) {
	var done wire.Reloaded
	return done, a.call(ctx, http.MethodPost, "/v1/reload", nil, &done)
}
