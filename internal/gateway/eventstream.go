package gateway

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	"tovik.example/tovik/internal/deflate"
	"tovik.example/tovik/internal/pace"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/internal/transport"
	"tovik.example/tovik/wire"
)

// How long an event stream without a connection waits for its client, and how many may wait.
const (
	feedLife = 60 * time.Second
	maxFeeds = 10_000
)

// feed is an event stream as its client sees it: it continues over several connections. Its
// events are numbered, and a client that returns sends the number of the last one it got.
type feed struct {
	gateway *Gateway
	name    string // random; known only to clients that have read an event
	ticket  [sha256.Size]byte
	talk    *realm.Conversation
	hello   wire.Hello // that opened it, with the newest token; empty if the service is alone; guarded by posting

	posting sync.Mutex // held during a request: one at a time

	mu     sync.Mutex   // held while frames are fetched: for one connection at a time
	link   *eventStream // the current connection, or nil
	number uint64       // of the last fetched frame
	expiry *time.Timer
	gone   bool // its client did not return in time
}

// eventStream is the link of one connection of a feed. It is the handler of its stream, which
// receives nothing: requests come as posts.
type eventStream struct {
	link
	feed   *feed
	key    string    // the session's resume key; set before talk
	frames pace.Pace // of posts; guarded by posting
}

func (g *Gateway) newEventStream(f *feed, caller realm.Caller) *eventStream {
	s := &eventStream{link: link{gateway: g, caller: caller}, feed: f}
	s.kind = s
	return s
}

func (*eventStream) isStream() bool { return true }

func (s *eventStream) released(*realm.Conversation) { s.gateway.feeds.detach(s.feed, s) }

func (*eventStream) every(p *presence.Policy) time.Duration { return p.Silence() / 3 }

func (s *eventStream) sweep(_ *presence.Policy, _ time.Duration, waits bool) {
	if waits {
		s.stream().Still()
	}
}

// Receive implements [transport.Handler].
func (*eventStream) Receive([]byte, bool) {}

// MayWait implements [transport.Handler].
func (*eventStream) MayWait() bool { return false }

// Control implements [transport.Handler].
func (*eventStream) Control() {}

// Broken implements [transport.Handler].
func (s *eventStream) Broken(code int, reason string) { s.stream().Finish(code, reason) }

// Overdue implements [transport.Handler].
func (*eventStream) Overdue() {}

// Fetch implements [transport.Handler]. Only the current connection gets deliveries.
func (s *eventStream) Fetch(frames []deflate.Text) (_ []deflate.Text, more bool) {
	f := s.feed
	f.mu.Lock()
	defer f.mu.Unlock()
	frames, talk := s.fetchOutbox(frames)
	if f.link != s {
		return frames, false
	}
	if talk != nil {
		talk.Record(f.number)
		frames, more = talk.Next(frames)
	}
	f.number += uint64(len(frames))
	return frames, more
}

// FeedRequest is a request for an event stream.
type FeedRequest struct {
	Ticket string
	Bearer string     // a token or a key
	Hello  wire.Hello // from the query
	Last   string     // Last-Event-ID
	Caller realm.Caller
}

// Feed opens or resumes an event stream. It returns a function that starts the stream on the
// connection, after the response head. Until then the given connection is only watched for its
// end. The error is a problem, or a refusal of the core.
func (g *Gateway) Feed(conn net.Conn, r FeedRequest) (begin func(conn net.Conn, head, early []byte), err error) {
	if err := g.mayStream(r.Caller.Address); err != nil {
		return nil, err
	}
	if f, after, ok := g.feeds.find(r.Last); ok && f.isOf(r) {
		return f.resume(conn, r, after)
	}
	ctx, done := g.whileAsking(conn)
	defer done()
	c, from, err := g.greet(ctx, r)
	if err != nil {
		return nil, err
	}
	f := &feed{gateway: g, name: g.peers.Mark(rand.Text()), ticket: sha256.Sum256([]byte(r.Ticket)), hello: g.origin(from.Hello)}
	c = c.OverStream(f.name)
	s := g.newEventStream(f, r.Caller)
	if err := g.reserve(&s.link, c); err != nil {
		return nil, err
	}
	reply, c, err := g.admit(ctx, conn, c)
	for until := time.Now().Add(movedIn); from.Moved && err != nil && problem.Of(err).Code == wire.CodeNotReady && time.Now().Before(until) && ctx.Err() == nil; {
		time.Sleep(movedPause)
		reply, c, err = g.admit(ctx, conn, c) // nothing else has what was kept for the client
	}
	if err == nil && from.Moved && !reply.Resumed && c.Session() {
		c.Withdraw(reply.Link)
		err = streamOver("the session of this stream has ended")
	}
	if err != nil {
		g.forget(&s.link)
		return nil, err
	}
	var opened *wire.Opened
	f.talk, opened = c.Converse(reply, s.wake)
	for _, frame := range from.Kept {
		f.talk.Keep(frame)
	}
	g.feeds.add(f)
	return f.connect(s, reply, opened, 0), nil
}

// movedIn is how long a stream that comes from another node waits for an owner of its realm: longer than it takes until
// there is one again.
const (
	movedIn    = 20 * time.Second
	movedPause = 100 * time.Millisecond // between two tries
)

// admit says the hello of a stream. The greeting is the one to converse with, or to say again if there is an error.
func (g *Gateway) admit(ctx context.Context, conn net.Conn, c *realm.Greeting) (reply presence.Reply, admitted *realm.Greeting, err error) {
	if admitted, err = c.Admit(ctx); err != nil {
		return reply, c, err
	}
	if admitted.Session() {
		reply, err = g.open(ctx, conn, admitted)
	}
	return reply, admitted, err
}

// greet checks the hello of a new stream, which may come from a ticket, or from another node.
func (g *Gateway) greet(ctx context.Context, r FeedRequest) (*realm.Greeting, handedOver, error) {
	from := handedOver{Hello: realm.WithBearer(r.Hello, r.Bearer)}
	if name, _, ok := cutEvent(r.Last); ok && g.peers.Elsewhere(name) != "" {
		if err := g.takeOver(ctx, g.peers.Elsewhere(name), r, &from); err != nil {
			return nil, from, err
		}
	} else if node := g.peers.Elsewhere(r.Ticket); node != "" {
		if err := g.takeTicket(ctx, node, r.Ticket, &from.Hello); err != nil {
			return nil, from, err
		}
	} else if r.Ticket != "" {
		t, err := g.tickets.use(r.Ticket, time.Now())
		from.Hello = t.hello
		return t.greeting, from, err
	}
	c, err := g.realms.Greet(ctx, from.Hello, r.Caller)
	return c, from, err
}

// isOf reports whether a request comes from the client of the stream: it has the ticket that
// opened the stream, or a token of the same person.
func (f *feed) isOf(r FeedRequest) bool {
	if r.Ticket != "" {
		sum := sha256.Sum256([]byte(r.Ticket))
		return subtle.ConstantTimeCompare(sum[:], f.ticket[:]) == 1
	}
	return f.gateway.realms.IsClient(f.talk.Guest(), r.Bearer, r.Caller)
}

// resume continues a stream over a new connection, from the last event that the client got. The
// session continues over a new link, as for the same page.
func (f *feed) resume(conn net.Conn, r FeedRequest, after uint64) (func(net.Conn, []byte, []byte), error) {
	f.posting.Lock()
	defer f.posting.Unlock()
	if !f.hold() {
		return nil, streamOver("this stream was given up, for its client stayed away")
	}
	g := f.gateway
	ctx, done := g.whileAsking(conn)
	defer done()
	s := g.newEventStream(f, r.Caller)
	c, reply, err := f.again(ctx, conn, s)
	if err != nil {
		g.forget(&s.link)
		g.feeds.await(f)
		return nil, gone(err)
	}
	f.talk.Returned(reply.Rooms) // it may have left other rooms since
	return f.connect(s, reply, c.Opened(reply), after), nil
}

// again repeats the hello of a stream for a new connection.
func (f *feed) again(ctx context.Context, conn net.Conn, s *eventStream) (*realm.Greeting, presence.Reply, error) {
	c := f.talk.Return()
	if err := f.gateway.reserve(&s.link, c); err != nil {
		return nil, presence.Reply{}, err
	}
	c, err := c.Admit(ctx)
	if err != nil || !c.Session() {
		return c, presence.Reply{}, err
	}
	reply, err := f.gateway.open(ctx, conn, c)
	if err == nil && !reply.Resumed {
		f.talk.Withdraw(reply.Link)
		err = streamOver("the session of this stream has ended")
	}
	return c, reply, err
}

func streamOver(detail string) error {
	return &wire.Problem{Code: wire.CodeBadTicket, Field: "Last-Event-ID", Detail: detail,
		Allowed: "a new stream, with a fresh ticket from POST /v1/tickets"}
}

// hold keeps the stream from expiring while its client returns. It returns false if the
// stream has expired.
func (f *feed) hold() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.expiry != nil {
		f.expiry.Stop()
		f.expiry = nil // a timer that fires now finds that it was replaced
	}
	return !f.gone
}

// connect sets the stream's current connection.
func (f *feed) connect(s *eventStream, reply presence.Reply, opened *wire.Opened, after uint64) func(net.Conn, []byte, []byte) {
	if opened.Session != "" {
		opened.Posts = "/v1/sessions/" + opened.Session + "/links/" + strconv.FormatUint(opened.Link, 10)
		if node := f.gateway.peers.Name(); node != "" {
			opened.Posts += "?node=" + node
		}
	}
	f.mu.Lock()
	before := f.link
	f.link, f.number = s, after
	f.mu.Unlock()
	if before != nil {
		before.finish(wire.CloseReplaced, presence.ReasonReplaced.String())
	}
	f.talk.Rewind(after)
	s.key = reply.Key
	s.greet(f.talk, reply, wire.Encode(wire.Answer{Type: wire.TypeAnswer, Opened: opened}))
	for _, frame := range f.talk.TakeKept() {
		s.send(outgoing{frame: frame})
	}
	return func(conn net.Conn, head, early []byte) {
		codec := transport.EventStream(f.name, after)
		stream := transport.NewStream(f.gateway.pool, conn, codec, s)
		stream.Preface(head)
		f.gateway.carry(&s.link, stream, early, func(end transport.Farewell) {
			end.Head = head
			f.gateway.turnAway(conn, codec, end)
		})
		f.talk.Rewake(s.wake)
	}
}

// feeds are all event streams by name, including those that wait for their clients.
type feeds struct {
	mu     sync.Mutex
	all    map[string]*feed
	closed bool
}

func newFeeds() *feeds { return &feeds{all: map[string]*feed{}} }

func (s *feeds) add(f *feed) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all[f.name] = f
}

// cutEvent cuts an event id, NAME.NUMBER.
func cutEvent(id string) (name string, number uint64, ok bool) {
	i := strings.LastIndexByte(id, '.')
	if i < 0 {
		return "", 0, false
	}
	number, err := strconv.ParseUint(id[i+1:], 10, 64)
	return id[:i], number, err == nil
}

// find looks up the stream of an event id.
func (s *feeds) find(id string) (*feed, uint64, bool) {
	name, after, ok := cutEvent(id)
	s.mu.Lock()
	defer s.mu.Unlock()
	f := s.all[name]
	return f, after, f != nil && ok
}

// detach lets a stream without a connection wait for its client.
func (s *feeds) detach(f *feed, l *eventStream) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.link != l {
		return
	}
	f.link = nil
	f.talk.Rewake(func() {})
	s.mu.Lock()
	full := s.closed || len(s.all) > maxFeeds
	s.mu.Unlock()
	if full {
		s.end(f)
		return
	}
	s.expire(f)
}

// await restarts the waiting time of a stream, after a return that failed.
func (s *feeds) await(f *feed) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.link == nil {
		s.expire(f)
	}
}

// expire ends the stream when its client has not returned in time. It calls end with the stream
// locked.
func (s *feeds) expire(f *feed) {
	var expiry *time.Timer
	expiry = time.AfterFunc(feedLife, func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		if f.expiry == expiry && f.link == nil {
			s.end(f)
		}
	})
	f.expiry = expiry
}

func (s *feeds) end(f *feed) {
	f.gone = true
	s.mu.Lock()
	delete(s.all, f.name)
	s.mu.Unlock()
	f.talk.Close()
}

// close ends all streams. None of them has a connection.
func (s *feeds) close() {
	s.mu.Lock()
	s.closed = true
	all := make([]*feed, 0, len(s.all))
	for _, f := range s.all {
		all = append(all, f)
	}
	s.mu.Unlock()
	for _, f := range all {
		f.mu.Lock()
		if f.expiry != nil {
			f.expiry.Stop()
		}
		s.end(f)
		f.mu.Unlock()
	}
}

// narrow ends the watches of waiting streams that are no longer allowed.
func (s *feeds) narrow(is func(*realm.Guest) bool) {
	for _, f := range s.those(is) {
		talk := f.talk
		f.mu.Lock()
		away := f.link == nil
		f.mu.Unlock()
		if !away {
			continue // its link has been narrowed
		}
		for _, d := range talk.Narrow() {
			talk.Keep(dropFrame(d))
		}
	}
}

// endIf ends the waiting streams whose clients may not return.
func (s *feeds) endIf(over func(*realm.Guest) bool) {
	for _, f := range s.those(over) {
		f.mu.Lock()
		if f.link == nil && !f.gone {
			s.end(f)
		}
		f.mu.Unlock()
	}
}

func (s *feeds) those(is func(*realm.Guest) bool) (feeds []*feed) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, f := range s.all {
		if is(f.talk.Guest()) {
			feeds = append(feeds, f)
		}
	}
	return feeds
}

// PostRequest is a request of a client with an event stream.
type PostRequest struct {
	Node    string `json:"-"` // that carries the stream; empty: this one
	Session string `json:"session"`
	Link    uint64 `json:"link"`
	Key     string `json:"key"` // the session's resume key
	Frame   []byte `json:"frame"`
}

// Post carries out a request of a client with an event stream, like a frame over a WebSocket,
// and returns the answer. The error is a problem, or a refusal of the core.
func (g *Gateway) Post(ctx context.Context, r PostRequest) ([]byte, error) {
	if r.Node != "" && r.Node != g.peers.Name() {
		return g.postTo(ctx, r)
	}
	var s *eventStream
	if l := g.carrier(presence.LinkID{Session: presence.SessionID(r.Session), Number: presence.LinkNumber(r.Link)}); l != nil {
		s, _ = l.kind.(*eventStream)
	}
	if s == nil || r.Key == "" || subtle.ConstantTimeCompare([]byte(r.Key), []byte(s.key)) != 1 {
		return nil, noLink(r)
	}
	return s.post(r.Frame)
}

func noLink(r PostRequest) error {
	return &wire.Problem{Code: wire.CodeNoLink, Field: "link", Value: wire.Shorten(r.Session + " " + strconv.FormatUint(r.Link, 10)),
		Detail: "there is no event stream with this link and key", Allowed: "an address that the last answer gave for posts, with the session's key as bearer"}
}

// post carries out the request of a frame.
func (s *eventStream) post(data []byte) ([]byte, error) {
	s.feed.posting.Lock()
	defer s.feed.posting.Unlock()
	if !s.frames.Take(time.Now(), frameRate) {
		return nil, errTooFast
	}
	f, err := readFrame(data)
	if err == nil {
		err = f.inOrder(true)
	}
	if err != nil {
		return nil, err
	}
	r, err := f.request()
	if err != nil {
		s.feed.talk.Hear(s.carries)
		return nil, err
	}
	return s.request(r)
}

// request carries out a request, and waits for its answer.
func (s *eventStream) request(r wire.Request) ([]byte, error) {
	ctx, over := s.during()
	defer over()
	done, err := s.feed.talk.Do(ctx, s.by(), r)
	s.tellDropped(done.Dropped)
	if err == nil && done.Wait != nil {
		done.Answer, err = done.Wait()
	}
	if err != nil {
		return nil, err
	}
	if r.Type == wire.TypeBeat {
		s.gateway.beats.Add(1)
	}
	if r.Type == wire.TypeRenew && s.feed.hello.Token != "" {
		s.feed.hello.Token = r.Token
	}
	done.Answer.Type, done.Answer.Re = wire.TypeAnswer, r.ID
	answer := wire.Encode(done.Answer)
	for _, act := range []func(){done.Before, done.After} {
		if act != nil {
			act()
		}
	}
	s.conclude(done)
	return answer, nil
}
