package server_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// ask makes a request and returns the answer with its body.
func ask(t *testing.T, method, url, bearer, body string) (*http.Response, string) {
	t.Helper()
	return send(t, method, url, strings.NewReader(body), "Authorization", bearer)
}

// send makes a request with headers, given as names and values, and returns the answer with its
// body. A header without a value is not sent.
func send(t *testing.T, method, url string, body io.Reader, headers ...string) (*http.Response, string) {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), method, url, body)
	require.NoError(t, err)
	for i := 0; i < len(headers); i += 2 {
		if headers[i+1] != "" {
			request.Header.Set(headers[i], headers[i+1])
		}
	}
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer func() { _ = response.Body.Close() }()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return response, string(text)
}

func TestRoomsMembersAndCountsSayTheSame(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	api := client.API{Server: s.URL(), Key: key}
	for i := range 3 {
		dial(t, client.Options{Server: s.URL(), Token: mint(t, fmt.Sprint("w-", i)), Rooms: []string{weir, "basin.fen-end"}})
	}
	dial(t, client.Options{Server: s.URL(), Token: mint(t, "w-0"), Rooms: []string{weir}}) // a second tab

	members, err := api.Members(t.Context(), weir)
	require.NoError(t, err)
	require.Equal(t, online(3, 4), members.Count)
	require.Len(t, members.Members, 3)
	require.Equal(t, 2, members.Members[0].Sessions)
	require.Equal(t, "online", members.Members[0].Status)
	count, err := api.Count(t.Context(), weir)
	require.NoError(t, err)
	require.Equal(t, wire.Room{Room: weir, Count: members.Count}, count)

	page, err := api.Rooms(t.Context(), "basin.*", "", 1)
	require.NoError(t, err)
	require.Equal(t, wire.Rooms{Rooms: []wire.Room{{Room: "basin.fen-end", Count: online(3, 3)}}, Total: 2,
		Next: "basin.fen-end"}, page)
	page, err = api.Rooms(t.Context(), "basin.*", page.Next, 1)
	require.NoError(t, err)
	require.Equal(t, wire.Rooms{Rooms: []wire.Room{{Room: weir, Count: members.Count}}, Total: 2}, page)
}

func TestEveryHTTPErrorIsAProblemDocumentWithAPage(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	for _, c := range []struct {
		method, path, bearer, body string
		status                     int
		code                       string
	}{
		{"GET", "/v1/rooms", "", "", 401, "no-key"},
		{"GET", "/v1/rooms", "Basic " + key, "", 401, "no-key"},
		{"GET", "/v1/rooms", "Bearer guess", "", 401, "bad-key"},
		{"GET", "/v1/rooms/" + weir, "", "", 401, "no-key"},
		{"GET", "/v1/rooms/" + weir, "Bearer " + key, "", 404, "unknown-room"},
		{"GET", "/v1/rooms/" + weir + "/members", "Bearer " + key, "", 404, "unknown-room"},
		{"GET", "/v1/rooms/" + weir + "/count", "Bearer " + key, "", 404, "unknown-room"},
		{"GET", "/v1/rooms/a..b/count", "Bearer " + key, "", 400, "bad-room"},
		{"GET", "/v1/rooms?match=a.**.b", "Bearer " + key, "", 400, "bad-pattern"},
		{"GET", "/v1/rooms?limit=0", "Bearer " + key, "", 400, "bad-field"},
		{"GET", "/v1/rooms?limit=many", "Bearer " + key, "", 400, "bad-field"},
		{"GET", "/v1/nothing", "", "", 404, "unknown-path"},
		{"GET", "/assets/nothing.js", "", "", 404, "unknown-path"},
		{"GET", "/problems/nothing", "", "", 404, "unknown-path"},
		{"DELETE", "/v1/rooms", "Bearer " + key, "", 405, "method-not-allowed"},
		{"GET", "/v1/link", "", "", 426, "not-websocket"},
		{"GET", "/v1/feed", "", "", 401, "no-token"},
		{"GET", "/v1/feed?ticket=none", "", "", 401, "bad-ticket"},
		{"GET", "/v1/feed?room=desk.night", "Bearer " + mint(t, "ilse"), "", 403, "not-granted"},
		{"GET", "/v1/feed?watch=" + weir + "&detail=all", "Bearer " + mint(t, "ilse"), "", 400, "bad-field"},
		{"POST", "/v1/tickets", "", "", 400, "not-json"},
		{"POST", "/v1/tickets", "", `{"version":2}`, 400, "wrong-version"},
		{"PUT", "/v1/sessions/new", "", "{}", 401, "no-token"},
		{"PUT", "/v1/sessions/new", "Bearer " + mint(t, "ilse"), `{"rooms":"` + weir + `"}`, 400, "bad-field"},
		{"POST", "/v1/sessions/s-none/links/1", "Bearer key", `{"type":"beat"}`, 404, "no-link"},
		{"POST", "/v1/sessions/s-none/links/one", "Bearer key", `{"type":"beat"}`, 400, "bad-field"},
		{"POST", "/v1/practice", "", "{}", 404, "no-practice"},
		{"POST", "/v1/closing", "", "closing!", 400, "not-json"},
		{"POST", "/v1/closing", "", strings.Repeat(" ", wire.MaxFrame+1), 413, "too-large"},
	} {
		name := c.method + " " + c.path
		response, text := ask(t, c.method, s.URL()+c.path, c.bearer, c.body)
		require.Equal(t, c.status, response.StatusCode, name)
		require.Equal(t, "application/problem+json", response.Header.Get("Content-Type"), name)
		var document wire.Document
		require.NoError(t, json.Unmarshal([]byte(text), &document), name)
		require.Equal(t, c.code, document.Code, name)
		require.Equal(t, c.status, document.Status, name)
		require.NotEmpty(t, document.Title, name)
		require.NotEmpty(t, document.Detail, name)
		if c.status == 401 {
			require.NotEmpty(t, response.Header.Get("WWW-Authenticate"), name)
		}
		page, html := ask(t, "GET", s.URL()+document.Type, "", "")
		require.Equal(t, 200, page.StatusCode, document.Type)
		require.Contains(t, html, document.Title)
	}
	rooms, err := client.API{Server: s.URL(), Key: key}.Rooms(t.Context(), "**", "", 100)
	require.NoError(t, err)
	require.Empty(t, rooms.Rooms, "asking about a room creates nothing")
}

// TestWhatIsTooLargeIsToldSo sends far more than the service reads, and still gets the reason.
func TestWhatIsTooLargeIsToldSo(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	long := strings.Repeat("x", 200_000)
	for _, request := range []string{
		"GET /v1/rooms HTTP/1.1\r\nHost: x\r\nX-Long: " + long + "\r\n\r\n",
		"POST /v1/closing HTTP/1.1\r\nHost: x\r\nContent-Length: 200000\r\n\r\n" + long,
		long,
	} {
		for range 10 {
			conn, err := net.Dial("tcp", strings.TrimPrefix(s.URL(), "http://"))
			require.NoError(t, err)
			_, err = io.WriteString(conn, request)
			require.NoError(t, err)
			answer, err := io.ReadAll(conn)
			require.NoError(t, err)
			require.Contains(t, string(answer), `"allowed"`)
			require.NoError(t, conn.Close())
		}
	}
}

func TestAPracticeRoomGrantsNothingElse(t *testing.T) {
	t.Parallel()
	s := startWith(t, server.Config{Practice: true})
	offer := func(body string) (practice wire.Practice) {
		response, text := ask(t, "POST", s.URL()+"/v1/practice", "", body)
		require.Equal(t, 200, response.StatusCode, text)
		require.NoError(t, json.Unmarshal([]byte(text), &practice))
		return practice
	}
	one, two := offer("{}"), offer("{}")
	require.NotEqual(t, one.Room, two.Room)
	require.Equal(t, one.People[0].User, offer(`{"room":"` + one.Room + `"}`).People[0].User, "fresh tokens for the same room")
	ilse := dial(t, client.Options{Server: s.URL(), Token: one.People[0].Token, Rooms: []string{one.Room}})
	var problem *wire.Problem
	for _, room := range []string{two.Room, weir} {
		require.ErrorAs(t, ilse.Join(t.Context(), room), &problem)
		require.Equal(t, "not-granted", problem.Code)
	}
	for _, room := range []string{weir, "practice", "practice.a.b", "practice.*", "practice." + strings.Repeat("a", 40)} {
		response, text := ask(t, "POST", s.URL()+"/v1/practice", "", `{"room":"`+room+`"}`)
		require.Equal(t, 400, response.StatusCode, "%s: %s", room, text)
	}
}

func TestTheLibraryIsAskedForAnewAndMostlyNotSentAgain(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	first, text := ask(t, "GET", s.URL()+"/client/tovik.js", "", "")
	require.Equal(t, 200, first.StatusCode)
	require.Equal(t, "text/javascript; charset=utf-8", first.Header.Get("Content-Type"))
	require.Equal(t, "*", first.Header.Get("Access-Control-Allow-Origin"))
	require.NotEmpty(t, text)
	request, err := http.NewRequestWithContext(t.Context(), "GET", s.URL()+"/client/tovik.js", nil)
	require.NoError(t, err)
	request.Header.Set("If-None-Match", first.Header.Get("ETag"))
	again, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	_ = again.Body.Close()
	require.Equal(t, 304, again.StatusCode)
	hidden, _ := ask(t, "GET", s.URL()+"/client/.keep", "", "")
	require.Equal(t, 404, hidden.StatusCode)
}

func TestEveryCodeHasAPage(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	_, index := ask(t, "GET", s.URL()+"/problems", "", "")
	for _, e := range wire.ProblemTypes {
		response, html := ask(t, "GET", s.URL()+wire.HelpPath(e.Code), "", "")
		require.Equal(t, 200, response.StatusCode, e.Code)
		require.Contains(t, html, "<code>"+e.Code+"</code>")
		require.Contains(t, index, wire.HelpPath(e.Code))
	}
}

func TestReadyOnlyWhenSaidSo(t *testing.T) {
	t.Parallel()
	s, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key})
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Stop()) }()
	alive, _ := ask(t, "GET", s.URL()+"/healthz", "", "")
	require.Equal(t, 200, alive.StatusCode)
	before, text := ask(t, "GET", s.URL()+"/readyz", "", "")
	require.Equal(t, 503, before.StatusCode)
	require.Contains(t, text, "not-ready")
	s.Ready()
	after, _ := ask(t, "GET", s.URL()+"/readyz", "", "")
	require.Equal(t, 200, after.StatusCode)
}

func TestStartSaysWhatToDo(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	_, err := server.Start(server.Config{Listen: strings.TrimPrefix(s.URL(), "http://"), TokenSecret: secret, OperatorKey: key})
	require.ErrorContains(t, err, "is in use already")
	require.ErrorContains(t, err, "--listen")
	_, err = server.Start(server.Config{Listen: "nowhere", TokenSecret: secret, OperatorKey: key})
	require.ErrorContains(t, err, "HOST:PORT")
	_, err = server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: "short", OperatorKey: key})
	require.ErrorContains(t, err, "at least 32")
}
