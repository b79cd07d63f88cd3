package client

import (
	"bufio"
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

// JournalQuery asks for entries of the journal. What is zero leaves nothing out.
type JournalQuery struct {
	From, To time.Time // from the one, before the other
	Rooms    []string  // patterns
	Users    []string
	Kinds    []string
	After    int64 // only entries with a higher id
	Before   int64 // only entries with a lower id
	Limit    int   // of a page; 0: 100
}

func (q JournalQuery) values() url.Values {
	v := url.Values{"room": q.Rooms, "user": q.Users, "kind": q.Kinds}
	put := func(name, value string, given bool) {
		if given {
			v.Set(name, value)
		}
	}
	put("from", q.From.UTC().Format(time.RFC3339Nano), !q.From.IsZero())
	put("to", q.To.UTC().Format(time.RFC3339Nano), !q.To.IsZero())
	put("after", strconv.FormatInt(q.After, 10), q.After != 0)
	put("before", strconv.FormatInt(q.Before, 10), q.Before != 0)
	put("limit", strconv.Itoa(q.Limit), q.Limit != 0)
	return v
}

// Journal returns a page of entries in the order of their ids: those after q.After or from
// q.From on, else those before q.Before, else the last.
func (a API) Journal(ctx context.Context, q JournalQuery) (wire.Journal, error) {
	var page wire.Journal
	return page, a.call(ctx, http.MethodGet, "/v1/journal?"+q.values().Encode(), nil, &page)
}

// ExportJournal returns all entries that match, as they come: NDJSON, or CSV (RFC 4180).
// With a limit it is the first of them. The caller closes it.
func (a API) ExportJournal(ctx context.Context, q JournalQuery, format string) (io.ReadCloser, error) {
	v := q.values()
	v.Set("format", format)
	return a.open(ctx, "/v1/journal?"+v.Encode(), "")
}

// FollowJournal calls each with the entries that match, from q.After or q.From on or else
// from now on, as they are written, until ctx is over or it returns an error. It goes on
// where it was when the service comes back.
func (a API) FollowJournal(ctx context.Context, q JournalQuery, each func(wire.Record) error) error {
	for {
		err := a.followOnce(ctx, &q, each)
		var refused *Error
		var stopped *stopped
		switch {
		case errors.As(err, &stopped):
			return stopped.err
		case ctx.Err() != nil:
			return ctx.Err()
		case errors.As(err, &refused) && refused.Status < 500:
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

// stopped is the error of who was told of an entry.
type stopped struct{ err error }

func (s *stopped) Error() string { return s.err.Error() }

func (a API) followOnce(ctx context.Context, q *JournalQuery, each func(wire.Record) error) error {
	body, err := a.open(ctx, "/v1/journal?"+q.values().Encode(), "text/event-stream")
	if err != nil {
		return err
	}
	defer func() { _ = body.Close() }()
	lines := bufio.NewScanner(body)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var entry wire.Record
		if err := json.Unmarshal([]byte(data), &entry); err != nil {
			return fmt.Errorf("an entry of the journal cannot be read: %w", err)
		}
		q.After, q.From = entry.ID, time.Time{}
		if err := each(entry); err != nil {
			return &stopped{err}
		}
	}
	return lines.Err()
}

// Attendance says who was in a room, or without one had sessions, at some time between
// two.
func (a API) Attendance(ctx context.Context, room string, from, to time.Time) (wire.Attendance, error) {
	var doc wire.Attendance
	return doc, a.call(ctx, http.MethodGet, "/v1/attendance?"+span(room, from, to).Encode(), nil, &doc)
}

func span(room string, from, to time.Time) url.Values {
	v := url.Values{}
	if room != "" {
		v.Set("room", room)
	}
	if !from.IsZero() {
		v.Set("from", from.UTC().Format(time.RFC3339Nano))
	}
	if !to.IsZero() {
		v.Set("to", to.UTC().Format(time.RFC3339Nano))
	}
	return v
}

// Headcounts says how many were in a room, or without one in the realm, between two times
// by steps: minute, hour or day. With top it returns so many steps with the most people
// instead, the highest first.
func (a API) Headcounts(ctx context.Context, room, step string, from, to time.Time, top int) (wire.Headcounts, error) {
	v := span(room, from, to)
	v.Set("step", step)
	if top > 0 {
		v.Set("top", strconv.Itoa(top))
	}
	var doc wire.Headcounts
	return doc, a.call(ctx, http.MethodGet, "/v1/headcount?"+v.Encode(), nil, &doc)
}

// People returns a page of the directory by user, of those who match a text, with how
// everybody is now. After is the Next of the page before, or empty.
func (a API) People(ctx context.Context, text, after string, limit int) (wire.People, error) {
	v := url.Values{"text": {text}, "after": {after}, "limit": {strconv.Itoa(limit)}}
	var page wire.People
	return page, a.call(ctx, http.MethodGet, "/v1/people?"+v.Encode(), nil, &page)
}

// Person returns somebody of the directory.
func (a API) Person(ctx context.Context, user string) (wire.Person, error) {
	var person wire.Person
	return person, a.call(ctx, http.MethodGet, "/v1/people/"+url.PathEscape(user), nil, &person)
}

// PutPerson adds somebody to the directory, or changes what it says of them.
func (a API) PutPerson(ctx context.Context, profile wire.Profile) (wire.Person, error) {
	var person wire.Person
	return person, a.call(ctx, http.MethodPut, "/v1/people/"+url.PathEscape(profile.User), profile, &person)
}

// DropPerson takes somebody out of the directory who was never here.
func (a API) DropPerson(ctx context.Context, user string) error {
	return a.call(ctx, http.MethodDelete, "/v1/people/"+url.PathEscape(user), nil, nil)
}

// ImportPeople adds many, as application/x-ndjson or text/csv, and reports on each line.
func (a API) ImportPeople(ctx context.Context, contentType string, body io.Reader) (wire.Imported, error) {
	var report wire.Imported
	request, err := a.request(ctx, http.MethodPost, "/v1/people/import", body)
	if err != nil {
		return report, err
	}
	request.Header.Set("Content-Type", contentType)
	response, err := patient.Do(request)
	if err != nil {
		return report, err
	}
	return report, read(response, &report)
}

// Declare lets a room exist while nobody is in it, and says whom it expects.
func (a API) Declare(ctx context.Context, room string, expected []string) (wire.DeclaredRoom, error) {
	var doc wire.DeclaredRoom
	return doc, a.call(ctx, http.MethodPut, "/v1/rooms/"+url.PathEscape(room), map[string][]string{"expected": expected}, &doc)
}

// Undeclare lets a room be one that ends with its last member.
func (a API) Undeclare(ctx context.Context, room string) error {
	return a.call(ctx, http.MethodDelete, "/v1/rooms/"+url.PathEscape(room), nil, nil)
}

// Expected tells whom a room expects, and whom of them it misses.
func (a API) Expected(ctx context.Context, room string) (wire.DeclaredRoom, error) {
	var doc wire.DeclaredRoom
	return doc, a.call(ctx, http.MethodGet, "/v1/rooms/"+url.PathEscape(room)+"/expected", nil, &doc)
}

// Hooks lists the hooks of the realm.
func (a API) Hooks(ctx context.Context) (wire.Hooks, error) {
	var list wire.Hooks
	return list, a.call(ctx, http.MethodGet, "/v1/hooks", nil, &list)
}

// Hook returns one.
func (a API) Hook(ctx context.Context, id string) (wire.Hook, error) {
	var hook wire.Hook
	return hook, a.call(ctx, http.MethodGet, "/v1/hooks/"+url.PathEscape(id), nil, &hook)
}

// AddHook makes a hook. The answer alone has its secret.
func (a API) AddHook(ctx context.Context, asked wire.NewHook) (wire.Hook, error) {
	var hook wire.Hook
	return hook, a.call(ctx, http.MethodPost, "/v1/hooks", asked, &hook)
}

// ChangeHook says anew what a hook is.
func (a API) ChangeHook(ctx context.Context, id string, asked wire.NewHook) (wire.Hook, error) {
	var hook wire.Hook
	return hook, a.call(ctx, http.MethodPut, "/v1/hooks/"+url.PathEscape(id), asked, &hook)
}

// RotateSecret gives a hook another secret, which the answer has.
func (a API) RotateSecret(ctx context.Context, id string) (wire.Hook, error) {
	var hook wire.Hook
	return hook, a.call(ctx, http.MethodPost, "/v1/hooks/"+url.PathEscape(id)+"/secret", nil, &hook)
}

// RemoveHook removes a hook with what waits for it.
func (a API) RemoveHook(ctx context.Context, id string) error {
	return a.call(ctx, http.MethodDelete, "/v1/hooks/"+url.PathEscape(id), nil, nil)
}

// TestHook sends a hook an event of the kind hook.test, and returns what came of it.
func (a API) TestHook(ctx context.Context, id string) (wire.Delivery, error) {
	var tried wire.Delivery
	return tried, a.call(ctx, http.MethodPost, "/v1/hooks/"+url.PathEscape(id)+"/test", nil, &tried)
}

// Deliveries returns a page of a hook's deliveries, the newest first, of a state unless
// that is empty, with a lower id than before unless that is 0.
func (a API) Deliveries(ctx context.Context, hook, state string, before int64, limit int) (wire.Deliveries, error) {
	v := url.Values{"limit": {strconv.Itoa(limit)}}
	if state != "" {
		v.Set("state", state)
	}
	if before != 0 {
		v.Set("before", strconv.FormatInt(before, 10))
	}
	var page wire.Deliveries
	return page, a.call(ctx, http.MethodGet, "/v1/hooks/"+url.PathEscape(hook)+"/deliveries?"+v.Encode(), nil, &page)
}

// Delivery returns one, with its body.
func (a API) Delivery(ctx context.Context, id int64) (wire.Delivery, error) {
	var d wire.Delivery
	return d, a.call(ctx, http.MethodGet, "/v1/deliveries/"+strconv.FormatInt(id, 10), nil, &d)
}

// Redeliver tells a hook once more what it was told, or what is parked.
func (a API) Redeliver(ctx context.Context, id int64) (wire.Delivery, error) {
	var d wire.Delivery
	return d, a.call(ctx, http.MethodPost, "/v1/deliveries/"+strconv.FormatInt(id, 10)+"/again", nil, &d)
}

// Backup returns a copy of the service's records at one moment: an SQLite file. The Key
// has to be that of the service itself. The caller closes it.
func (a API) Backup(ctx context.Context) (io.ReadCloser, error) { return a.open(ctx, "/v1/backup", "") }

// Ready tells how the service is.
func (a API) Ready(ctx context.Context) (wire.Readiness, error) {
	var doc wire.Readiness
	return doc, a.call(ctx, http.MethodGet, "/readyz", nil, &doc)
}
