package server_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// stream is an event stream that a test reads on demand.
type stream struct {
	t        *testing.T
	response *http.Response
	lines    *bufio.Scanner
	last     string // the id of the last event read
}

// follow opens an event stream. Last is the Last-Event-ID, if any.
func follow(t *testing.T, s *server.Server, path, bearer, last string) *stream {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), "GET", s.URL()+path, nil)
	require.NoError(t, err)
	if bearer != "" {
		request.Header.Set("Authorization", "Bearer "+bearer)
	}
	if last != "" {
		request.Header.Set("Last-Event-ID", last)
	}
	response, err := (&http.Transport{DisableKeepAlives: true}).RoundTrip(request)
	require.NoError(t, err)
	t.Cleanup(func() { _ = response.Body.Close() })
	return &stream{t: t, response: response, lines: bufio.NewScanner(response.Body), last: last}
}

// next returns the frame of the next event; nil at the end.
func (s *stream) next() map[string]any {
	s.t.Helper()
	for s.lines.Scan() {
		if id, ok := strings.CutPrefix(s.lines.Text(), "id: "); ok {
			s.last = id
		}
		if data, ok := strings.CutPrefix(s.lines.Text(), "data: "); ok {
			var frame map[string]any
			require.NoError(s.t, json.Unmarshal([]byte(data), &frame))
			return frame
		}
	}
	return nil
}

func (s *stream) until(kind string) map[string]any {
	s.t.Helper()
	for {
		frame := s.next()
		require.NotNil(s.t, frame, "the stream ended before a %s", kind)
		if frame["type"] == kind {
			return frame
		}
	}
}

func ticket(t *testing.T, s *server.Server, token, hello string) wire.Ticket {
	t.Helper()
	response, text := ask(t, "POST", s.URL()+"/v1/tickets", "Bearer "+token, hello)
	require.Equal(t, http.StatusCreated, response.StatusCode, text)
	var ticket wire.Ticket
	require.NoError(t, json.Unmarshal([]byte(text), &ticket))
	return ticket
}

func TestAnEventStreamThatReconnectsLosesNothing(t *testing.T) {
	t.Parallel()
	policy := presence.DefaultPolicy()
	policy.BeatEvery, policy.GraceLost = time.Hour, time.Minute // nobody beats here, on a machine of any speed
	s := start(t, &policy)
	third := watch(t, s)
	opened := ticket(t, s, mintAll(t, "ilse", "tobin"), `{"rooms":["`+weir+`"],"watch":[{"room":"basin.*","detail":"count"},{"people":["tobin"]}]}`)
	f := follow(t, s, opened.Feed, "", "")
	require.Equal(t, "text/event-stream; charset=utf-8", f.response.Header.Get("Content-Type"))
	first := f.until("answer")
	rev := f.until("snapshot")["rev"]
	third.until(t, joined("ilse"))

	// People join while it reads, disconnects and returns; in the end it has everything.
	members, links := map[string]bool{"ilse": true}, map[string]*client.Link{}
	counts, statuses := map[string]float64{}, map[string]string{}
	for i := range 30 {
		user := fmt.Sprint("w-", i)
		links[user] = dial(t, client.Options{Server: s.URL(), Token: mint(t, user), Rooms: []string{weir, fmt.Sprint("basin.b-", i%3)}, Detail: "none"})
		if i%10 == 5 { // some of what came is read, some is on its way, and the connection breaks
			_ = f.response.Body.Close()
			f = follow(t, s, opened.Feed, "", f.last)
			require.Equal(t, 200, f.response.StatusCode)
			again := f.until("answer")
			require.Equal(t, first["session"], again["session"])
			require.True(t, again["resumed"].(bool))
		}
		for len(members) < i { // one is always on its way
			frame := f.until("changes")
			require.Equal(t, rev, frame["prev"], "nothing is missing, and nothing comes twice")
			rev = frame["rev"]
			list, _ := frame["joined"].([]any)
			for _, m := range list {
				members[m.(map[string]any)["user"].(string)] = true
			}
		}
	}
	dial(t, client.Options{Server: s.URL(), Token: mint(t, "tobin"), Rooms: []string{weir}, Detail: "none"})
	_ = f.response.Body.Close()
	f = follow(t, s, opened.Feed, "", f.last)
	require.Equal(t, 200, f.response.StatusCode)
	for len(members) < 32 || counts["basin.b-0"] < 10 || statuses["tobin"] != "online" {
		frame := f.next()
		require.NotNil(t, frame, "the stream ended: %v", f.lines.Err())
		switch frame["type"] {
		case "changes":
			require.Equal(t, rev, frame["prev"])
			rev = frame["rev"]
			list, _ := frame["joined"].([]any)
			for _, m := range list {
				members[m.(map[string]any)["user"].(string)] = true
			}
		case "count":
			counts[frame["room"].(string)] = frame["people"].(float64)
		case "person":
			statuses[frame["user"].(string)] = frame["status"].(string)
		}
	}
	for _, e := range third.rest() {
		require.Empty(t, e.Left, "a third party has seen nothing of it")
	}
}

func TestATicketOpensOneStream(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	status := func(f *stream) int { return f.response.StatusCode }
	opened := ticket(t, s, mint(t, "ilse"), `{"rooms":[]}`)
	f := follow(t, s, opened.Feed, "", "")
	require.Equal(t, 200, status(f))
	f.until("answer")
	require.Equal(t, 401, status(follow(t, s, opened.Feed, "", "")), "used")
	require.Equal(t, 401, status(follow(t, s, "/v1/feed?ticket=none", "", "")))
	require.Equal(t, 401, status(follow(t, s, "/v1/feed?ticket=none", "", f.last)), "another's event id is no ticket")
	other := ticket(t, s, mint(t, "tobin"), `{"rooms":[]}`)
	g := follow(t, s, other.Feed, "", f.last)
	require.Equal(t, "tobin", g.until("answer")["user"], "and opens no more than its own stream")
	require.Equal(t, 401, status(follow(t, s, "/v1/feed", "", f.last)), "nor does an event id alone")
	for name, c := range map[string]struct {
		bearer, body string
		status       int
		code         string
	}{
		"no token":       {"", `{}`, 401, "no-token"},
		"a bad token":    {"Bearer a.b.c", `{}`, 401, "bad-token"},
		"a wrong key":    {"Bearer guess", `{}`, 401, "bad-key"},
		"no JSON":        {"Bearer " + mint(t, "ilse"), `hello`, 400, "not-json"},
		"another's room": {"Bearer " + mint(t, "ilse"), `{"rooms":["desk.night"]}`, 403, "not-granted"},
		"a bad revision": {"Bearer " + mint(t, "ilse"), `{"revs":{"basin.a":"seven"}}`, 400, "bad-field"},
	} {
		response, text := ask(t, "POST", s.URL()+"/v1/tickets", c.bearer, c.body)
		require.Equal(t, c.status, response.StatusCode, name)
		require.Contains(t, text, `"code":"`+c.code+`"`, name)
	}
}

func TestPostsBesideAStreamAreItsRequests(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	third := watch(t, s)
	f := follow(t, s, "/v1/feed?room="+weir, mintAll(t, "ilse"), "")
	answer := f.until("answer")
	third.until(t, joined("ilse"))
	post := func(bearer, body string) (int, string) {
		response, text := ask(t, "POST", s.URL()+answer["posts"].(string), "Bearer "+bearer, body)
		return response.StatusCode, text
	}
	own := answer["resume_key"].(string)
	status, text := post(own, `{"type":"join","id":4,"room":"basin.fen-end"}`)
	require.Equal(t, 200, status)
	require.JSONEq(t, `{"type":"answer","re":4}`, text)
	require.Equal(t, "basin.fen-end", func() any {
		for {
			if frame := f.until("snapshot"); frame["room"] != weir {
				return frame["room"]
			}
		}
	}())
	status, text = post(own, `{"type":"join","id":4,"room":"desk.night"}`)
	require.Equal(t, 403, status)
	require.Contains(t, text, "not-granted")
	status, text = post("guess", `{"type":"bye"}`)
	require.Equal(t, 404, status)
	require.Contains(t, text, "no-link")
	status, _ = post(own, `{"type":"bye","id":5}`)
	require.Equal(t, 200, status)
	require.Equal(t, "bye", third.until(t, left("ilse"))[0].Left[0].Reason)
	require.Equal(t, map[string]any{"code": 1000.0, "reason": "bye"}, f.next())
	require.Nil(t, f.next(), "the stream has ended")
	status, _ = post(own, `{"type":"beat"}`)
	require.Equal(t, 404, status)
}

func TestAStreamWithoutASessionNeedsNoBeats(t *testing.T) {
	t.Parallel()
	policy := brisk()
	policy.BeatEvery, policy.BeatTolerance = 100*time.Millisecond, 2
	s := start(t, policy)
	f := follow(t, s, "/v1/feed?watch_only=true&watch="+weir, mint(t, "hanne"), "")
	f.until("snapshot")
	for alive := 0; alive < 5; { // each a third of the silence, so it has lived for longer than a silent link
		require.True(t, f.lines.Scan())
		if f.lines.Text() == "event: still" {
			alive++
		}
	}
	silent := follow(t, s, "/v1/feed?room="+weir, mint(t, "tobin"), "")
	silent.until("beat")
	var last map[string]any
	for frame := silent.next(); frame != nil; frame = silent.next() {
		last = frame
	}
	require.Equal(t, map[string]any{"code": 4704.0, "reason": "silent"}, last)
}

func TestHTTPBeatsKeepASession(t *testing.T) {
	t.Parallel()
	policy := brisk()
	policy.Lease = 3 * time.Second
	s := start(t, policy)
	third := watch(t, s)
	token := mint(t, "gauge")
	beat := func(session, body string) (int, wire.Lease, string) {
		response, text := ask(t, "PUT", s.URL()+"/v1/sessions/"+session, "Bearer "+token, body)
		var lease wire.Lease
		require.NoError(t, json.Unmarshal([]byte(text), &lease))
		return response.StatusCode, lease, text
	}
	status, lease, text := beat("new", `{"rooms":["`+weir+`"],"idle":true}`)
	require.Equal(t, 200, status, text)
	require.Equal(t, int64(3000), lease.Lease)
	require.Equal(t, []string{weir}, lease.Rooms)
	require.Equal(t, 1, lease.Counts[0].People)
	third.until(t, joined("gauge"))
	body := func(rest string) string { return fmt.Sprintf(`{"resume_key":%q%s}`, lease.ResumeKey, rest) }
	for range 8 { // longer than one lease
		time.Sleep(500 * time.Millisecond)
		status, again, text := beat(lease.Session, body(`,"revs":{"`+weir+`":"`+lease.Counts[0].Rev+`"}`))
		require.Equal(t, 200, status, text)
		require.True(t, again.Resumed)
		if len(again.Counts) > 0 {
			lease.Counts = again.Counts
		}
	}
	_, again, _ := beat(lease.Session, body(`,"revs":{"`+weir+`":"`+lease.Counts[0].Rev+`"}`))
	require.Empty(t, again.Counts, "nothing has changed")
	beat(lease.Session, body(`,"active":true,"typing":["`+weir+`"]`))
	changed := func(status string) func(client.Event) bool {
		return func(e client.Event) bool { return len(e.Changed) == 1 && e.Changed[0].Status == status }
	}
	third.until(t, changed("online"))

	for name, c := range map[string]struct {
		body   string
		status int
		code   string
	}{
		"typing elsewhere":    {body(`,"rooms":["` + weir + `"],"typing":["basin.fen-end"]`), 409, "not-in-room"},
		"typing where not in": {body(`,"typing":["basin.fen-end"]`), 409, "not-in-room"},
		"active and idle":     {body(`,"active":true,"idle":true`), 400, "bad-field"},
		"a room not granted":  {body(`,"rooms":["desk.night"]`), 403, "not-granted"},
	} {
		status, _, text := beat(lease.Session, c.body)
		require.Equal(t, c.status, status, name)
		require.Contains(t, text, c.code, name)
	}
	_, stranger, _ := beat(lease.Session, `{"resume_key":"guess","rooms":[]}`)
	require.False(t, stranger.Resumed)
	require.NotEqual(t, lease.Session, stranger.Session)
	seen := third.until(t, left("gauge")) // the lease runs out
	require.Equal(t, "silent", seen[len(seen)-1].Left[0].Reason)
	_, over, _ := beat(lease.Session, body(`,"rooms":["`+weir+`"]`))
	require.Equal(t, "unknown", over.NotResumed)
	third.until(t, joined("gauge"))
	_, text = ask(t, "DELETE", s.URL()+"/v1/sessions/"+over.Session, "Bearer guess", "")
	require.JSONEq(t, `{"applied":false}`, text)
	_, text = ask(t, "DELETE", s.URL()+"/v1/sessions/"+over.Session, "Bearer "+over.ResumeKey, "")
	require.JSONEq(t, `{"applied":true}`, text)
	require.Equal(t, "bye", third.until(t, left("gauge"))[0].Left[0].Reason)
}

func TestASessionGoesOnOverAnotherKindOfLink(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	third := watch(t, s)
	link := dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}, Nonce: "page"})
	third.until(t, joined("ilse"))
	w := link.Opened()
	_, text := ask(t, "PUT", s.URL()+"/v1/sessions/"+w.Session, "Bearer "+mint(t, "ilse"), fmt.Sprintf(`{"resume_key":%q,"nonce":"page"}`, w.ResumeKey))
	require.Contains(t, text, `"resumed":true`)
	<-link.Ended()
	opened := ticket(t, s, mint(t, "ilse"), fmt.Sprintf(`{"nonce":"page","resume":{"session":%q,"resume_key":%q}}`, w.Session, w.ResumeKey))
	require.Equal(t, w.Session, follow(t, s, opened.Feed, "", "").until("answer")["session"])
	back := dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse"), Nonce: "page", Resume: link.Resume()})
	require.True(t, back.Opened().Resumed)
	require.Equal(t, uint64(4), back.Opened().Link)
	require.Empty(t, third.rest(), "a third party has seen nothing of it")
}
