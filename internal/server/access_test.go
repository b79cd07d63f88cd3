package server_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/netip"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/admission"
	"tovik.example/tovik/internal/gateway"
	"tovik.example/tovik/internal/httpapi"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

func tokenOf(t *testing.T, token client.Token) string {
	t.Helper()
	text, err := token.Sign(secret)
	require.NoError(t, err)
	return text
}

// refusedWith requires that a hello is refused with a code.
func refusedWith(t *testing.T, code string, o client.Options) {
	t.Helper()
	o.AllOrNothing = true
	_, err := client.Dial(t.Context(), o)
	var problem *wire.Problem
	require.ErrorAs(t, err, &problem)
	require.Equal(t, code, problem.Code)
}

func TestARemovalHoldsAfterARestartAndTheNextTokenIsTaken(t *testing.T) {
	t.Parallel()
	config := server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, Data: t.TempDir()}
	s, err := server.Start(config)
	require.NoError(t, err)
	s.Ready()
	third := watch(t, s)
	before := mint(t, "mallory")
	link := dial(t, client.Options{Server: s.URL(), Token: before, Rooms: []string{weir}})
	third.until(t, joined("mallory"))
	api := client.API{Server: s.URL(), Key: key}
	_, err = api.Remove(t.Context(), "mallory", weir)
	require.NoError(t, err)
	require.Equal(t, "removed", third.until(t, left("mallory"))[0].Left[0].Reason)
	var problem *wire.Problem
	require.ErrorAs(t, link.Join(t.Context(), weir), &problem)
	require.Equal(t, "removed", problem.Code)
	require.NoError(t, link.Join(t.Context(), "basin.fen-end"), "elsewhere they may be")
	_, err = api.Remove(t.Context(), "mallory", "")
	require.NoError(t, err)
	<-link.Ended()
	require.NoError(t, s.Stop())

	again, err := server.Start(config)
	require.NoError(t, err)
	again.Ready()
	t.Cleanup(func() { _ = again.Stop() })
	refusedWith(t, "removed", client.Options{Server: again.URL(), Token: before})
	time.Sleep(1100 * time.Millisecond) // tokens say their time in whole seconds
	dial(t, client.Options{Server: again.URL(), Token: mint(t, "mallory"), Rooms: []string{weir}})
}

func TestWhoWasRemovedCannotLookOnEither(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	api := client.API{Server: s.URL(), Key: key}
	token := mint(t, "mallory")
	looks := func(rooms ...string) client.Options {
		o := client.Options{Server: s.URL(), Token: token, WatchOnly: true}
		for _, room := range rooms {
			o.Watch = append(o.Watch, wire.Watch{Room: room})
		}
		return o
	}
	dropped, onDropped := heard[wire.Drop](10)
	watching := looks("basin.*")
	watching.OnDropped = onDropped
	onlooker, elsewhere := dial(t, watching), dial(t, looks("basin.fen-end"))
	session := dial(t, client.Options{Server: s.URL(), Token: token, Rooms: []string{weir}})
	_, err := api.Remove(t.Context(), "mallory", weir)
	require.NoError(t, err)
	told := <-dropped
	require.Equal(t, "basin.*", told.Room)
	require.Equal(t, "removed", told.Code)
	require.NoError(t, onlooker.Watch(t.Context(), "basin.low-bridge", "count"), "the link stays, and may watch other rooms")
	refusedWith(t, "removed", looks("basin.*"))
	refusedWith(t, "removed", looks(weir))
	dial(t, looks("basin.fen-end"))
	require.NoError(t, elsewhere.Watch(t.Context(), "basin.low-bridge", "members"))
	require.Error(t, elsewhere.Watch(t.Context(), weir, "count"))
	require.NoError(t, session.Activity(t.Context()), "the session goes on in other rooms")
	_, err = session.Members(t.Context(), weir, "", "", 10)
	require.ErrorContains(t, err, "removed", "nor page by page")
	_, err = api.Remove(t.Context(), "mallory", "")
	require.NoError(t, err)
	<-elsewhere.Ended()
	<-session.Ended()
	refusedWith(t, "removed", looks("basin.fen-end"))
}

func TestKeysRotateAndARevokedOneIsRefusedAtEveryDoor(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	api := client.API{Server: s.URL(), Key: key}
	sign := func(kid string) string {
		out, err := exec.CommandContext(t.Context(), "node", "../../test/jose.mjs", "HS256", kid, strings.Repeat(kid[:1], 32)).Output()
		require.NoError(t, err)
		var made struct{ Token string }
		require.NoError(t, json.Unmarshal(out, &made))
		return made.Token
	}
	for _, kid := range []string{"spring", "autumn"} {
		_, err := api.AddTokenKey(t.Context(), wire.NewTokenKey{ID: kid, Algorithm: "HS256", Key: strings.Repeat(kid[:1], 32)})
		require.NoError(t, err)
	}
	older, newer := sign("spring"), sign("autumn")
	link := dial(t, client.Options{Server: s.URL(), Token: older, Rooms: []string{weir}})
	other := dial(t, client.Options{Server: s.URL(), Token: newer, Rooms: []string{weir}})
	before := ticket(t, s, older, `{"nonce":"t"}`)
	require.NoError(t, api.RevokeTokenKey(t.Context(), "spring"))
	<-link.Ended()
	var closed *websocket.CloseError
	require.ErrorAs(t, link.Err(), &closed)
	require.Equal(t, wire.CloseExpired, closed.Code)
	refusedWith(t, "bad-token", client.Options{Server: s.URL(), Token: older})
	for _, door := range [][2]string{{"GET", before.Feed}, {"POST", "/v1/tickets"}, {"PUT", "/v1/sessions/new"}, {"GET", "/v1/feed?room=" + weir}} {
		response, text := ask(t, door[0], s.URL()+door[1], "Bearer "+older, "{}")
		require.Equal(t, 401, response.StatusCode, "%s: %s", door, text)
	}
	require.NoError(t, other.Activity(t.Context()), "the other generation goes on")

	read, err := api.AddKey(t.Context(), wire.NewKey{Role: "read"})
	require.NoError(t, err)
	follower := dial(t, client.Options{Server: s.URL(), Key: read.Key, Watch: []wire.Watch{{Room: "**"}}})
	require.NoError(t, api.RevokeKey(t.Context(), read.ID))
	<-follower.Ended()
	refusedWith(t, "bad-key", client.Options{Server: s.URL(), Key: read.Key})
	_, err = client.API{Server: s.URL(), Key: read.Key}.Rooms(t.Context(), "**", "", 10)
	require.ErrorContains(t, err, "unknown, revoked or expired")
}

// TestTokensOfAnotherLibraryAreTaken signs tokens with the npm package jose, with each
// algorithm, for keys of the service and for a published key set.
func TestTokensOfAnotherLibraryAreTaken(t *testing.T) {
	t.Parallel()
	set := map[string][]json.RawMessage{}
	var fetched atomic.Int64
	var mu sync.Mutex
	published := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		fetched.Add(1)
		time.Sleep(50 * time.Millisecond) // as far away as an identity service is
		mu.Lock()
		defer mu.Unlock()
		_ = json.NewEncoder(w).Encode(set)
	}))
	t.Cleanup(published.Close)
	set["keys"] = []json.RawMessage{}
	s := startWith(t, server.Config{Realms: map[string]server.RealmConfig{
		"main": {KeySets: []access.KeySet{{URL: published.URL, Issuer: "https://id.example", Audience: "tovik"}}}}})
	api := client.API{Server: s.URL(), Key: key}
	for _, algorithm := range []string{"HS256", "EdDSA", "ES256", "RS256"} {
		kid := "kept-" + algorithm
		out, err := exec.CommandContext(t.Context(), "node", "../../test/jose.mjs", algorithm, kid, strings.Repeat("k", 32)).Output()
		require.NoError(t, err)
		var made struct {
			Token, Key string
			JWK        json.RawMessage
		}
		require.NoError(t, json.Unmarshal(out, &made))
		_, err = api.AddTokenKey(t.Context(), wire.NewTokenKey{ID: kid, Algorithm: algorithm, Key: made.Key})
		require.NoError(t, err)
		require.Equal(t, "jo", dial(t, client.Options{Server: s.URL(), Token: made.Token, Rooms: []string{weir}}).Opened().User, algorithm)
	}
	out, err := exec.CommandContext(t.Context(), "node", "../../test/jose.mjs", "ES256", "published").Output()
	require.NoError(t, err)
	var made struct {
		Token string
		JWK   json.RawMessage
	}
	require.NoError(t, json.Unmarshal(out, &made))
	mu.Lock()
	set["keys"] = append(set["keys"], made.JWK) // a key that the service has not seen yet
	mu.Unlock()
	dial(t, client.Options{Server: s.URL(), Token: made.Token, Rooms: []string{weir}})
	before := fetched.Load()
	for i := range 20 {
		refusedWith(t, "bad-token", client.Options{Server: s.URL(), Token: strings.Replace(made.Token, ".", fmt.Sprint(i, "."), 1)})
	}
	require.LessOrEqual(t, fetched.Load()-before, int64(1), "unknown kids do not make the service fetch again and again")
}

func TestTheApplicationAdmits(t *testing.T) {
	t.Parallel()
	var asked atomic.Int64
	answer := atomic.Pointer[string]{}
	say := func(text string) { answer.Store(&text) }
	application := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		body, _ := io.ReadAll(r.Body)
		if err := verified("a secret of the application", false, told(r, body)); err != nil {
			t.Error(err)
		}
		_, _ = io.WriteString(w, *answer.Load())
	}))
	t.Cleanup(application.Close)
	s := startWith(t, server.Config{Realms: map[string]server.RealmConfig{"main": {Admission: &admission.Client{
		Rooms: []presence.Pattern{"desk.*"}, URL: application.URL, Secret: "a secret of the application", Wait: 5 * time.Second}}}})
	options := func(user string) client.Options {
		return client.Options{Server: s.URL(), Token: mint(t, user, "**"), Rooms: []string{"desk.night"}}
	}
	say(`{"admit":true}`)
	ilse := dial(t, options("ilse"))
	require.NoError(t, ilse.Leave(t.Context(), "desk.night"))
	require.NoError(t, ilse.Join(t.Context(), "desk.night"))
	require.Equal(t, int64(1), asked.Load(), "it is not asked again at once")
	for name, said := range map[string]string{"no": `{"admit":false}`, "nothing": `{}`, "noise": `yes`} {
		say(said)
		refusedWith(t, "not-admitted", options(name))
	}
	say(`{"admit":true,"name":"Ilse of the desk"}`)
	again := dial(t, client.Options{Server: s.URL(), Token: mint(t, "elin", "**")})
	require.NoError(t, again.Join(t.Context(), "desk.night"))
	page, err := again.Members(t.Context(), "desk.night", "", "", 10)
	require.NoError(t, err)
	require.Equal(t, "Ilse of the desk", page.Members[0].Name, "with the profile that it gives")
	say(`{"admit":true,"picture":"javascript:alert(1)"}`)
	refusedWith(t, "not-admitted", options("mallory"))
	say(`{"admit":false}`)
	var problem *wire.Problem
	tobin := dial(t, client.Options{Server: s.URL(), Token: mint(t, "tobin", "**"), Rooms: []string{weir}})
	require.ErrorAs(t, tobin.Join(t.Context(), "desk.night"), &problem)
	require.Equal(t, "not-admitted", problem.Code)
	response, text := ask(t, "PUT", s.URL()+"/v1/sessions/new", "Bearer "+mint(t, "corin", "**"), `{"rooms":["desk.night"]}`)
	require.Equal(t, 403, response.StatusCode, text)
	application.Close()
	refusedWith(t, "not-admitted", options("hanne"))
	require.NoError(t, tobin.Join(t.Context(), "basin.fen-end"), "nobody asks about other rooms")
}

func TestNothingCrossesRealms(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	api := client.API{Server: s.URL(), Key: key}
	made, err := api.AddRealm(t.Context(), "training")
	require.NoError(t, err)
	drill := client.API{Server: s.URL(), Key: made.FirstKey.Key}
	_, err = drill.AddTokenKey(t.Context(), wire.NewTokenKey{ID: "drill", Algorithm: "HS256", Key: strings.Repeat("d", 32)})
	require.NoError(t, err)
	out, err := exec.CommandContext(t.Context(), "node", "../../test/jose.mjs", "HS256", "drill", strings.Repeat("d", 32)).Output()
	require.NoError(t, err)
	var signed struct{ Token string }
	require.NoError(t, json.Unmarshal(out, &signed))

	third := watch(t, s)
	one := dial(t, client.Options{Server: s.URL(), Token: mint(t, "jo"), Rooms: []string{weir}})
	third.until(t, joined("jo"))
	two := dial(t, client.Options{Server: s.URL(), Token: signed.Token, Rooms: []string{weir}})
	for _, a := range []client.API{api, drill} {
		count, err := a.Count(t.Context(), weir)
		require.NoError(t, err)
		require.Equal(t, online(1, 1), count.Count)
	}
	require.NoError(t, two.SetStatus(t.Context(), "busy", "", time.Time{}))
	_, err = drill.Remove(t.Context(), "jo", weir)
	require.NoError(t, err)
	require.NoError(t, one.Activity(t.Context()))
	require.Empty(t, third.rest(), "a person of the same id in another realm is another person")
	require.NoError(t, api.RemoveRealm(t.Context(), "training"))
	<-two.Ended()
	refusedWith(t, "bad-token", client.Options{Server: s.URL(), Token: signed.Token})
	_, err = drill.Rooms(t.Context(), "**", "", 10)
	require.ErrorContains(t, err, "unknown, revoked or expired")
	require.NoError(t, one.Activity(t.Context()))
}

func TestPagesComeFromTheOriginsOfTheirRealm(t *testing.T) {
	t.Parallel()
	s := startWith(t, server.Config{Realms: map[string]server.RealmConfig{"main": {Origins: []string{"https://app.example"}}}})
	from := func(origin string) string {
		header := http.Header{}
		if origin != "" {
			header.Set("Origin", origin)
		}
		conn, response, err := websocket.DefaultDialer.Dial(strings.Replace(s.URL(), "http", "ws", 1)+"/v1/link", header)
		require.NoError(t, err)
		_ = response.Body.Close()
		t.Cleanup(func() { _ = conn.Close() })
		frame := (&raw{t, conn}).send(`{"type":"hello","id":1,"version":1,"token":"` + mint(t, "ilse") + `"}`).next()
		code, _ := frame["code"].(string)
		return code
	}
	require.Empty(t, from("https://app.example"))
	require.Empty(t, from(s.URL()), "its own pages")
	require.Empty(t, from(""), "what is no page")
	require.Equal(t, "bad-origin", from("https://evil.example"))
	require.Equal(t, "bad-origin", from("https://app.example.evil.example"))
	require.Equal(t, "bad-origin", from("null"))
	for origin, allowed := range map[string]string{"https://app.example": "https://app.example", "https://evil.example": ""} {
		request, err := http.NewRequest("OPTIONS", s.URL()+"/v1/tickets", nil)
		require.NoError(t, err)
		request.Header.Set("Origin", origin)
		request.Header.Set("Access-Control-Request-Method", "POST")
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		_ = response.Body.Close()
		require.Equal(t, allowed, response.Header.Get("Access-Control-Allow-Origin"))
	}
}

func TestASignInIsACookieThatOtherSitesCannotUse(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	api := client.API{Server: s.URL(), Key: key}
	read, err := api.AddKey(t.Context(), wire.NewKey{Role: "operate"})
	require.NoError(t, err)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	browser := &http.Client{Jar: jar}
	call := func(method, path, body, origin string) (int, string) {
		request, err := http.NewRequestWithContext(t.Context(), method, s.URL()+path, strings.NewReader(body))
		require.NoError(t, err)
		if origin != "" {
			request.Header.Set("Origin", origin)
		}
		response, err := browser.Do(request)
		require.NoError(t, err)
		defer func() { _ = response.Body.Close() }()
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		return response.StatusCode, string(text)
	}
	status, text := call("POST", "/v1/sign-in", `{"key":"`+read.Key+`"}`, s.URL())
	require.Equal(t, 200, status, text)
	require.NotContains(t, text, read.Key)
	behind, err := http.NewRequestWithContext(t.Context(), "POST", s.URL()+"/v1/sign-in", strings.NewReader(`{"key":"`+read.Key+`"}`))
	require.NoError(t, err)
	behind.Host = "presence.example"
	behind.Header.Set("Origin", "https://presence.example") // a proxy has ended TLS
	response, err := http.DefaultClient.Do(behind)
	require.NoError(t, err)
	_ = response.Body.Close()
	require.Contains(t, strings.ToLower(response.Header.Get("Set-Cookie")), "secure")
	status, text = call("GET", "/v1/rooms", "", "")
	require.Equal(t, 200, status, text)
	status, text = call("POST", "/v1/people/nobody/sign-out", "", s.URL())
	require.Equal(t, 204, status, text)
	status, _ = call("POST", "/v1/people/nobody/sign-out", "", "https://evil.example")
	require.Equal(t, 401, status)
	for site, want := range map[string]int{"same-origin": 200, "none": 200, "same-site": 401, "cross-site": 401} {
		request, err := http.NewRequestWithContext(t.Context(), "GET", s.URL()+"/v1/rooms", http.NoBody)
		require.NoError(t, err)
		request.Header.Set("Sec-Fetch-Site", site)
		response, err := browser.Do(request)
		require.NoError(t, err)
		_ = response.Body.Close()
		require.Equal(t, want, response.StatusCode, "a request of a page that is %s", site)
	}
	status, text = call("DELETE", "/v1/sign-in", "", s.URL())
	require.Equal(t, 204, status, text)
	status, _ = call("GET", "/v1/rooms", "", "")
	require.Equal(t, 401, status, "signed out")
	_, _ = call("POST", "/v1/sign-in", `{"key":"`+read.Key+`"}`, s.URL())
	require.NoError(t, api.RevokeKey(t.Context(), read.ID))
	status, _ = call("GET", "/v1/rooms", "", "")
	require.Equal(t, 401, status, "the key that one signed in with was revoked")
	_, text = call("GET", "/v1/sign-in", "", "")
	require.JSONEq(t, `{"realm":"","key":"","role":""}`, text)
}

// TestASignInOutlivesARestart: a sign-in survives a restart unless its key has changed.
func TestASignInOutlivesARestart(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	run := func(key string, ask func(s *server.Server)) {
		s, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, Data: dir})
		require.NoError(t, err)
		s.Ready()
		ask(s)
		require.NoError(t, s.Stop())
	}
	var cookie *http.Cookie
	whoAmI := func(want string) func(s *server.Server) {
		return func(s *server.Server) {
			request, err := http.NewRequestWithContext(t.Context(), "GET", s.URL()+"/v1/sign-in", http.NoBody)
			require.NoError(t, err)
			request.AddCookie(cookie)
			response, err := http.DefaultClient.Do(request)
			require.NoError(t, err)
			defer func() { _ = response.Body.Close() }()
			var who wire.SignIn
			require.NoError(t, json.NewDecoder(response.Body).Decode(&who))
			require.Equal(t, want, who.Key)
		}
	}
	run(key, func(s *server.Server) {
		response, err := http.Post(s.URL()+"/v1/sign-in", "application/json", strings.NewReader(`{"key":"`+key+`"}`))
		require.NoError(t, err)
		require.NoError(t, response.Body.Close())
		cookie = response.Cookies()[0]
	})
	run(key, whoAmI("service"))
	run("another key of the service", whoAmI(""))
	run(key, func(s *server.Server) {
		whoAmI("service")(s)
		request, err := http.NewRequestWithContext(t.Context(), "DELETE", s.URL()+"/v1/sign-in", http.NoBody)
		require.NoError(t, err)
		request.AddCookie(cookie)
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		require.NoError(t, response.Body.Close())
	})
	run(key, whoAmI(""))
}

func TestAnErasureSaysWhatItHasErased(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	api := client.API{Server: s.URL(), Key: key}
	link := dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}})
	require.NoError(t, link.SetStatus(t.Context(), "busy", "", time.Time{}))
	_, err := api.Remove(t.Context(), "ilse", "basin.fen-end")
	require.NoError(t, err)
	_, err = api.Declare(t.Context(), "desk.night", []string{"ilse", "tobin"})
	require.NoError(t, err)
	receipt, err := api.Erase(t.Context(), "ilse")
	require.NoError(t, err)
	require.Equal(t, map[string]int64{"sessions": 1, "rooms": 1, "statuses": 1, "last_seen": 1, "removals": 1, "directory": 1, "journal": 8, "deliveries": 0, "expected": 1}, receipt.Erased)
	<-link.Ended()
	again, err := api.Erase(t.Context(), "ilse")
	require.NoError(t, err)
	require.Equal(t, map[string]int64{"sessions": 0, "rooms": 0, "statuses": 0, "last_seen": 0, "removals": 0, "directory": 0, "journal": 0, "deliveries": 0, "expected": 0}, again.Erased)
}

func TestOnlyTrustedProxiesSayWhomTheySpeakFor(t *testing.T) {
	t.Parallel()
	trusting := startWith(t, server.Config{Proxies: httpapi.Proxies{netip.MustParsePrefix("127.0.0.0/8")}, Limits: gateway.Limits{PerAddress: 1}})
	for _, c := range []struct {
		forwarded string
		want      int
	}{
		{"10.0.0.1", 101}, {"10.0.0.1", 429}, {"10.0.0.2", 101}, {"made up, 10.0.0.3", 101}, {"10.0.0.9, 10.0.0.3", 429}, {"10.0.0.3, 127.0.0.8", 429},
	} {
		conn, response, err := websocket.DefaultDialer.Dial(strings.Replace(trusting.URL(), "http", "ws", 1)+"/v1/link", http.Header{"X-Forwarded-For": {c.forwarded}})
		require.Equal(t, c.want, response.StatusCode, c.forwarded)
		_ = response.Body.Close()
		if err == nil {
			t.Cleanup(func() { _ = conn.Close() })
			counted(t, conn)
		}
	}
}

// counted waits until the gateway counts a link, which happens after the handshake is answered:
// then the link answers a ping.
func counted(t *testing.T, conn *websocket.Conn) {
	t.Helper()
	answered := make(chan struct{})
	conn.SetPongHandler(func(string) error { close(answered); return nil })
	go func() { _, _, _ = conn.ReadMessage() }() // until the link is closed
	require.NoError(t, conn.WriteControl(websocket.PingMessage, nil, time.Now().Add(patience)))
	select {
	case <-answered:
	case <-time.After(patience):
		t.Fatal("the link never answered")
	}
}

func TestANarrowerTokenTakesAway(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	third := watch(t, s)
	events, onEvent := heard[client.Event](100)
	wide := client.Token{User: "ilse", Grants: wire.Grants{Rooms: []string{"basin.*"}, Watch: []string{"desk.*"}, People: []string{"tobin"}}}
	link := dial(t, client.Options{Server: s.URL(), Token: tokenOf(t, wide), Rooms: []string{weir}, Watch: []wire.Watch{{Room: "desk.*"}, {People: []string{"tobin"}}}, OnEvent: onEvent})
	third.until(t, joined("ilse"))
	wide.Grants = wire.Grants{Rooms: []string{"basin.fen-end"}, Count: []string{"desk.*"}}
	require.NoError(t, link.Renew(t.Context(), tokenOf(t, wide)))
	third.until(t, left("ilse"))
	dial(t, client.Options{Server: s.URL(), Token: mint(t, "tobin", "**"), Rooms: []string{weir, "desk.night"}})
	third.until(t, joined("tobin"))
	require.NoError(t, link.Join(t.Context(), "basin.fen-end"))
	await(t, events, func(e client.Event) bool {
		require.NotEqual(t, "desk.night", e.Room)
		require.Empty(t, e.Joined[:max(0, len(e.Joined)-1)])
		return e.Room == "basin.fen-end"
	})
	var problem *wire.Problem
	require.ErrorAs(t, link.Watch(t.Context(), "desk.night", "members"), &problem)
	require.Equal(t, "not-granted", problem.Code)
	require.NoError(t, link.Watch(t.Context(), "desk.night", "count"))
}

func TestASessionThatComesBackWithLessIsWhereItMayBe(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	third := watch(t, s)
	link := dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse"), Nonce: "n", Rooms: []string{weir, "basin.fen-end"}})
	third.until(t, joined("ilse"))
	back := dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse", "basin.fen-end"), Nonce: "n", Resume: link.Resume()})
	require.Equal(t, []string{"basin.fen-end"}, back.Opened().Rooms)
	third.until(t, left("ilse"))

	_, text := ask(t, "PUT", s.URL()+"/v1/sessions/new", "Bearer "+mint(t, "tobin"), `{"rooms":["`+weir+`"]}`)
	var lease wire.Lease
	require.NoError(t, json.Unmarshal([]byte(text), &lease))
	_, text = ask(t, "PUT", s.URL()+"/v1/sessions/"+lease.Session, "Bearer "+mint(t, "tobin", "desk.*"), `{"resume_key":"`+lease.ResumeKey+`"}`)
	require.NoError(t, json.Unmarshal([]byte(text), &lease))
	require.True(t, lease.Resumed)
	require.Empty(t, lease.Rooms)
}

func TestModeratorsRemoveAndPeopleWatchWhoIsNear(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	warden := dial(t, client.Options{Server: s.URL(), Rooms: []string{weir}, Token: tokenOf(t, client.Token{User: "warden", Grants: wire.Grants{
		Rooms: []string{"basin.*"}, Moderate: []string{weir}, Near: true}})})
	tobin := dial(t, client.Options{Server: s.URL(), Token: mint(t, "tobin"), Rooms: []string{weir}})
	require.NoError(t, warden.WatchPeople(t.Context(), "tobin"))
	require.Error(t, warden.WatchPeople(t.Context(), "nobody"))
	require.NoError(t, warden.Remove(t.Context(), "tobin", weir))
	var problem *wire.Problem
	require.ErrorAs(t, tobin.Join(t.Context(), weir), &problem)
	require.Equal(t, "removed", problem.Code)
	require.Error(t, warden.Remove(t.Context(), "tobin", "basin.fen-end"))
}

// TestWhoHidesChangesNothing plays the same night twice, the second time with a hidden person
// among the others. All open doors must say the same.
func TestWhoHidesChangesNothing(t *testing.T) {
	t.Parallel()
	without, with := night(t, false), night(t, true)
	require.Equal(t, without, with)
	require.Greater(t, len(without), 10)
}

// night returns what others are told during a night, with random parts (ids, keys, runs, times)
// masked.
func night(t *testing.T, hidden bool) []string {
	s := start(t, nil)
	var ghost *client.Link
	haunt := func(do func(ctx context.Context)) {
		if hidden {
			do(t.Context())
		}
		time.Sleep(50 * time.Millisecond) // in both nights, so that what was before is sealed
	}
	ghost = dial(t, client.Options{Server: s.URL(), Token: mintAll(t, "ghost")}) // in both nights they were seen before
	require.NoError(t, ghost.Hide(t.Context(), true))
	haunt(func(ctx context.Context) { require.NoError(t, ghost.Join(ctx, weir)) })
	var told []string
	plain := regexp.MustCompile(`"(session|resume_key|since|at|last_seen)":"[^"]*"|"(rev|prev)":"[A-Z0-9]+`)
	note := func(door, text string) {
		told = append(told, door+" "+plain.ReplaceAllString(text, `"$1$2":"…`))
	}
	observer := connect(t, s)
	observer.send(`{"type":"hello","id":1,"version":1,"token":"` + mintAll(t, "observer", "*") + `","watch_only":true,"watch":[{"room":"basin.*"},{"people":["ghost","ilse"]}]}`)
	counter := connect(t, s)
	counter.send(`{"type":"hello","id":1,"version":1,"token":"` + mintAll(t, "counter") + `","watch_only":true,"watch":[{"room":"` + weir + `","detail":"count"}]}`)
	stream := follow(t, s, "/v1/feed?watch_only=true&watch=basin.*", mintAll(t, "streamer"), "")
	var ilse *client.Link
	step := func(frames int, do func(ctx context.Context) error) {
		haunt(func(ctx context.Context) { // before each step
			_ = ghost.Typing(ctx, weir, true)
			_ = ghost.SetStatus(ctx, "busy", "unseen", time.Time{})
			_ = ghost.Leave(ctx, weir)
			_ = ghost.Join(ctx, weir)
			_ = ghost.SetStatus(ctx, "", "", time.Time{})
		})
		require.NoError(t, do(t.Context()))
		from := len(told)
		for range frames {
			_, data, err := observer.conn.ReadMessage()
			require.NoError(t, err)
			note("link", string(data))
		}
		slices.Sort(told[from:]) // rooms and people are sealed apart
		response, body := ask(t, "PUT", s.URL()+"/v1/sessions/new", "Bearer "+mintAll(t, "beater"), `{"rooms":[]}`)
		require.Equal(t, 200, response.StatusCode)
		note("beats", body)
	}
	step(3, func(context.Context) error { return nil }) // the answer, and two people
	step(1, func(context.Context) error {
		ilse = dial(t, client.Options{Server: s.URL(), Token: mintAll(t, "ilse")})
		return nil
	})
	step(1, func(ctx context.Context) error { return ilse.Join(ctx, weir) })
	step(1, func(ctx context.Context) error { return ilse.Typing(ctx, weir, true) })
	step(2, func(ctx context.Context) error { return ilse.SetStatus(ctx, "away", "at the gauge", time.Time{}) })
	haunt(func(ctx context.Context) { // nobody can reach or find the ghost
		_, err := ilse.Cue(ctx, wire.Request{User: "ghost", Name: "boo"})
		require.ErrorContains(t, err, "grant")
	})
	links, err := ilse.Cue(t.Context(), wire.Request{Room: weir, Name: "boo"})
	require.NoError(t, err)
	note("cue", fmt.Sprint(links))
	page, err := ilse.Members(t.Context(), weir, "", "", 10)
	require.NoError(t, err)
	text, err := json.Marshal(page)
	require.NoError(t, err)
	note("page", string(text))
	step(2, func(ctx context.Context) error { return ilse.Leave(ctx, weir) }) // typing has ended too
	haunt(func(ctx context.Context) { require.NoError(t, ghost.Bye(ctx)) })
	for range 4 {
		_, data, err := counter.conn.ReadMessage()
		require.NoError(t, err)
		if strings.Contains(string(data), `"people":0`) {
			note("count", string(data))
			break
		}
	}
	frame, err := json.Marshal(stream.until("changes"))
	require.NoError(t, err)
	note("stream", string(frame))
	return told
}

// TestARemovalHoldsAtEveryDoorForAnEarlyToken removes people whose tokens say a time that has not come, by
// the clock of the service that minted them. Each has used one door only.
func TestARemovalHoldsAtEveryDoorForAnEarlyToken(t *testing.T) {
	t.Parallel()
	config := server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, Data: t.TempDir()}
	s, err := server.Start(config)
	require.NoError(t, err)
	s.Ready()
	status := func(method, path string) func(*server.Server, string) string {
		return func(s *server.Server, token string) string {
			request, err := http.NewRequestWithContext(t.Context(), method, s.URL()+path, strings.NewReader(`{"rooms":["`+weir+`"]}`))
			require.NoError(t, err)
			request.Header.Set("Authorization", "Bearer "+token)
			request.Header.Set("Content-Type", "application/json")
			response, err := http.DefaultClient.Do(request)
			require.NoError(t, err)
			defer func() { _ = response.Body.Close() }()
			if response.StatusCode < 300 {
				return ""
			}
			var problem wire.Problem
			require.NoError(t, json.NewDecoder(response.Body).Decode(&problem))
			return problem.Code
		}
	}
	link := func(o client.Options) func(*server.Server, string) string {
		return func(s *server.Server, token string) string {
			o.Server, o.Token, o.AllOrNothing = s.URL(), token, true
			link, err := client.Dial(t.Context(), o)
			if err == nil {
				t.Cleanup(link.Close)
				return ""
			}
			var problem *wire.Problem
			require.ErrorAs(t, err, &problem)
			return problem.Code
		}
	}
	doors := map[string]func(*server.Server, string) string{
		"a session": link(client.Options{Rooms: []string{weir}}), "a link that only watches": link(client.Options{WatchOnly: true, Watch: []wire.Watch{{Room: weir}}}),
		"an event stream": status("GET", "/v1/feed?room="+weir), "a page that polls": status("GET", "/v1/seen/rooms/"+weir+"/count"), "HTTP beats": status("PUT", "/v1/sessions/new"),
	}
	tokens, api := map[string]string{}, client.API{Server: s.URL(), Key: key}
	for door, enter := range doors {
		user := strings.ReplaceAll(door, " ", "-")
		tokens[door] = tokenOf(t, client.Token{User: user, Issued: time.Now().Add(25 * time.Second), Grants: wire.Grants{Rooms: []string{"basin.*"}}})
		require.Empty(t, enter(s, tokens[door]), door)
		_, err := api.Remove(t.Context(), user, "")
		require.NoError(t, err)
		require.Equal(t, "removed", enter(s, tokens[door]), door)
	}
	require.NoError(t, s.Stop())
	again, err := server.Start(config)
	require.NoError(t, err)
	again.Ready()
	t.Cleanup(func() { _ = again.Stop() })
	for door, enter := range doors {
		require.Equal(t, "removed", enter(again, tokens[door]), "%s, after a restart", door)
	}
}
