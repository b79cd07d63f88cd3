package gateway

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/valyala/fasthttp"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/transport"
	"tovik.example/tovik/wire"
)

// How long and how many event streams are kept that have lost their connection, for
// their clients to come back to.
const (
	feedLife = 60 * time.Second
	maxFeeds = 10_000
)

// feed is an event stream as its client sees it: it outlives its connections. Its
// events are numbered, and a client that comes back says which was the last it got.
type feed struct {
	name   string // random; known only to who has read an event of it
	ticket [sha256.Size]byte
	talk   *conversation
	in     presence.Hello // as it would be said again, with the session and key that it led to

	posting sync.Mutex // held while something is asked of it: one request at a time

	mu     sync.Mutex // held while frames are fetched: one connection at a time
	link   *link      // the present connection; nil while there is none
	number uint64     // of the last frame that was fetched
	expiry *time.Timer
	gone   bool // its client did not come back in time
}

// feeds are all event streams by name, those included whose clients may come back.
type feeds struct {
	mu     sync.Mutex
	all    map[string]*feed
	closed bool
}

func newFeeds() *feeds { return &feeds{all: map[string]*feed{}} }

// FeedRequest is a request for an event stream, as it was sent.
type FeedRequest struct {
	Ticket string
	Bearer string     // a token or a key
	Hello  wire.Hello // what the address asks for besides
	Last   string     // Last-Event-ID
	Caller Caller
}

// Feed makes the request an event stream, which lives on after it. Its error is a
// [*wire.Problem].
func (g *Gateway) Feed(conn *fasthttp.RequestCtx, r FeedRequest) error {
	if err := g.links.mayOpen(r.Caller.Address); err != nil {
		return err
	}
	if f, after, ok := g.feeds.find(r.Last); ok && g.owns(r, f) {
		return g.resume(conn, r, f, after)
	}
	ctx, done := g.whileAsking(conn.Conn())
	defer done()
	var c *greeting
	var err error
	if r.Ticket != "" {
		c, err = g.tickets.use(r.Ticket, time.Now())
	} else {
		c, err = g.check(ctx, withBearer(r.Hello, r.Bearer), r.Caller)
	}
	if err != nil {
		return err
	}
	f := &feed{name: rand.Text(), ticket: sha256.Sum256([]byte(r.Ticket))}
	c.in.Stream = true
	if c.in.Nonce == "" {
		c.in.Nonce = f.name
	}
	if c, err = g.admit(ctx, c); err != nil {
		return err
	}
	l := &link{gateway: g, feed: f, caller: r.Caller}
	if err := g.links.know(l, c.guest); err != nil {
		return err
	}
	var reply presence.Reply
	if c.session {
		if reply, err = g.open(ctx, conn.Conn(), c); err != nil {
			g.links.forget(l)
			return withdrawn(err)
		}
	}
	talk, opened := g.converse(c, reply, l.wake)
	f.talk, f.in = talk, c.in
	f.in.Session, f.in.Key = reply.Link.Session, reply.Key
	f.in.Rooms, f.in.IdleFor = nil, nil // a return changes neither
	g.feeds.add(f)
	f.connect(conn, l, c, reply, opened, 0)
	return nil
}

// withdrawn is the error of a hello whose connection is gone.
func withdrawn(err error) error {
	if errors.Is(err, context.Canceled) {
		return &wire.Problem{Code: wire.CodeNotReady, Detail: "the connection has gone"}
	}
	return err
}

// owns tells whether a request that names an event of a stream comes from its client:
// it has the ticket that opened the stream, or a token of its person.
func (g *Gateway) owns(r FeedRequest, f *feed) bool {
	if r.Ticket != "" {
		sum := sha256.Sum256([]byte(r.Ticket))
		return subtle.ConstantTimeCompare(sum[:], f.ticket[:]) == 1
	}
	who, err := g.identify(withBearer(wire.Hello{}, r.Bearer), r.Caller)
	return err == nil && who.operator == f.talk.guest.Load().operator && who.id() == f.talk.guest.Load().id()
}

// resume gives a stream another connection, and what its client has missed. The
// session goes on over a new link, as that of the same page.
func (g *Gateway) resume(conn *fasthttp.RequestCtx, r FeedRequest, f *feed, after uint64) error {
	f.posting.Lock()
	defer f.posting.Unlock()
	if !f.hold() {
		return streamOver("this stream was given up, for its client stayed away")
	}
	ctx, done := g.whileAsking(conn.Conn())
	defer done()
	l := &link{gateway: g, feed: f, caller: r.Caller}
	c, reply, err := g.again(ctx, conn.Conn(), l, f)
	if err != nil {
		g.links.forget(l)
		g.feeds.await(f)
		return withdrawn(err)
	}
	opened := opened(g.policy.Load(), c, reply)
	for _, pattern := range f.talk.receiver.Following(delivery.Joined) {
		if room, _ := pattern.Room(); !slices.Contains(reply.Rooms, room) {
			f.talk.receiver.Unfollow(delivery.Joined, pattern) // it has left that room meanwhile
		}
	}
	f.connect(conn, l, c, reply, opened, after)
	return nil
}

// again says the hello of a stream once more, for another connection.
func (g *Gateway) again(ctx context.Context, conn net.Conn, l *link, f *feed) (*greeting, presence.Reply, error) {
	who := f.talk.guest.Load()
	c := &greeting{guest: who, in: f.in, session: f.in.Session != ""}
	c.in.Profile, c.in.Grants = who.person.Profile, who.grants() // its token may have been renewed
	c.in.Issued, c.in.Expires = who.person.Issued.UnixMilli(), who.person.Expires.UnixMilli()
	c.in.NewSession, c.in.NewKey = newSessionID(), rand.Text()
	c, err := g.admit(ctx, c)
	if err != nil {
		return nil, presence.Reply{}, err
	}
	if err := g.links.know(l, c.guest); err != nil || !c.session {
		return c, presence.Reply{}, err
	}
	reply, err := g.open(ctx, conn, c)
	if err == nil && !reply.Resumed {
		_, _ = who.realm.do(presence.Bye{From: reply.Link}) // the one that was opened in its place
		err = streamOver("the session of this stream has ended")
	}
	return c, reply, err
}

func streamOver(detail string) error {
	return &wire.Problem{Code: wire.CodeBadTicket, Field: "Last-Event-ID", Detail: detail,
		Allowed: "a new stream, with a fresh ticket from POST /v1/tickets"}
}

// hold keeps the stream from being given up while its client comes back. It is false
// when it was already.
func (f *feed) hold() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.expiry != nil {
		f.expiry.Stop()
		f.expiry = nil // one that fires at this moment finds that it does not count
	}
	return !f.gone
}

// connect makes a link the stream's connection.
func (f *feed) connect(conn *fasthttp.RequestCtx, l *link, c *greeting, reply presence.Reply, opened *wire.Opened, after uint64) {
	if opened.Session != "" {
		opened.Posts = "/v1/sessions/" + opened.Session + "/links/" + strconv.FormatUint(uint64(opened.Link), 10)
	}
	f.mu.Lock()
	before := f.link
	f.link, f.number = l, after
	f.mu.Unlock()
	if before != nil {
		before.finish(wire.CloseReplaced, presence.ReasonReplaced.String())
	}
	f.talk.receiver.Rewind(after)
	l.greet(f.talk, c, reply, encode(wire.Answer{Type: wire.TypeAnswer, Opened: opened}))
	for _, frame := range f.talk.takeUnsaid() {
		l.send(outgoing{frame: frame})
	}
	conn.HijackSetNoResponse(true)
	conn.Hijack(func(c net.Conn) {
		l.gateway.carry(l, c, transport.EventStream(f.name, after))
		f.talk.receiver.Rewake(l.wake)
	})
}

// fetch is [link.Fetch] for event streams. Only the present connection gets what is
// delivered.
func (f *feed) fetch(l *link, frames [][]byte) (_ [][]byte, more bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	frames, receiver := l.fetchOutbox(frames)
	if f.link != l {
		return frames, false
	}
	if receiver != nil {
		receiver.Record(f.number)
		frames, more = receiver.Next(frames)
	}
	f.number += uint64(len(frames))
	return frames, more
}

func (s *feeds) add(f *feed) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all[f.name] = f
}

// find reads the id of an event, as in NAME.NUMBER.
func (s *feeds) find(id string) (*feed, uint64, bool) {
	name, number, _ := strings.Cut(id, ".")
	after, err := strconv.ParseUint(number, 10, 64)
	s.mu.Lock()
	defer s.mu.Unlock()
	f := s.all[name]
	return f, after, f != nil && err == nil
}

// detach lets a stream wait for its client, whose connection has gone.
func (s *feeds) detach(f *feed, l *link) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.link != l {
		return
	}
	f.link = nil
	f.talk.receiver.Rewake(func() {})
	s.mu.Lock()
	full := s.closed || len(s.all) > maxFeeds
	s.mu.Unlock()
	if full {
		s.end(f)
		return
	}
	s.expire(f)
}

// await gives a stream that has no connection its time again, after a return that
// came to nothing.
func (s *feeds) await(f *feed) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.link == nil {
		s.expire(f)
	}
}

// expire ends the stream when nobody has come back in time. The stream is locked, also
// for end.
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
	f.talk.receiver.Close()
}

// close ends all streams that wait; none has a connection any more.
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

// post is a request that came beside its event stream, and what became of it.
type post struct {
	answer []byte
	err    error
}

// Post carries out a request of a client whose link is an event stream, as a frame
// over a WebSocket, and returns the answer. Key is the session's. The error is a
// problem, or a refusal of the core.
func (g *Gateway) Post(session string, number uint32, key string, data []byte) ([]byte, error) {
	l := g.links.carrier(presence.LinkID{Session: presence.SessionID(session), Number: presence.LinkNumber(number)})
	if l == nil || l.feed == nil || key == "" || subtle.ConstantTimeCompare([]byte(key), []byte(l.key)) != 1 {
		return nil, &wire.Problem{Code: wire.CodeNoLink, Field: "link", Value: wire.Shorten(session + " " + strconv.FormatUint(uint64(number), 10)),
			Detail: "no event stream has this link, or the key is not its session's", Allowed: "the posts of the last answer, with the session's key as bearer"}
	}
	f := l.feed
	f.posting.Lock()
	defer f.posting.Unlock()
	if !l.frames.take(time.Now(), frameRate) {
		return nil, tooFast("frames", frameRate)
	}
	l.post = &post{}
	defer func() { l.post = nil }()
	l.receive(data)
	if l.post.answer == nil && l.post.err == nil { // a beat without an id
		return encode(wire.Answer{Type: wire.TypeAnswer}), nil
	}
	return l.post.answer, l.post.err
}
