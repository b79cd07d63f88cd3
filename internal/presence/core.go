package presence

import (
	"crypto/sha256"
	"crypto/subtle"
	"slices"
	"strings"
	"time"
)

// Core holds the presence of one realm. Make one with [NewCore].
type Core struct {
	policy   *Policy // immutable; replaced as a whole
	sessions *index[SessionID, session, *session]
	people   *index[UserID, person, *person]
	none     *extras // of people who have none; never changed
	rooms    map[RoomName]*room
	wheel    *wheel
	awake    awakeTime     // never goes back
	paused   time.Duration // the sum of all pauses
	inGrace  int           // sessions
	leases   int           // live sessions without a connection
	present  int           // people with a session
	quotas   quotas

	asks        map[AskID]*ask
	asked       map[RoomName][]*ask // the oldest first
	invitations map[InvitationID]*invitation
	past        past

	looked uint32       // counts observations; never 0
	seen   []seenMember // memory to reuse in the next observation

	epoch    uint32     // of the realm's owner; 0: the service runs on one node
	minted   LinkNumber // the last one, with an epoch
	standing bool       // time stands still
}

// NewCore returns an empty core with the given policy.
func NewCore(policy Policy) *Core {
	return &Core{
		policy:   &policy,
		sessions: newIndex[SessionID, session](),
		people:   newIndex[UserID, person](),
		none:     &extras{},
		rooms:    map[RoomName]*room{},
		wheel:    newWheel(),

		asks:        map[AskID]*ask{},
		asked:       map[RoomName][]*ask{},
		invitations: map[InvitationID]*invitation{},
	}
}

// Policy returns the policy in force. It must not be changed.
func (c *Core) Policy() *Policy { return c.policy }

// Apply gives the core an input at an instant, and appends its effects to out. Instants must not
// go back. The error is a [*Refusal]. A refused input changes nothing, except that it counts as
// a sign of life of its link, and that an expired token or a used-up quota is noticed.
func (c *Core) Apply(at Instant, in Input, out *Effects) (Reply, error) {
	now := c.passes(at, out)
	switch in := in.(type) {
	case Beat:
		_, err := c.speaks(now, in.From, out)
		return Reply{}, err
	case Hello:
		return c.hello(now, in, out)
	case Withdraw:
		c.withdraw(in)
	case ClosingBeacon:
		return c.closingBeacon(now, in, out), nil
	case ByeNote:
		return c.byeNote(now, in, out), nil
	case BeatWritten:
		c.beatWritten(now, in)
	case LinkLost:
		c.linkLost(now, in.Link, out)
	case SetStatus:
		return Reply{}, c.setStatus(now, in, out)
	case Hide:
		return Reply{}, c.hide(now, in, out)
	case Remove:
		c.remove(now, in, out)
	case Refuse:
		out.touch(c.refuse(in.User, in.Room, in.At))
	case Erase:
		c.erase(now, in.User, out)
	case SignOut:
		c.signOut(now, in, out)
	case EndSession:
		return Reply{}, c.endSession(now, in, out)
	case Declare:
		c.declare(in)
	case SetPolicy:
		c.setPolicy(now, in.Policy, out)
	case DecideAsk:
		return Reply{}, c.decideAsk(now, in, out)
	case InviteFor:
		return c.inviteFor(now, in, out)
	case EndInvitation:
		return Reply{}, c.endInvitation(now, in, out)
	case GrantPass:
		return Reply{}, c.grantPass(now, in, out)
	case RevokePass:
		c.revokePass(now, in, out)
	default:
		return c.applyFrom(now, in, out)
	}
	return Reply{}, nil
}

// applyFrom applies an input that came over a link.
func (c *Core) applyFrom(now reading, in Input, out *Effects) (Reply, error) {
	answered := func(link LinkID, act func(*session) (Reply, error)) (Reply, error) {
		s, err := c.speaks(now, link, out)
		if err != nil {
			return Reply{}, err
		}
		return act(s)
	}
	from := func(link LinkID, act func(*session) error) (Reply, error) {
		return answered(link, func(s *session) (Reply, error) { return Reply{}, act(s) })
	}
	types := func(in Typing) (Reply, error) {
		return answered(in.From, func(s *session) (Reply, error) { return c.typing(now, s, in, out) })
	}
	switch in := in.(type) {
	case Join:
		return answered(in.From, func(s *session) (Reply, error) { return c.join(now, s, in, out) })
	case Doing:
		return answered(in.From, func(s *session) (Reply, error) { return c.does(now, s, in, out) })
	case Invite:
		return answered(in.From, func(s *session) (Reply, error) { return c.invite(now, s, in, out) })
	case AnswerAsk:
		return from(in.From, func(s *session) error { return c.answerAsk(now, s, in, out) })
	case Accept:
		return answered(in.From, func(s *session) (Reply, error) { return c.accept(now, s, in, out) })
	case Decline:
		return from(in.From, func(s *session) error { return c.decline(now, s, in, out) })
	case TakeBack:
		return from(in.From, func(s *session) error { return c.takeBack(now, s, in, out) })
	case Leave:
		return from(in.From, func(s *session) error { return c.leave(now, s, in.Room, out) })
	case Activity:
		return from(in.From, func(s *session) error { c.activity(now, s, in.IdleFor, out); return nil })
	case Idle:
		return from(in.From, func(s *session) error { c.setIdle(now, s, !s.noInput, s.active, out); return nil })
	case PageHidden:
		return from(in.From, func(s *session) error { c.pageHidden(s, in.Hidden, out); return nil })
	case Typing:
		return types(in)
	case Sent:
		return types(Typing{in.From, in.Room, in.Number, false})
	case Renew:
		return from(in.From, func(s *session) error { return c.renew(now, s, in, out) })
	case Bye:
		return from(in.From, func(s *session) error { c.end(now, s, ReasonBye, out); return nil })
	case Closing:
		return Reply{}, c.closing(now, in.From, out)
	}
	panic("presence: an input of a type that is none of this package's")
}

// Advance does what is due by the instant, in at most max small steps, and appends the effects
// to out. If more is true, call it again at once. Otherwise call it at next, or earlier; the
// zero Instant means that nothing will be due.
//
// If Advance is more than a second late, the machine is taken to have been suspended since the
// last call of Apply or Advance. Nobody could be heard in that time, so every deadline moves by
// it.
func (c *Core) Advance(at Instant, max int, out *Effects) (next Instant, more bool) {
	now := c.passes(at, out)
	for range max {
		t, more := c.wheel.step(now.awake)
		if !more {
			return c.next(at), false
		}
		if t != nil {
			t.owner.fire(c, now, out)
		}
	}
	return at, true
}

// Due returns the monotonic time at which Advance must be called next; false if nothing is due.
// Any call of Apply may make it earlier.
func (c *Core) Due() (time.Duration, bool) {
	if c.standing {
		return 0, false
	}
	due, ok := c.wheel.due()
	return time.Duration(due)*tick + c.paused, ok
}

func (c *Core) next(at Instant) Instant {
	mono, ok := c.Due()
	if !ok {
		return Instant{}
	}
	return Instant{Mono: mono, Wall: at.Wall.Add(mono - at.Mono)}
}

// passes is read, and says if the machine stood still meanwhile.
func (c *Core) passes(at Instant, out *Effects) reading {
	before := c.paused
	now := c.read(at)
	if d := c.paused - before; d > 0 && !c.standing { // else it was told to
		out.add(Suspended{d})
	}
	return now
}

func (c *Core) read(at Instant) reading {
	if due, ok := c.Due(); c.standing || (ok && at.Mono > due+lateness) {
		c.paused = at.Mono - c.awake
	}
	c.awake = max(c.awake, at.Mono-c.paused)
	return reading{awake: c.awake, wall: at.Wall.UnixMilli(), paused: c.paused}
}

// Exists reports whether a room exists in a view: somebody is in it, or it is declared.
func (c *Core) Exists(room RoomName, view View) bool {
	r := c.rooms[room]
	return r != nil && (r.declared || r.counts[view].People > 0)
}

// Members returns the members of a room in a view, ordered by user id; none if the room does not
// exist.
func (c *Core) Members(room RoomName, view View) []Member {
	r := c.rooms[room]
	if r == nil {
		return nil
	}
	roll := NewRoll(len(r.members))
	c.Call(&roll, room, view)
	members, _ := roll.Read(make([]Member, 0, r.counts[view].People), len(r.members))
	slices.SortFunc(members, func(a, b Member) int { return strings.Compare(string(a.User), string(b.User)) })
	return members
}

// Roll lists the members of a room at one moment, to be read in parts. The core may change
// between two parts. Ignore what the roll says about members who changed since [Core.Call].
type Roll struct {
	view    View
	members []*member
}

// NewRoll returns an empty roll with space for most members. Allocate it before locking the
// core.
func NewRoll(most int) Roll { return Roll{members: make([]*member, 0, most)} }

// Call fills a roll with the members of a room.
func (c *Core) Call(roll *Roll, room RoomName, view View) {
	roll.view, roll.members = view, roll.members[:0]
	if r := c.rooms[room]; r != nil {
		roll.members = append(roll.members, r.members...)
	}
}

// Read appends up to most members that the view sees, in no particular order. It returns false
// at the end of the roll.
func (r *Roll) Read(into []Member, most int) (_ []Member, more bool) {
	part := r.members[:min(most, len(r.members))]
	for _, m := range part {
		if seen := m.sight(r.view); seen.Sessions > 0 {
			into = append(into, seen.Member)
		}
	}
	r.members = r.members[len(part):]
	return into, len(r.members) > 0
}

// Member returns a person as a member of a room. It returns false if the view does not see them
// there.
func (c *Core) Member(user UserID, room RoomName, view View) (Member, bool) {
	p := c.people.get(user)
	if p == nil {
		return Member{}, false
	}
	for _, m := range p.members.list() {
		if m.room.name == room {
			seen := m.sight(view).Member
			return seen, seen.Sessions > 0
		}
	}
	return Member{}, false
}

// Count returns the count of a room in a view, in constant time.
func (c *Core) Count(room RoomName, view View) Count {
	if r := c.rooms[room]; r != nil {
		return r.counts[view]
	}
	return Count{}
}

// Typing returns who is typing in a room in a view, in the order in which they began.
func (c *Core) Typing(room RoomName, view View) []UserID {
	if r := c.rooms[room]; r != nil {
		return slices.Clone(r.typists[view])
	}
	return nil
}

// Person returns how a view sees a person.
func (c *Core) Person(user UserID, view View) Appearance {
	if p := c.people.get(user); p != nil {
		return p.appearance(view)
	}
	return Appearance{Status: Offline}
}

// Rooms returns the names of all rooms that exist in a view, in no particular
// order.
func (c *Core) Rooms(view View) []RoomName {
	names := make([]RoomName, 0, len(c.rooms))
	for name := range c.rooms {
		if c.Exists(name, view) {
			names = append(names, name)
		}
	}
	return names
}

// Size counts what exists, in the full view.
type Size struct {
	Sessions int // unended
	InGrace  int // included in Sessions
	Leases   int // live sessions without a connection
	People   int // with a session
	Rooms    int
}

// Size returns the numbers, in constant time.
func (c *Core) Size() Size {
	return Size{Sessions: c.sessions.count, InGrace: c.inGrace, Leases: c.leases, People: c.present, Rooms: len(c.rooms)}
}

// Known returns all people with something that must survive a restart, in no particular order.
func (c *Core) Known() []UserID { return slices.Collect(c.people.ids()) }

// secret is the part of a secret's hash (SHA-256) that is enough to recognise it.
type secret [16]byte

func secretOf(text string) secret {
	hash := sha256.Sum256([]byte(text))
	return secret(hash[:len(secret{})])
}

func (s secret) is(text string) bool {
	other := secretOf(text)
	return subtle.ConstantTimeCompare(s[:], other[:]) == 1
}

// without removes the first x from list, and keeps the order.
func without[T comparable](list []T, x T) []T {
	if i := slices.Index(list, x); i >= 0 {
		return slices.Delete(list, i, i+1)
	}
	return list
}

// unique removes repeated rooms. Nil stays nil, and empty stays empty.
func unique(rooms []RoomName) []RoomName {
	if rooms == nil {
		return nil
	}
	seen := make(map[RoomName]bool, len(rooms))
	list := make([]RoomName, 0, len(rooms))
	for _, room := range rooms {
		if !seen[room] {
			seen[room] = true
			list = append(list, room)
		}
	}
	return list
}
