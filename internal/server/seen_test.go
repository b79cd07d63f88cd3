package server_test

import (
	"encoding/json"
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

// glance asks with a person's token, and returns the answer.
func glance(t *testing.T, s *server.Server, path, token string, headers ...string) (*http.Response, string) {
	t.Helper()
	if token != "" {
		headers = append(headers, "Authorization", "Bearer "+token)
	}
	return send(t, "GET", s.URL()+"/v1/seen/"+path, nil, headers...)
}

// TestAPageWithoutAConnectionSeesWhatItsPersonMay polls with the token of a person.
func TestAPageWithoutAConnectionSeesWhatItsPersonMay(t *testing.T) {
	t.Parallel()
	s := startWith(t, server.Config{Realms: map[string]server.RealmConfig{"main": {Origins: []string{"https://app.example"}}}})
	all := mint(t, "ilse", "**")
	dial(t, client.Options{Server: s.URL(), Token: mint(t, "tobin", "**"), Rooms: []string{weir}})
	ghost := dial(t, client.Options{Server: s.URL(), Token: tokenOf(t, client.Token{User: "ghost", Grants: wire.Grants{Rooms: []string{"**"}, Hide: true}}), Rooms: []string{weir, "desk.night"}})
	require.NoError(t, ghost.Hide(t.Context(), true))

	response, text := glance(t, s, "rooms/"+weir+"/count", all)
	require.Equal(t, 200, response.StatusCode, text)
	require.Contains(t, text, `"people":1,`, "somebody who hides does not count")
	etag := response.Header.Get("ETag")
	require.NotEmpty(t, etag)
	response, _ = glance(t, s, "rooms/"+weir+"/count", all, "If-None-Match", etag)
	require.Equal(t, 304, response.StatusCode)
	_, empty := glance(t, s, "rooms/desk.night/count", all)
	_, never := glance(t, s, "rooms/desk.never/count", all)
	require.Equal(t, never, strings.Replace(empty, "desk.night", "desk.never", 1), "a room with hidden people only is as if it were not")

	var page wire.Members
	require.Eventually(t, func() bool {
		_, text = glance(t, s, "rooms/"+weir+"/members", all)
		require.NoError(t, json.Unmarshal([]byte(text), &page))
		return len(page.Members) == 1
	}, patience, 10*time.Millisecond, text)
	require.Equal(t, "tobin", page.Members[0].User)
	require.NotContains(t, text, "ghost")
	dial(t, client.Options{Server: s.URL(), Token: mint(t, "hanne", "**"), Rooms: []string{weir}})
	response, _ = glance(t, s, "rooms/"+weir+"/members", all, "If-None-Match", response.Header.Get("ETag"))
	require.Equal(t, 200, response.StatusCode, "it has changed")

	watcher := tokenOf(t, client.Token{User: "ilse", Grants: wire.Grants{Rooms: []string{"levee.*"}, Count: []string{weir}, People: []string{"t*", "g*", "n*"}}})
	for path, want := range map[string]string{"people/tobin/status": "online", "people/ghost/status": "offline", "people/nobody/status": "offline"} {
		require.Eventually(t, func() bool { // the answer may be one seal behind
			response, text = glance(t, s, path, watcher)
			return response.StatusCode == 200 && strings.Contains(text, `"status":"`+want+`"`)
		}, patience, 10*time.Millisecond, path)
	}
	response, _ = glance(t, s, "rooms/"+weir+"/count", watcher)
	require.Equal(t, 200, response.StatusCode)
	response, _ = glance(t, s, "rooms/"+weir+"/count", all, "Origin", "https://app.example")
	require.Equal(t, "https://app.example", response.Header.Get("Access-Control-Allow-Origin"))

	refused := func(code, path, token string, headers ...string) {
		t.Helper()
		_, text := glance(t, s, path, token, headers...)
		require.Contains(t, text, `"code":"`+code+`"`, path)
	}
	refused("not-granted", "rooms/"+weir+"/members", watcher)
	refused("not-granted", "rooms/desk.night/count", watcher)
	refused("not-granted", "people/hanne/status", watcher)
	refused("no-token", "rooms/"+weir+"/count", "")
	refused("bad-token", "rooms/"+weir+"/count", all+"x")
	refused("bad-token", "rooms/"+weir+"/count", key)
	refused("bad-room", "rooms/a..b/count", all)
	refused("bad-field", "rooms/"+weir+"/members?limit=0", all)
	refused("bad-field", "rooms/"+weir+"/members?status=asleep", all)
	refused("old-revision", "rooms/"+weir+"/members?rev=AAAAAAAAAA.1", all)
	refused("bad-origin", "rooms/"+weir+"/count", all, "Origin", "https://elsewhere.example")
	_, err := client.API{Server: s.URL(), Key: key}.Remove(t.Context(), "ilse", weir)
	require.NoError(t, err)
	refused(string(presence.CodeRemoved), "rooms/"+weir+"/count", all)
	refused(string(presence.CodeRemoved), "rooms/"+weir+"/members", all)
}
