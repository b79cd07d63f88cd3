package gateway

import (
	"crypto/rand"
	"strconv"
	"time"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// maxIdle bounds what a client may say of the time before its hello.
const maxIdle = 30 * 24 * time.Hour

// guest is who a link speaks for, and what it watches.
type guest struct {
	person   access.Person
	operator bool
	watching map[presence.Pattern]bool
}

type watch struct {
	pattern presence.Pattern
	detail  delivery.Detail
}

// hello is applied whole or refused whole: all is checked before the core is
// told.
func (l *link) hello(id wire.ID, data []byte) error {
	if l.greeted {
		return &wire.Problem{Code: wire.CodeSecondHello, Field: "type", Value: wire.TypeHello,
			Detail: "this link has said hello already", Allowed: "one hello on each link"}
	}
	var h wire.Hello
	if err := decode(data, &h); err != nil {
		return err
	}
	if h.Version != wire.Version {
		return &wire.Problem{Code: wire.CodeWrongVersion, Field: "version", Value: strconv.Itoa(h.Version),
			Detail: "this protocol version is not spoken here", Allowed: strconv.Itoa(wire.Version)}
	}
	g, err := l.gateway.identify(h)
	if err != nil {
		return err
	}
	watches, err := g.watches(h.Watch)
	if err != nil {
		return err
	}
	welcome := &wire.Welcome{Timings: timings(l.gateway.engine.Policy())}
	var rooms []presence.RoomName
	if !g.operator {
		if rooms, err = l.open(g, h, welcome); err != nil {
			return err
		}
	} else if h.Rooms != nil || h.Resume != nil {
		return &wire.Problem{Code: wire.CodeWatchOnly, Field: "key", Detail: "a link with an operator's key has no session",
			Allowed: "watch; or a person's token to take part"}
	}
	l.guest, l.greeted = g, true
	_ = l.conn.SetReadDeadline(time.Time{})
	view := presence.Open
	if g.operator {
		view = presence.Full
	}
	l.answer(id, welcome, nil, func() {
		l.receiver = l.gateway.hub.NewReceiver(view, l.notify)
		for _, room := range rooms {
			l.receiver.Follow(delivery.Joined, presence.Pattern(room), delivery.AtMembers)
		}
		l.follow(watches)
		if g.operator {
			l.ask()
		}
	})
	return nil
}

// identify finds out who says hello.
func (g *Gateway) identify(h wire.Hello) (guest, error) {
	who := guest{watching: map[presence.Pattern]bool{}}
	switch {
	case h.Token != "" && h.Key != "":
		return who, &wire.Problem{Code: wire.CodeBadField, Field: "key",
			Detail: "the hello has a token and a key", Allowed: "either a person's token or an operator's key"}
	case h.Key != "":
		who.operator = true
		return who, g.key.Check(h.Key)
	case h.Token == "":
		return who, &wire.Problem{Code: wire.CodeNoToken, Field: "token",
			Detail: "the hello does not say who it is", Allowed: "token, a person's, or key, an operator's"}
	}
	var err error
	who.person, err = g.tokens.Verify(h.Token)
	return who, err
}

// open gives the link a session, a new one or the one that it had. It returns
// the rooms that the session is in.
func (l *link) open(g guest, h wire.Hello, welcome *wire.Welcome) ([]presence.RoomName, error) {
	in := presence.Hello{
		User: g.person.User, Profile: g.person.Profile, Nonce: h.Nonce,
		Issued: g.person.Issued.UnixMilli(), Expires: g.person.Expires.UnixMilli(), PageHidden: h.Hidden,
		NewSession: presence.SessionID("s-" + rand.Text()), NewKey: rand.Text(),
	}
	if h.Resume != nil {
		in.Session, in.Key = presence.SessionID(h.Resume.Session), h.Resume.Key
	}
	if h.IdleFor != nil {
		idle := time.Duration(*h.IdleFor) * time.Millisecond
		if *h.IdleFor < 0 || idle > maxIdle {
			return nil, &wire.Problem{Code: wire.CodeBadField, Field: "idle_for", Value: strconv.FormatInt(*h.IdleFor, 10),
				Detail: "nobody can have been idle for so long", Allowed: "milliseconds, from 0 to 30 days"}
		}
		in.IdleFor = &idle
	}
	if h.Rooms != nil {
		in.Rooms = make([]presence.RoomName, len(h.Rooms))
	}
	for i, name := range h.Rooms {
		room, err := g.room(name)
		if err != nil {
			return nil, err
		}
		in.Rooms[i] = room
	}
	reply, err := l.gateway.do(in)
	if err != nil {
		return nil, err
	}
	l.gateway.links.carry(l, reply.Link)
	// Had another link taken the session over before this one was known to carry
	// it, the cut would have missed it.
	if _, err := l.gateway.do(presence.Beat{From: reply.Link}); err != nil {
		return nil, err
	}
	welcome.Session, welcome.Key = string(reply.Link.Session), reply.Key
	welcome.Link = uint32(reply.Link.Number)
	welcome.Resumed, welcome.NotResumed = reply.Resumed, string(reply.NotResumed)
	welcome.User = string(g.person.User)
	for _, room := range reply.Rooms {
		welcome.Rooms = append(welcome.Rooms, string(room))
	}
	return reply.Rooms, nil
}

// room checks that a room name is well-formed and granted.
func (g guest) room(name string) (presence.RoomName, error) {
	room, err := presence.ParseRoom(name)
	if err != nil {
		return "", err
	}
	return room, g.granted(presence.Pattern(room))
}

func (g guest) granted(pattern presence.Pattern) error {
	if g.operator || g.person.May(pattern) {
		return nil
	}
	return &wire.Problem{Code: wire.CodeNotGranted, Field: "room", Value: string(pattern),
		Detail: "the token does not grant this", Allowed: grantList(g.person.Rooms)}
}

func grantList(patterns []presence.Pattern) string {
	if len(patterns) == 0 {
		return "none: the token grants no room"
	}
	list := ""
	for i, pattern := range patterns {
		if i > 0 {
			list += ", "
		}
		list += string(pattern)
	}
	return list
}

// watches checks what is asked to be watched, and notes it if all of it may be.
func (g guest) watches(asked []wire.Watch) ([]watch, error) {
	list := make([]watch, len(asked))
	added := map[presence.Pattern]bool{}
	for i, w := range asked {
		pattern, err := presence.ParsePattern(w.Room)
		if err != nil {
			return nil, err
		}
		if err := g.granted(pattern); err != nil {
			return nil, err
		}
		detail := delivery.AtMembers
		switch w.Detail {
		case "", wire.DetailMembers:
		case wire.DetailCount:
			detail = delivery.AtCount
		default:
			return nil, &wire.Problem{Code: wire.CodeBadField, Field: "detail", Value: wire.Shorten(w.Detail),
				Detail: "a room cannot be watched at this detail", Allowed: "members, count"}
		}
		list[i] = watch{pattern, detail}
		if !g.watching[pattern] {
			added[pattern] = true
		}
	}
	if len(g.watching)+len(added) > maxWatches {
		return nil, &wire.Problem{Code: wire.CodeTooManyWatches, Field: "watch",
			Detail: "the link watches too much", Allowed: "at most 64 rooms and patterns"}
	}
	for pattern := range added {
		g.watching[pattern] = true
	}
	return list, nil
}

func timings(p *presence.Policy) wire.Timings {
	return wire.Timings{
		BeatEvery:    p.BeatEvery.Milliseconds(),
		Silence:      p.Silence().Milliseconds(),
		GraceClosing: p.GraceClosing.Milliseconds(),
		GraceLost:    p.GraceLost.Milliseconds(),
		GraceHidden:  p.GraceHidden.Milliseconds(),
		LongestGhost: p.LongestGhost().Milliseconds(),
		IdleAfter:    p.IdleAfter.Milliseconds(),
	}
}
