package gateway

import (
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/valyala/fasthttp"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/transport"
	"tovik.example/tovik/wire"
)

const (
	tokenSecret = "the secret of a gateway that lives for one test"
	desk        = "desk.night"
)

// gatewayOf returns a gateway with the main realm, and without a server.
func gatewayOf(t *testing.T) *Gateway {
	t.Helper()
	store, err := records.Open(records.Memory)
	require.NoError(t, err)
	keys, err := access.NewKeyring(store, tokenSecret, "own")
	require.NoError(t, err)
	policy := presence.DefaultPolicy()
	hub, links, realms := delivery.NewHub(&policy), NewLinks(), NewRealms()
	e := engine.New(engine.Options{Policy: policy, Sink: hub, Links: links})
	hub.Use(e)
	realms.Add(&Realm{Name: access.Main, Engine: e, Hub: hub, Store: store})
	g := New(Options{Realms: realms, Links: links, Keys: keys, Guard: new(access.Guard), Policy: &policy})
	t.Cleanup(func() {
		g.Close()
		require.NoError(t, store.Close())
	})
	return g
}

func tokenFor(t *testing.T, user string) string {
	t.Helper()
	token, err := client.Token{User: user, Grants: wire.Grants{Rooms: []string{"**"}}}.Sign(tokenSecret)
	require.NoError(t, err)
	return token
}

// TestNobodyPostsToAStreamWithoutItsKey asks between the hello of a stream and its
// connection, when its session can be seen already.
func TestNobodyPostsToAStreamWithoutItsKey(t *testing.T) {
	g := gatewayOf(t)
	var opening fasthttp.RequestCtx // of which nobody runs what it was made a stream with
	require.NoError(t, g.Feed(&opening, FeedRequest{Bearer: tokenFor(t, "ilse"), Hello: wire.Hello{Rooms: []string{desk}}}))
	realm, err := g.realms.Get(access.Main)
	require.NoError(t, err)
	seen := realm.Engine.Links(desk, presence.Open)
	require.Len(t, seen, 1)
	session, number := string(seen[0].Link.Session), uint32(seen[0].Link.Number)
	leave := []byte(`{"type":"leave","id":1,"room":"` + desk + `"}`)
	for _, key := range []string{"", "a guess"} {
		_, err = g.Post(session, number, key, leave)
		var problem *wire.Problem
		require.ErrorAs(t, err, &problem)
		require.Equal(t, wire.CodeNoLink, problem.Code)
	}
	require.Len(t, realm.Engine.Links(desk, presence.Open), 1, "nobody has left the room")
	right := g.links.carrier(seen[0].Link).key
	require.NotEmpty(t, right)
	_, err = g.Post(session, number, right, leave)
	require.NoError(t, err)
	require.Empty(t, realm.Engine.Links(desk, presence.Open))
}

// TestAPausedMachineBlamesNoLinkWithoutASession lets a gateway's sweep come late by ten minutes.
func TestAPausedMachineBlamesNoLinkWithoutASession(t *testing.T) {
	g := gatewayOf(t)
	policy := g.policy.Load()
	near, far := net.Pipe()
	t.Cleanup(func() { _ = far.Close() })
	l := &link{gateway: g}
	l.carrier.Store(transport.NewStream(g.pool, near, transport.WebSocket(wire.MaxFrame), l))
	now := time.Now()
	l.heard, l.wanted = now.UnixNano(), now.UnixNano()
	g.links.all[l], g.links.loose[l], l.introduced = struct{}{}, struct{}{}, true

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
	g.links.remove(l)
}

func TestTheLastTrustedProxySaysWhoAsks(t *testing.T) {
	p := Proxies{netip.MustParsePrefix("10.0.0.0/8")}
	require.Equal(t, "192.0.2.7", p.address("10.0.0.1", "198.51.100.1, 192.0.2.7, 10.0.0.2"))
	require.Equal(t, "203.0.113.1", p.address("203.0.113.1", "198.51.100.1"))
}
