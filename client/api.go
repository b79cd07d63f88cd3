package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"tovik.example/tovik/wire"
)

// API is the HTTP API of a service. Server is required. All methods but Closed and Ready need a
// Key.
type API struct {
	Server string // as in http://127.0.0.1:8420
	Key    string // an operator's
}

// Error is an answer of the service that is a problem document (RFC 9457).
type Error struct{ wire.Document }

func (e *Error) Error() string { return e.Problem.Error() }

// Unwrap returns the problem, for errors.As.
func (e *Error) Unwrap() error { return &e.Problem }

var (
	httpClient = &http.Client{Timeout: 10 * time.Second}
	patient    = &http.Client{} // for answers that take their time
)

// RoomsQuery asks for a page of rooms. The zero value asks for the first 100 by name.
type RoomsQuery struct {
	Match string // a pattern
	Sort  string // name, people, sessions: the fullest first
	After string // the Next of the page before
	Limit int
}

// RoomsPage returns a page of rooms with their counts.
func (a API) RoomsPage(ctx context.Context, ask RoomsQuery) (wire.Rooms, error) {
	query := url.Values{}
	for name, value := range map[string]string{"match": ask.Match, "sort": ask.Sort, "after": ask.After} {
		if value != "" {
			query.Set(name, value)
		}
	}
	if ask.Limit != 0 {
		query.Set("limit", strconv.Itoa(ask.Limit))
	}
	var page wire.Rooms
	return page, a.call(ctx, http.MethodGet, "/v1/rooms?"+query.Encode(), nil, &page)
}

// Rooms returns a page of the rooms that match a pattern, by name. After is the Next of the
// previous page, or empty.
func (a API) Rooms(ctx context.Context, match, after string, limit int) (wire.Rooms, error) {
	return a.RoomsPage(ctx, RoomsQuery{Match: match, After: after, Limit: limit})
}

// Count returns how many are in a room.
func (a API) Count(ctx context.Context, room string) (wire.Room, error) {
	var count wire.Room
	return count, a.call(ctx, http.MethodGet, "/v1/rooms/"+url.PathEscape(room)+"/count", nil, &count)
}

// MembersQuery asks for a page of the members of a room. The zero value asks for the first
// 1,000.
type MembersQuery struct {
	Status     string // only those who have it
	Limit      int    // at most so many
	Rev, After string // the Rev and Next of the page before
}

// MembersPage returns a page of the members of a room. All pages are of the revision of the
// first one, which the service keeps for a minute.
func (a API) MembersPage(ctx context.Context, room string, ask MembersQuery) (wire.Members, error) {
	query := url.Values{}
	for name, value := range map[string]string{"status": ask.Status, "rev": ask.Rev, "after": ask.After} {
		if value != "" {
			query.Set(name, value)
		}
	}
	if ask.Limit != 0 {
		query.Set("limit", strconv.Itoa(ask.Limit))
	}
	var page wire.Members
	return page, a.call(ctx, http.MethodGet, "/v1/rooms/"+url.PathEscape(room)+"/members?"+query.Encode(), nil, &page)
}

// Members returns all members of a room at one revision, or only those with a status if it is
// not empty.
func (a API) Members(ctx context.Context, room string, status ...string) (wire.Members, error) {
	ask := MembersQuery{Status: strings.Join(status, "")}
	all, err := a.MembersPage(ctx, room, ask)
	for all.Next != "" && err == nil {
		var page wire.Members
		ask.Rev, ask.After = all.Rev, all.Next
		page, err = a.MembersPage(ctx, room, ask)
		all.Members, all.Next = append(all.Members, page.Members...), page.Next
	}
	return all, err
}

// Session returns what the service knows about a session. The Key of the API must be the resume
// key of the session.
func (a API) Session(ctx context.Context, session string) (wire.Session, error) {
	var known wire.Session
	return known, a.call(ctx, http.MethodGet, "/v1/sessions/"+url.PathEscape(session), nil, &known)
}

// Closed tells the service that a page is going away, as the page's beacon does.
func (a API) Closed(ctx context.Context, note wire.ClosingNote) (wire.ClosingAnswer, error) {
	var answer wire.ClosingAnswer
	return answer, a.call(ctx, http.MethodPost, "/v1/closing", note, &answer)
}

// call's error is an [*Error] when the service refused.
func (a API) call(ctx context.Context, method, path string, body, into any) error {
	var content io.Reader
	if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return err
		}
		content = bytes.NewReader(text)
	}
	request, err := a.request(ctx, method, path, content)
	if err != nil {
		return err
	}
	response, err := httpClient.Do(request)
	if err != nil {
		return err
	}
	return read(response, into)
}

func (a API) request(ctx context.Context, method, path string, body io.Reader) (*http.Request, error) {
	if _, err := serviceAt(a.Server); err != nil {
		return nil, err
	}
	request, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(a.Server, "/")+path, body)
	if err == nil && a.Key != "" {
		request.Header.Set("Authorization", "Bearer "+a.Key)
	}
	return request, err
}

// open asks for an answer that takes its time, and returns its body.
func (a API) open(ctx context.Context, path, accept string) (io.ReadCloser, error) {
	request, err := a.request(ctx, http.MethodGet, path, nil)
	if err != nil {
		return nil, err
	}
	if accept != "" {
		request.Header.Set("Accept", accept)
	}
	response, err := patient.Do(request)
	if err != nil {
		return nil, err
	}
	if response.StatusCode != http.StatusOK {
		return nil, read(response, nil)
	}
	return response.Body, nil
}

// read takes an answer, and closes it.
func read(response *http.Response, into any) error {
	defer func() { _ = response.Body.Close() }()
	switch {
	case response.StatusCode == http.StatusNoContent:
		return nil
	case response.StatusCode >= 200 && response.StatusCode < 300:
		if err := json.NewDecoder(response.Body).Decode(into); err != nil {
			return fmt.Errorf("the answer to %s %s cannot be read: %w", response.Request.Method, response.Request.URL.Path, err)
		}
		return nil
	}
	refused := &Error{}
	if err := json.NewDecoder(response.Body).Decode(&refused.Document); err != nil || refused.Code == "" {
		return errors.New(response.Request.URL.Host + " answered " + response.Status + ", and not as Tovik does")
	}
	return refused
}
