package presence

import (
	"crypto/subtle"
	"fmt"
	"slices"
	"strings"
	"time"
)

// lateness is how much later than due the core may be advanced before it takes
// that for a pause of its machine.
const lateness = time.Second

// Core holds the presence of one realm. Make one with [NewCore].
type Core struct {
	policy   Policy
	sessions map[SessionID]*session
	people   map[UserID]*person
	rooms    map[RoomName]*room
	wheel    *wheel
	awake    time.Duration // never goes back
	paused   time.Duration // the sum of all pauses
}

// NewCore returns an empty core with the given policy.
func NewCore(policy Policy) *Core {
	return &Core{
		policy:   policy,
		sessions: map[SessionID]*session{},
		people:   map[UserID]*person{},
		rooms:    map[RoomName]*room{},
		wheel:    newWheel(),
	}
}

// Policy returns the policy that the core keeps.
func (c *Core) Policy() Policy { return c.policy }

// Apply tells the core what happened at the instant, and appends what follows
// to out. Instants must not go back. Its error is a [*Refusal]; a refused input
// has changed nothing, except that its link has shown a sign of life.
func (c *Core) Apply(at Instant, in Input, out *Effects) (Reply, error) {
	now := c.read(at)
	switch in := in.(type) {
	case Hello:
		return c.hello(now, in, out)
	case ClosingBeacon:
		return c.closingBeacon(now, in, out)
	case BeatWritten:
		c.beatWritten(now, in.To)
		return Reply{}, nil
	case LinkLost:
		if s, err := c.from(in.Link); err == nil {
			c.lose(now, s, ReasonLost, out)
		}
		return Reply{}, nil
	case Beat:
		_, err := c.speaks(now, in.From)
		return Reply{}, err
	case Join:
		s, err := c.speaks(now, in.From)
		if err != nil {
			return Reply{}, err
		}
		return Reply{}, c.join(now, s, in.Room, out)
	case Leave:
		s, err := c.speaks(now, in.From)
		if err != nil {
			return Reply{}, err
		}
		return Reply{}, c.leave(s, in.Room, out)
	case Bye:
		s, err := c.speaks(now, in.From)
		if err == nil {
			c.end(s, ReasonBye, out)
		}
		return Reply{}, err
	case Closing:
		s, err := c.speaks(now, in.From)
		if err == nil {
			c.lose(now, s, ReasonClosing, out)
		}
		return Reply{}, err
	}
	panic(fmt.Sprintf("presence: unknown input %T", in))
}

// speaks finds the session of the link and notes the sign of life: any frame is
// one, also a frame whose request is refused.
func (c *Core) speaks(now reading, link LinkID) (*session, error) {
	s, err := c.from(link)
	if err == nil {
		s.hears(now)
	}
	return s, err
}

// Advance does what has become due by the instant, at most max timers of it, and
// appends what follows to out. When more is true, call it again at once. Else
// call it at next, or at any time before; the zero Instant means that nothing is
// due ever.
//
// If it is called more than a second late, the machine is taken to have stood
// still since the last call of Apply or Advance, and every deadline moves by that
// time: nobody could be heard meanwhile.
func (c *Core) Advance(at Instant, max int, out *Effects) (next Instant, more bool) {
	now := c.read(at)
	for range max {
		t := c.wheel.pop(now.awake)
		if t == nil {
			return c.next(at), false
		}
		c.fire(now, t.session, out)
	}
	return at, true
}

// Due returns the monotonic time at which Advance wants to be called next, and
// false when nothing is due ever. Any call of Apply may bring it nearer.
func (c *Core) Due() (time.Duration, bool) {
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

func (c *Core) read(at Instant) reading {
	if due, ok := c.Due(); ok && at.Mono > due+lateness {
		c.paused = at.Mono - c.awake
	}
	c.awake = max(c.awake, at.Mono-c.paused)
	return reading{awake: c.awake, wall: at.Wall.UnixMilli()}
}

// Members returns the members of a room ordered by user id, and false when
// nobody is in it.
func (c *Core) Members(name RoomName) ([]Member, bool) {
	r := c.rooms[name]
	if r == nil {
		return nil, false
	}
	members := make([]Member, 0, len(r.members))
	for _, m := range r.members {
		members = append(members, m.shown())
	}
	slices.SortFunc(members, func(a, b Member) int { return strings.Compare(string(a.User), string(b.User)) })
	return members, true
}

// Count returns how many are in a room, in constant time.
func (c *Core) Count(name RoomName) Count {
	r := c.rooms[name]
	if r == nil {
		return Count{}
	}
	return Count{People: len(r.members), Sessions: r.sessions}
}

// Rooms returns the names of all rooms, in no particular order.
func (c *Core) Rooms() []RoomName {
	names := make([]RoomName, 0, len(c.rooms))
	for name := range c.rooms {
		names = append(names, name)
	}
	return names
}

func sameSecret(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }

// without removes the first x from list and keeps the order of the rest.
func without[T comparable](list []T, x T) []T {
	if i := slices.Index(list, x); i >= 0 {
		return slices.Delete(list, i, i+1)
	}
	return list
}

func unique(rooms []RoomName) []RoomName {
	seen := make(map[RoomName]bool, len(rooms))
	var list []RoomName
	for _, room := range rooms {
		if !seen[room] {
			seen[room] = true
			list = append(list, room)
		}
	}
	return list
}

func plural(n int, noun string) string {
	if n == 1 {
		return "at most 1 " + noun
	}
	return fmt.Sprintf("at most %d %ss", n, noun)
}
