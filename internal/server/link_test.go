package server_test

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// asClient turns the test binary into a client that a test can kill. Its arguments are SERVER
// and TOKEN.
const asClient = "TOVIK_TEST_AS_CLIENT"

func beClient() {
	server, token, _ := strings.Cut(os.Getenv(asClient), " ")
	_, err := client.Dial(context.Background(), client.Options{Server: server, Token: token, Rooms: []string{weir}})
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	fmt.Println("in")
	select {}
}

func TestKilledClientLeavesAfterItsGrace(t *testing.T) {
	t.Parallel()
	policy := brisk()
	s := start(t, policy)
	third := watch(t, s)

	process := exec.Command(os.Args[0])
	process.Env = append(os.Environ(), asClient+"="+s.URL()+" "+mint(t, "tobin"))
	out, err := process.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, process.Start())
	said := make([]byte, 2)
	_, err = io.ReadFull(out, said)
	require.NoError(t, err)
	third.until(t, joined("tobin"))

	killed := time.Now()
	require.NoError(t, process.Process.Kill())
	_ = process.Wait()
	seen := third.until(t, left("tobin"))
	require.Len(t, seen, 1, "nothing else was to be seen")
	require.Equal(t, "lost", seen[0].Left[0].Reason)
	require.GreaterOrEqual(t, seen[0].At.Sub(killed), policy.GraceLost-time.Millisecond, "not before; stamps are in milliseconds")
	require.Less(t, seen[0].At.Sub(killed), policy.GraceLost+5*time.Second, "and not much later")
}

func TestReturnWithinGraceIsUnseenByAThirdParty(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	third := watch(t, s)
	network := &cable{}
	options := client.Options{Server: s.URL(), Token: mint(t, "tobin"), Rooms: []string{weir}, Nonce: "load 1", NetDial: network.dial}
	link := dial(t, options)
	third.until(t, joined("tobin"))

	// A cut cable, the same page again.
	require.NoError(t, network.conn.Close())
	<-link.Ended()
	options.Resume = link.Resume()
	link = dial(t, options)
	require.True(t, link.Opened().Resumed)
	require.Equal(t, uint64(2), link.Opened().Link)

	// A reload: the beacon, the close, the next page. And the beacon once more, late.
	note := wire.ClosingNote{Session: link.Opened().Session, ResumeKey: link.Opened().ResumeKey, Nonce: "load 1"}
	answer, err := client.API{Server: s.URL()}.Closed(t.Context(), note)
	require.NoError(t, err)
	require.True(t, answer.Applied)
	<-link.Ended()
	require.True(t, websocket.IsCloseError(link.Err(), wire.CloseClosing), link.Err())
	options.Nonce = "load 2"
	link = dial(t, options)
	require.True(t, link.Opened().Resumed)
	answer, err = client.API{Server: s.URL()}.Closed(t.Context(), note)
	require.NoError(t, err)
	require.False(t, answer.Applied, "a late beacon of the page before")

	// A new network while the old connection still stands.
	again := dial(t, options)
	require.True(t, again.Opened().Resumed)
	<-link.Ended()
	require.True(t, websocket.IsCloseError(link.Err(), wire.CloseReplaced), link.Err())
	err = link.Activity(t.Context())
	require.ErrorIs(t, err, client.ErrClosed)
	require.ErrorContains(t, err, "replaced", "it says why")

	dial(t, client.Options{Server: s.URL(), Token: mint(t, "hanne"), Rooms: []string{weir}})
	seen := third.until(t, joined("hanne"))
	require.Len(t, seen, 1, "of all that, a third party saw nothing: %+v", seen)
	require.Equal(t, online(2, 2), seen[0].Count)
}

func TestByeAndLeaveAreSeenAtOnce(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	third := watch(t, s)
	link := dial(t, client.Options{Server: s.URL(), Token: mint(t, "tobin"), Rooms: []string{weir}})
	third.until(t, joined("tobin"))
	require.NoError(t, link.Leave(t.Context(), weir))
	seen := third.until(t, left("tobin"))
	require.Equal(t, "leave", seen[0].Left[0].Reason)
	require.NoError(t, link.Join(t.Context(), weir))
	third.until(t, joined("tobin"))
	require.NoError(t, link.Bye(t.Context()))
	seen = third.until(t, left("tobin"))
	require.Equal(t, "bye", seen[0].Left[0].Reason)
	require.Equal(t, "offline", seen[0].Left[0].Status)
	<-link.Ended()
}

func TestASilentClientIsLost(t *testing.T) {
	t.Parallel()
	policy := brisk()
	policy.BeatEvery, policy.BeatTolerance = 200*time.Millisecond, 8
	s := start(t, policy)
	third := watch(t, s)
	silent := connect(t, s).hello(mint(t, "tobin")).send(`{"type":"join","id":1,"room":"` + weir + `"}`)
	alive := dial(t, client.Options{Server: s.URL(), Token: mint(t, "hanne"), Rooms: []string{weir}})
	third.until(t, joined("tobin"))
	require.Equal(t, wire.CloseSilent, silent.closed(), "it reads, so protocol pings would have found it alive")
	seen := third.until(t, left("tobin"))
	require.Equal(t, "silent", seen[len(seen)-1].Left[0].Reason)
	select {
	case <-alive.Ended():
		t.Fatal("a client that answers was closed")
	default:
	}
}

func TestOperatorsLinkIsAskedToo(t *testing.T) {
	t.Parallel()
	policy := brisk()
	policy.BeatEvery, policy.BeatTolerance = 200*time.Millisecond, 2
	s := start(t, policy)
	silent := connect(t, s).send(`{"type":"hello","version":1,"key":"` + key + `"}`)
	require.Equal(t, wire.CloseSilent, silent.closed())
}

func TestIdlenessIsSeenByOthers(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	third := watch(t, s)
	token := mint(t, "tobin")
	r := connect(t, s).send(`{"type":"hello","id":1,"version":1,"token":"` + token + `","rooms":["` + weir + `"],"idle_for":600000,"page_hidden":true}`)
	require.Equal(t, "answer", r.next()["type"])
	seen := third.until(t, joined("tobin"))
	require.Equal(t, "away", seen[0].Joined[0].Status)
	require.Equal(t, wire.Tally{People: 1, Sessions: 1}, seen[0].Count.Away)
	status := func(want string) func(client.Event) bool {
		return func(e client.Event) bool { return len(e.Changed) == 1 && e.Changed[0].Status == want }
	}
	require.Equal(t, "answer", r.send(`{"type":"activity","id":2}`).next()["type"])
	third.until(t, status("online"))
	require.Equal(t, "answer", r.send(`{"type":"page","id":3,"page_hidden":false}`).next()["type"])
	require.Equal(t, "answer", r.send(`{"type":"idle","id":4}`).next()["type"])
	third.until(t, status("away"))
	requireProblem(t, "idle for ever", connect(t, s).send(`{"type":"hello","version":1,"token":"`+token+`","idle_for":-1}`).next(), "bad-field", "idle_for")
}

func TestExpiredTokenClosesTheLinkUnlessItIsRenewed(t *testing.T) {
	t.Parallel()
	policy := brisk()
	policy.ExpiryWarning = 900 * time.Millisecond
	s := start(t, policy)
	brief := func(user string) string {
		token, err := client.Token{User: user, Grants: wire.Grants{Rooms: []string{"basin.*"}}, TTL: 5 * time.Second}.Sign(secret)
		require.NoError(t, err)
		return token
	}
	renewed, expired := connect(t, s).hello(brief("ilse")), connect(t, s).hello(brief("tobin"))
	requireProblem(t, "another's", renewed.send(`{"type":"renew","id":1,"token":"`+mint(t, "tobin")+`"}`).next(), "bad-token", "token")
	require.Equal(t, "answer", renewed.send(`{"type":"renew","id":2,"token":"` + mint(t, "ilse") + `"}`).next()["type"])
	_, data, err := expired.conn.ReadMessage()
	require.NoError(t, err)
	require.Contains(t, string(data), `"type":"expiring"`)
	require.Equal(t, wire.CloseExpired, expired.closed())
	require.Equal(t, "answer", renewed.send(`{"type":"beat","id":3}`).next()["type"])
}

func TestDuplicatedTabAndHalfDeadLink(t *testing.T) {
	t.Parallel()
	policy := brisk()
	policy.Probe = 300 * time.Millisecond
	s := start(t, policy)
	options := client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}, Nonce: "one"}
	first := dial(t, options)
	options.Resume, options.Nonce = first.Resume(), "two"
	second := dial(t, options) // the first answers its probe
	require.Equal(t, "in-use", second.Opened().NotResumed)
	require.NotEqual(t, first.Opened().Session, second.Opened().Session)

	deaf := connect(t, s)
	token := mint(t, "tobin")
	deaf.send(`{"type":"hello","id":1,"version":1,"token":"` + token + `","nonce":"one"}`)
	opened := deaf.next()
	taker := dial(t, client.Options{Server: s.URL(), Token: token, Nonce: "two",
		Resume: &wire.Resume{Session: opened["session"].(string), ResumeKey: opened["resume_key"].(string)}})
	require.True(t, taker.Opened().Resumed, "nobody answered the probe")
	require.Equal(t, wire.CloseReplaced, deaf.closed())
}

func TestBadInputIsToldInWords(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	ilse := client.Token{User: "ilse", Grants: wire.Grants{Rooms: []string{"basin.*"}}}
	foreign, err := ilse.Sign("another secret that is long enough to be one")
	require.NoError(t, err)
	ilse.Issued = time.Now().Add(-2 * time.Hour)
	expired, err := ilse.Sign(secret)
	require.NoError(t, err)
	nobody, err := client.Token{}.Sign(secret)
	require.NoError(t, err)
	unsigned := "eyJhbGciOiJub25lIn0.eyJzdWIiOiJpbHNlIiwiZXhwIjo0MTAyNDQ0ODAwfQ."
	good := mint(t, "ilse")
	hello := func(rest string) string { return `{"type":"hello","id":7,"version":1` + rest + `}` }

	t.Run("before hello, which closes the link", func(t *testing.T) {
		for name, c := range map[string]struct{ frame, code, field string }{
			"not JSON":           {`hello?`, "not-json", ""},
			"an array":           {`[1]`, "not-json", ""},
			"null":               {`null`, "not-json", ""},
			"no type":            {`{"id":7}`, "no-type", "type"},
			"type of wrong kind": {`{"type":5}`, "bad-field", "type"},
			"unknown type":       {`{"type":"helo","id":7}`, "unknown-type", "type"},
			"request first":      {`{"type":"join","id":7,"room":"basin.a"}`, "hello-first", "type"},
			"no version":         {`{"type":"hello","id":7,"token":"` + good + `"}`, "wrong-version", "version"},
			"version 2":          {`{"type":"hello","id":7,"version":2,"token":"` + good + `"}`, "wrong-version", "version"},
			"version in words":   {`{"type":"hello","id":7,"version":"one"}`, "bad-field", "version"},
			"no token":           {hello(``), "no-token", "token"},
			"no JWT":             {hello(`,"token":"ilse"`), "bad-token", "token"},
			"another's token":    {hello(`,"token":"` + foreign + `"`), "bad-token", "token"},
			"unsigned token":     {hello(`,"token":"` + unsigned + `"`), "bad-token", "token"},
			"token of nobody":    {hello(`,"token":"` + nobody + `"`), "bad-token", "token"},
			"expired token":      {hello(`,"token":"` + expired + `"`), "expired-token", "token"},
			"wrong key":          {hello(`,"key":"guess"`), "bad-key", "key"},
			"token and key":      {hello(`,"key":"` + key + `","token":"` + good + `"`), "bad-field", "key"},
			"key with rooms":     {hello(`,"key":"` + key + `","rooms":["basin.a"]`), "watch-only", "key"},
			"malformed room":     {hello(`,"token":"` + good + `","rooms":["basin..a"]`), "bad-room", "room"},
			"room not granted":   {hello(`,"token":"` + good + `","rooms":["basin.a","desk.night"]`), "not-granted", "room"},
			"watch not granted":  {hello(`,"token":"` + good + `","watch":[{"room":"**"}]`), "not-granted", "room"},
			"unknown detail":     {hello(`,"token":"` + good + `","watch":[{"room":"basin.*","detail":"all"}]`), "bad-field", "detail"},
			"rooms no list":      {hello(`,"token":"` + good + `","rooms":"basin.a"`), "bad-field", "rooms"},
			"nonce too long":     {hello(`,"token":"` + good + `","nonce":"` + strings.Repeat("n", 65) + `"`), "bad-nonce", "nonce"},
			"bad id":             {`{"type":"hello","id":{"a":1}}`, "bad-field", "id"},
		} {
			r := connect(t, s).send(c.frame)
			requireProblem(t, name, r.next(), c.code, c.field)
			require.Equal(t, wire.CloseRefused, r.closed(), name)
		}
	})

	t.Run("after hello, which leaves it open", func(t *testing.T) {
		r := connect(t, s).hello(good)
		for name, c := range map[string]struct{ frame, code, field string }{
			"not JSON":          {`{`, "not-json", ""},
			"no type":           {`{"id":7}`, "no-type", "type"},
			"misspelt type":     {`{"type":"jion","id":7}`, "unknown-type", "type"},
			"second hello":      {hello(`,"token":"` + good + `"`), "second-hello", "type"},
			"no room":           {`{"type":"join","id":7}`, "bad-room", "room"},
			"malformed room":    {`{"type":"join","id":7,"room":"Basin Upper"}`, "bad-room", "room"},
			"room of no string": {`{"type":"join","id":7,"room":3}`, "bad-field", "room"},
			"room not granted":  {`{"type":"join","id":7,"room":"desk.night"}`, "not-granted", "room"},
			"not in the room":   {`{"type":"leave","id":7,"room":"basin.a"}`, "not-in-room", "room"},
			"not watching":      {`{"type":"unwatch","id":7,"room":"basin.a"}`, "not-watching", "room"},
			"bad pattern":       {`{"type":"watch","id":7,"room":"basin.**.a"}`, "bad-pattern", "room"},
			"wider than grants": {`{"type":"watch","id":7,"room":"basin.**"}`, "not-granted", "room"},
		} {
			requireProblem(t, name, r.send(c.frame).next(), c.code, c.field)
		}
		for i := range 64 {
			require.Equal(t, "answer", r.send(fmt.Sprintf(`{"type":"watch","id":7,"room":"basin.b%d"}`, i)).next()["type"])
		}
		requireProblem(t, "a 65th watch", r.send(`{"type":"watch","id":7,"room":"basin.c"}`).next(), "too-many-watches", "watch")
		require.Equal(t, "answer", r.send(`{"type":"beat","id":"still here"}`).next()["type"])
	})

	t.Run("a frame over 16 KB closes the link", func(t *testing.T) {
		r := connect(t, s).hello(good).send(`{"type":"beat","pad":"` + strings.Repeat("x", wire.MaxFrame) + `"}`)
		requireProblem(t, "too large", r.next(), "too-large", "")
		require.Equal(t, websocket.CloseMessageTooBig, r.closed())
	})

	t.Run("no hello in time", func(t *testing.T) {
		t.Parallel()
		r := connect(t, s)
		requireProblem(t, "nothing", r.next(), "hello-timeout", "")
		require.Equal(t, wire.CloseRefused, r.closed())
	})

	rooms, err := client.API{Server: s.URL(), Key: key}.Rooms(t.Context(), "**", "", 100)
	require.NoError(t, err)
	require.Empty(t, rooms.Rooms, "nothing refused has changed anything")
}

// requireProblem checks the code and field of an error frame, and that the service explains the
// code.
func requireProblem(t *testing.T, name string, frame map[string]any, code, field string) {
	t.Helper()
	require.Equal(t, code, frame["code"], "%s: %v", name, frame)
	require.NotEmpty(t, frame["detail"], name)
	require.Equal(t, "/problems/"+code, frame["help"], name)
	got, _ := frame["field"].(string)
	require.Equal(t, field, got, name)
	_, explained := wire.ProblemTypeOf(code)
	require.True(t, explained, "%s is explained", code)
}

// TestAnErrorOfTheClientSaysAll reads errors as a developer finds them in a log.
func TestAnErrorOfTheClientSaysAll(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	link := dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}})
	require.ErrorContains(t, link.Join(t.Context(), "basin..weir"), `malformed room name: room is "basin..weir"; allowed: 1 to 128 bytes`)
	require.ErrorContains(t, link.Watch(t.Context(), "", ""), "the watch names neither a room nor people; allowed: room")
	require.ErrorContains(t, link.WatchPeople(t.Context()), "the watch names neither a room nor people")
	require.ErrorContains(t, link.Unwatch(t.Context(), ""), "the unwatch names neither a room nor people")
	link.Close()
	require.EqualError(t, link.Activity(t.Context()), "the link is closed: by this client")

	for server, says := range map[string]string{"": "http://HOST:PORT", "127.0.0.1:1": "http://HOST:PORT", s.URL() + "/v2": "nothing is served at /v2/v1/policies"} {
		_, err := client.API{Server: server, Key: key}.Policies(t.Context(), "")
		require.ErrorContains(t, err, says)
	}
	_, err := client.API{Server: s.URL() + "/", Key: key}.Policies(t.Context(), "")
	require.NoError(t, err)
	_, err = client.API{Server: s.URL(), Key: key}.SetStatus(t.Context(), "ilse", wire.StatusWanted{Status: "gone"})
	require.ErrorContains(t, err, `malformed status: status is "gone"; allowed: busy, away`)
	_, err = client.API{Server: s.URL(), Key: key}.SetStatus(t.Context(), "ilse", wire.StatusWanted{Status: "\"\nforged"})
	require.ErrorContains(t, err, `status is "\"\nforged"`, "a value makes no line of a log")
}

func TestHelloIsAppliedWholeOrRefusedWhole(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	link := dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}, Nonce: "n"})
	_, err := client.Dial(t.Context(), client.Options{Server: s.URL(), Token: mint(t, "ilse"), Nonce: "n", AllOrNothing: true,
		Resume: link.Resume(), Rooms: []string{"basin.fen-end", "desk.night"}})
	var problem *wire.Problem
	require.ErrorAs(t, err, &problem)
	require.Equal(t, "not-granted", problem.Code)
	require.NoError(t, link.Join(t.Context(), weir), "the link that was to be taken over stands")
	rooms, err := client.API{Server: s.URL(), Key: key}.Rooms(t.Context(), "**", "", 100)
	require.NoError(t, err)
	require.Equal(t, []wire.Room{{Room: weir, Count: online(1, 1)}}, rooms.Rooms)
}

func TestNobodyReadsAnothersFrames(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	// Links come and go while others stay; each must get only its own answers.
	for round := range 50 {
		r := connect(t, s).hello(mint(t, fmt.Sprint("w-", round)))
		for i := range 3 {
			id := fmt.Sprintf("%d-%d", round, i)
			frame := r.send(`{"type":"beat","id":"` + id + `"}`).next()
			require.Equal(t, id, frame["re"])
		}
		if round%2 == 0 {
			_ = r.conn.Close()
		}
	}
}

func TestStopClosesLinksAndRefusesNewOnes(t *testing.T) {
	t.Parallel()
	s, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key})
	require.NoError(t, err)
	open := connect(t, s).hello(mint(t, "ilse"))
	stuck := connect(t, s) // has not even said hello
	done := make(chan struct{})
	go func() {
		defer close(done)
		require.Equal(t, websocket.CloseServiceRestart, open.closed())
		require.Equal(t, websocket.CloseServiceRestart, stuck.closed())
		_ = open.conn.Close()
		_ = stuck.conn.Close()
	}()
	require.NoError(t, s.Stop())
	<-done
	_, _, err = websocket.DefaultDialer.Dial(strings.Replace(s.URL(), "http", "ws", 1)+"/v1/link", nil)
	require.Error(t, err)
}

func TestErrorsOfTheCoreAreExplained(t *testing.T) {
	for _, code := range presence.Codes {
		_, ok := wire.ProblemTypeOf(string(code))
		require.True(t, ok, code)
	}
}
