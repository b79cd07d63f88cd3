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

// JournalQuery asks for entries of the journal. A zero field is no condition.
type JournalQuery struct {
	From, To time.Time // from the one, before the other
	Rooms    []string  // patterns
	Users    []string
	Kinds    []string
	After    int64 // only entries with a higher id
	Before   int64 // only entries with a lower id
	Limit    int   // of a page; 0: 100
	ByCause  bool  // put entries of one cause together: in Lines, or for FollowJournalLines
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
	put("by", "cause", q.ByCause)
	return v
}

// Journal returns a page of entries by id: those after q.After or from q.From on; otherwise
// those before q.Before; otherwise the last ones.
func (a API) Journal(ctx context.Context, q JournalQuery) (wire.Journal, error) {
	var page wire.Journal
	return page, a.call(ctx, http.MethodGet, "/v1/journal?"+q.values().Encode(), nil, &page)
}

// ExportJournal returns all entries that match, or up to q.Limit, as NDJSON or as CSV (RFC
// 4180). The caller closes it.
func (a API) ExportJournal(ctx context.Context, q JournalQuery, format string) (io.ReadCloser, error) {
	v := q.values()
	v.Set("format", format)
	return a.open(ctx, "/v1/journal?"+v.Encode(), "")
}

// FollowJournal calls each with every entry that matches, from q.After, q.From or now on, until
// ctx is done or each returns an error. It reconnects after an outage, and continues where it
// was.
func (a API) FollowJournal(ctx context.Context, q JournalQuery, each func(wire.Record) error) error {
	q.ByCause = false
	return follow(ctx, a, q, each)
}

// FollowJournalLines is [API.FollowJournal] with entries of one cause put together. A line is
// passed on again when it gets further entries.
func (a API) FollowJournalLines(ctx context.Context, q JournalQuery, each func(wire.JournalLine) error) error {
	q.ByCause = true
	return follow(ctx, a, q, each)
}

func follow[T any](ctx context.Context, a API, q JournalQuery, each func(T) error) error {
	for {
		err := followOnce(ctx, a, &q, each)
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

func followOnce[T any](ctx context.Context, a API, q *JournalQuery, each func(T) error) error {
	body, err := a.open(ctx, "/v1/journal?"+q.values().Encode(), "text/event-stream")
	if err != nil {
		return err
	}
	defer func() { _ = body.Close() }()
	lines := bufio.NewScanner(body)
	lines.Buffer(nil, 1<<20)
	id := int64(0)
	for lines.Scan() {
		if text, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
			id, _ = strconv.ParseInt(text, 10, 64)
		}
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var entry T
		if err := json.Unmarshal([]byte(data), &entry); err != nil {
			return fmt.Errorf("an entry of the journal cannot be read: %w", err)
		}
		q.After, q.From = max(q.After, id), time.Time{}
		if err := each(entry); err != nil {
			return &stopped{err}
		}
	}
	return lines.Err()
}

// Attendance returns who was in a room, or with an empty room had sessions, between two times.
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

// Headcounts returns how many were in a room, or with an empty room in the realm, between two
// times, by steps of a minute, an hour or a day. With top it returns only that many steps, those
// with the most people.
func (a API) Headcounts(ctx context.Context, room, step string, from, to time.Time, top int) (wire.Headcounts, error) {
	v := span(room, from, to)
	v.Set("step", step)
	if top > 0 {
		v.Set("top", strconv.Itoa(top))
	}
	var doc wire.Headcounts
	return doc, a.call(ctx, http.MethodGet, "/v1/headcount?"+v.Encode(), nil, &doc)
}

// Usage returns what the realm has used between two times, by steps of an hour, a day or a month, and how much of its
// quotas it uses now.
func (a API) Usage(ctx context.Context, step string, from, to time.Time) (wire.Usage, error) {
	v := span("", from, to)
	v.Set("step", step)
	var doc wire.Usage
	return doc, a.call(ctx, http.MethodGet, "/v1/usage?"+v.Encode(), nil, &doc)
}

// People returns a page of the directory by user id, with the present status of each person: of
// those who match a text, if it is not empty. After is the Next of the previous page, or empty.
func (a API) People(ctx context.Context, text, after string, limit int) (wire.People, error) {
	v := url.Values{"text": {text}, "after": {after}, "limit": {strconv.Itoa(limit)}}
	var page wire.People
	return page, a.call(ctx, http.MethodGet, "/v1/people?"+v.Encode(), nil, &page)
}

// Person returns an entry of the directory.
func (a API) Person(ctx context.Context, user string) (wire.Person, error) {
	var person wire.Person
	return person, a.call(ctx, http.MethodGet, "/v1/people/"+url.PathEscape(user), nil, &person)
}

// PutPerson adds a person to the directory, or changes their entry.
func (a API) PutPerson(ctx context.Context, profile wire.Profile) (wire.Person, error) {
	var person wire.Person
	return person, a.call(ctx, http.MethodPut, "/v1/people/"+url.PathEscape(profile.User), profile, &person)
}

// DropPerson removes a person from the directory who was never present.
func (a API) DropPerson(ctx context.Context, user string) error {
	return a.call(ctx, http.MethodDelete, "/v1/people/"+url.PathEscape(user), nil, nil)
}

// ImportPeople imports people, as application/x-ndjson or text/csv, and reports the refused
// lines.
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

// Declare declares a room, which then exists even while nobody is in it, and the people whom it
// expects.
func (a API) Declare(ctx context.Context, room string, expected []string) (wire.DeclaredRoom, error) {
	var doc wire.DeclaredRoom
	return doc, a.call(ctx, http.MethodPut, "/v1/rooms/"+url.PathEscape(room), map[string][]string{"expected": expected}, &doc)
}

// Undeclare undoes the declaration of a room.
func (a API) Undeclare(ctx context.Context, room string) error {
	return a.call(ctx, http.MethodDelete, "/v1/rooms/"+url.PathEscape(room), nil, nil)
}

// Expected returns the people whom a room expects, and who of them is missing.
func (a API) Expected(ctx context.Context, room string) (wire.DeclaredRoom, error) {
	var doc wire.DeclaredRoom
	return doc, a.call(ctx, http.MethodGet, "/v1/rooms/"+url.PathEscape(room)+"/expected", nil, &doc)
}

// Hooks lists the hooks of the realm.
func (a API) Hooks(ctx context.Context) (wire.Hooks, error) {
	var list wire.Hooks
	return list, a.call(ctx, http.MethodGet, "/v1/hooks", nil, &list)
}

// Hook returns a hook.
func (a API) Hook(ctx context.Context, id string) (wire.Hook, error) {
	var hook wire.Hook
	return hook, a.call(ctx, http.MethodGet, "/v1/hooks/"+url.PathEscape(id), nil, &hook)
}

// AddHook makes a hook. Only this answer has its secret.
func (a API) AddHook(ctx context.Context, asked wire.NewHook) (wire.Hook, error) {
	var hook wire.Hook
	return hook, a.call(ctx, http.MethodPost, "/v1/hooks", asked, &hook)
}

// ChangeHook changes a hook.
func (a API) ChangeHook(ctx context.Context, id string, asked wire.NewHook) (wire.Hook, error) {
	var hook wire.Hook
	return hook, a.call(ctx, http.MethodPut, "/v1/hooks/"+url.PathEscape(id), asked, &hook)
}

// RotateSecret gives a hook a new secret, which the answer has.
func (a API) RotateSecret(ctx context.Context, id string) (wire.Hook, error) {
	var hook wire.Hook
	return hook, a.call(ctx, http.MethodPost, "/v1/hooks/"+url.PathEscape(id)+"/secret", nil, &hook)
}

// RemoveHook removes a hook and its waiting deliveries.
func (a API) RemoveHook(ctx context.Context, id string) error {
	return a.call(ctx, http.MethodDelete, "/v1/hooks/"+url.PathEscape(id), nil, nil)
}

// TestHook sends a test event to a hook, and returns the outcome.
func (a API) TestHook(ctx context.Context, id string) (wire.Delivery, error) {
	var tried wire.Delivery
	return tried, a.call(ctx, http.MethodPost, "/v1/hooks/"+url.PathEscape(id)+"/test", nil, &tried)
}

// Deliveries returns a page of the deliveries of a hook, newest first: with a state if it is not
// empty, and with ids below before if it is not 0.
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

// Delivery returns a delivery with its body.
func (a API) Delivery(ctx context.Context, id int64) (wire.Delivery, error) {
	var d wire.Delivery
	return d, a.call(ctx, http.MethodGet, "/v1/deliveries/"+strconv.FormatInt(id, 10), nil, &d)
}

// Redeliver delivers an event again that was delivered or parked.
func (a API) Redeliver(ctx context.Context, id int64) (wire.Delivery, error) {
	var d wire.Delivery
	return d, a.call(ctx, http.MethodPost, "/v1/deliveries/"+strconv.FormatInt(id, 10)+"/again", nil, &d)
}

// Backup returns a backup of the records: an SQLite file. It needs the service's own key. The
// caller closes it.
func (a API) Backup(ctx context.Context) (io.ReadCloser, error) { return a.open(ctx, "/v1/backup", "") }

// Health returns the state of the service, as the key may see it.
func (a API) Health(ctx context.Context) (wire.ServiceHealth, error) {
	var doc wire.ServiceHealth
	return doc, a.call(ctx, http.MethodGet, "/v1/health", nil, &doc)
}

// Ready returns whether the service is ready, and the state of the records.
func (a API) Ready(ctx context.Context) (wire.Readiness, error) {
	var doc wire.Readiness
	return doc, a.call(ctx, http.MethodGet, "/readyz", nil, &doc)
}
