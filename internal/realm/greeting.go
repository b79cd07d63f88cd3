package realm

import (
	"context"
	"crypto/rand"
	"maps"
	quick "math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"time"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/wire"
)

// maxIdle limits idle_for in a hello.
const maxIdle = 30 * 24 * time.Hour

// leaseNonce is the nonce of a lease without one of its own: the resume key alone proves that
// it is the same client.
const leaseNonce = "lease"

// Greeting is a checked hello. It is immutable.
//
// A client goes through [Realms.Greet], [Greeting.Admit] and [Greeting.Begin], in this order.
// The last two check keys and removals, so register for later changes after the first.
type Greeting struct {
	realms  *Realms
	guest   *Guest
	in      presence.Hello
	session bool         // it opens or resumes a session
	how     delivery.How // of the rooms that the session is in
	wish    wish
	revs    map[presence.RoomName]engine.Revision
	dropped []wire.Drop // with one_by_one: what was refused
}

// Greet checks of a hello what can be checked without the core. Its error is a problem, or a
// refusal of the core.
func (s *Realms) Greet(ctx context.Context, h wire.Hello, caller Caller) (*Greeting, error) {
	who, err := s.identify(h, caller)
	if err != nil {
		return nil, err
	}
	c := &Greeting{realms: s, guest: who, session: !who.operator && !h.WatchOnly}
	if c.wish, c.dropped, err = who.wishes(ctx, h.Watch, h.OneByOne); err != nil {
		return nil, err
	}
	if err := withinLimits(len(c.wish.watches), len(c.wish.people)); err != nil {
		return nil, err
	}
	detail, err := detailOf(h.Detail, true)
	if err != nil {
		return nil, err
	}
	if c.how, err = howOf(detail, h.Without, h.Limit); err != nil {
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

// GreetLease checks an HTTP beat. Everything is checked before anything is applied.
func (s *Realms) GreetLease(token, session string, b wire.Beating, caller Caller) (*Greeting, error) {
	if b.Nonce == "" {
		b.Nonce = leaseNonce
	}
	h := wire.Hello{Token: token, Nonce: b.Nonce, Rooms: b.Rooms, PageHidden: b.PageHidden, IdleFor: b.IdleFor, NoInput: b.NoInput, Device: b.Device}
	if b.ResumeKey != "" {
		h.Resume = &wire.Resume{Session: session, ResumeKey: b.ResumeKey}
	}
	who, err := s.identify(h, caller)
	if err != nil {
		return nil, err
	}
	if b.Active && b.Idle {
		return nil, problem.BadField("idle", "true", "nobody is active and idle at once", "one of active and idle")
	}
	c := &Greeting{realms: s, guest: who, session: true}
	if c.revs, err = revisions(b.Revs); err != nil {
		return nil, err
	}
	if c.in, _, err = who.opening(h); err != nil {
		return nil, err
	}
	c.in.Leased = true
	c.in.Report = &presence.Report{Active: b.Active, Idle: b.Idle}
	for _, room := range slices.Sorted(maps.Keys(b.Doing)) {
		object, err := objectOf(b.Doing[room])
		if err != nil {
			return nil, err
		}
		if c.in.Report.Doing == nil {
			c.in.Report.Doing = map[presence.RoomName]string{}
		}
		c.in.Report.Doing[presence.RoomName(room)] = object
	}
	if b.Typing != nil {
		c.in.Report.Typing = make([]presence.RoomName, len(b.Typing))
		for i, room := range b.Typing {
			c.in.Report.Typing[i] = presence.RoomName(room)
		}
	}
	return c, nil
}

// Guest returns who sent the hello.
func (c *Greeting) Guest() *Guest { return c.guest }

// Session reports whether the hello opens or resumes a session.
func (c *Greeting) Session() bool { return c.session }

// Sessions returns the sessions that the hello may resume or open.
func (c *Greeting) Sessions() []presence.SessionID {
	switch {
	case !c.session:
		return nil
	case c.in.Session == "":
		return []presence.SessionID{c.in.NewSession}
	}
	return []presence.SessionID{c.in.Session, c.in.NewSession}
}

// OverStream returns the greeting for an event stream with a name. The name is the nonce if
// the hello has none.
func (c *Greeting) OverStream(name string) *Greeting {
	over := *c
	over.in.Stream = true
	if over.in.Nonce == "" {
		over.in.Nonce = name
	}
	return &over
}

// opening returns the core's input for a hello that opens or resumes a session.
func (g *Guest) opening(h wire.Hello) (in presence.Hello, dropped []wire.Drop, err error) {
	in = presence.Hello{
		User: g.person.User, Profile: g.person.Profile, Nonce: h.Nonce, OneByOne: h.OneByOne, Grants: g.grants(), Admits: g.admits(),
		Issued: g.person.Issued.UnixMilli(), Expires: g.person.Expires.UnixMilli(), PageHidden: h.PageHidden,
		NewSession: newSessionID(), NewKey: rand.Text(), NewAsk: newAskID(),
	}
	device, known := presence.ParseDevice(h.Device)
	if !known {
		return in, nil, problem.BadField("device", h.Device, "unknown kind of device", "desktop, phone, tablet, device")
	}
	in.Device = device
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
		return in, nil, problem.NotGranted("no_input", "true", "a token with tovik.no_input")
	}
	in.NoInput = h.NoInput
	in.Rooms, dropped, err = g.rooms(h.Rooms, h.OneByOne)
	return in, dropped, err
}

// newSessionID returns an id for a new session.
func newSessionID() presence.SessionID {
	return presence.SessionID("session-" + strings.ToLower(rand.Text()))
}

// newAskID returns the id of an ask. It is made for every join and hardly ever used, and gives access
// to nothing, so it need not be hard to guess.
func newAskID() presence.AskID {
	return presence.AskID("ask-" + strconv.FormatUint(quick.Uint64(), 36))
}

func newInvitationID() presence.InvitationID {
	return presence.InvitationID("invitation-" + strings.ToLower(rand.Text()))
}

// Admit checks the guest again, who may have been identified a while ago, and asks the
// application about the rooms of the hello, or about the rooms that the session has kept.
func (c *Greeting) Admit(ctx context.Context) (*Greeting, error) {
	if err := c.realms.StillIn(c.guest); err != nil {
		return nil, err
	}
	if !c.session {
		return c, c.guest.notRemoved()
	}
	realm := c.guest.realm
	if realm.admission == nil {
		return c, nil
	}
	admitted := *c
	rooms, kept := c.in.Rooms, c.in.Rooms == nil
	if kept {
		evidence, _, _ := realm.core.Session(c.in.Session, c.in.Key)
		rooms = evidence.Rooms
	}
	let := make([]presence.RoomName, 0, len(rooms))
	for _, room := range rooms {
		profile, err := realm.admission.Admit(ctx, realm.name, admitted.guest.person, room)
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

// Begin gives the core a hello that opens or resumes a session. If the core has to probe an
// older link first, wait is not nil, and returns the reply; when its context ends before, the
// hello is withdrawn. The error is a refusal of the core, or that of the context.
func (c *Greeting) Begin() (reply presence.Reply, wait func(context.Context) (presence.Reply, error), err error) {
	return c.guest.realm.core.Begin(c.in)
}

// Withdraw ends the session that the hello opened, because the one that it should resume had ended.
func (c *Greeting) Withdraw(link presence.LinkID) { c.guest.realm.Apply(presence.Bye{From: link}) }

// Lease returns the answer to an HTTP beat.
func (c *Greeting) Lease(reply presence.Reply) wire.Lease {
	lease := wire.Lease{
		Session: string(reply.Link.Session), ResumeKey: reply.Key, Resumed: reply.Resumed, NotResumed: string(reply.NotResumed),
		User: string(c.guest.person.User), Dropped: c.dropped, Lease: c.guest.realm.Policy().Lease.Milliseconds(), Rooms: roomNames(reply.Rooms), Counts: []wire.Tallied{},
		Asked: delivery.Asks(reply.Asked), Invitations: invitationsOf(reply.Invitations),
	}
	for _, room := range reply.Rooms {
		count, revision := c.guest.realm.core.Tally(engine.Topic{Room: room, View: presence.Open})
		if had, ok := c.revs[room]; !ok || had != revision {
			lease.Counts = append(lease.Counts, wire.Tallied{Room: string(room), Rev: revision.String(), Count: delivery.Count(count)})
		}
	}
	return lease
}

// Opened returns the answer to the hello.
func (c *Greeting) Opened(reply presence.Reply) *wire.Opened {
	o := &wire.Opened{Timings: timings(c.guest.realm.Policy()), User: string(c.guest.person.User), Dropped: slices.Clip(c.dropped)}
	if !c.session {
		return o
	}
	o.Session, o.ResumeKey = string(reply.Link.Session), reply.Key
	o.Link = uint64(reply.Link.Number)
	o.Resumed, o.NotResumed = reply.Resumed, string(reply.NotResumed)
	o.Rooms = roomNames(reply.Rooms)
	o.Asked, o.Invitations = delivery.Asks(reply.Asked), invitationsOf(reply.Invitations)
	if reply.Set != (presence.Appearance{}) || reply.Hidden {
		own := ownOf(reply.Set, reply.Hidden)
		o.Own = &own
	}
	for _, refused := range reply.Refused {
		o.Dropped = append(o.Dropped, drop(wire.Drop{Room: string(refused.Room)}, refused.Err))
	}
	return o
}

// OwnFrame returns the frame that tells a person's clients what the person has set.
func OwnFrame(changed presence.OwnChanged) []byte {
	return wire.Encode(wire.OwnFrame{Type: wire.TypeOwn, Own: ownOf(changed.Set, changed.Hidden)})
}

// ownOf returns what a person has set for all their sessions.
func ownOf(set presence.Appearance, hidden bool) wire.Own {
	own := wire.Own{Status: string(set.Status), Label: set.Label, Note: set.Note, Hiding: hidden}
	if set.Until != 0 {
		own.Until = &wire.Time{Time: time.UnixMilli(set.Until)}
	}
	return own
}

// drop returns the frame that says why something is not delivered, or no longer.
func drop(what wire.Drop, err error) wire.Drop {
	what.Problem = *problem.Of(err)
	what.Help = wire.HelpPath(what.Code)
	return what
}

func idleFor(milliseconds int64) (time.Duration, error) {
	if milliseconds < 0 || milliseconds > maxIdle.Milliseconds() {
		return 0, problem.BadField("idle_for", strconv.FormatInt(milliseconds, 10), "nobody can have been idle for so long", "milliseconds, from 0 to 30 days")
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
			return nil, problem.BadRevision("revs", text)
		}
		revs[room] = revision
	}
	return revs, nil
}

// detailOf reads a detail; "none" is allowed only for rooms that the session is in.
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
	return delivery.None, problem.BadField("detail", text, "unknown detail", allowed)
}

// howOf reads what a room is followed without, and how many of its first members are wanted.
func howOf(detail delivery.Detail, without []string, limit int) (how delivery.How, err error) {
	how = delivery.How{Detail: detail, Sparse: len(without) > 0, Limit: limit}
	for _, what := range without {
		if what != wire.TypeDoing {
			return how, problem.BadField("without", what, "a room cannot be followed without this", wire.TypeDoing)
		}
	}
	if limit < 0 || limit > maxPage {
		return how, badLimit(limit)
	}
	return how, nil
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
