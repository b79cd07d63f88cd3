package gateway

import (
	"encoding/json"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/engine/enginetest"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/transport"
	"tovik.example/tovik/wire"
)

const (
	tokenSecret = "the secret of a gateway that lives for one test"
	desk        = "desk.night"
)

// gatewayOf returns a gateway with the main realm, without a server.
func gatewayOf(t *testing.T) (*Gateway, realm.Desk) {
	t.Helper()
	store, err := records.Open(records.Memory)
	require.NoError(t, err)
	keys, err := access.NewKeyring(store, tokenSecret, "own")
	require.NoError(t, err)
	writer, err := records.NewWriter(records.WriterOptions{Store: store})
	require.NoError(t, err)
	policy := presence.DefaultPolicy()
	realms := realm.NewRealms(realm.RealmsOptions{Keys: keys, Guard: new(access.Guard), Store: store, Writer: writer})
	g := New(Options{Realms: realms})
	main, err := realm.Open(realm.Options{Name: access.Main, Policy: &policy, Links: g, Store: store, Writer: writer})
	require.NoError(t, err)
	realms.Add(main)
	t.Cleanup(func() {
		g.Close()
		main.Close()
		require.NoError(t, store.Close())
	})
	return g, main.Desk(access.Operator{Realm: access.Main, Role: access.Read})
}

func tokenFor(t *testing.T, user string) string {
	t.Helper()
	token, err := client.Token{User: user, Grants: wire.Grants{Rooms: []string{"**"}}}.Sign(tokenSecret)
	require.NoError(t, err)
	return token
}

// TestNobodyPostsToAStreamWithoutItsKey posts after the hello of a stream and before its
// connection, when others can already see its session.
func TestNobodyPostsToAStreamWithoutItsKey(t *testing.T) {
	g, operator := gatewayOf(t)
	near, far := net.Pipe()
	t.Cleanup(func() { _, _ = near.Close(), far.Close() })
	_, err := g.Feed(near, FeedRequest{Bearer: tokenFor(t, "ilse"), Hello: wire.Hello{Rooms: []string{desk}}}) // and it never begins
	require.NoError(t, err)
	inDesk := func() []wire.Session {
		seen, err := operator.Sessions(desk, "", 10)
		require.NoError(t, err)
		return seen.Sessions
	}
	seen := inDesk()
	require.Len(t, seen, 1)
	session, number := seen[0].Session, seen[0].Link
	leave := []byte(`{"type":"leave","id":1,"room":"` + desk + `"}`)
	for _, key := range []string{"", "a guess"} {
		_, err = g.Post(t.Context(), PostRequest{Session: session, Link: number, Key: key, Frame: leave})
		var problem *wire.Problem
		require.ErrorAs(t, err, &problem)
		require.Equal(t, wire.CodeNoLink, problem.Code)
	}
	require.Len(t, inDesk(), 1, "nobody has left the room")
	right := g.carrier(presence.LinkID{Session: presence.SessionID(session), Number: presence.LinkNumber(number)}).kind.(*eventStream).key
	require.NotEmpty(t, right)
	_, err = g.Post(t.Context(), PostRequest{Session: session, Link: number, Key: right, Frame: leave})
	require.NoError(t, err)
	require.Empty(t, inDesk())
}

// TestAGatewayCarriesOutOrders checks the orders of a core for a WebSocket.
func TestAGatewayCarriesOutOrders(t *testing.T) {
	g, _ := gatewayOf(t)
	n := 0
	enginetest.CheckLinks(t, func(t *testing.T) (engine.Links, presence.LinkID, func() []string) {
		n++
		s, c := begin(t, g, fmt.Sprint("w-", n))
		id := greet(t, s, c).Link
		return g, id, func() (told []string) {
			for _, out := range s.outbox[1:] { // after the answer to the hello
				var frame struct{ Type, Room string }
				require.NoError(t, json.Unmarshal(out.frame, &frame))
				told = append(told, strings.TrimSpace(strings.Replace(frame.Type, "dropped", "out of", 1)+" "+frame.Room))
			}
			if s.ending != nil {
				told = append(told, "cut")
				s.letGo()
				g.remove(&s.link)
			}
			return told
		}
	})
}

// TestALinkIsFoundAfterItsSessionHasANewerOne cuts a link late, when its session already has a newer one.
func TestALinkIsFoundAfterItsSessionHasANewerOne(t *testing.T) {
	g, _ := gatewayOf(t)
	old, c := beginWith(t, g, wire.Hello{Token: tokenFor(t, "ilse"), Nonce: "page"})
	opened := greet(t, old, c)
	first := opened.Link
	newer, c := beginWith(t, g, wire.Hello{Token: tokenFor(t, "ilse"), Nonce: "page", Resume: &wire.Resume{Session: string(first.Session), ResumeKey: opened.Key}})
	second := greet(t, newer, c).Link
	require.Equal(t, presence.LinkID{Session: first.Session, Number: first.Number + 1}, second)

	old.ending = nil
	g.Cut(presence.Cut{Link: first, Reason: presence.ReasonReplaced})
	require.Equal(t, &realm.End{Code: wire.CloseReplaced, Reason: "replaced"}, old.ending)
	require.Nil(t, newer.ending)
	old.letGo()
	g.remove(&old.link)
	require.True(t, g.Offer(second, []byte("{}")), "the end of the older link leaves the newer one")
	newer.letGo()
	g.remove(&newer.link)
	require.Empty(t, g.carriers)
}

// begin returns a link whose hello is under way. It has no connection, so its frames stay in the
// outbox.
func begin(t *testing.T, g *Gateway, user string) (*webSocket, *realm.Greeting) {
	t.Helper()
	return beginWith(t, g, wire.Hello{Token: tokenFor(t, user), Rooms: []string{desk, "basin.upper-weir"}, Watch: []wire.Watch{{Room: "sluice.mill-lane"}}})
}

func beginWith(t *testing.T, g *Gateway, hello wire.Hello) (*webSocket, *realm.Greeting) {
	t.Helper()
	s := &webSocket{link: link{gateway: g}}
	s.kind = s
	require.NoError(t, g.add(&s.link))
	c, err := g.realms.Greet(t.Context(), hello, realm.Caller{})
	require.NoError(t, err)
	require.NoError(t, g.reserve(&s.link, c))
	c, err = c.Admit(t.Context())
	require.NoError(t, err)
	return s, c
}

// greet completes the hello of a link.
func greet(t *testing.T, s *webSocket, c *realm.Greeting) presence.Reply {
	t.Helper()
	reply, wait, err := c.Begin()
	require.NoError(t, err)
	require.Nil(t, wait)
	talk, _ := c.Converse(reply, s.wake)
	s.greet(talk, reply, []byte("the answer"))
	return reply
}

// TestAPausedMachineBlamesNoLinkWithoutASession makes a sweep ten minutes late.
func TestAPausedMachineBlamesNoLinkWithoutASession(t *testing.T) {
	g, _ := gatewayOf(t)
	near, far := net.Pipe()
	t.Cleanup(func() { _ = far.Close() })
	l := &webSocket{link: link{gateway: g}}
	l.kind = l
	c, err := g.realms.Greet(t.Context(), wire.Hello{Token: tokenFor(t, "ilse"), WatchOnly: true}, realm.Caller{})
	require.NoError(t, err)
	talk, _ := c.Converse(presence.Reply{}, func() {})
	l.talk.Store(talk)
	policy := talk.Guest().Realm().Policy()
	l.carrier.Store(transport.NewStream(g.pool, near, transport.WebSocket(wire.MaxFrame, false), l))
	now := time.Now()
	l.heard, l.wanted = now.UnixNano(), now.UnixNano()
	g.all[&l.link], g.loose[&l.link], l.introduced = struct{}{}, struct{}{}, true

	pause := 10 * time.Minute
	now = now.Add(pause)
	g.sweep(now, pause)
	require.False(t, l.stream().Finishing(), "nobody could be heard meanwhile")
	for range 3 { // it is asked as usual, and then its silence counts
		now = now.Add(policy.BeatEvery)
		g.sweep(now, 0)
	}
	require.False(t, l.stream().Finishing())
	g.sweep(now.Add(policy.Silence()), 0)
	require.True(t, l.stream().Finishing(), "somebody who does not answer is let go")
	g.remove(&l.link)
}

// TestWhatConcernsALinkDuringItsHelloIsNotMissed gives orders after the guest is known and
// before the link can be found.
func TestWhatConcernsALinkDuringItsHelloIsNotMissed(t *testing.T) {
	g, _ := gatewayOf(t)
	id := func(c *realm.Greeting) presence.LinkID { return presence.LinkID{Session: c.Sessions()[0], Number: 1} }

	s, c := begin(t, g, "ilse")
	g.TakenOut(presence.TakenOut{Link: id(c), Room: desk, Reason: presence.ReasonRemoved})
	g.Cut(presence.Cut{Link: presence.LinkID{Session: id(c).Session, Number: 7}, Ended: true})
	require.Empty(t, s.outbox)
	require.Equal(t, id(c), greet(t, s, c).Link)
	require.Len(t, s.outbox, 2)
	require.Equal(t, "the answer", string(s.outbox[0].frame))
	require.Contains(t, string(s.outbox[1].frame), `"type":"dropped","room":"desk.night"`)
	require.Nil(t, s.ending, "another link is meant")

	cut, c := begin(t, g, "ilse")
	g.Cut(presence.Cut{Link: id(c), Ended: true})
	greet(t, cut, c)
	require.NotNil(t, cut.ending)

	removed, c := begin(t, g, "ilse")
	g.Removed(access.Main, "ilse", "", time.Now())
	greet(t, removed, c)
	require.NotNil(t, removed.ending)

	again, c := begin(t, g, "ilse")
	g.Removed(access.Main, "ilse", "", time.Now().Add(-time.Hour))
	greet(t, again, c)
	require.Nil(t, again.ending, "the token is from after the removal, of which this node hears late")

	near, far := net.Pipe()
	t.Cleanup(func() { _, _ = near.Close(), far.Close() })
	_, err := g.Feed(near, FeedRequest{Bearer: tokenFor(t, "maren"), Hello: wire.Hello{Watch: []wire.Watch{{Room: desk}}}})
	require.NoError(t, err) // the stream is open, and has no connection yet
	var feed *link
	for l := range g.hailing {
		feed = l
	}
	g.Removed(access.Main, "maren", "", time.Now())
	require.NotNil(t, feed.ending)
	g.forget(feed)

	refused, _ := begin(t, g, "ilse")
	g.forget(&refused.link)
	require.Empty(t, g.reserved)
	require.Empty(t, g.hailing)
	for _, s := range []*webSocket{s, cut, removed, again, refused} {
		s.letGo()
		g.remove(&s.link)
	}
	require.Empty(t, g.byPerson)
}
