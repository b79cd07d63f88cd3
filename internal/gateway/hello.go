package gateway

import (
	"context"
	"crypto/rand"
	"net"
	"strconv"
	"strings"
	"time"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/transport"
	"tovik.example/tovik/wire"
)

// maxIdle bounds what a client may say of the time before its hello.
const maxIdle = 30 * 24 * time.Hour

// greeting is a checked hello, ready to be told to the core.
type greeting struct {
	guest   *guest
	in      presence.Hello
	session bool // it opens one
	detail  delivery.Detail
	wish    wish
	revs    map[presence.RoomName]engine.Revision
	dropped []wire.Drop // what it asked for one by one and does not get
}

// hello carries out a hello that came as a frame. When the core has to probe an older link
// first, the answer comes later, and frames that come meanwhile wait for it.
func (l *link) hello(h wire.Hello) error {
	if h.Version != wire.Version {
		return wrongVersion(h.Version)
	}
	ctx, done := l.during()
	defer done()
	c, err := l.gateway.check(ctx, h, l.caller)
	if err != nil {
		return err
	}
	if c, err = l.gateway.admit(ctx, c); err != nil {
		return err
	}
	if err := l.gateway.links.know(l, c.guest); err != nil {
		return err
	}
	if !c.session {
		l.greeted(h.ID, c, presence.Reply{})
		return nil
	}
	reply, waiting, err := c.guest.realm.Engine.Begin(c.in)
	switch {
	case err != nil:
		l.gateway.links.forget(l)
		return err
	case waiting == nil:
		l.greeted(h.ID, c, reply)
		return nil
	}
	l.later(func() {
		ctx, done := l.during()
		defer done()
		reply, err := waiting.Answer(ctx)
		switch {
		case err == nil:
			l.greeted(h.ID, c, reply)
		case ctx.Err() == nil:
			l.gateway.links.forget(l)
			l.refuse(h.ID, err)
		} // otherwise the hello was withdrawn with its connection
	})
	return nil
}

// greeted lets the link be the guest's, and answers the hello.
func (l *link) greeted(id wire.ID, c *greeting, reply presence.Reply) {
	conversation, opened := l.gateway.converse(c, reply, l.wake)
	l.greet(conversation, c, reply, encode(wire.Answer{Type: wire.TypeAnswer, Re: id, Opened: opened}))
}

func wrongVersion(version int) error {
	return &wire.Problem{Code: wire.CodeWrongVersion, Field: "version", Value: strconv.Itoa(version),
		Detail: "this protocol version is not spoken here", Allowed: strconv.Itoa(wire.Version)}
}

// check checks all of a hello that can be checked without the core.
func (g *Gateway) check(ctx context.Context, h wire.Hello, caller Caller) (*greeting, error) {
	who, err := g.identify(h, caller)
	if err != nil {
		return nil, err
	}
	c := &greeting{guest: who, session: !who.operator && !h.WatchOnly}
	if c.wish, c.dropped, err = who.wishes(ctx, h.Watch, h.OneByOne); err != nil {
		return nil, err
	}
	if err := withinLimits(len(c.wish.watches), len(c.wish.people)); err != nil {
		return nil, err
	}
	if c.detail, err = detailOf(h.Detail, true); err != nil {
		return nil, err
	}
	if c.revs, err = revisions(h.Revs); err != nil {
		return nil, err
	}
	if !c.session {
		if h.Rooms != nil || h.Resume != nil {
			field := "key"
			if h.WatchOnly {
				field = "watch_only"
			}
			return nil, &wire.Problem{Code: wire.CodeWatchOnly, Field: field, Detail: "such a link has no session",
				Allowed: "watch; or a person's token without watch_only to take part"}
		}
		return c, nil
	}
	var dropped []wire.Drop
	c.in, dropped, err = who.opening(h)
	c.dropped = append(c.dropped, dropped...)
	return c, err
}

// newSessionID returns an id for a session that may be opened.
func newSessionID() presence.SessionID {
	return presence.SessionID("session-" + strings.ToLower(rand.Text()))
}

// opening is what the core is told of a hello that opens a session.
func (g *guest) opening(h wire.Hello) (in presence.Hello, dropped []wire.Drop, err error) {
	in = presence.Hello{
		User: g.person.User, Profile: g.person.Profile, Nonce: h.Nonce, OneByOne: h.OneByOne, Grants: g.grants(),
		Issued: g.person.Issued.UnixMilli(), Expires: g.person.Expires.UnixMilli(), PageHidden: h.PageHidden,
		NewSession: newSessionID(), NewKey: rand.Text(),
	}
	if h.Resume != nil {
		in.Session, in.Key = presence.SessionID(h.Resume.Session), h.Resume.ResumeKey
	}
	if h.IdleFor != nil {
		idle, err := idleFor(*h.IdleFor)
		if err != nil {
			return in, nil, err
		}
		in.IdleFor = &idle
	}
	if h.NoInput && !g.person.NoInput {
		return in, nil, notGranted("no_input", "true", "a token with tovik.no_input")
	}
	in.NoInput = h.NoInput
	in.Rooms, dropped, err = g.rooms(h.Rooms, h.OneByOne)
	return in, dropped, err
}

// admit finds out whether a guest who was identified, perhaps a while ago as with a
// ticket, is let in now, and asks the application about the rooms of the hello, or about
// those that the session has kept. The greeting is not changed.
func (g *Gateway) admit(ctx context.Context, c *greeting) (*greeting, error) {
	if err := g.stillLetIn(c.guest); err != nil {
		return nil, err
	}
	if !c.session {
		return c, c.guest.notRemoved()
	}
	realm := c.guest.realm
	if realm.Admission == nil {
		return c, nil
	}
	admitted := *c
	rooms, kept := c.in.Rooms, c.in.Rooms == nil
	if kept {
		evidence, _, _ := realm.Engine.Session(c.in.Session, c.in.Key)
		rooms = evidence.Rooms
	}
	let := make([]presence.RoomName, 0, len(rooms))
	for _, room := range rooms {
		profile, err := realm.Admission.admit(ctx, realm.Name, admitted.guest.person, room)
		switch {
		case err == nil:
			let = append(let, room)
			admitted.guest = admitted.guest.called(profile)
		case kept || c.in.OneByOne:
			admitted.dropped = append(admitted.dropped[:len(admitted.dropped):len(admitted.dropped)], drop(wire.Drop{Room: string(room)}, err))
		default:
			return nil, err
		}
	}
	if admitted.in.Profile = admitted.guest.person.Profile; len(let) < len(rooms) {
		admitted.in.Rooms = let
	}
	return &admitted, nil
}

func idleFor(milliseconds int64) (time.Duration, error) {
	if milliseconds < 0 || milliseconds > maxIdle.Milliseconds() {
		return 0, &wire.Problem{Code: wire.CodeBadField, Field: "idle_for", Value: strconv.FormatInt(milliseconds, 10),
			Detail: "nobody can have been idle for so long", Allowed: "milliseconds, from 0 to 30 days"}
	}
	return time.Duration(milliseconds) * time.Millisecond, nil
}

func revisions(stated map[string]string) (map[presence.RoomName]engine.Revision, error) {
	revs := make(map[presence.RoomName]engine.Revision, len(stated))
	for name, text := range stated {
		room, err := presence.ParseRoom(name)
		if err != nil {
			return nil, err
		}
		revision, ok := engine.ParseRevision(text)
		if !ok {
			return nil, badRevision("revs", text)
		}
		revs[room] = revision
	}
	return revs, nil
}

func badRevision(field, text string) error {
	return &wire.Problem{Code: wire.CodeBadField, Field: field, Value: wire.Shorten(text),
		Detail: "this is no revision", Allowed: "a rev as a frame of this room had it"}
}

// whileAsking is over when the connection of a request is, where others may have to be
// asked about it.
func (g *Gateway) whileAsking(conn net.Conn) (context.Context, func()) {
	if !g.asksOthers {
		return context.Background(), func() {}
	}
	return transport.WhileOpen(conn)
}

// open gives the core a hello that came with an HTTP request, and withdraws it if the
// connection ends before it is answered.
func (g *Gateway) open(ctx context.Context, conn net.Conn, c *greeting) (presence.Reply, error) {
	if err := ctx.Err(); err != nil {
		return presence.Reply{}, err
	}
	reply, waiting, err := c.guest.realm.Engine.Begin(c.in)
	if waiting == nil {
		return reply, err
	}
	ctx, done := transport.WhileOpen(conn)
	defer done()
	return waiting.Answer(ctx)
}

// converse makes the conversation that a hello has led to, and what its answer says. The
// conversation follows all that was asked for; nobody else knows it yet.
func (g *Gateway) converse(c *greeting, reply presence.Reply, wake func()) (*conversation, *wire.Opened) {
	opened := opened(g.policy.Load(), c, reply)
	conversation := newConversation(c.guest, wake)
	if c.detail != delivery.None {
		for _, room := range reply.Rooms {
			conversation.receiver.Follow(delivery.Joined, presence.Pattern(room), c.detail)
		}
	}
	_ = conversation.note(c.wish) // check has counted it
	conversation.follow(c.wish)
	if len(c.revs) > 0 {
		opened.Revs = map[string]string{}
		for room, how := range conversation.receiver.Resume(c.revs) {
			opened.Revs[string(room)] = string(how)
		}
	}
	return conversation, opened
}

// opened is what the answer to a hello says.
func opened(p *presence.Policy, c *greeting, reply presence.Reply) *wire.Opened {
	w := &wire.Opened{Timings: timings(p), User: string(c.guest.person.User), Dropped: c.dropped}
	if !c.session {
		return w
	}
	w.Session, w.ResumeKey = string(reply.Link.Session), reply.Key
	w.Link = uint32(reply.Link.Number)
	w.Resumed, w.NotResumed = reply.Resumed, string(reply.NotResumed)
	w.Rooms, w.Own = roomNames(reply.Rooms), own(reply)
	for _, refused := range reply.Refused {
		w.Dropped = append(w.Dropped, drop(wire.Drop{Room: string(refused.Room)}, refused.Err))
	}
	return w
}

func own(reply presence.Reply) *wire.Own {
	if reply.Set.Status == "" && !reply.Hidden {
		return nil
	}
	own := ownOf(reply.Set, reply.Hidden)
	return &own
}

// ownOf is what a person has set for all their sessions.
func ownOf(set presence.Appearance, hidden bool) wire.Own {
	own := wire.Own{Status: string(set.Status), Note: set.Note, Hiding: hidden}
	if set.Until != 0 {
		own.Until = &wire.Time{Time: time.UnixMilli(set.Until)}
	}
	return own
}

// detailOf reads a detail; none is allowed only of rooms that one is in.
func detailOf(text string, none bool) (delivery.Detail, error) {
	allowed := "members, count"
	switch {
	case text == "" || text == wire.DetailMembers:
		return delivery.AtMembers, nil
	case text == wire.DetailCount:
		return delivery.AtCount, nil
	case none && text == wire.DetailNone:
		return delivery.None, nil
	case none:
		allowed += ", none"
	}
	return delivery.None, &wire.Problem{Code: wire.CodeBadField, Field: "detail", Value: wire.Shorten(text),
		Detail: "a room cannot be followed at this detail", Allowed: allowed}
}

func timings(p *presence.Policy) wire.Timings {
	return wire.Timings{
		BeatEvery:       p.BeatEvery.Milliseconds(),
		Silence:         p.Silence().Milliseconds(),
		GraceClosing:    p.GraceClosing.Milliseconds(),
		GraceLost:       p.GraceLost.Milliseconds(),
		GraceBackground: p.GraceBackground.Milliseconds(),
		LongestGhost:    p.LongestGhost().Milliseconds(),
		IdleAfter:       p.IdleAfter.Milliseconds(),
		ActivityEvery:   p.ActivityEvery.Milliseconds(),
		TypingExpires:   p.TypingExpires.Milliseconds(),
	}
}
