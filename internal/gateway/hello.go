package gateway

import (
	"crypto/rand"
	"strconv"
	"time"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
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
}

// hello answers a hello that came as a frame.
func (l *link) hello(h wire.Hello) error {
	if h.Version != wire.Version {
		return wrongVersion(h.Version)
	}
	greeting, err := l.gateway.check(h, l.caller)
	if err != nil {
		return err
	}
	welcome, receiver, err := l.gateway.welcome(l, greeting)
	if err != nil {
		return err
	}
	l.stream().ExpectWithin(0)
	l.gateway.links.introduced(l)
	l.greet(receiver, encode(wire.Answer{Type: wire.TypeAnswer, Re: h.ID, Welcome: welcome}))
	return nil
}

func wrongVersion(version int) error {
	return &wire.Problem{Code: wire.CodeWrongVersion, Field: "version", Value: strconv.Itoa(version),
		Detail: "this protocol version is not spoken here", Allowed: strconv.Itoa(wire.Version)}
}

// check checks all of a hello that can be checked without the core.
func (g *Gateway) check(h wire.Hello, caller Caller) (*greeting, error) {
	who, err := g.identify(h, caller)
	if err != nil {
		return nil, err
	}
	c := &greeting{guest: who, session: !who.operator && !h.WatchOnly}
	if c.wish, err = who.wishes(h.Watch); err != nil {
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
	c.in, err = who.opening(h)
	return c, err
}

// opening is what the core is told of a hello that opens a session.
func (g *guest) opening(h wire.Hello) (in presence.Hello, err error) {
	in = presence.Hello{
		User: g.person.User, Profile: g.person.Profile, Nonce: h.Nonce,
		Issued: g.person.Issued.UnixMilli(), Expires: g.person.Expires.UnixMilli(), PageHidden: h.Hidden,
		NewSession: presence.SessionID("s-" + rand.Text()), NewKey: rand.Text(),
	}
	if h.Resume != nil {
		in.Session, in.Key = presence.SessionID(h.Resume.Session), h.Resume.Key
	}
	if h.IdleFor != nil {
		idle, err := idleFor(*h.IdleFor)
		if err != nil {
			return in, err
		}
		in.IdleFor = &idle
	}
	if h.NoInput && !g.person.NoInput {
		return in, notGranted("no_input", "true", "a token with tovik.no_input")
	}
	in.NoInput = h.NoInput
	in.Rooms, err = g.rooms(h.Rooms)
	return in, err
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

// welcome applies a checked hello, whole or not at all: the link gets its session
// and a receiver of what it asked for.
func (g *Gateway) welcome(l *link, c *greeting) (*wire.Welcome, *delivery.Receiver, error) {
	welcome, rooms, err := g.open(l, c)
	if err != nil {
		return nil, nil, err
	}
	receiver := c.guest.realm.Hub.NewReceiver(c.guest.view(), l.wake)
	if c.detail != delivery.None {
		for _, room := range rooms {
			receiver.Follow(delivery.Joined, presence.Pattern(room), c.detail)
		}
	}
	c.wish.follow(receiver)
	if len(c.revs) > 0 {
		welcome.Revs = map[string]string{}
		for room, how := range receiver.Resume(c.revs) {
			welcome.Revs[string(room)] = string(how)
		}
	}
	return welcome, receiver, nil
}

// open makes the link the guest's, and gives it a session, a new one or the one that
// it had. It returns the rooms that the session is in.
func (g *Gateway) open(l *link, c *greeting) (*wire.Welcome, []presence.RoomName, error) {
	welcome := &wire.Welcome{Timings: timings(g.policy.Load())}
	if err := g.stillLetIn(c.guest); err != nil {
		return nil, nil, err
	}
	l.realm, c.in.Stream = c.guest.realm, l.feed != nil
	l.badge.Store(c.guest.badge())
	if c.guest.operator {
		l.guest = c.guest
		return welcome, nil, nil
	}
	user := c.guest.id()
	if _, err := c.guest.admitted(c.in.Rooms); err != nil {
		return nil, nil, err
	}
	c.in.Profile = c.guest.person.Profile
	if err := g.links.know(user); err != nil {
		return nil, nil, err
	}
	welcome.User = string(user.user)
	if !c.session {
		if altogether, _ := l.realm.Engine.Refused(user.user, c.guest.person.Issued); altogether {
			g.links.forget(user)
			return nil, nil, removedProblem("user", string(user.user))
		}
		l.guest = c.guest
		return welcome, nil, nil
	}
	reply, err := l.realm.do(c.in)
	if err == nil {
		c.guest.narrow(&reply)
		g.links.carry(l, reply.Link)
		// Had another link taken the session over before this one was known to carry
		// it, the cut would have missed it.
		_, err = l.realm.do(presence.Beat{From: reply.Link})
	}
	if err != nil {
		g.links.forget(user)
		return nil, nil, err
	}
	l.guest = c.guest
	welcome.Session, welcome.Key = string(reply.Link.Session), reply.Key
	welcome.Link = uint32(reply.Link.Number)
	welcome.Resumed, welcome.NotResumed = reply.Resumed, string(reply.NotResumed)
	welcome.Rooms, welcome.Own = roomNames(reply.Rooms), own(reply)
	return welcome, reply.Rooms, nil
}

func own(reply presence.Reply) *wire.Own {
	set := reply.Set
	if set.Status == "" && !reply.Hidden {
		return nil
	}
	own := &wire.Own{Status: string(set.Status), Note: set.Note, Hiding: reply.Hidden}
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
		BeatEvery:     p.BeatEvery.Milliseconds(),
		Silence:       p.Silence().Milliseconds(),
		GraceClosing:  p.GraceClosing.Milliseconds(),
		GraceLost:     p.GraceLost.Milliseconds(),
		GraceHidden:   p.GraceHidden.Milliseconds(),
		LongestGhost:  p.LongestGhost().Milliseconds(),
		IdleAfter:     p.IdleAfter.Milliseconds(),
		ActivityEvery: p.ActivityEvery.Milliseconds(),
		TypingExpires: p.TypingExpires.Milliseconds(),
	}
}
