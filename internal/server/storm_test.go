package server_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	mathrand "math/rand/v2"
	"net"
	"net/http"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/gateway"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/internal/transport/transporttest"
	"tovik.example/tovik/wire"
)

// dialPatiently dials again while a busy machine lets a handshake take too long.
func dialPatiently(t *testing.T, o client.Options) (*client.Link, error) {
	for begun := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		link, err := client.Dial(t.Context(), o)
		if err == nil || time.Since(begun) > patience {
			return link, err
		}
		t.Log(err)
	}
}

// TestEveryReceiverEndsWithTheServicesList makes many people join, leave, type, set statuses,
// become idle, lose their links and return, while some read slowly and some not at all. In the
// end, each has the list that the service gives in their view. A missing revision ends a client's link
// with an error.
func TestEveryReceiverEndsWithTheServicesList(t *testing.T) {
	t.Parallel()
	policy := brisk()
	policy.TypingExpires = 300 * time.Millisecond
	policy.BeatEvery = patience // the slow receiver has a queue before it reads a beat request
	s := startWith(t, server.Config{Policy: policy, Limits: gateway.Limits{SlowAfter: 20 * time.Second}})
	rooms := []string{weir, "basin.fen-end", "basin.low-bridge"}
	all := []wire.Watch{{Room: "basin.*"}}
	var last sync.Map // by receiver and room: the frame that tells who types

	receive := func(name string, o client.Options) (*client.Link, *lists) {
		l := &lists{rooms: map[string]map[string]wire.Member{}}
		o.Server, o.Watch, o.OnEvent = s.URL(), all, l.take
		o.OnTyping = func(f wire.TypingFrame) { last.Store(name+f.Room, f.Users) }
		return dial(t, o), l
	}
	_, full := receive("full", client.Options{Key: key})
	_, open := receive("open", client.Options{Token: mint(t, "onlooker"), WatchOnly: true})
	pause := make(chan struct{})
	slowLists := &lists{rooms: map[string]map[string]wire.Member{}}
	dial(t, client.Options{Server: s.URL(), Token: mint(t, "slow"), WatchOnly: true, Watch: all, OnEvent: func(e client.Event) {
		select {
		case <-pause: // the storm is over
		case <-time.After(50 * time.Millisecond):
		}
		slowLists.take(e)
	}})
	for i := range 3 { // who never read
		deaf := connect(t, s).send(`{"type":"hello","version":1,"token":"` + mint(t, fmt.Sprint("deaf-", i)) + `","watch_only":true,"watch":[{"room":"basin.*"}]}`)
		_ = deaf.conn.NetConn().(*net.TCPConn).SetReadBuffer(1024)
	}

	var people sync.WaitGroup
	var cuts atomic.Int64
	for p := range 24 {
		people.Go(func() {
			random := mathrand.New(mathrand.NewPCG(uint64(p), 7))
			token := mint(t, fmt.Sprint("w-", p%16)) // some have two tabs
			network := &cable{}
			o := client.Options{Server: s.URL(), Token: token, Nonce: "n", Rooms: []string{rooms[p%3]}, NetDial: network.dial}
			link, err := dialPatiently(t, o)
			if err != nil {
				t.Error(err)
				return
			}
			defer func() { link.Close() }()
			for range 150 {
				room := rooms[random.IntN(3)]
				ctx := context.Background()
				switch random.IntN(10) {
				case 0, 1:
					_ = link.Join(ctx, room)
				case 2, 3:
					_ = link.Leave(ctx, room)
				case 4:
					_ = link.Typing(ctx, room, random.IntN(3) > 0)
				case 5:
					_ = link.SetStatus(ctx, []string{"busy", "away", ""}[random.IntN(3)], strings.Repeat("n", random.IntN(100)), time.Time{})
				case 6:
					_ = link.Idle(ctx)
				case 7:
					_ = link.Activity(ctx)
				default:
					if random.IntN(4) > 0 {
						break
					}
					_ = network.conn.Close()
					cuts.Add(1)
					link.Close()
					if err := link.Err(); err != nil && strings.Contains(err.Error(), "revision") {
						t.Error(err)
					}
					o.After, o.Resume, o.Rooms = link, link.Resume(), nil
					again, err := dialPatiently(t, o)
					if err != nil {
						t.Error(err)
						return
					}
					link = again
				}
				time.Sleep(time.Duration(random.IntN(8)) * time.Millisecond)
			}
			if random.IntN(2) == 0 {
				_ = link.Bye(context.Background())
			}
		})
	}
	people.Wait()
	close(pause)
	require.Positive(t, cuts.Load())
	late, lateLists := receive("late", client.Options{Token: mint(t, "late"), WatchOnly: true})
	api := client.API{Server: s.URL(), Key: key}
	for name, got := range map[string]*lists{"full": full, "open": open, "slow": slowLists, "late": lateLists} {
		for _, room := range rooms {
			require.Eventually(t, func() bool {
				want, err := api.Members(t.Context(), room)
				if err != nil { // nobody is left in it
					want.Members = nil
				}
				wanted, _ := json.Marshal(want.Members)
				list, _ := json.Marshal(got.list(room))
				return bytes.Equal(wanted, list) || (len(want.Members) == 0 && len(got.list(room)) == 0)
			}, patience, 20*time.Millisecond, "%s has another list of %s", name, room)
		}
	}
	require.NoError(t, late.Err())
	for _, room := range rooms { // typing has ended by itself
		require.Eventually(t, func() bool {
			users, told := last.Load("open" + room)
			return !told || len(users.([]string)) == 0
		}, patience, 20*time.Millisecond, room)
	}
}

// lists are the rooms as a client knows them from its events.
type lists struct {
	mu    sync.Mutex
	rooms map[string]map[string]wire.Member
}

func (l *lists) take(e client.Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	members := l.rooms[e.Room]
	if members == nil {
		members = map[string]wire.Member{}
		l.rooms[e.Room] = members
	}
	for _, m := range append(e.Joined, e.Changed...) {
		members[m.User] = m
	}
	for _, d := range e.Left {
		delete(members, d.User)
	}
}

func (l *lists) list(room string) []wire.Member {
	l.mu.Lock()
	defer l.mu.Unlock()
	replica := make([]wire.Member, 0, len(l.rooms[room]))
	for _, m := range l.rooms[room] {
		replica = append(replica, m)
	}
	slices.SortFunc(replica, func(a, b wire.Member) int { return strings.Compare(a.User, b.User) })
	return replica
}

// TestNobodyIsSentAnothersBytes breaks links during large writes while others connect, which get
// the same descriptors. Each gets only its own name.
func TestNobodyIsSentAnothersBytes(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	var all sync.WaitGroup
	for worker := range 8 {
		all.Go(func() {
			for round := range 40 {
				mark := fmt.Sprintf("mark-%d-%d", worker, round)
				conn, response, err := websocket.DefaultDialer.Dial(strings.Replace(s.URL(), "http", "ws", 1)+"/v1/link", nil)
				if err != nil {
					t.Error(err)
					return
				}
				_ = response.Body.Close()
				_ = conn.SetReadDeadline(time.Now().Add(patience))
				_ = conn.WriteMessage(websocket.TextMessage, []byte(`{"type":"hello","id":"`+mark+`","version":1,"token":"`+mint(t, mark)+`","rooms":[]}`))
				for i := range 100 {
					_ = conn.WriteMessage(websocket.TextMessage, fmt.Appendf(nil, `{"type":"beat","id":"%s-%d"}`, mark, i))
				}
				for range 1 + round%50 { // and off while the rest is on its way
					_, data, err := conn.ReadMessage()
					if err != nil {
						break
					}
					if !strings.Contains(string(data), mark) {
						t.Errorf("%s was sent %s", mark, data)
					}
				}
				_ = conn.NetConn().(*net.TCPConn).SetLinger(0)
				_ = conn.NetConn().Close()
			}
		})
	}
	all.Wait()
}

// TestWhoNeverReadsIsCutAndNobodyElse has a member of a busy room that never reads. After
// slow.after without progress the link is cut and counts as lost. Others get every change
// meanwhile.
func TestWhoNeverReadsIsCutAndNobodyElse(t *testing.T) {
	t.Parallel()
	policy := brisk()
	policy.BeatEvery = time.Minute // silence must not come first, however slow the machine is
	s := startWith(t, server.Config{Policy: policy, Limits: gateway.Limits{SlowAfter: 700 * time.Millisecond}})
	third := watch(t, s)
	deaf := connect(t, s)
	require.NoError(t, deaf.conn.NetConn().(*net.TCPConn).SetReadBuffer(2048))
	deaf.send(`{"type":"hello","version":1,"token":"` + mint(t, "deaf") + `","rooms":["` + weir + `"]}`)
	third.until(t, joined("deaf"))
	busy := dial(t, client.Options{Server: s.URL(), Token: mint(t, "busy"), Rooms: []string{weir}})
	gone := make(chan struct{})
	changes := make(chan int)
	go func() {
		for n := 0; ; n++ {
			select {
			case <-gone:
				changes <- n
				return
			case <-time.After(22 * time.Millisecond):
				_ = busy.SetStatus(context.Background(), "busy", fmt.Sprint(n)+strings.Repeat("n", 190-len(fmt.Sprint(n))), time.Time{})
			}
		}
	}()
	for i := range 40 { // so that there is much to be told of
		dial(t, client.Options{Server: s.URL(), Token: mint(t, fmt.Sprint("w-", i)), Rooms: []string{weir}, Detail: wire.DetailNone})
	}
	seen := third.until(t, left("deaf"))
	close(gone)
	require.Greater(t, <-changes, 10)
	require.Equal(t, "lost", seen[len(seen)-1].Left[0].Reason)
	for _, e := range seen[:len(seen)-1] {
		require.Empty(t, e.Left)
		require.False(t, e.Whole, "the third party is told each change")
	}
	require.NoError(t, busy.Activity(t.Context()))
}

// TestNothingIsLeftOfLinksThatAreGone opens and closes thousands of links of every kind, in
// every way. In the end the process has no more goroutines and descriptors than before,
// including those of the clients.
func TestNothingIsLeftOfLinksThatAreGone(t *testing.T) {
	s := start(t, nil)
	descriptors := func() int {
		list, err := os.ReadDir("/proc/self/fd")
		require.NoError(t, err)
		return len(list)
	}
	round := func(i int) {
		token := mint(t, fmt.Sprint("w-", i%50))
		switch i % 6 {
		case 5: // has no connection at all
			_, text := ask(t, "PUT", s.URL()+"/v1/sessions/new", "Bearer "+token, `{"rooms":["`+weir+`"]}`)
			var lease wire.Lease
			require.NoError(t, json.Unmarshal([]byte(text), &lease))
			_, text = ask(t, "DELETE", s.URL()+"/v1/sessions/"+lease.Session, "Bearer "+lease.ResumeKey, "")
			require.JSONEq(t, `{"applied":true}`, text)
		case 0: // says bye
			link, err := client.Dial(t.Context(), client.Options{Server: s.URL(), Token: token, Rooms: []string{weir}})
			require.NoError(t, err)
			require.NoError(t, link.Bye(t.Context()))
		case 1: // breaks off
			link, err := client.Dial(t.Context(), client.Options{Server: s.URL(), Key: key, Watch: []wire.Watch{{Room: "**"}}})
			require.NoError(t, err)
			link.Close()
		case 2: // never says hello
			conn, response, err := websocket.DefaultDialer.Dial(strings.Replace(s.URL(), "http", "ws", 1)+"/v1/link", nil)
			require.NoError(t, err)
			_, _ = response.Body.Close(), conn.Close()
		case 3: // an event stream
			f := follow(t, s, "/v1/feed?watch_only=true&watch="+weir, token, "")
			f.until("snapshot")
			_ = f.response.Body.Close()
		case 4: // refused
			conn, response, err := websocket.DefaultDialer.Dial(strings.Replace(s.URL(), "http", "ws", 1)+"/v1/link", nil)
			require.NoError(t, err)
			_ = response.Body.Close()
			require.NoError(t, conn.WriteMessage(websocket.TextMessage, []byte(`{"type":"hello"}`)))
			_, _, err = conn.ReadMessage()
			require.NoError(t, err)
			_ = conn.Close()
		}
	}
	for i := range 20 { // what is made once is made
		round(i)
	}
	http.DefaultClient.CloseIdleConnections()
	time.Sleep(3 * time.Second)
	goroutines, fds := runtime.NumGoroutine(), descriptors()
	var next atomic.Int64
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for i := next.Add(1) - 1; i < 6*1000; i = next.Add(1) - 1 {
				round(int(i))
			}
		})
	}
	all.Wait()
	http.DefaultClient.CloseIdleConnections()
	require.Eventually(t, func() bool {
		return runtime.NumGoroutine() <= goroutines+3 && descriptors() <= fds+3
	}, patience, 50*time.Millisecond, "goroutines %d, then %d; descriptors %d, then %d", goroutines, runtime.NumGoroutine(), fds, descriptors())
}

func TestTLSCarriesLinksStreamsAndCalls(t *testing.T) {
	t.Parallel()
	cert, keyFile, pool := certificate(t)
	s := startWith(t, server.Config{TLSCert: cert, TLSKey: keyFile, Limits: gateway.Limits{SlowAfter: time.Second}})
	require.True(t, strings.HasPrefix(s.URL(), "https://"))
	trust := &tls.Config{RootCAs: pool}
	events, onEvent := heard[client.Event](1000)
	one := dial(t, client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}, TLS: trust, OnEvent: onEvent})
	many := make([]*client.Link, 20)
	for i := range many {
		many[i] = dial(t, client.Options{Server: s.URL(), Token: mint(t, fmt.Sprint("w-", i)), Rooms: []string{weir}, TLS: trust})
	}
	await(t, events, func(e client.Event) bool { return e.Count.People == 21 })
	require.NoError(t, one.Activity(t.Context()))
	response, err := (&http.Client{Transport: &http.Transport{TLSClientConfig: trust, DisableKeepAlives: true}}).Get(s.URL() + "/healthz")
	require.NoError(t, err)
	require.Equal(t, 200, response.StatusCode)
	_ = response.Body.Close()
	_, err = server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, TLSCert: cert})
	require.ErrorContains(t, err, "--tls-key")
	_, err = server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, TLSCert: cert, TLSKey: cert})
	require.ErrorContains(t, err, cert)
}

// certificate makes a certificate for 127.0.0.1.
func certificate(t *testing.T) (cert, keyFile string, pool *x509.CertPool) {
	cert, keyFile, err := transporttest.Certificate(t.TempDir())
	require.NoError(t, err)
	text, err := os.ReadFile(cert)
	require.NoError(t, err)
	pool = x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(text))
	return cert, keyFile, pool
}

func TestSessionsOutliveAStop(t *testing.T) {
	t.Parallel()
	dir, policy := t.TempDir(), presence.DefaultPolicy()
	policy.GraceLost = time.Minute // enough for any restart, but not at the desk
	desk := policy.RoomPolicy
	desk.GraceLost = 8 * time.Second
	policy.Rooms = []presence.PatternPolicy{{Pattern: "desk.*", RoomPolicy: desk}}
	run := func() *server.Server {
		s, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, Policy: &policy, Data: dir})
		require.NoError(t, err)
		return s
	}
	s := run()
	options := client.Options{Server: s.URL(), Token: mint(t, "ilse"), Rooms: []string{weir}, Nonce: "n"}
	moved, onMoving := heard[time.Duration](1)
	options.OnMoving = onMoving
	link := dial(t, options)
	dial(t, client.Options{Server: s.URL(), Token: mint(t, "tobin", "desk.*"), Rooms: []string{"desk.night"}})
	require.NoError(t, s.Stop())
	<-moved
	<-link.Ended()

	s = run()
	defer func() { require.NoError(t, s.Stop()) }()
	third := watchRoom(t, s, "desk.night")
	options.Server, options.Resume = s.URL(), link.Resume()
	link = dial(t, options)
	require.True(t, link.Opened().Resumed)
	require.Equal(t, []string{weir}, link.Opened().Rooms)
	seen := third.until(t, left("tobin")) // who did not come back, after their grace
	require.Len(t, seen, 1)
	require.Equal(t, "lost", seen[0].Left[0].Reason)
}
