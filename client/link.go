package client

import (
	"cmp"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/fasthttp/websocket"

	"tovik.example/tovik/wire"
)

// ErrClosed is the error of a request on a link that has ended. It comes with what [Link.Err] returns.
var ErrClosed = errors.New("the link is closed")

// ErrEnded says that somebody else has ended the session: the person signed out everywhere or was removed, or a newer session
// replaced it where only one is allowed. Open another one only if the user asks for it.
var ErrEnded = errors.New("the session was ended")

// Options say which service to connect to, as whom, and what to follow. Server and one of Token
// and Key are required.
type Options struct {
	Server string // the service's address, as in http://127.0.0.1:8420
	Token  string // a person's: opens or resumes a session
	Key    string // an operator's: may only watch
	// NewToken returns a fresh token. A [Follower] calls it for each link, and a link before its
	// token expires. It may be nil.
	NewToken func(context.Context) (string, error)

	Rooms  []string     // to be in from the start; nil keeps those of a resumed session
	Watch  []wire.Watch // to follow without being in
	Detail string       // at which the rooms are followed: members when empty, count, or none
	Resume *wire.Resume // the session to go on with
	// After is the link before this one, which has ended: what was missed since then
	// comes change by change, where the service still has it, and events go on from
	// what After knew.
	After *Link
	// WatchOnly opens a link without a session: the person is not present.
	WatchOnly bool
	// AllOrNothing refuses the hello if one of Rooms or Watch is refused. Otherwise the refused
	// ones are left out, and OnDropped is called with each.
	AllOrNothing bool
	Nonce        string // names this run of the process; the same one takes over at once
	// Device is the kind of the session's device: desktop, phone, tablet or device. May be empty.
	Device string
	// Without lists what Rooms are followed without: wire.TypeDoing leaves out what members are
	// doing.
	Without []string
	// Limit gives the first members of each of Rooms only, by id, whole after each change; 0: all.
	// An event then reports a member as left who is merely not among the first any more.
	Limit int

	// OnEvent is called for every room that is followed: first with its state, then with each
	// change. It is called in order, from one goroutine; while it runs, nothing else is read
	// from the link.
	OnEvent func(Event)
	// OnTyping is told who types in a room that is followed at members, OnPerson of
	// people who are watched, OnCue of cues, and OnMoving for how long to wait before
	// coming back to a service that restarts. Each may be nil; they are called as
	// OnEvent is.
	OnTyping func(wire.TypingFrame)
	OnPerson func(wire.PersonFrame)
	OnCue    func(wire.CueFrame)
	OnMoving func(time.Duration)
	// OnAsks is told the open asks of rooms in which the person may admit, OnAsk how an ask of this
	// session ended, OnInvitations the open invitations of the person, and OnInvitation how one
	// ended. Each may be nil; they are called like OnEvent.
	OnAsks        func(wire.AsksFrame)
	OnAsk         func(wire.AskFrame)
	OnInvitations func(wire.Invitations)
	OnInvitation  func(wire.InvitationFrame)
	// OnDropped is called with each room, pattern or person that the link does not get, or no
	// longer gets. It may be nil, and is called like OnEvent.
	OnDropped func(wire.Drop)
	// RequestTimeout is how long a request waits for its answer; 15 seconds if zero.
	RequestTimeout time.Duration
	// NetDial makes the connection. If it is nil, a plain TCP connection is made.
	NetDial func(ctx context.Context, network, address string) (net.Conn, error)
	// TLS is the configuration for https; nil for the default.
	TLS *tls.Config
	// Compress asks the service to compress long frames (RFC 7692), which is worthwhile for large rooms over
	// a slow network. What the link sends is short, and never compressed.
	Compress bool
}

// Link is a connection that has said hello. Its methods are safe for concurrent use.
type Link struct {
	conn    *websocket.Conn
	opened  wire.Opened
	options Options
	onEvent func(Event)
	ended   chan struct{} // closed when the reader has stopped; err is set before

	writing sync.Mutex // one frame at a time

	mu      sync.Mutex
	lastID  int
	waiting map[string]chan reply // by request id; each holds one
	err     error

	replicas map[string]*Replica // of the reader alone
	renewing sync.WaitGroup      // the reader waits for it at its end
}

// Dial connects and says hello. Its error is a [*wire.Problem] if the service refused. Ctx
// bounds the dial, not the link.
func Dial(ctx context.Context, o Options) (*Link, error) {
	address, err := linkAddress(o.Server)
	if err != nil {
		return nil, err
	}
	dialer := websocket.Dialer{NetDialContext: o.NetDial, TLSClientConfig: o.TLS, HandshakeTimeout: 10 * time.Second, EnableCompression: o.Compress}
	conn, response, err := dialer.DialContext(ctx, address, nil)
	if err != nil {
		if response != nil {
			return nil, fmt.Errorf("%s did not open a link: %s", o.Server, response.Status)
		}
		return nil, fmt.Errorf("no link to %s: %w", o.Server, err)
	}
	conn.EnableWriteCompression(false)
	l := &Link{
		conn: conn, options: o, onEvent: o.OnEvent, ended: make(chan struct{}),
		waiting: map[string]chan reply{}, replicas: map[string]*Replica{},
	}
	if o.After != nil {
		<-o.After.ended
		l.replicas = o.After.replicas
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

// serviceAt parses the address of a service.
func serviceAt(server string) (*url.URL, error) {
	u, err := url.Parse(server)
	if err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
		return nil, fmt.Errorf("the server is %q; allowed: http://HOST:PORT or https://HOST", server)
	}
	return u, nil
}

func linkAddress(server string) (string, error) {
	u, err := serviceAt(server)
	if err != nil {
		return "", err
	}
	u.Scheme = strings.Replace(u.Scheme, "http", "ws", 1)
	return u.JoinPath("/v1/link").String(), nil
}

func (l *Link) hello(ctx context.Context, o Options) error {
	if deadline, ok := ctx.Deadline(); ok {
		_ = l.conn.SetReadDeadline(deadline)
		defer func() { _ = l.conn.SetReadDeadline(time.Time{}) }()
	}
	hello := wire.Hello{Type: wire.TypeHello, Version: wire.Version, Token: o.Token, Key: o.Key,
		Nonce: o.Nonce, Resume: o.Resume, Rooms: o.Rooms, Detail: o.Detail, Watch: o.Watch, WatchOnly: o.WatchOnly, OneByOne: !o.AllOrNothing,
		Device: o.Device, Without: o.Without, Limit: o.Limit}
	for room, replica := range l.replicas {
		if hello.Revs == nil {
			hello.Revs = map[string]string{}
		}
		hello.Revs[room] = replica.rev
	}
	err := l.write(hello)
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
		wire.Opened
	}
	if err := json.Unmarshal(data, &answer); err != nil {
		return fmt.Errorf("the answer to hello cannot be read: %w", err)
	}
	switch answer.Type {
	case wire.TypeError:
		return &answer.Problem
	case wire.TypeMoving:
		return l.noPlace(data)
	}
	l.opened = answer.Opened
	return nil
}

// noPlace tells OnMoving when to come back, and returns that as an error.
func (l *Link) noPlace(data []byte) error {
	var moving wire.Moving
	if err := json.Unmarshal(data, &moving); err != nil {
		return fmt.Errorf("the answer to hello cannot be read: %w", err)
	}
	after := time.Duration(moving.After) * time.Millisecond
	if l.options.OnMoving != nil {
		l.options.OnMoving(after)
	}
	return fmt.Errorf("the service has no place for another link: come back in %v", after)
}

// Opened returns the content of the answer to the hello.
func (l *Link) Opened() wire.Opened { return l.opened }

// Resume returns what a later link needs to resume this session.
func (l *Link) Resume() *wire.Resume {
	return &wire.Resume{Session: l.opened.Session, ResumeKey: l.opened.ResumeKey}
}

// Join puts the session into a room and follows it. If the person must ask to enter it, the
// session asks, and OnAsk is told the outcome; [Link.JoinOrAsk] tells the two apart.
func (l *Link) Join(ctx context.Context, room string) error {
	_, err := l.JoinOrAsk(ctx, room)
	return err
}

// Leave takes the session out of a room.
func (l *Link) Leave(ctx context.Context, room string) error {
	return l.request(ctx, wire.Request{Type: wire.TypeLeave, Room: room})
}

// Typing says that the person is typing in a room, or with on false that they have stopped.
// While they type, repeat it within Opened().Timings.TypingExpires.
func (l *Link) Typing(ctx context.Context, room string, on bool) error {
	return l.request(ctx, wire.Request{Type: wire.TypeTyping, Room: room, On: &on})
}

// SetStatus sets the status of the person to busy or away, with a note, until a time; a zero
// time is no end. An empty status follows the sessions; a note may go with it. Both empty clear
// what is set.
func (l *Link) SetStatus(ctx context.Context, status, note string, until time.Time) error {
	r := wire.Request{Type: wire.TypeStatus, Status: status, Note: note}
	if !until.IsZero() {
		r.Until = &until
	}
	return l.request(ctx, r)
}

// Hide hides the person from others, or with on false shows them again. The token must grant it.
func (l *Link) Hide(ctx context.Context, on bool) error {
	return l.request(ctx, wire.Request{Type: wire.TypeHide, On: &on})
}

// SignOut ends all sessions of the person, and the link.
func (l *Link) SignOut(ctx context.Context) error {
	defer l.Close()
	return l.request(ctx, wire.Request{Type: wire.TypeSignOut})
}

// Remove removes a person from a room. The token must grant moderation. Tokens of that person
// issued before now are refused there from then on.
func (l *Link) Remove(ctx context.Context, user, room string) error {
	return l.request(ctx, wire.Request{Type: wire.TypeRemove, User: user, Room: room})
}

// Renew replaces the token by a newer one of the same person.
func (l *Link) Renew(ctx context.Context, token string) error {
	return l.request(ctx, wire.Request{Type: wire.TypeRenew, Token: token})
}

// Cue gives a cue and returns how many links it was sent to. Room, User or Session names the
// recipient, and Name and Data the content.
func (l *Link) Cue(ctx context.Context, cue wire.Request) (links int, err error) {
	cue.Type = wire.TypeCue
	var answer wire.Answer
	if err := l.ask(ctx, cue, &answer); err != nil {
		return 0, err
	}
	if answer.Links != nil {
		links = *answer.Links
	}
	return links, nil
}

// Members returns a page of a room at a revision: up to limit members after a user id. An empty
// rev stands for a recent revision.
func (l *Link) Members(ctx context.Context, room, rev, after string, limit int) (wire.Members, error) {
	var answer struct{ wire.Members }
	err := l.ask(ctx, wire.Request{Type: wire.TypeMembers, Room: room, Rev: rev, After: after, Limit: limit}, &answer)
	return answer.Members, err
}

// WatchPeople follows the statuses of people.
func (l *Link) WatchPeople(ctx context.Context, people ...string) error {
	return l.request(ctx, wire.Request{Type: wire.TypeWatch, People: people})
}

// Watch follows the rooms that a name or pattern names, at wire.DetailMembers or
// wire.DetailCount.
func (l *Link) Watch(ctx context.Context, room, detail string) error {
	return l.request(ctx, wire.Request{Type: wire.TypeWatch, Room: room, Detail: detail})
}

// WatchWith is Watch with all that a watch can say: what it leaves out, and how many members it is
// for. Its People are ignored.
func (l *Link) WatchWith(ctx context.Context, w wire.Watch) error {
	return l.request(ctx, wire.Request{Type: wire.TypeWatch, Room: w.Room, Detail: w.Detail, Without: w.Without, Limit: w.Limit})
}

// Request sends a request for which there is no method, and waits for its answer.
func (l *Link) Request(ctx context.Context, r wire.Request) error { return l.request(ctx, r) }

// Unwatch ends a watch.
func (l *Link) Unwatch(ctx context.Context, room string) error {
	return l.request(ctx, wire.Request{Type: wire.TypeUnwatch, Room: room})
}

// Idle reports that nobody is at the session now.
func (l *Link) Idle(ctx context.Context) error {
	return l.request(ctx, wire.Request{Type: wire.TypeIdle})
}

// Activity reports human input at the session.
func (l *Link) Activity(ctx context.Context) error {
	return l.request(ctx, wire.Request{Type: wire.TypeActivity})
}

// Bye ends the session now, and the link.
func (l *Link) Bye(ctx context.Context) error {
	defer l.Close()
	return l.request(ctx, wire.Request{Type: wire.TypeBye})
}

// Closing says that this page or process is going away and may return at once, and ends the
// link.
func (l *Link) Closing(ctx context.Context) error {
	defer l.Close()
	return l.request(ctx, wire.Request{Type: wire.TypeClosing})
}

// Close drops the connection. The session remains for its grace.
func (l *Link) Close() {
	_ = l.conn.Close()
	<-l.ended
}

// Ended returns a channel that is closed when the link has ended; Err then returns why.
func (l *Link) Ended() <-chan struct{} { return l.ended }

// Err returns why the link has ended: a [*websocket.CloseError] if the service closed it, and [ErrEnded] with it
// if the session was ended. It is nil while the link is up.
func (l *Link) Err() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.err
}

// reply is what came back to a request: an answer, or an error.
type reply struct {
	data []byte
	err  error
}

// request sends a frame and waits for its answer.
func (l *Link) request(ctx context.Context, r wire.Request) error { return l.ask(ctx, r, nil) }

// ask is request for an answer that says something.
func (l *Link) ask(ctx context.Context, r wire.Request, into any) error {
	got, err := l.await(ctx, r)
	if err != nil || into == nil {
		return err
	}
	if err := json.Unmarshal(got, into); err != nil {
		return fmt.Errorf("the answer to %s cannot be read: %w", r.Type, err)
	}
	return nil
}

// requestTimeout is how long a request waits for its answer.
const requestTimeout = 15 * time.Second

func (l *Link) await(ctx context.Context, r wire.Request) ([]byte, error) {
	wait := cmp.Or(l.options.RequestTimeout, requestTimeout)
	ctx, cancel := context.WithTimeoutCause(ctx, wait, fmt.Errorf("no answer to %s within %s: %w", r.Type, wait, context.DeadlineExceeded))
	defer cancel()
	done := make(chan reply, 1)
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
	text, err := json.Marshal(r)
	if err != nil {
		return nil, fmt.Errorf("%s %s: %w", r.Type, r.Room, err)
	}
	if err := l.write(json.RawMessage(text)); err != nil {
		_ = l.conn.Close() // the reader may not have noticed
	}
	select {
	case got := <-done:
		return got.data, got.err
	case <-l.ended:
		select {
		case got := <-done: // the answer was the last that came
			return got.data, got.err
		default:
			return nil, fmt.Errorf("%w: %w", ErrClosed, l.Err())
		}
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

func (l *Link) write(frame any) error {
	l.writing.Lock()
	defer l.writing.Unlock()
	_ = l.conn.SetWriteDeadline(time.Now().Add(10 * time.Second))
	return l.conn.WriteJSON(frame)
}

func (l *Link) read() {
	for _, d := range l.opened.Dropped {
		l.dropped(d)
	}
	if all := l.opened.Invitations; all != nil && l.options.OnInvitations != nil {
		l.options.OnInvitations(*all)
	}
	ctx, cancel := context.WithCancel(context.Background()) // of what the reader starts
	silence := time.Duration(l.opened.Timings.Silence) * time.Millisecond
	var err error
	for err == nil {
		var data []byte
		if silence > 0 {
			_ = l.conn.SetReadDeadline(time.Now().Add(silence))
		}
		_, data, err = l.conn.ReadMessage()
		switch {
		case err == nil:
			err = l.receive(ctx, data)
		case errors.Is(err, os.ErrDeadlineExceeded):
			err = fmt.Errorf("the link is dead: the service has said nothing for %v: %w", silence, err)
		case errors.Is(err, net.ErrClosed):
			err = errors.New("by this client")
		case websocket.IsCloseError(err, wire.CloseEnded):
			err = fmt.Errorf("%w: %w", ErrEnded, err)
		}
	}
	_ = l.conn.Close()
	cancel()
	l.renewing.Wait()
	l.mu.Lock()
	l.err = err
	l.mu.Unlock()
	close(l.ended)
}

func (l *Link) receive(ctx context.Context, data []byte) error {
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
		l.settle(frame.Re, reply{data: data})
	case wire.TypeError:
		problem := new(wire.Problem)
		if err := json.Unmarshal(data, problem); err != nil {
			return fmt.Errorf("an error frame cannot be read: %w", err)
		}
		l.settle(frame.Re, reply{err: problem})
	case wire.TypeTyping:
		return tell(data, l.options.OnTyping)
	case wire.TypePerson:
		return tell(data, l.options.OnPerson)
	case wire.TypeCue:
		return tell(data, l.options.OnCue)
	case wire.TypeAsks:
		return tell(data, l.options.OnAsks)
	case wire.TypeAsk:
		return tell(data, l.options.OnAsk)
	case wire.TypeInvitations:
		return tell(data, l.options.OnInvitations)
	case wire.TypeInvitation:
		return tell(data, l.options.OnInvitation)
	case wire.TypeDropped:
		return tell(data, l.dropped)
	case wire.TypeExpiring:
		if l.options.NewToken != nil {
			l.renewing.Go(func() { l.renew(ctx) })
		}
	case wire.TypeMoving:
		return tell(data, func(m wire.Moving) {
			if l.options.OnMoving != nil {
				l.options.OnMoving(time.Duration(m.After) * time.Millisecond)
			}
		})
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

func (l *Link) dropped(d wire.Drop) {
	if !d.Watch {
		delete(l.replicas, d.Room)
	}
	if l.options.OnDropped != nil {
		l.options.OnDropped(d)
	}
}

// renew brings a fresh token. Without one the link is cut in time, and the next one
// wants a token anyway.
func (l *Link) renew(ctx context.Context) {
	if token, err := l.options.NewToken(ctx); err == nil {
		_ = l.Renew(ctx, token)
	}
}

func (l *Link) replica(room string) *Replica {
	r := l.replicas[room]
	if r == nil {
		r = &Replica{}
		l.replicas[room] = r
	}
	return r
}

// tell reads a frame for whoever is to be told of it.
func tell[F any](data []byte, who func(F)) error {
	if who == nil {
		return nil
	}
	var frame F
	if err := json.Unmarshal(data, &frame); err != nil {
		return fmt.Errorf("a frame of the service cannot be read: %w", err)
	}
	who(frame)
	return nil
}

func (l *Link) settle(re wire.ID, got reply) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if done := l.waiting[string(re)]; done != nil {
		done <- got
		delete(l.waiting, string(re))
	}
}
