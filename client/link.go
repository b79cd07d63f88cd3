package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/fasthttp/websocket"

	"tovik.example/tovik/wire"
)

// ErrClosed is the error of a request on a link that has ended.
var ErrClosed = errors.New("the link is closed")

// Options say where to link to, as whom, and what to follow. Server and one of
// Token and Key are required.
type Options struct {
	Server string // the service's address, as in http://127.0.0.1:8420
	Token  string // a person's: opens or resumes a session
	Key    string // an operator's: may only watch

	Rooms  []string     // to be in from the start; nil keeps those of a resumed session
	Watch  []wire.Watch // to follow without being in
	Resume *wire.Resume // the session to go on with
	Nonce  string       // names this run of the process; the same one takes over at once

	// OnEvent is told of every room that is followed, first of its state and then
	// of each change. It is called in order, from one goroutine; while it runs,
	// nothing else is read from the link.
	OnEvent func(Event)
	// NetDial makes the connection; nil stands for a plain one.
	NetDial func(ctx context.Context, network, address string) (net.Conn, error)
}

// Link is a connection to the service that has said hello. Its methods are safe
// for concurrent use.
type Link struct {
	conn    *websocket.Conn
	welcome wire.Welcome
	onEvent func(Event)
	ended   chan struct{} // closed when the reader has stopped; err is set before

	writing sync.Mutex // one frame at a time

	mu      sync.Mutex
	lastID  int
	waiting map[string]chan error // by request id; each holds one
	err     error

	replicas map[string]*Replica // of the reader alone
}

// Dial connects and says hello. Its error is a [*wire.Problem] when the service
// refused, and otherwise says what failed on the way. Ctx bounds the dial, not
// the link.
func Dial(ctx context.Context, o Options) (*Link, error) {
	address, err := linkAddress(o.Server)
	if err != nil {
		return nil, err
	}
	dialer := websocket.Dialer{NetDialContext: o.NetDial, HandshakeTimeout: 10 * time.Second}
	conn, response, err := dialer.DialContext(ctx, address, nil)
	if err != nil {
		if response != nil {
			return nil, fmt.Errorf("%s did not open a link: %s", o.Server, response.Status)
		}
		return nil, fmt.Errorf("no link to %s: %w", o.Server, err)
	}
	l := &Link{
		conn: conn, onEvent: o.OnEvent, ended: make(chan struct{}),
		waiting: map[string]chan error{}, replicas: map[string]*Replica{},
	}
	if l.onEvent == nil {
		l.onEvent = func(Event) {}
	}
	if err := l.hello(ctx, o); err != nil {
		_ = conn.Close()
		return nil, err
	}
	go l.read()
	return l, nil
}

func linkAddress(server string) (string, error) {
	u, err := url.Parse(server)
	if err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
		return "", fmt.Errorf("%q is no service address: it wants http://HOST:PORT or https://HOST", server)
	}
	u.Scheme = strings.Replace(u.Scheme, "http", "ws", 1)
	return u.JoinPath("/v1/link").String(), nil
}

func (l *Link) hello(ctx context.Context, o Options) error {
	if deadline, ok := ctx.Deadline(); ok {
		_ = l.conn.SetReadDeadline(deadline)
		defer func() { _ = l.conn.SetReadDeadline(time.Time{}) }()
	}
	err := l.write(wire.Hello{Type: wire.TypeHello, Version: wire.Version, Token: o.Token, Key: o.Key,
		Nonce: o.Nonce, Resume: o.Resume, Rooms: o.Rooms, Watch: o.Watch})
	if err != nil {
		return fmt.Errorf("say hello: %w", err)
	}
	_, data, err := l.conn.ReadMessage()
	if err != nil {
		return fmt.Errorf("the hello got no answer: %w", err)
	}
	var answer struct {
		Type string `json:"type"`
		wire.Problem
		wire.Welcome
	}
	if err := json.Unmarshal(data, &answer); err != nil {
		return fmt.Errorf("the answer to hello cannot be read: %w", err)
	}
	if answer.Type == wire.TypeError {
		return &answer.Problem
	}
	l.welcome = answer.Welcome
	return nil
}

// Welcome is what the service answered to the hello.
func (l *Link) Welcome() wire.Welcome { return l.welcome }

// Resume is what a later link needs to go on with this session.
func (l *Link) Resume() *wire.Resume {
	return &wire.Resume{Session: l.welcome.Session, Key: l.welcome.Key}
}

// Join puts the session into a room and follows it.
func (l *Link) Join(ctx context.Context, room string) error {
	return l.request(ctx, wire.Request{Type: wire.TypeJoin, Room: room})
}

// Leave takes the session out of a room.
func (l *Link) Leave(ctx context.Context, room string) error {
	return l.request(ctx, wire.Request{Type: wire.TypeLeave, Room: room})
}

// Watch follows the rooms that a name or pattern names, at wire.DetailMembers or
// wire.DetailCount.
func (l *Link) Watch(ctx context.Context, room, detail string) error {
	return l.request(ctx, wire.Request{Type: wire.TypeWatch, Room: room, Detail: detail})
}

// Unwatch stops a watch.
func (l *Link) Unwatch(ctx context.Context, room string) error {
	return l.request(ctx, wire.Request{Type: wire.TypeUnwatch, Room: room})
}

// Activity says that somebody is doing something at the session.
func (l *Link) Activity(ctx context.Context) error {
	return l.request(ctx, wire.Request{Type: wire.TypeActivity})
}

// Bye ends the session now, and the link with it.
func (l *Link) Bye(ctx context.Context) error {
	defer l.Close()
	return l.request(ctx, wire.Request{Type: wire.TypeBye})
}

// Closing says that this page or process is going away and may come back at
// once, and ends the link.
func (l *Link) Closing(ctx context.Context) error {
	defer l.Close()
	return l.request(ctx, wire.Request{Type: wire.TypeClosing})
}

// Close drops the connection. The session stays, for its grace.
func (l *Link) Close() {
	_ = l.conn.Close()
	<-l.ended
}

// Ended is closed when the link is over; Err then says why.
func (l *Link) Ended() <-chan struct{} { return l.ended }

// Err is why the link ended, a [*websocket.CloseError] when the service closed
// it. It is nil while the link lives.
func (l *Link) Err() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.err
}

// request sends a frame and waits for its answer.
func (l *Link) request(ctx context.Context, r wire.Request) error {
	done := make(chan error, 1)
	l.mu.Lock()
	l.lastID++
	id := strconv.Itoa(l.lastID)
	l.waiting[id] = done
	l.mu.Unlock()
	defer func() {
		l.mu.Lock()
		delete(l.waiting, id)
		l.mu.Unlock()
	}()
	r.ID = wire.ID(id)
	if err := l.write(r); err != nil {
		return fmt.Errorf("%s %s: %w", r.Type, r.Room, err)
	}
	select {
	case err := <-done:
		return err
	case <-l.ended:
		select {
		case err := <-done: // the answer was the last that came
			return err
		default:
			return ErrClosed
		}
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (l *Link) write(frame any) error {
	l.writing.Lock()
	defer l.writing.Unlock()
	_ = l.conn.SetWriteDeadline(time.Now().Add(10 * time.Second))
	return l.conn.WriteJSON(frame)
}

func (l *Link) read() {
	var err error
	for err == nil {
		var data []byte
		if _, data, err = l.conn.ReadMessage(); err == nil {
			err = l.receive(data)
		}
	}
	_ = l.conn.Close()
	l.mu.Lock()
	l.err = err
	l.mu.Unlock()
	close(l.ended)
}

func (l *Link) receive(data []byte) error {
	var frame struct {
		Type string  `json:"type"`
		Re   wire.ID `json:"re"`
		Room string  `json:"room"`
	}
	if err := json.Unmarshal(data, &frame); err != nil {
		return fmt.Errorf("a frame of the service cannot be read: %w", err)
	}
	switch frame.Type {
	case wire.TypeBeat:
		return l.write(wire.Beat{Type: wire.TypeBeat})
	case wire.TypeAnswer:
		l.settle(frame.Re, nil)
	case wire.TypeError:
		problem := new(wire.Problem)
		if err := json.Unmarshal(data, problem); err != nil {
			return fmt.Errorf("an error frame cannot be read: %w", err)
		}
		l.settle(frame.Re, problem)
	case wire.TypeSnapshot, wire.TypeChanges, wire.TypeCount:
		event, err := l.replica(frame.Room).Apply(data)
		if err != nil {
			return err
		}
		if event.Count.People == 0 {
			delete(l.replicas, frame.Room)
		}
		l.onEvent(event)
	}
	return nil
}

func (l *Link) replica(room string) *Replica {
	r := l.replicas[room]
	if r == nil {
		r = &Replica{}
		l.replicas[room] = r
	}
	return r
}

func (l *Link) settle(re wire.ID, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if done := l.waiting[string(re)]; done != nil {
		done <- err
		delete(l.waiting, string(re))
	}
}
