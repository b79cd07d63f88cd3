package server_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// TestEveryRequestWithAReadableIdIsAnswered sends each type of request with wrong values in
// every field, its own and others'.
func TestEveryRequestWithAReadableIdIsAnswered(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	values := []string{`7`, `-1`, `1.5`, `1e400`, `true`, `null`, `""`, `"soon"`, `[]`, `[7]`, `{}`, `{"a":{"a":1}}`}
	all := map[string]bool{}
	for _, fields := range wire.RequestFields {
		for _, field := range fields {
			all[field] = true
		}
	}
	id := 0
	for kind, own := range wire.RequestFields {
		if kind == wire.TypeBye || kind == wire.TypeClosing || kind == wire.TypeSignOut {
			continue // which end the link
		}
		var r *raw
		var frames chan map[string]any
		for field := range all {
			if r == nil || id%100 < len(values) { // so that no link brings too much
				if r != nil {
					_ = r.conn.Close()
				}
				r = connect(t, s).hello(tokenOf(t, client.Token{User: "w-" + kind, Grants: wire.Grants{Rooms: []string{"**"}, Cue: []string{"**"}}}))
				frames = r.frames()
			}
			for _, value := range values {
				id++
				r.send(fmt.Sprintf(`{"type":%q,"id":%d,%q:%s}`, kind, id, field, value))
				answer := untilFrame(t, frames, answerTo(float64(id)))
				if value == `1e400` && contains(own, field) && field != "data" {
					require.Equal(t, "bad-field", answer["code"], "%s %s", kind, field)
				}
				if answer["type"] == "error" && answer["code"] == "bad-field" {
					require.NotEmpty(t, answer["field"], "%v", answer)
					require.NotEmpty(t, answer["allowed"], "%v", answer)
				}
			}
		}
		_ = r.conn.Close()
	}
	r := connect(t, s).hello(mint(t, "ilse"))
	for frame, want := range map[string][2]string{
		`{"type":"join","id":1,"room":7}`:                         {"bad-field", "room"},
		`{"type":7,"id":1}`:                                       {"bad-field", "type"},
		`{"type":"status","id":1,"status":"busy","until":"soon"}`: {"bad-field", "until"},
		`{"type":"join","id":1,"room":"desk.night","room":"a"}`:   {"bad-field", "room"},
		`{"type":"join","id":1,"room":}`:                          {"not-json", ""},
		`{"id":1}`:                                                {"no-type", "type"},
		`{"type":"watch","id":1,"people":["ilse",7]}`:             {"bad-field", "people.1"},
		`{"TYPE":"join","id":1,"room":"desk.night"}`:              {"no-type", "type"},
	} {
		answer := r.send(frame).next()
		requireProblem(t, frame, answer, want[0], want[1])
		require.Equal(t, 1.0, answer["re"], frame)
	}
	require.Equal(t, "answer", r.send(`{"type":"beat","id":1,"room":{"any":"thing"},"number":"x"}`).next()["type"], "fields that a beat does not define")
}

func contains(list []string, word string) bool {
	for _, one := range list {
		if one == word {
			return true
		}
	}
	return false
}

func TestARoomThatIsRefusedLeavesTheOthers(t *testing.T) {
	t.Parallel()
	policy := brisk()
	full := policy.RoomPolicy
	full.Capacity = 1
	policy.Rooms = []presence.PatternPolicy{{Pattern: "basin.low-bridge", RoomPolicy: full}}
	s := start(t, policy)
	dial(t, client.Options{Server: s.URL(), Token: mint(t, "tobin"), Rooms: []string{"basin.low-bridge"}})
	dropped, onDropped := heard[wire.Drop](10)
	options := client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{"desk.night", "basin.low-bridge", weir}, Watch: []wire.Watch{{Room: "sluice.*"}, {Room: "basin.*", Detail: "count"}, {People: []string{"hanne", "ilse"}}}, OnDropped: onDropped}
	link := dial(t, options)
	require.Equal(t, []string{weir}, link.Opened().Rooms)
	codes := map[string]string{}
	for range 4 {
		d := <-dropped
		codes[d.Room+d.User] = d.Code
		require.NotEmpty(t, d.Detail)
		require.Equal(t, d.Watch, d.Room == "sluice.*" || d.User == "hanne")
	}
	require.Equal(t, map[string]string{"desk.night": "not-granted", "basin.low-bridge": "room-full", "sluice.*": "not-granted", "hanne": "not-granted"}, codes)
	refusedWith(t, "not-granted", options)
}

// TestAnAbandonedHelloOpensNothing lets pages claim a session in use, and disconnect before the
// older link is probed, over each kind of link: at a service that is alone, and at a node.
func TestAnAbandonedHelloOpensNothing(t *testing.T) {
	t.Parallel()
	policy := presence.DefaultPolicy()
	policy.Probe = 12 * time.Second // long enough for the service to notice that the pages have gone
	t.Run("alone", func(t *testing.T) {
		t.Parallel()
		abandons(t, start(t, &policy), &policy)
	})
	t.Run("a node", func(t *testing.T) {
		t.Parallel()
		nodes := threeNodes(t, func(_ string, c *server.Config) { c.Policy = &policy })
		abandons(t, nodes["heron"], &policy)
	})
}

func abandons(t *testing.T, s *server.Server, policy *presence.Policy) {
	third := watch(t, s)
	first := connect(t, s)
	first.send(`{"type":"hello","id":1,"version":1,"token":"` + mint(t, "ilse") + `","nonce":"first","rooms":["` + weir + `"]}`)
	opened := first.next()
	third.until(t, joined("ilse"))
	claim := fmt.Sprintf(`"resume":{"session":%q,"resume_key":%q}`, opened["session"], opened["resume_key"])

	page := connect(t, s)
	page.send(`{"type":"hello","id":1,"version":1,"token":"` + mint(t, "ilse") + `","nonce":"second",` + claim + `}`)
	_, data, err := first.conn.ReadMessage()
	for ; err == nil && !strings.Contains(string(data), `"beat"`); _, data, err = first.conn.ReadMessage() {
		continue // until it is probed
	}
	require.NoError(t, err)
	require.NoError(t, page.conn.Close())

	for _, claimed := range []func(ctx context.Context) (*http.Request, error){
		func(ctx context.Context) (*http.Request, error) {
			made := ticket(t, s, mint(t, "ilse"), `{"nonce":"third",`+claim+`}`)
			return http.NewRequestWithContext(ctx, "GET", s.URL()+made.Feed, nil)
		},
		func(ctx context.Context) (*http.Request, error) {
			body := fmt.Sprintf(`{"resume_key":%q,"nonce":"fourth"}`, opened["resume_key"])
			request, err := http.NewRequestWithContext(ctx, "PUT", s.URL()+"/v1/sessions/"+opened["session"].(string), strings.NewReader(body))
			request.Header.Set("Authorization", "Bearer "+mint(t, "ilse"))
			return request, err
		},
	} {
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		request, err := claimed(ctx)
		require.NoError(t, err)
		_, err = (&http.Transport{DisableKeepAlives: true}).RoundTrip(request)
		require.ErrorIs(t, err, context.DeadlineExceeded, "it waits for the probe")
		cancel()
	}
	// The older link answers when the probes are over, and continues unaffected.
	time.Sleep(policy.Probe + time.Second)
	require.Equal(t, "answer", first.send(`{"type":"beat","id":2}`).next()["type"])
	_, text := ask(t, "GET", s.URL()+"/v1/people/ilse/sessions", "Bearer "+key, "")
	require.Equal(t, 1, strings.Count(text, `"session":`), text)
	require.Empty(t, third.rest(), "nobody saw anything")
}

func TestAReloadedPageIsTheSameWhenItsOldOneSaysClosingInTheProbe(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	old := connect(t, s)
	old.send(`{"type":"hello","id":1,"version":1,"token":"` + mint(t, "ilse") + `","nonce":"first","rooms":["` + weir + `"]}`)
	opened := old.next()
	page := connect(t, s)
	page.send(fmt.Sprintf(`{"type":"hello","id":1,"version":1,"token":%q,"nonce":"second","resume":{"session":%q,"resume_key":%q}}`, mint(t, "ilse"), opened["session"], opened["resume_key"]))
	frames := old.frames()
	untilFrame(t, frames, ofType("beat"))
	old.send(`{"type":"closing"}`)
	again := page.next()
	require.Equal(t, true, again["resumed"], "%v", again)
	require.Equal(t, opened["session"], again["session"])
}

func TestARefusedBeatDoesNothing(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	put := func(token, body string) (int, string) {
		response, text := ask(t, "PUT", s.URL()+"/v1/sessions/new", "Bearer "+token, body)
		return response.StatusCode, text
	}
	for range 5 {
		status, text := put(mint(t, "gauge"), `{"typing":["`+weir+`"]}`)
		require.Equal(t, 409, status, text)
	}
	status, text := put(mint(t, "gauge"), `{"rooms":["`+weir+`"],"no_input":true}`)
	require.Equal(t, 403, status, text)
	_, text = ask(t, "GET", s.URL()+"/v1/people/gauge/sessions", "Bearer "+key, "")
	require.JSONEq(t, `{"sessions":[]}`, text)
	device := tokenOf(t, client.Token{User: "gauge", Grants: wire.Grants{Rooms: []string{"basin.*"}, NoInput: true}})
	status, text = put(device, `{"rooms":["`+weir+`"],"no_input":true}`)
	require.Equal(t, 200, status, text)
	var lease wire.Lease
	require.NoError(t, json.Unmarshal([]byte(text), &lease))
	for range 3 {
		_, text = ask(t, "PUT", s.URL()+"/v1/sessions/"+lease.Session, "Bearer "+device, `{"resume_key":"`+lease.ResumeKey+`","no_input":true}`)
		require.Contains(t, text, `"resumed":true`)
	}
	_, text = ask(t, "GET", s.URL()+"/v1/people/gauge", "Bearer "+key, "")
	require.Contains(t, text, `"user":"gauge"`, "somebody who has just come is known")
	_, text = ask(t, "GET", s.URL()+"/v1/journal?user=gauge&limit=100", "Bearer "+key, "")
	require.NotContains(t, text, "session.resumed", "a lease that goes on is nothing that happens")
}

func TestAPersonIsKnownAsSoonAsTheyAreHere(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	for i := range 5 {
		user := fmt.Sprint("w-", i)
		dial(t, client.Options{Server: s.URL(), Token: mint(t, user), Rooms: []string{weir}})
		response, text := ask(t, "GET", s.URL()+"/v1/people/"+user, "Bearer "+key, "")
		require.Equal(t, 200, response.StatusCode, text)
		_, text = ask(t, "GET", s.URL()+"/v1/people?user="+user, "Bearer "+key, "")
		require.Contains(t, text, `"user":"`+user+`"`)
	}
}

func TestWatchedPeopleHaveTheirNamesFromTheDirectory(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	_, err := client.API{Server: s.URL(), Key: key}.PutPerson(t.Context(), wire.Profile{User: "hanne", Name: "Hanne Leveson-Bank", Picture: "https://pictures.example/1"})
	require.NoError(t, err)
	people, onPerson := heard[wire.PersonFrame](10)
	link := dial(t, client.Options{Server: s.URL(), Token: mintAll(t, "ilse", "*"), OnPerson: onPerson, Watch: []wire.Watch{{People: []string{"hanne"}}}})
	hanne := <-people
	require.Equal(t, "Hanne Leveson-Bank", hanne.Name)
	require.Equal(t, "https://pictures.example/1", hanne.Picture)
	require.Equal(t, "offline", hanne.Status)
	require.NoError(t, link.WatchPeople(t.Context(), "nobody"))
	require.Empty(t, (<-people).Name)
}

func TestTheOwnStatusIsToldToEveryTab(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	one, two := connect(t, s).hello(mint(t, "ilse")), connect(t, s).hello(mint(t, "ilse"))
	frames := two.frames()
	one.send(`{"type":"status","id":2,"status":"busy","note":"at the sluice"}`)
	own := untilFrame(t, frames, ofType("own"))
	require.Equal(t, "busy", own["status"])
	require.Equal(t, "at the sluice", own["note"])
	require.Equal(t, false, own["hiding"])
	one.send(`{"type":"status","id":3,"status":""}`)
	require.NotContains(t, untilFrame(t, frames, ofType("own")), "status")
}

func TestWhoeverHasAnAnswerAsksWithNoCacheToo(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	get := func(header http.Header) *http.Response {
		request, err := http.NewRequestWithContext(t.Context(), "GET", s.URL()+"/v1/rooms", nil)
		require.NoError(t, err)
		header.Set("Authorization", "Bearer "+key)
		request.Header = header
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		_, _ = io.Copy(io.Discard, response.Body)
		_ = response.Body.Close()
		require.Equal(t, "nosniff", response.Header.Get("X-Content-Type-Options"))
		return response
	}
	tag := get(http.Header{}).Header.Get("ETag")
	require.NotEmpty(t, tag)
	for given, want := range map[string]int{tag: 304, strings.TrimPrefix(tag, "W/"): 304, `"other", ` + tag: 304, "*": 304, `"other"`: 200} {
		require.Equal(t, want, get(http.Header{"If-None-Match": {given}, "Cache-Control": {"no-cache"}}).StatusCode, given)
	}
	for accept, want := range map[string]string{
		"text/csv": "text/csv; charset=utf-8", "text/csv;q=0, */*": "application/json; charset=utf-8", "application/json;q=0.1, text/csv;q=0.5": "text/csv; charset=utf-8",
		"application/json;q=0, application/x-ndjson": "application/x-ndjson", "text/html, */*;q=0.8": "application/json; charset=utf-8", "image/png": "application/json; charset=utf-8",
	} {
		require.Equal(t, want, get(http.Header{"Accept": {accept}}).Header.Get("Content-Type"), accept)
	}
}

func TestExportsAreComplete(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	api := client.API{Server: s.URL(), Key: key}
	var list bytes.Buffer
	list.WriteString("user,name\n")
	for i := range 2500 {
		_, _ = fmt.Fprintf(&list, "w-%04d,Warden %d\n", i, i)
	}
	response, text := send(t, "POST", s.URL()+"/v1/people/import", &list, "Authorization", "Bearer "+key, "Content-Type", "text/csv")
	require.Equal(t, 200, response.StatusCode, text)
	links := make([]*client.Link, 150)
	for i := range links {
		links[i] = dial(t, client.Options{Server: s.URL(), Token: mint(t, fmt.Sprintf("w-%04d", i)), Rooms: []string{weir, fmt.Sprint("basin.gauge-", i)}, Detail: wire.DetailNone})
	}
	for path, want := range map[string]int{"/v1/people": 2500, "/v1/rooms": 151, "/v1/sessions": 150, "/v1/rooms/" + weir + "/members": 150} {
		_, text := ask(t, "GET", s.URL()+path+"?format=csv", "Bearer "+api.Key, "")
		rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
		require.NoError(t, err)
		require.Len(t, rows, want+1, path)
		_, text = ask(t, "GET", s.URL()+path+"?format=ndjson", "Bearer "+api.Key, "")
		require.Equal(t, want, strings.Count(text, "\n"), path)
		_, text = ask(t, "GET", s.URL()+path+"?format=ndjson&limit=7", "Bearer "+api.Key, "")
		require.Equal(t, 7, strings.Count(text, "\n"), path)
	}
}

// TestASlowUploadIsTakenAsLongAsItComes uploads for longer than the time limit of a stalled
// request.
func TestASlowUploadIsTakenAsLongAsItComes(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	reader, writer := io.Pipe()
	go func() {
		_, _ = io.WriteString(writer, "user,name\n")
		for i := range 60 {
			_, _ = fmt.Fprintf(writer, "w-%d,%s\n", i, strings.Repeat("x", 100))
			time.Sleep(200 * time.Millisecond)
		}
		_ = writer.Close()
	}()
	response, text := send(t, "POST", s.URL()+"/v1/people/import", reader, "Authorization", "Bearer "+key, "Content-Type", "text/csv")
	require.Equal(t, 200, response.StatusCode, text)
	require.Contains(t, text, `"taken":60`)
}

func TestAStopBehindConnectionsThatAskNothingIsClean(t *testing.T) {
	t.Parallel()
	s, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key})
	require.NoError(t, err)
	s.Ready()
	address := strings.TrimPrefix(s.URL(), "http://")
	for _, said := range []string{"", "GET /healthz HT", "POST /v1/tickets HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\n\r\n{", "GET /healthz HTTP/1.1\r\nHost: x\r\n\r\n"} {
		conn, err := net.Dial("tcp", address)
		require.NoError(t, err)
		t.Cleanup(func() { _ = conn.Close() })
		_, err = io.WriteString(conn, said)
		require.NoError(t, err)
		if strings.HasSuffix(said, "x\r\n\r\n") {
			_, err = conn.Read(make([]byte, 4096)) // it is kept for the next request
			require.NoError(t, err)
		}
	}
	begun := time.Now()
	require.NoError(t, s.Stop())
	require.Less(t, time.Since(begun), 1500*time.Millisecond, "nothing was waited for")
}

// TestNoByteOfAnErasedPersonIsLeft searches the files.
func TestNoByteOfAnErasedPersonIsLeft(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := startWith(t, server.Config{Data: dir})
	const name = "mallory-of-the-aldermoor"
	api := client.API{Server: s.URL(), Key: key}
	random := rand.New(rand.NewPCG(1, 1))
	for round := range 4 {
		link := dial(t, client.Options{Server: s.URL(), Token: mint(t, name), Rooms: []string{weir}})
		for range 10 {
			require.NoError(t, link.SetStatus(t.Context(), "busy", fmt.Sprintf("%s %s", name, strings.Repeat("x", random.IntN(100))), time.Time{}))
			require.NoError(t, link.SetStatus(t.Context(), "", "", time.Time{}))
		}
		_, err := api.PutPerson(t.Context(), wire.Profile{User: name, Name: name, Attributes: map[string]string{"round": fmt.Sprint(name, round)}})
		require.NoError(t, err)
		_, err = api.Declare(t.Context(), "desk.night", []string{name, "tobin"})
		require.NoError(t, err)
		other := dial(t, client.Options{Server: s.URL(), Token: mint(t, fmt.Sprint("w-", round)), Rooms: []string{weir}})
		require.NoError(t, other.Bye(t.Context()))
		require.NoError(t, link.Bye(t.Context()))
	}
	_, err := api.Erase(t.Context(), name)
	require.NoError(t, err)
	for _, file := range []string{"tovik.db", "tovik.db-wal"} {
		text, err := os.ReadFile(filepath.Join(dir, file))
		if err == nil {
			require.NotContains(t, string(text), name, file)
		}
	}
}

// TestAConnectionThatAsksNothingEndsWithoutAWord: browsers open connections in advance, and
// would take an unsolicited answer for the answer to their next request.
func TestAConnectionThatAsksNothingEndsWithoutAWord(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	address := strings.TrimPrefix(s.URL(), "http://")
	conn, err := net.Dial("tcp", address)
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(patience)))
	said, err := io.ReadAll(conn)
	require.NoError(t, err, "it ends by itself")
	require.Empty(t, string(said))

	half, err := net.Dial("tcp", address) // but half a request is told why
	require.NoError(t, err)
	defer func() { _ = half.Close() }()
	_, err = io.WriteString(half, "GET /healthz HTTP/1.1\r\nHost: half")
	require.NoError(t, err)
	require.NoError(t, half.SetReadDeadline(time.Now().Add(patience)))
	said, err = io.ReadAll(half)
	require.NoError(t, err)
	require.Contains(t, string(said), `"code":"bad-request"`)
}
