package server_test

import (
	"context"
	"fmt"
	"iter"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/wire"
)

// heard buffers the events of a link. It drops events when it is full, so that a failed test
// does not block its links.
func heard[F any](size int) (chan F, func(F)) {
	c := make(chan F, size)
	return c, func(f F) {
		select {
		case c <- f:
		default:
		}
	}
}

func await[F any](t *testing.T, c chan F, is func(F) bool) F {
	t.Helper()
	timeout := time.After(patience)
	for {
		select {
		case f := <-c:
			if is(f) {
				return f
			}
		case <-timeout:
			t.Fatal("it never came")
		}
	}
}

// mintAll mints a token that grants everything in the rooms of basins, and watching of some.
func mintAll(t *testing.T, user string, people ...string) string {
	t.Helper()
	basins := []string{"basin.*"}
	token, err := client.Token{User: user, Grants: wire.Grants{Rooms: basins, Cue: basins, People: people, Hide: true}}.Sign(secret)
	require.NoError(t, err)
	return token
}

func TestPeopleAreWatchedWithStatusAndLastSeen(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	people, onPerson := heard[wire.PersonFrame](2000)
	watcher := dial(t, client.Options{Server: s.URL(), Token: mintAll(t, "hanne", "w-*", "tobin"), OnPerson: onPerson})
	require.NoError(t, watcher.WatchPeople(t.Context(), "tobin", "w-1"))
	first, second := <-people, <-people
	require.Equal(t, "offline", first.Status)
	require.Equal(t, "offline", second.Status)
	require.Nil(t, first.LastSeen, "never seen since the service began")

	link := dial(t, client.Options{Server: s.URL(), Token: mint(t, "tobin"), Rooms: []string{weir}})
	await(t, people, func(p wire.PersonFrame) bool { return p.User == "tobin" && p.Status == "online" })
	require.NoError(t, link.SetStatus(t.Context(), "busy", "at the sluice", time.Time{}))
	await(t, people, func(p wire.PersonFrame) bool { return p.Status == "busy" && p.Note == "at the sluice" })
	require.NoError(t, link.SetStatus(t.Context(), "", "", time.Time{}))
	require.NoError(t, link.Bye(t.Context()))
	gone := await(t, people, func(p wire.PersonFrame) bool { return p.Status == "offline" })
	require.WithinDuration(t, time.Now(), gone.LastSeen.Time, patience)
	require.NoError(t, watcher.WatchPeople(t.Context(), "tobin"), "again, to be told once more")
	require.Equal(t, gone.LastSeen, await(t, people, func(p wire.PersonFrame) bool { return p.User == "tobin" }).LastSeen)

	var problem *wire.Problem
	require.ErrorAs(t, watcher.WatchPeople(t.Context(), "ilse"), &problem)
	require.Equal(t, "not-granted", problem.Code)
	many := make([]string, 1000)
	for i := range many {
		many[i] = fmt.Sprint("w-", i)
	}
	require.ErrorAs(t, watcher.WatchPeople(t.Context(), many...), &problem)
	require.Equal(t, "too-many-watches", problem.Code, "tobin is the 1001st")
	require.NoError(t, watcher.WatchPeople(t.Context(), many[:999]...))
	for seen := map[string]bool{}; len(seen) < 999; {
		seen[await(t, people, func(wire.PersonFrame) bool { return true }).User] = true
	}
}

func TestTakingPartQuietly(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	third := watch(t, s)
	t.Run("in a room without following it", func(t *testing.T) {
		quiet := dial(t, client.Options{Server: s.URL(), Token: mint(t, "tobin"), Rooms: []string{weir}, Detail: wire.DetailNone,
			OnEvent: func(e client.Event) { t.Errorf("told of %+v", e) }})
		third.until(t, joined("tobin"))
		require.NoError(t, quiet.Bye(t.Context()))
		third.until(t, left("tobin"))
	})
	t.Run("following without being there", func(t *testing.T) {
		people, onPerson := heard[wire.PersonFrame](10)
		watcher := dial(t, client.Options{Server: s.URL(), Token: mintAll(t, "ilse", "hanne"), OnPerson: onPerson})
		require.NoError(t, watcher.WatchPeople(t.Context(), "hanne"))
		require.Equal(t, "offline", (<-people).Status)
		events, onEvent := heard[client.Event](10)
		only := dial(t, client.Options{Server: s.URL(), Token: mint(t, "hanne"), WatchOnly: true, Watch: []wire.Watch{{Room: weir}}, OnEvent: onEvent})
		require.True(t, (<-events).Whole)
		require.Empty(t, only.Opened().Session)
		var problem *wire.Problem
		require.ErrorAs(t, only.Join(t.Context(), weir), &problem)
		require.Equal(t, "watch-only", problem.Code)
		dial(t, client.Options{Server: s.URL(), Token: mint(t, "corin"), Rooms: []string{weir}})
		await(t, events, joined("corin"))
		require.Empty(t, people, "she was never there")
	})
}

func TestWhoHidesIsSeenByOperatorsOnly(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	third := watch(t, s) // an operator
	events, onEvent := heard[client.Event](10)
	other := dial(t, client.Options{Server: s.URL(), Token: mintAll(t, "hanne"), Rooms: []string{weir}, OnEvent: onEvent})
	ilse := dial(t, client.Options{Server: s.URL(), Token: mintAll(t, "ilse"), Rooms: []string{weir}})
	await(t, events, joined("ilse"))
	require.NoError(t, ilse.Hide(t.Context(), true))
	require.Equal(t, "leave", await(t, events, left("ilse")).Left[0].Reason)
	third.until(t, joined("ilse"))

	var problem *wire.Problem
	_, err := ilse.Cue(t.Context(), wire.Request{Room: weir, Name: "wave"})
	require.ErrorAs(t, err, &problem)
	require.Equal(t, "hiding", problem.Code, "a cue would show her")
	require.NoError(t, ilse.Typing(t.Context(), weir, true))
	again := dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}})
	require.Equal(t, &wire.Own{Hiding: true}, again.Opened().Own, "and it goes for all her sessions")
	require.ErrorAs(t, again.Hide(t.Context(), true), &problem)
	require.Equal(t, "not-granted", problem.Code)
	require.NoError(t, again.Hide(t.Context(), false), "everybody may show themselves")
	back := await(t, events, func(client.Event) bool { return true })
	require.Len(t, back.Joined, 1, "nothing else was told")
	require.Equal(t, 2, back.Joined[0].Sessions)
	require.NoError(t, other.Bye(t.Context()))
}

func TestSignOutEndsEverySession(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	third := watch(t, s)
	one := dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}})
	two := dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}})
	third.until(t, joined("ilse"))
	require.NoError(t, one.SignOut(t.Context()))
	third.until(t, left("ilse"))
	<-two.Ended()
	var closed *websocket.CloseError
	require.ErrorAs(t, two.Err(), &closed)
	require.Equal(t, wire.CloseEnded, closed.Code)
	require.ErrorIs(t, two.Err(), client.ErrEnded)
}

func TestASessionIsExplainedToWhoHasItsKey(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	network := &cable{}
	link := dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}, NetDial: network.dial})
	api := client.API{Server: s.URL(), Key: link.Resume().ResumeKey}
	session, err := api.Session(t.Context(), link.Resume().Session)
	require.NoError(t, err)
	require.Equal(t, "live", session.State)
	require.Equal(t, []string{weir}, session.Rooms)
	require.NoError(t, network.conn.Close())
	require.Eventually(t, func() bool {
		session, err = api.Session(t.Context(), link.Resume().Session)
		return err == nil && session.State == "grace"
	}, patience, 10*time.Millisecond)
	require.Equal(t, "lost", session.Reason)
	require.Equal(t, "end-grace", session.Next[0].Act)
	require.Equal(t, 10*time.Second, session.Next[0].At.Sub(session.LostAt.Time))

	guessed, err := client.API{Server: s.URL(), Key: "guess"}.Session(t.Context(), link.Resume().Session)
	require.NoError(t, err)
	require.Equal(t, wire.Session{Session: link.Resume().Session, State: "ended"}, guessed, "a guess is told nothing")
	_, err = client.API{Server: s.URL()}.Session(t.Context(), link.Resume().Session)
	require.ErrorContains(t, err, "the request has no resume key")
	_, err = client.API{Server: s.URL(), Key: mint(t, "ilse")}.Session(t.Context(), link.Resume().Session)
	require.ErrorContains(t, err, "a person's token was sent")
}

func TestAFollowerGoesOnOverLostLinks(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	network := &cable{}
	var tokens int
	f := client.Follow(client.Options{Server: s.URL(), Rooms: []string{weir}, NetDial: network.dial,
		NewToken: func(context.Context) (string, error) { tokens++; return mint(t, "ilse"), nil }})
	third := watch(t, s)
	var told []string
	for change, err := range f.Changes(t.Context()) {
		require.NoError(t, err)
		switch c := change.(type) {
		case client.Linked:
			told = append(told, fmt.Sprint("linked, resumed: ", c.Opened.Resumed))
		case client.Lost:
			told = append(told, "lost")
			require.Len(t, f.Members(weir), 1, "what was known stays")
			dial(t, client.Options{Server: s.URL(), Token: mint(t, "tobin"), Rooms: []string{weir}})
		case client.Event:
			told = append(told, fmt.Sprint(f.Count(weir).People, " people, ", len(f.Members(weir)), " known"))
			require.NoError(t, network.conn.Close())
		}
		if len(f.Members(weir)) == 2 {
			break
		}
	}
	require.Equal(t, []string{"linked, resumed: false", "1 people, 1 known", "lost", "linked, resumed: true", "2 people, 2 known"}, told)
	require.Equal(t, 2, tokens)
	third.until(t, joined("tobin"))
	for _, e := range third.rest() {
		require.Empty(t, e.Left)
	}

	refused := client.Follow(client.Options{Server: s.URL(), Key: "guess"})
	for _, err := range refused.Changes(t.Context()) {
		var problem *wire.Problem
		require.ErrorAs(t, err, &problem)
		require.Equal(t, "bad-key", problem.Code)
	}
}

// mute forwards the handshake and nothing after it.
type mute struct {
	net.Conn
	writes int
}

func (m *mute) Write(data []byte) (int, error) {
	if m.writes++; m.writes > 1 {
		return len(data), nil
	}
	return m.Conn.Write(data)
}

// TestAFollowerWhoseHelloCameTooLateComesAgain simulates a machine that slept between the
// handshake and the hello.
func TestAFollowerWhoseHelloCameTooLateComesAgain(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	dials := 0
	f := client.Follow(client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir},
		NetDial: func(ctx context.Context, network, address string) (net.Conn, error) {
			conn, err := new(net.Dialer).DialContext(ctx, network, address)
			if dials++; dials == 1 {
				return &mute{Conn: conn}, err
			}
			return conn, err
		}})
	var told []string
	for change, err := range f.Changes(t.Context()) {
		require.NoError(t, err)
		switch c := change.(type) {
		case client.Lost:
			var problem *wire.Problem
			require.ErrorAs(t, c.Err, &problem)
			told = append(told, problem.Code)
		case client.Linked:
			told = append(told, "linked")
		}
		if len(told) == 2 {
			break
		}
	}
	require.Equal(t, []string{wire.CodeHelloTimeout, "linked"}, told)
}

func TestTypingIsToldAsASetAndEndsByItself(t *testing.T) {
	t.Parallel()
	policy := brisk()
	policy.TypingExpires = 700 * time.Millisecond
	s := start(t, policy)
	typing, onTyping := heard[wire.TypingFrame](100)
	third := dial(t, client.Options{Server: s.URL(), Token: mint(t, "hanne"), Rooms: []string{weir}, OnTyping: onTyping})
	one := dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}})
	two := dial(t, client.Options{Server: s.URL(), Token: mint(t, "tobin"), Rooms: []string{weir}})
	is := func(users ...string) func(wire.TypingFrame) bool {
		return func(f wire.TypingFrame) bool { return fmt.Sprint(f.Users) == fmt.Sprint(users) }
	}
	require.NoError(t, one.Typing(t.Context(), weir, true))
	await(t, typing, is("ilse"))
	require.NoError(t, two.Typing(t.Context(), weir, true))
	await(t, typing, is("ilse", "tobin"))
	require.NoError(t, one.Typing(t.Context(), weir, false))
	await(t, typing, is("tobin"))
	await(t, typing, is()) // nobody said so
	require.NoError(t, third.Typing(t.Context(), weir, true))
	late := make(chan wire.TypingFrame, 10)
	dial(t, client.Options{Server: s.URL(), Token: mint(t, "corin"), Rooms: []string{weir}, OnTyping: func(f wire.TypingFrame) { late <- f }})
	await(t, late, is("hanne")) // who comes later is told
}

func TestCuesGoToThoseTheyAreForAndNobodyElse(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	cues := map[string]chan wire.CueFrame{}
	links := map[string]*client.Link{}
	for user, room := range map[string]string{"ilse": weir, "tobin": weir, "hanne": "basin.fen-end"} {
		c, onCue := heard[wire.CueFrame](10)
		cues[user] = c
		links[user] = dial(t, client.Options{Server: s.URL(), Token: mintAll(t, user), Rooms: []string{room}, OnCue: onCue})
	}
	give := func(from string, cue wire.Request) (int, error) {
		cue.Name = "wave"
		return links[from].Cue(t.Context(), cue)
	}
	reached, err := give("ilse", wire.Request{Room: weir, Data: []byte(`{"hand":"left"}`)})
	require.NoError(t, err)
	require.Equal(t, 1, reached)
	got := <-cues["tobin"]
	require.Equal(t, &wire.Sender{User: "ilse", Session: links["ilse"].Opened().Session}, got.From)
	require.JSONEq(t, `{"hand":"left"}`, string(got.Data))
	reached, err = give("ilse", wire.Request{Room: weir, Everyone: true})
	require.NoError(t, err)
	require.Equal(t, 2, reached)
	<-cues["tobin"]
	<-cues["ilse"]
	reached, err = give("ilse", wire.Request{User: "tobin"})
	require.NoError(t, err)
	require.Equal(t, 1, reached)
	<-cues["tobin"]
	reached, err = give("tobin", wire.Request{Session: links["ilse"].Opened().Session})
	require.NoError(t, err)
	require.Equal(t, 1, reached)
	<-cues["ilse"]

	// The back end can cue anybody; its cues have no sender.
	api := client.API{Server: s.URL(), Key: key}
	given, err := api.CueRoom(t.Context(), weir, wire.NewCue{Name: "drill", Data: []byte(`1`)})
	require.NoError(t, err)
	require.Equal(t, 2, given.Links)
	got = <-cues["tobin"]
	require.Nil(t, got.From)
	require.Equal(t, weir, got.Room)
	<-cues["ilse"]
	given, err = api.CuePerson(t.Context(), "hanne", wire.NewCue{Name: "drill"})
	require.NoError(t, err)
	require.Equal(t, 1, given.Links)
	<-cues["hanne"]
	given, err = api.CueSession(t.Context(), links["hanne"].Opened().Session, wire.NewCue{Name: "drill"})
	require.NoError(t, err)
	require.Equal(t, 1, given.Links)
	<-cues["hanne"]

	for name, c := range map[string]struct {
		cue  wire.Request
		code string
	}{
		"somebody in no room with the sender": {wire.Request{User: "hanne"}, "not-granted"},
		"nobody":                              {wire.Request{User: "nobody"}, "not-granted"},
		"a session that is not there":         {wire.Request{Session: "s-none"}, "not-granted"},
		"a room not granted":                  {wire.Request{Room: "desk.night"}, "not-granted"},
		"a room that the sender is not in":    {wire.Request{Room: "basin.fen-end"}, "not-in-room"},
		"to no one":                           {wire.Request{}, "bad-field"},
		"to two":                              {wire.Request{Room: weir, User: "tobin"}, "bad-field"},
		"too much":                            {wire.Request{Room: weir, Data: []byte(`"` + strings.Repeat("x", 4096) + `"`)}, "bad-field"},
	} {
		_, err := give("ilse", c.cue)
		var problem *wire.Problem
		require.ErrorAs(t, err, &problem, name)
		require.Equal(t, c.code, problem.Code, name)
	}
	var problem *wire.Problem
	for err = nil; err == nil; {
		_, err = give("tobin", wire.Request{Room: weir})
	}
	require.ErrorAs(t, err, &problem)
	require.Equal(t, "too-fast", problem.Code)
	require.Empty(t, cues["hanne"])
}

func TestLargeRoomsComeInPagesOfOneRevision(t *testing.T) {
	t.Parallel()
	policy := brisk()
	policy.MembersMax, policy.CountEvery = 20, 50*time.Millisecond
	s := start(t, policy)
	events, onEvent := heard[client.Event](1000)
	watcher := dial(t, client.Options{Server: s.URL(), Token: mint(t, "hanne"), Watch: []wire.Watch{{Room: weir}}, OnEvent: onEvent})
	people := make([]*client.Link, 30)
	for i := range people {
		people[i] = dial(t, client.Options{Server: s.URL(), Token: mint(t, fmt.Sprintf("w-%02d", i)), Rooms: []string{weir}, Detail: wire.DetailNone})
	}
	await(t, events, func(e client.Event) bool { return e.Count.People == 30 })
	page, err := watcher.Members(t.Context(), weir, "", "", 12)
	require.NoError(t, err)
	require.Len(t, page.Members, 12)
	require.Equal(t, "w-11", page.Next)
	require.NoError(t, people[12].Bye(t.Context())) // between two pages
	await(t, events, func(e client.Event) bool { return e.Count.People == 29 })
	second, err := watcher.Members(t.Context(), weir, page.Rev, page.Next, 100)
	require.NoError(t, err)
	require.Equal(t, page.Rev, second.Rev)
	require.Len(t, second.Members, page.Count.People-12, "as it was at that revision")
	require.Equal(t, "w-12", second.Members[0].User)
	require.Empty(t, second.Next)
	_, err = watcher.Members(t.Context(), weir, "OTHER.1", "", 10)
	var problem *wire.Problem
	require.ErrorAs(t, err, &problem)
	require.Equal(t, "old-revision", problem.Code)

	for _, link := range people[13:29] { // back to a size that is told one by one
		require.NoError(t, link.Bye(t.Context()))
	}
	whole := await(t, events, func(e client.Event) bool { return e.Whole && e.Count.People <= 18 })
	require.NotEmpty(t, whole.Rev)
	require.NoError(t, people[0].Bye(t.Context()))
	await(t, events, left("w-00"))
}

// TestLongFramesAreCompressedOnRequest follows a room with and without compression. The lists are equal, and one takes
// fewer bytes.
func TestLongFramesAreCompressedOnRequest(t *testing.T) {
	t.Parallel()
	s := start(t, brisk())
	const people = 60
	for i := range people {
		dial(t, client.Options{Server: s.URL(), Token: mint(t, fmt.Sprintf("w-%02d", i)), Rooms: []string{weir}, Detail: wire.DetailNone})
	}
	follow := func(compress bool) (snapshot client.Event, bytes int64) {
		var read atomic.Int64
		events, onEvent := heard[client.Event](100)
		link := dial(t, client.Options{Server: s.URL(), Token: mint(t, "hanne"), Watch: []wire.Watch{{Room: weir}}, OnEvent: onEvent, WatchOnly: true, Compress: compress,
			NetDial: func(ctx context.Context, network, address string) (net.Conn, error) {
				c, err := new(net.Dialer).DialContext(ctx, network, address)
				return countingConn{c, &read}, err
			}})
		snapshot = await(t, events, func(e client.Event) bool { return e.Count.People == people })
		require.NoError(t, link.Bye(t.Context()))
		return snapshot, read.Load()
	}
	plain, most := follow(false)
	compressed, least := follow(true)
	require.Len(t, plain.Joined, people)
	require.Equal(t, plain.Joined, compressed.Joined)
	require.Less(t, least, most/3)
}

// countingConn counts what is read.
type countingConn struct {
	net.Conn
	read *atomic.Int64
}

func (c countingConn) Read(to []byte) (int, error) {
	n, err := c.Conn.Read(to)
	c.read.Add(int64(n))
	return n, err
}

func TestAReturningLinkSaysWhatItHas(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	events, onEvent := heard[client.Event](100)
	options := client.Options{Server: s.URL(), Token: mint(t, "hanne"), Nonce: "n", Rooms: []string{weir}, OnEvent: onEvent}
	link := dial(t, options)
	require.True(t, (<-events).Whole)
	other := dial(t, client.Options{Server: s.URL(), Token: mint(t, "tobin"), Rooms: []string{weir}})
	await(t, events, joined("tobin"))

	again := func() map[string]string {
		link.Close()
		options.After, options.Resume = link, link.Resume()
		link = dial(t, options)
		return link.Opened().Revs
	}
	require.Equal(t, map[string]string{weir: "current"}, again())
	link.Close()
	require.NoError(t, other.Bye(t.Context()))
	require.Eventually(t, func() bool {
		count, err := client.API{Server: s.URL(), Key: key}.Count(t.Context(), weir)
		return err == nil && count.People == 1
	}, patience, 10*time.Millisecond)
	require.Empty(t, events)
	time.Sleep(50 * time.Millisecond) // so that it is sealed
	require.Equal(t, map[string]string{weir: "changes"}, again())
	require.False(t, await(t, events, left("tobin")).Whole)

	for i := range 40 { // more than the service keeps
		link.Close()
		dial(t, client.Options{Server: s.URL(), Token: mint(t, fmt.Sprint("w-", i)), Rooms: []string{weir}, Detail: wire.DetailNone})
		time.Sleep(25 * time.Millisecond)
	}
	require.Equal(t, map[string]string{weir: "snapshot"}, again())
	await(t, events, func(e client.Event) bool { return e.Whole })
}

func TestFramesThatComeTooFastAreToldOfAndThenClosed(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	r := connect(t, s).hello(mint(t, "ilse"))
	go func() {
		for range 5000 {
			if r.conn.WriteMessage(websocket.TextMessage, []byte(`{"type":"beat"}`)) != nil {
				return
			}
		}
	}()
	requireProblem(t, "too fast", r.next(), "too-fast", "")
	require.Equal(t, wire.CloseTooFast, r.closed())
}

func TestBrokenWebSocketsAreClosedWithTheCodeForIt(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	for name, c := range map[string]struct {
		bytes []byte
		code  int
	}{
		"an unmasked frame":        {[]byte{0x81, 2, '{', '}'}, websocket.CloseProtocolError},
		"a reserved opcode":        {[]byte{0x83, 0x80, 0, 0, 0, 0}, websocket.CloseProtocolError},
		"a continuation of none":   {[]byte{0x80, 0x80, 0, 0, 0, 0}, websocket.CloseProtocolError},
		"a compressed frame":       {[]byte{0xc1, 0x80, 0, 0, 0, 0}, websocket.CloseProtocolError},
		"no UTF-8":                 {[]byte{0x81, 0x81, 0, 0, 0, 0, 0xff}, websocket.CloseInvalidFramePayloadData},
		"a length of 2^62":         {[]byte{0x81, 0xff, 0x40, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}, websocket.CloseMessageTooBig},
		"fragments without end":    {append([]byte{0x01, 0xfe, 0x3f, 0xff, 0, 0, 0, 0}, make([]byte, 0x3fff+8)...), websocket.CloseProtocolError},
		"a control frame in parts": {[]byte{0x09, 0x80, 0, 0, 0, 0}, websocket.CloseProtocolError},
	} {
		r := connect(t, s)
		_, err := r.conn.NetConn().Write(c.bytes)
		require.NoError(t, err)
		require.Equal(t, c.code, r.closed(), name)
	}
	// Valid: a fragmented message with a ping in between, byte by byte.
	r := connect(t, s)
	pong := make(chan string, 1)
	r.conn.SetPongHandler(func(data string) error { pong <- data; return nil })
	text := `{"type":"hello","id":"h","version":1,"token":"` + mint(t, "ilse") + `"}`
	frame := func(first byte, payload string) []byte {
		head := []byte{first, 0x80 | byte(len(payload)), 0, 0, 0, 0}
		if len(payload) > 125 {
			head = []byte{first, 0xfe, byte(len(payload) >> 8), byte(len(payload)), 0, 0, 0, 0}
		}
		return append(head, payload...)
	}
	bytes := append(frame(0x01, text[:10]), frame(0x89, "hm")...)
	bytes = append(bytes, frame(0x80, text[10:])...)
	for i := range bytes {
		_, err := r.conn.NetConn().Write(bytes[i : i+1])
		require.NoError(t, err)
	}
	require.Equal(t, "answer", r.next()["type"])
	require.Equal(t, "hm", <-pong)
}

// TestALinkWithoutAPlaceIsToldWhenToComeBack has a service with five places for links that have not said hello.
func TestALinkWithoutAPlaceIsToldWhenToComeBack(t *testing.T) {
	t.Parallel()
	const places = 5
	s := startWith(t, limits(100, 100, places))
	var silent *raw
	for range places {
		silent = connect(t, s)
		counted(t, silent.conn)
	}
	for range 3 {
		r := connect(t, s)
		r.send(`{"type":"hello","id":1,"version":1,"token":"` + mint(t, "ilse") + `"}`)
		var moving wire.Moving
		require.NoError(t, r.conn.ReadJSON(&moving))
		require.Equal(t, wire.TypeMoving, moving.Type)
		require.Positive(t, moving.After)
		require.Equal(t, websocket.CloseTryAgainLater, r.closed())
	}
	moving := make(chan time.Duration, 1)
	_, err := client.Dial(t.Context(), client.Options{Server: s.URL(), Token: mint(t, "ilse"), OnMoving: func(after time.Duration) { moving <- after }})
	require.ErrorContains(t, err, "no place for another link")
	require.Positive(t, <-moving)
	follow(t, s, "/v1/feed?room="+weir, mint(t, "tobin"), "").until("snapshot") // it says hello as it opens
	_ = silent.conn.Close()
	changes, stop := iter.Pull2(client.Follow(client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}}).Changes(t.Context()))
	defer stop()
	for {
		change, err, more := changes()
		require.True(t, more)
		require.NoError(t, err)
		if _, open := change.(client.Event); open {
			return
		}
	}
}

func TestLinksOfAnAddressAndOfAPersonAreLimited(t *testing.T) {
	t.Parallel()
	s := startWith(t, limits(3, 2, 2))
	one := connect(t, s).hello(mint(t, "ilse"))
	connect(t, s).hello(mint(t, "ilse"))
	third := connect(t, s)
	requireProblem(t, "a third link of one person", third.send(`{"type":"hello","version":1,"token":"`+mint(t, "ilse")+`"}`).next(), "too-many-links", "user")
	require.Equal(t, wire.CloseRefused, third.closed())
	_ = third.conn.Close()
	refused := func() (*http.Response, bool) {
		conn, response, err := websocket.DefaultDialer.Dial(strings.Replace(s.URL(), "http", "ws", 1)+"/v1/link", nil)
		if err == nil {
			t.Cleanup(func() { _ = conn.Close() })
		}
		return response, err != nil
	}
	require.Eventually(t, func() bool { // one link more of the address, when the third is gone
		_, no := refused()
		return !no
	}, patience, 10*time.Millisecond)
	var response *http.Response
	require.Eventually(t, func() bool {
		var no bool
		response, no = refused()
		return no
	}, patience, 10*time.Millisecond)
	require.Equal(t, http.StatusTooManyRequests, response.StatusCode)
	require.Equal(t, "1", response.Header.Get("Retry-After"))
	require.Equal(t, "answer", one.send(`{"type":"beat","id":1}`).next()["type"])
}
