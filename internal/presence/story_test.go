package presence_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/presence"
)

// story plays a timeline on a core: who opens which tab, what happens to it, and what others
// see. Tests name the tabs. There is one room unless others are given.
type story struct {
	t     *testing.T
	core  *presence.Core
	now   time.Duration
	tabs  map[string]*tab
	seen  []presence.MemberChanged // since the last nobodySaw or othersSaw
	asked []presence.LinkID        // beat requests, not yet written
	stuck bool                     // probes cannot be written
	cut   []presence.Cut
	ended map[presence.SessionID]presence.Reason
	warns []presence.WarnExpiry
	types []presence.TypingChanged
	all   []presence.Effect
	tries uint64 // hellos so far
}

type tab struct {
	hello presence.Hello // what each of its hellos says besides
	try   uint64         // its last hello
	user  presence.UserID
	link  presence.LinkID
	key   string
	nonce string
	reply presence.Reply
}

const weir = presence.RoomName("basin.upper-weir")

var dusk = time.Date(2026, 11, 23, 18, 0, 0, 0, time.UTC)

func tell(t *testing.T) *story { return tellUnder(t, func(*presence.Policy) {}) }

// tellUnder tells a story under a given policy.
func tellUnder(t *testing.T, change func(*presence.Policy)) *story {
	policy := presence.DefaultPolicy()
	change(&policy)
	return &story{t: t, core: presence.NewCore(policy), tabs: map[string]*tab{},
		ended: map[presence.SessionID]presence.Reason{}}
}

func instant(d time.Duration) presence.Instant {
	return presence.Instant{Mono: d, Wall: dusk.Add(d)}
}

// at advances the core to a moment, through everything due on the way.
func (s *story) at(d time.Duration) *story {
	s.t.Helper()
	require.GreaterOrEqual(s.t, d, s.now, "a story is told in order")
	for {
		due, ok := s.core.Due()
		if !ok || due > d {
			break
		}
		s.now = max(s.now, due)
		s.advance()
	}
	s.now = d
	return s
}

// oversleeps suspends the machine until a moment.
func (s *story) oversleeps(d time.Duration) *story {
	s.now = d
	s.advance()
	return s
}

func (s *story) advance() {
	for more := true; more; {
		var out presence.Effects
		_, more = s.core.Advance(instant(s.now), 3, &out)
		s.take(out)
	}
}

func (s *story) apply(in presence.Input) (presence.Reply, error) {
	var out presence.Effects
	reply, err := s.core.Apply(instant(s.now), in, &out)
	s.take(out)
	for _, effect := range out.List { // a probe is written at once
		if ask, ok := effect.(presence.AskBeat); ok && ask.Probe && !s.stuck {
			_, _ = s.apply(presence.BeatWritten{To: ask.Link, Probe: true})
		}
	}
	return reply, err
}

func (s *story) must(in presence.Input) presence.Reply {
	s.t.Helper()
	reply, err := s.apply(in)
	require.NoError(s.t, err)
	return reply
}

func (s *story) take(out presence.Effects) {
	for _, effect := range out.List {
		s.all = append(s.all, effect)
		switch effect := effect.(type) {
		case presence.WarnExpiry:
			s.warns = append(s.warns, effect)
		case presence.TypingChanged:
			s.types = append(s.types, effect)
		case presence.Settled:
			for _, tab := range s.tabs {
				if tab.try == effect.Attempt {
					require.NoError(s.t, effect.Err)
					tab.welcomed(effect.Reply)
				}
			}
		case presence.MemberChanged:
			s.seen = append(s.seen, effect)
		case presence.AskBeat:
			s.asked = append(s.asked, effect.Link)
		case presence.Cut:
			s.cut = append(s.cut, effect)
		case presence.SessionEnded:
			s.ended[effect.Link.Session] = effect.Reason
		}
	}
}

// opens opens a new tab of a person in rooms.
func (s *story) opens(user presence.UserID, name string, rooms ...presence.RoomName) *story {
	s.t.Helper()
	return s.opensAs(user, name, presence.Hello{}, rooms...)
}

// says sends the hello of a tab with its stored session.
func (s *story) says(name string, rooms []presence.RoomName) presence.Reply {
	s.t.Helper()
	tab := s.tabs[name]
	s.tries++
	tab.try = s.tries
	fresh := fmt.Sprintf("%s-%d", name, len(s.tabs)*1000+int(s.now/time.Millisecond))
	hello := tab.hello
	hello.Attempt, hello.User, hello.Nonce, hello.Rooms = s.tries, tab.user, tab.nonce, rooms
	hello.Session, hello.Key = tab.link.Session, tab.key
	hello.NewSession, hello.NewKey = presence.SessionID("s-"+fresh), "key of "+fresh
	if reply := s.must(hello); reply.Pending {
		tab.reply = reply
	} else {
		tab.welcomed(reply)
	}
	return tab.reply
}

func (t *tab) welcomed(reply presence.Reply) {
	t.reply, t.link, t.key = reply, reply.Link, reply.Key
}

// opensAs opens a new tab with further fields in its hellos.
func (s *story) opensAs(user presence.UserID, name string, hello presence.Hello, rooms ...presence.RoomName) *story {
	s.t.Helper()
	if rooms == nil {
		rooms = []presence.RoomName{weir}
	}
	s.tabs[name] = &tab{user: user, nonce: "first load of " + name, hello: hello}
	s.says(name, rooms)
	return s
}

// returns reconnects the same page; reloads connects the next page load.
func (s *story) returns(name string) *story { s.t.Helper(); s.says(name, nil); return s }

func (s *story) reloads(name string) *story {
	s.t.Helper()
	s.tabs[name].nonce += "'"
	s.says(name, []presence.RoomName{weir})
	return s
}

func (s *story) loses(name string) *story {
	s.t.Helper()
	s.must(presence.LinkLost{Link: s.tabs[name].link})
	return s
}

func (s *story) closes(name string) *story {
	s.t.Helper()
	tab := s.tabs[name]
	s.must(presence.ClosingBeacon{Session: tab.link.Session, Key: tab.key, Nonce: tab.nonce})
	return s
}

func (s *story) beats(name string) *story {
	s.t.Helper()
	s.must(presence.Beat{From: s.tabs[name].link})
	return s
}

// requestsAreWritten confirms the beat requests so far.
func (s *story) requestsAreWritten() *story {
	s.t.Helper()
	for _, link := range s.asked {
		s.must(presence.BeatWritten{To: link})
	}
	s.asked = nil
	return s
}

func (s *story) resumed(name string, want bool) *story {
	s.t.Helper()
	require.Equal(s.t, want, s.tabs[name].reply.Resumed, "resumed")
	return s
}

// nobodySaw asserts that others have seen nothing since the last check.
func (s *story) nobodySaw(what string) *story {
	s.t.Helper()
	require.Empty(s.t, s.seen, "others saw %s", what)
	return s
}

// does sends an input of a tab.
func (s *story) does(name string, in func(presence.LinkID) presence.Input) *story {
	s.t.Helper()
	s.must(in(s.tabs[name].link))
	return s
}

func (s *story) types_(name string, number uint64, on bool) *story {
	s.t.Helper()
	return s.does(name, func(from presence.LinkID) presence.Input {
		return presence.Typing{From: from, Room: weir, Number: number, On: on}
	})
}

// isShown asserts a person's status in both views, full and open.
func (s *story) isShown(user presence.UserID, full, open presence.Status) *story {
	s.t.Helper()
	require.Equal(s.t, full, s.core.Person(user, presence.Full).Status, "in the full view")
	require.Equal(s.t, open, s.core.Person(user, presence.Open).Status, "in the open view")
	return s
}

// typists asserts who types in the open view.
func (s *story) typists(users ...presence.UserID) *story {
	s.t.Helper()
	require.Equal(s.t, users, append([]presence.UserID(nil), s.core.Typing(weir, presence.Open)...))
	return s
}

// othersSaw asserts what others have seen since the last check, each as "user joined", "user
// changed" or "user left: reason".
func (s *story) othersSaw(want ...string) *story {
	s.t.Helper()
	var got []string
	for _, m := range s.seen {
		switch {
		case m.Before.Sessions == 0:
			got = append(got, string(m.After.User)+" joined")
		case m.After.Sessions == 0:
			got = append(got, fmt.Sprintf("%s left: %s", m.After.User, m.Reason))
		default:
			got = append(got, string(m.After.User)+" changed")
		}
	}
	require.Equal(s.t, want, got)
	s.seen = nil
	return s
}

func (s *story) counts(people, sessions int) *story {
	s.t.Helper()
	count := s.core.Count(weir, presence.Full)
	require.Equal(s.t, presence.Tally{People: people, Sessions: sessions}, presence.Tally{People: count.People, Sessions: count.Sessions})
	return s
}

func (s *story) member(user presence.UserID) presence.Member {
	s.t.Helper()
	for _, m := range s.core.Members(weir, presence.Full) {
		if m.User == user {
			return m
		}
	}
	s.t.Fatalf("%s is no member", user)
	return presence.Member{}
}
