package server_test

import (
	"context"
	"encoding/json"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/gateway"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

const (
	secret = "the secret of a service that lives for one test"
	key    = "the operator's key"
	weir   = "basin.upper-weir"
	// patience bounds every wait. It is exceeded only if something is broken.
	patience = 60 * time.Second
)

func TestMain(m *testing.M) {
	if os.Getenv(asClient) != "" {
		beClient()
		return
	}
	if os.Getenv(asServer) != "" {
		beServer()
	}
	goleak.VerifyTestMain(m,
		// fasthttp keeps these for the life of the process, or ends them late.
		goleak.IgnoreAnyFunction("github.com/valyala/fasthttp.updateServerDate.func1"),
		goleak.IgnoreAnyFunction("github.com/valyala/fasthttp.(*workerPool).Start.func2"),
		goleak.IgnoreAnyFunction("github.com/valyala/fasthttp.(*inMemoryCacheManager).handleCleanCache"),
		goleak.IgnoreAnyFunction("github.com/valyala/fasthttp/stackless.funcWorker"),
	)
}

// brisk is a policy with short graces.
func brisk() *presence.Policy {
	p := presence.DefaultPolicy()
	p.GraceClosing = 400 * time.Millisecond
	p.GraceLost = 1200 * time.Millisecond
	return &p
}

// start runs a service for the length of a test.
func start(t *testing.T, policy *presence.Policy) *server.Server {
	t.Helper()
	return startWith(t, server.Config{Policy: policy})
}

func startWith(t *testing.T, c server.Config) *server.Server {
	t.Helper()
	c.Listen, c.TokenSecret, c.OperatorKey = "127.0.0.1:0", secret, key
	s, err := server.Start(c)
	require.NoError(t, err)
	s.Ready()
	t.Cleanup(func() { require.NoError(t, s.Stop()) })
	return s
}

func limits(address, person, beforeHello int) server.Config {
	return server.Config{Limits: gateway.Limits{PerAddress: address, PerPerson: person, BeforeHello: beforeHello}}
}

func mint(t *testing.T, user string, rooms ...string) string {
	t.Helper()
	if rooms == nil {
		rooms = []string{"basin.*"}
	}
	token, err := client.Token{User: user, Grants: wire.Grants{Rooms: rooms}}.Sign(secret)
	require.NoError(t, err)
	return token
}

func dial(t *testing.T, o client.Options) *client.Link {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	defer cancel()
	link, err := client.Dial(ctx, o)
	require.NoError(t, err)
	t.Cleanup(link.Close)
	return link
}

// dialBriefly opens a link whose token soon expires: as soon as this machine allows.
func dialBriefly(t *testing.T, o client.Options, user, rooms string) *client.Link {
	t.Helper()
	for ttl := time.Second; ; ttl *= 2 {
		token, err := client.Token{User: user, Grants: wire.Grants{Rooms: []string{rooms}}, TTL: ttl}.Sign(secret)
		require.NoError(t, err)
		o.Token = token
		link, err := client.Dial(t.Context(), o)
		if err != nil && strings.Contains(err.Error(), "expired") && ttl < time.Minute {
			continue
		}
		require.NoError(t, err)
		t.Cleanup(link.Close)
		return link
	}
}

// onlooker watches a room and keeps its events.
type onlooker struct {
	mu     sync.Mutex
	events []client.Event
	more   chan struct{}
}

func watch(t *testing.T, s *server.Server) *onlooker { t.Helper(); return watchRoom(t, s, weir) }

func watchRoom(t *testing.T, s *server.Server, room string) *onlooker {
	t.Helper()
	o := &onlooker{more: make(chan struct{}, 1000)}
	dial(t, client.Options{Server: s.URL(), Key: key, Watch: []wire.Watch{{Room: room}}, OnEvent: func(e client.Event) {
		o.mu.Lock()
		defer o.mu.Unlock()
		o.events = append(o.events, e)
		o.more <- struct{}{}
	}})
	o.until(t, func(e client.Event) bool { return e.Whole })
	return o
}

// until waits for an event and returns all events up to it.
func (o *onlooker) until(t *testing.T, is func(client.Event) bool) []client.Event {
	t.Helper()
	timeout := time.After(patience)
	for {
		o.mu.Lock()
		for i, e := range o.events {
			if is(e) {
				seen := o.events[:i+1]
				o.events = o.events[i+1:]
				o.mu.Unlock()
				return seen
			}
		}
		o.mu.Unlock()
		select {
		case <-o.more:
		case <-timeout:
			t.Fatalf("it never came; seen: %+v", o.events)
		}
	}
}

// rest returns the events that were not read yet.
func (o *onlooker) rest() []client.Event {
	o.mu.Lock()
	defer o.mu.Unlock()
	return slices.Clone(o.events)
}

func joined(user string) func(client.Event) bool {
	return func(e client.Event) bool {
		for _, m := range e.Joined {
			if m.User == user {
				return true
			}
		}
		return false
	}
}

func left(user string) func(client.Event) bool {
	return func(e client.Event) bool {
		for _, d := range e.Left {
			if d.User == user {
				return true
			}
		}
		return false
	}
}

// cable is a network connection that a test can cut.
type cable struct{ conn net.Conn }

func (c *cable) dial(ctx context.Context, network, address string) (net.Conn, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, network, address)
	c.conn = conn
	return conn, err
}

// raw is a client that sends arbitrary frames.
type raw struct {
	t    *testing.T
	conn *websocket.Conn
}

func connect(t *testing.T, s *server.Server) *raw {
	t.Helper()
	conn, response, err := websocket.DefaultDialer.DialContext(t.Context(), strings.Replace(s.URL(), "http", "ws", 1)+"/v1/link", nil)
	require.NoError(t, err)
	_ = response.Body.Close()
	t.Cleanup(func() { _ = conn.Close() })
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(patience)))
	return &raw{t, conn}
}

func (r *raw) send(frame string) *raw {
	r.t.Helper()
	require.NoError(r.t, r.conn.WriteMessage(websocket.TextMessage, []byte(frame)))
	return r
}

// hello says a valid one.
func (r *raw) hello(token string) *raw {
	r.t.Helper()
	r.send(`{"type":"hello","id":"h","version":1,"token":"` + token + `"}`)
	require.Equal(r.t, "answer", r.next()["type"])
	return r
}

// next returns the next frame that is not about a room.
func (r *raw) next() map[string]any {
	r.t.Helper()
	for {
		_, data, err := r.conn.ReadMessage()
		require.NoError(r.t, err)
		var frame map[string]any
		require.NoError(r.t, json.Unmarshal(data, &frame))
		if frame["type"] == "answer" || frame["type"] == "error" {
			return frame
		}
	}
}

// closed reads until the service closes the link, and returns the code.
func (r *raw) closed() int {
	r.t.Helper()
	for {
		if _, _, err := r.conn.ReadMessage(); err != nil {
			var closed *websocket.CloseError
			require.ErrorAs(r.t, err, &closed)
			return closed.Code
		}
	}
}

// online returns a count of people who are all online.
func online(people, sessions int) wire.Count {
	return wire.Count{People: people, Sessions: sessions, Online: wire.Tally{People: people, Sessions: sessions}}
}
