package server_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/httpapi"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// keyOf makes a key with a role, about some rooms or all.
func keyOf(t *testing.T, s *server.Server, role string, rooms ...string) string {
	t.Helper()
	made, err := client.API{Server: s.URL(), Key: key}.AddKey(t.Context(), wire.NewKey{Role: role, Rooms: rooms})
	require.NoError(t, err)
	return made.Key
}

// tryRoute makes a request to a route, and returns the code of the problem, if any.
func tryRoute(t *testing.T, s *server.Server, op httpapi.Operation, bearer, room string) string {
	t.Helper()
	path := strings.NewReplacer("{room}", room, "{user}", "w-17", "{profile}", "goroutine").Replace(op.Path)
	for strings.Contains(path, "{") {
		from, to := strings.Index(path, "{"), strings.Index(path, "}")
		path = path[:from] + "nowhere" + path[to+1:]
	}
	var body io.Reader
	if text, ok := op.Takes.(string); ok {
		body = strings.NewReader(text)
	} else if op.Takes != nil {
		text, err := json.Marshal(op.Takes)
		require.NoError(t, err)
		body = strings.NewReader(strings.NewReplacer("basin.upper-weir", room, "sluice.mill-lane", room).Replace(string(text)))
	}
	request, err := http.NewRequestWithContext(t.Context(), op.Method, s.URL()+path, body)
	require.NoError(t, err)
	if op.Media != "" {
		request.Header.Set("Content-Type", op.Media)
	}
	if bearer != "" {
		request.Header.Set("Authorization", "Bearer "+bearer)
	}
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer func() { _ = response.Body.Close() }()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	var problem wire.Document
	if response.Header.Get("Content-Type") == "application/problem+json" {
		require.NoError(t, json.Unmarshal(text, &problem))
	}
	return problem.Code
}

// TestEveryRouteIsOpenToTheKeysThatReachIt tries every route with every kind of key.
func TestEveryRouteIsOpenToTheKeysThatReachIt(t *testing.T) {
	t.Parallel()
	s := startWith(t, server.Config{Data: t.TempDir()})
	type shown struct {
		key   string
		role  access.Role
		reach httpapi.Reach
	}
	keys := map[string]shown{"the service's": {key, access.Operate, httpapi.ReachService}}
	for _, role := range []access.Role{access.Read, access.Write, access.Operate} {
		keys[string(role)] = shown{keyOf(t, s, string(role)), role, httpapi.ReachRealm}
		keys[string(role)+" about desk.**"] = shown{keyOf(t, s, string(role), "desk.**"), role, httpapi.ReachRooms}
	}
	reaches := map[httpapi.Reach]int{httpapi.ReachRooms: 1, httpapi.ReachRealm: 2, httpapi.ReachService: 3}
	tried, tokens := 0, 0
	for _, op := range httpapi.Operations() {
		need, operated := access.ParseRole(op.Shows)
		if !operated {
			require.Empty(t, op.Reach, op.ID)
			continue
		}
		require.NotZero(t, reaches[op.Reach], "%s says what a key has to be about", op.ID)
		require.Equal(t, "no-key", tryRoute(t, s, op, "", "desk.night"), op.ID)
		if tokens++; tokens <= 10 { // more would lock this address out
			require.Equal(t, "bad-key", tryRoute(t, s, op, mint(t, "ilse", "**"), "desk.night"), "%s: a person's token is not a key", op.ID)
		}
		for name, k := range keys {
			tried++
			may := access.Operator{Role: k.role}.May(need) && reaches[k.reach] >= reaches[op.Reach]
			code := tryRoute(t, s, op, k.key, "desk.night")
			if !may {
				require.Equal(t, "wrong-role", code, "%s with the key %s", op.ID, name)
			} else if !(code == "wrong-role" && k.reach == httpapi.ReachRooms && needsRoom(op)) {
				require.NotContains(t, []string{"no-key", "bad-key", "wrong-role"}, code, "%s with the key %s", op.ID, name)
			}
			if may && k.reach == httpapi.ReachRooms && strings.Contains(op.Path, "{room}") {
				require.Equal(t, "unknown-room", tryRoute(t, s, op, k.key, "basin.fen-end"), "%s of a room that the key is not about", op.ID)
			}
		}
	}
	require.Greater(t, tried, 300)
}

// needsRoom reports whether a limited key needs a room in the query of a route.
func needsRoom(op httpapi.Operation) bool {
	for _, p := range op.Query {
		if p.Name == "room" && !p.Repeats {
			return true
		}
	}
	return false
}

func TestTheTableOfRoutesInTheDocsIsThatOfTheRoutes(t *testing.T) {
	const file, begin, end = "../../docs/security.md", "<!-- routes: go test ./internal/server -run TestTheTableOfRoutes -write -->\n", "<!-- end of routes -->"
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	before, rest, found := strings.Cut(string(text), begin)
	require.True(t, found)
	table, after, found := strings.Cut(rest, end)
	require.True(t, found)
	if *write {
		require.NoError(t, os.WriteFile(file, []byte(before+begin+httpapi.AccessTable()+end+after), 0o644))
		return
	}
	require.Equal(t, httpapi.AccessTable(), table)
}

func TestAKeyAboutSomeRoomsCannotTakeOverTheRealm(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	all := client.API{Server: s.URL(), Key: key}
	_, err := all.AddTokenKey(t.Context(), wire.NewTokenKey{ID: "app", Algorithm: "HS256", Key: strings.Repeat("a", 32)})
	require.NoError(t, err)
	whole, err := all.AddKey(t.Context(), wire.NewKey{Role: "operate"})
	require.NoError(t, err)
	narrow := client.API{Server: s.URL(), Key: keyOf(t, s, "operate", "desk.**")}
	_, err = narrow.AddTokenKey(t.Context(), wire.NewTokenKey{ID: "mine", Algorithm: "HS256", Key: strings.Repeat("m", 32)})
	requireCode(t, "wrong-role", err)
	requireCode(t, "wrong-role", narrow.RevokeTokenKey(t.Context(), "app"))
	requireCode(t, "wrong-role", narrow.RevokeKey(t.Context(), whole.ID))
	_, err = narrow.Keys(t.Context())
	requireCode(t, "wrong-role", err)
	_, err = narrow.AddKey(t.Context(), wire.NewKey{Role: "operate"})
	requireCode(t, "wrong-role", err)

	// A key that expires cannot make one that outlives it.
	soon := time.Now().Add(time.Hour)
	brief, err := all.AddKey(t.Context(), wire.NewKey{Role: "operate", Expires: &soon})
	require.NoError(t, err)
	heir := client.API{Server: s.URL(), Key: brief.Key}
	made, err := heir.AddKey(t.Context(), wire.NewKey{Role: "read"})
	require.NoError(t, err)
	require.Equal(t, brief.Expires.Unix(), made.Expires.Unix())
	later := soon.Add(time.Minute)
	_, err = heir.AddKey(t.Context(), wire.NewKey{Role: "read", Expires: &later})
	requireCode(t, "not-granted", err)

	// Sessions are listed only with the rooms of the key.
	dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse", "**"), Rooms: []string{"desk.night", weir}})
	_, text := ask(t, "GET", s.URL()+"/v1/sessions?room=desk.night", "Bearer "+narrow.Key, "")
	require.Contains(t, text, `"rooms":["desk.night"]`)
	require.NotContains(t, text, weir)
}

func TestARealmOfTheConfigurationGetsAKey(t *testing.T) {
	t.Parallel()
	s := startWith(t, server.Config{Realms: map[string]server.RealmConfig{"training": {}}})
	all := client.API{Server: s.URL(), Key: key}
	made, err := all.AddKey(t.Context(), wire.NewKey{Role: "operate", Realm: "training"})
	require.NoError(t, err)
	require.Equal(t, "training", made.Realm)
	_, err = client.API{Server: s.URL(), Key: made.Key}.AddKey(t.Context(), wire.NewKey{Role: "read", Realm: "main"})
	requireCode(t, "wrong-role", err)
	_, err = all.AddKey(t.Context(), wire.NewKey{Role: "read", Realm: "nowhere"})
	requireCode(t, "unknown-realm", err)
}

func requireCode(t *testing.T, code string, err error) {
	t.Helper()
	var problem *wire.Problem
	require.ErrorAs(t, err, &problem, fmt.Sprint(err))
	require.Equal(t, code, problem.Code)
}
