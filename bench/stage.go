package main

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

const (
	secret  = "the secret of a service that lives for one bench"
	key     = "bench"
	room    = "basin.upper-weir"
	workers = 4 // that load at once: two for each core of the machine in mind
)

var measures = []measure{
	{"join seen by a third party, p50", "ms", true, joinSeen(0.5), relayed(0.5)},
	{"join seen by a third party, p99", "ms", true, joinSeen(0.99), relayed(0.99)},
	{"links opened, with hello and join", "/s", false, (*stage).hellos, (*stage).handshakes},
	{"counts over HTTP", "/s", false, (*stage).counts, (*stage).bareGets},
}

// stage is the service and the floor program, both on loopback.
type stage struct {
	service *server.Server
	tokens  *access.Tokens
	floor   *fiber.App
	address string // of the floor
	loader  *http.Client
	people  atomic.Int64
}

func newStage() (*stage, error) {
	tokens, err := access.NewTokens([]byte(secret))
	if err != nil {
		return nil, err
	}
	service, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key})
	if err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &stage{
		service: service, tokens: tokens, floor: newFloor(), address: listener.Addr().String(),
		loader: &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: workers}},
	}
	go func() { _ = s.floor.Listener(listener, fiber.ListenConfig{DisableStartupMessage: true}) }()
	return s, nil
}

func (s *stage) close() {
	_ = s.service.Stop()
	_ = s.floor.ShutdownWithTimeout(time.Second)
}

// newFloor is a server that relays each message to everybody, and answers GET
// with a constant.
func newFloor() *fiber.App {
	app := fiber.New()
	app.Server().KeepHijackedConns = true
	var mu sync.Mutex
	conns := map[*websocket.Conn]bool{}
	upgrader := websocket.FastHTTPUpgrader{CheckOrigin: func(*fasthttp.RequestCtx) bool { return true }}
	app.Get("/link", func(c fiber.Ctx) error {
		return upgrader.Upgrade(c.RequestCtx(), func(conn *websocket.Conn) {
			defer func() {
				mu.Lock()
				delete(conns, conn)
				mu.Unlock()
				_ = conn.Close()
			}()
			mu.Lock()
			conns[conn] = true
			mu.Unlock()
			for {
				_, data, err := conn.ReadMessage()
				if err != nil {
					return
				}
				mu.Lock()
				for other := range conns {
					_ = other.WriteMessage(websocket.TextMessage, data)
				}
				mu.Unlock()
			}
		})
	})
	app.Get("/count", func(c fiber.Ctx) error {
		return c.JSON(wire.Room{Room: room, Count: wire.Count{People: 1, Sessions: 1}})
	})
	return app
}

// person dials a new one.
func (s *stage) person(rooms []string, onEvent func(client.Event)) *client.Link {
	user := presence.UserID(fmt.Sprint("w-", s.people.Add(1)))
	token := must(s.tokens.Mint(access.Person{User: user, Rooms: []presence.Pattern{"**"}}, time.Now(), time.Hour))
	return must(client.Dial(context.Background(), client.Options{
		Server: s.service.URL(), Token: token, Rooms: rooms, OnEvent: onEvent,
	}))
}

// joinSeen measures from asking to join until a third party has the change.
func joinSeen(quantile float64) func(*stage, time.Duration) float64 {
	return func(s *stage, length time.Duration) float64 {
		seen := make(chan struct{}, 16)
		third := s.person([]string{room}, func(e client.Event) {
			if !e.Whole {
				seen <- struct{}{}
			}
		})
		defer third.Close()
		joiner := s.person([]string{}, nil)
		defer joiner.Close()
		time.Sleep(100 * time.Millisecond) // their own joining is over
		for len(seen) > 0 {
			<-seen
		}
		return latency(quantile, length, func() {
			check(joiner.Join(context.Background(), room))
			<-seen
		}, func() {
			check(joiner.Leave(context.Background(), room))
			<-seen
		})
	}
}

// relayed measures a message from one to another through the floor.
func relayed(quantile float64) func(*stage, time.Duration) float64 {
	return func(s *stage, length time.Duration) float64 {
		one, two := s.bare(), s.bare()
		defer func() { _, _ = one.Close(), two.Close() }()
		message := []byte(strings.Repeat("x", 120))
		relay := func() {
			check(one.WriteMessage(websocket.TextMessage, message))
			_, _, err := two.ReadMessage()
			check(err)
		}
		time.Sleep(100 * time.Millisecond)
		return latency(quantile, length, relay, func() {})
	}
}

func (s *stage) bare() *websocket.Conn {
	conn, response, err := websocket.DefaultDialer.Dial("ws://"+s.address+"/link", nil)
	check(err)
	_ = response.Body.Close()
	return conn
}

// latency repeats an act and what undoes it, and returns a quantile of the act's
// time in milliseconds.
func latency(quantile float64, length time.Duration, act, undo func()) float64 {
	var times []float64
	for end := time.Now().Add(length); time.Now().Before(end); {
		begun := time.Now()
		act()
		times = append(times, float64(time.Since(begun).Microseconds())/1000)
		undo()
	}
	slices.Sort(times)
	return times[int(quantile*float64(len(times)-1))]
}

func (s *stage) hellos(length time.Duration) float64 {
	return rate(length, func() {
		// Rooms of a few dozen: whoever joins is sent all who are there.
		room := fmt.Sprint("basin.b", s.people.Load()%1000)
		s.person([]string{room}, nil).Close()
	})
}

func (s *stage) handshakes(length time.Duration) float64 {
	return rate(length, func() { _ = s.bare().Close() })
}

func (s *stage) counts(length time.Duration) float64 {
	someone := s.person([]string{room}, nil)
	defer someone.Close()
	return s.gets(s.service.URL()+"/v1/rooms/"+room+"/count", length)
}

func (s *stage) bareGets(length time.Duration) float64 {
	return s.gets("http://"+s.address+"/count", length)
}

func (s *stage) gets(url string, length time.Duration) float64 {
	return rate(length, func() {
		request := must(http.NewRequest(http.MethodGet, url, nil))
		request.Header.Set("Authorization", "Bearer "+key)
		response := must(s.loader.Do(request))
		if response.StatusCode != http.StatusOK {
			check(fmt.Errorf("%s answered %s", url, response.Status))
		}
		_, _ = io.Copy(io.Discard, response.Body)
		_ = response.Body.Close()
	})
}

// rate returns how often an act is done in a second by all workers.
func rate(length time.Duration, act func()) float64 {
	var done atomic.Int64
	var all sync.WaitGroup
	begun := time.Now()
	for range workers {
		all.Go(func() {
			for time.Since(begun) < length {
				act()
				done.Add(1)
			}
		})
	}
	all.Wait()
	return float64(done.Load()) / time.Since(begun).Seconds()
}

func must[T any](value T, err error) T {
	check(err)
	return value
}

func check(err error) {
	if err != nil {
		panic(err)
	}
}
