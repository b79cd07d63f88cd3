// Package enginetest checks implementations of the interfaces of package engine, and
// replacements of an engine, against their contracts. Each kit plays random histories from
// seeds.
package enginetest

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// Source returns the states that a sink is told about in pieces. An engine is a source.
type Source interface {
	Unsealed(engine.Topic) bool
	Sealed(engine.Topic) engine.Snapshot
	Sight(engine.Subject) engine.Sight
}

var (
	rooms = []presence.RoomName{"basin.upper-weir", "desk.night"}
	views = []presence.View{presence.Full, presence.Open}
)

const histories = 15

func each(t *testing.T, play func(t *testing.T, random *rand.Rand)) {
	for seed := range uint64(histories) {
		synctest.Test(t, func(t *testing.T) {
			defer func() {
				if t.Failed() {
					t.Logf("seed %d", seed)
				}
			}()
			play(t, rand.New(rand.NewPCG(seed, 9)))
		})
	}
}

// CheckSource checks a source. Open returns a function that applies inputs, and the source,
// which tells the sink. A replica built from the batches alone must have the source's members at
// every revision, and unsealed changes must be sealed soon.
func CheckSource(t *testing.T, open func(t *testing.T, sink engine.Sink) (do func(context.Context, presence.Input) (presence.Reply, error), source Source)) {
	each(t, func(t *testing.T, random *rand.Rand) {
		told := &replicas{t: t, of: map[engine.Topic]*replica{}, sealed: map[engine.Topic]int{}, sights: map[engine.Subject]engine.Sight{}}
		do, source := open(t, told)
		var links []presence.LinkID
		for step := range 250 {
			user, room := presence.UserID(fmt.Sprint("w-", random.IntN(5))), rooms[random.IntN(len(rooms))]
			var in presence.Input
			switch n := random.IntN(10); {
			case n < 3 || len(links) == 0:
				in = presence.Hello{User: user, NewSession: presence.SessionID(fmt.Sprint("session-", step)), NewKey: "k", Rooms: []presence.RoomName{room}}
			case n == 3:
				in = presence.Hide{User: user, Hidden: random.IntN(2) == 0}
			default:
				link := links[random.IntN(len(links))]
				in = []presence.Input{presence.Bye{From: link}, presence.Join{From: link, Room: room}, presence.Leave{From: link, Room: room},
					presence.Idle{From: link}, presence.Typing{From: link, Room: room, On: true},
					presence.Doing{From: link, Room: room, Object: fmt.Sprintf(`{"page":%d}`, step)}}[random.IntN(6)]
			}
			reply, err := do(t.Context(), in) // a refusal is as good an act as any
			if err == nil && reply.Link.Session != "" {
				links = append(links, reply.Link)
			}
			for _, view := range views {
				synctest.Wait() // a source elsewhere may be about to tell the sink what it knows
				topic := engine.Topic{Room: room, View: view}
				told.compare(source.Sealed(topic))
				subject := engine.Subject{User: user, View: view}
				before, known := told.sight(subject)
				now := source.Sight(subject) // which may take time, in which the sink is told
				if after, _ := told.sight(subject); known && now.Appearance != after.Appearance {
					require.Equal(t, before.Appearance, now.Appearance)
				}
				seals := told.seals(topic)
				if random.IntN(10) == 0 && source.Unsealed(topic) {
					time.Sleep(2 * engine.DefaultWindow)
					synctest.Wait()
					require.Greater(t, told.seals(topic), seals, "what is not sealed is sealed soon")
				}
			}
			time.Sleep(time.Duration(random.IntN(25)) * time.Millisecond)
		}
	})
}

// replicas is a sink that builds the members of each topic from the batches alone.
type replicas struct {
	t *testing.T

	mu     sync.Mutex
	of     map[engine.Topic]*replica
	sealed map[engine.Topic]int // how often
	sights map[engine.Subject]engine.Sight
}

type replica struct {
	revision engine.Revision
	members  map[presence.UserID]presence.Member
	runs     int // lives of the room so far
}

func (all *replicas) TakeTypists(engine.Typists) {}

func (all *replicas) TakeAsks(engine.Asks) {}

func (all *replicas) TakeUnchanged(topic engine.Topic) {
	all.mu.Lock()
	defer all.mu.Unlock()
	all.sealed[topic]++
}

func (all *replicas) TakeSight(s engine.Sight) {
	all.mu.Lock()
	defer all.mu.Unlock()
	all.sights[s.Subject] = s
}

func (all *replicas) sight(s engine.Subject) (engine.Sight, bool) {
	all.mu.Lock()
	defer all.mu.Unlock()
	sight, known := all.sights[s]
	return sight, known
}

func (all *replicas) seals(topic engine.Topic) int {
	all.mu.Lock()
	defer all.mu.Unlock()
	return all.sealed[topic]
}

func (all *replicas) Take(b *engine.Batch) {
	t := all.t
	all.mu.Lock()
	defer all.mu.Unlock()
	all.sealed[b.Topic]++
	r := all.of[b.Topic]
	if r == nil {
		r = &replica{revision: engine.Revision{Run: b.Revision.Run}, members: map[presence.UserID]presence.Member{}}
		all.of[b.Topic] = r
	}
	require.Positive(t, b.Size(), "a batch says something")
	require.Equal(t, r.revision, b.Revision.Previous(), "nothing is missing")
	r.revision = b.Revision
	for _, m := range b.Joined {
		require.NotContains(t, r.members, m.User)
		r.members[m.User] = m
	}
	for _, m := range b.Changed {
		require.NotEqual(t, r.members[m.User], m)
		r.members[m.User] = m
	}
	for _, m := range b.Doing {
		was := r.members[m.User]
		require.NotEqual(t, was, m)
		was.Doing = m.Doing
		require.Equal(t, was, m, "only what they are doing has changed")
		r.members[m.User] = m
	}
	for _, d := range b.Left {
		require.Contains(t, r.members, d.User)
		delete(r.members, d.User)
	}
	require.Equal(t, len(r.members), b.Count.People)
	if b.Ended {
		require.Empty(t, r.members)
		delete(all.of, b.Topic)
	}
}

func (all *replicas) compare(s engine.Snapshot) {
	all.t.Helper()
	all.mu.Lock()
	defer all.mu.Unlock()
	r := all.of[s.Topic]
	if r == nil {
		r = &replica{}
	}
	require.Equal(all.t, r.revision, s.Revision)
	require.Equal(all.t, r.list(), append([]presence.Member{}, s.Members...))
}

func (r *replica) list() []presence.Member {
	list := make([]presence.Member, 0, len(r.members))
	for _, m := range r.members {
		list = append(list, m)
	}
	slices.SortFunc(list, func(a, b presence.Member) int { return strings.Compare(string(a.User), string(b.User)) })
	return list
}

// CheckSink checks a sink with random histories of rooms. Open returns the sink, which may ask
// the source, and a function that returns the members of a topic, in order, and its revision, as
// a reader of the sink has them. A sink must not change its arguments, and must accept news of
// things that nobody follows.
func CheckSink(t *testing.T, open func(t *testing.T, source Source) (sink engine.Sink, read func(engine.Topic) ([]presence.UserID, string))) {
	each(t, func(t *testing.T, random *rand.Rand) {
		truth := &world{of: map[engine.Topic]*replica{}}
		sink, read := open(t, truth)
		type given struct{ batch, was engine.Batch }
		var all []*given
		for range 250 {
			topic := engine.Topic{Room: rooms[random.IntN(len(rooms))], View: views[random.IntN(len(views))]}
			switch random.IntN(7) {
			case 0:
				sink.TakeUnchanged(topic)
			case 6:
				sink.TakeAsks(engine.Asks{Room: topic.Room, Open: make([]presence.OpenAsk, random.IntN(2))})
			case 1:
				sink.TakeTypists(engine.Typists{Topic: topic, Users: []presence.UserID{"w-0"}})
			case 2:
				sink.TakeSight(engine.Sight{Subject: engine.Subject{User: "nobody-asks", View: topic.View}})
			default:
				g := &given{batch: truth.change(topic, random)}
				g.was = g.batch
				g.was.Joined, g.was.Changed, g.was.Left = slices.Clone(g.batch.Joined), slices.Clone(g.batch.Changed), slices.Clone(g.batch.Left)
				all = append(all, g)
				sink.Take(&g.batch)
			}
			if random.IntN(3) == 0 {
				time.Sleep(time.Duration(random.IntN(300)) * time.Millisecond)
				synctest.Wait()
				want := truth.Sealed(topic)
				users, revision := read(topic)
				require.Equal(t, userIDs(want.Members), append([]presence.UserID{}, users...))
				require.Equal(t, want.Revision.String(), revision)
			}
		}
		for _, g := range all {
			require.Equal(t, g.was, g.batch, "a sink changes nothing in what it is given")
		}
	})
}

func userIDs(members []presence.Member) []presence.UserID {
	users := make([]presence.UserID, len(members))
	for i, m := range members {
		users[i] = m.User
	}
	return users
}

// world is a source without an engine.
type world struct{ of map[engine.Topic]*replica }

func (*world) Unsealed(engine.Topic) bool { return false }

func (*world) Sight(s engine.Subject) engine.Sight { return engine.Sight{Subject: s} }

func (w *world) Sealed(topic engine.Topic) engine.Snapshot {
	s := engine.Snapshot{Topic: topic}
	if r := w.of[topic]; r != nil && len(r.members) > 0 {
		s.Revision, s.Members, s.Exists = r.revision, r.list(), true
		s.Count = presence.CountOf(s.Members)
	}
	return s
}

// change makes somebody join, leave or change, and returns the batch.
func (w *world) change(topic engine.Topic, random *rand.Rand) engine.Batch {
	r := w.of[topic]
	if r == nil {
		r = &replica{members: map[presence.UserID]presence.Member{}}
		w.of[topic] = r
	}
	if len(r.members) == 0 {
		r.runs++
		r.revision = engine.Revision{Run: fmt.Sprintf("run%d%d", topic.View, r.runs)}
	}
	r.revision.Number++
	b := engine.Batch{Topic: topic, Revision: r.revision, At: time.Now()}
	user := presence.UserID(fmt.Sprint("w-", random.IntN(4)))
	m, here := r.members[user]
	switch {
	case !here:
		m = presence.Member{User: user, Appearance: presence.Appearance{Status: presence.Online}, Since: time.Now(), Sessions: 1}
		r.members[user] = m
		b.Joined = []presence.Member{m}
	case random.IntN(2) == 0:
		m.Sessions++
		r.members[user] = m
		b.Changed = []presence.Member{m}
	default:
		delete(r.members, user)
		b.Left = []engine.Departure{{User: user, Status: presence.Offline, Reason: presence.ReasonBye, LastSeen: time.Now()}}
	}
	b.Count = presence.CountOf(r.list())
	b.Ended = len(r.members) == 0
	return b
}

// CheckLinks checks the orders to a link, mixed with orders to links that do not exist. Open
// returns the implementation, the id of a link, and a function that returns what its client was
// told, in words: beat, expiring, own, out of ROOM, invitations, cut. Each order must be carried out once, in
// order. Orders to other links must be ignored.
func CheckLinks(t *testing.T, open func(t *testing.T) (links engine.Links, id presence.LinkID, told func() []string)) {
	for seed := range uint64(histories) {
		random := rand.New(rand.NewPCG(seed, 9))
		links, id, told := open(t)
		var want []string
		for range 30 {
			to, here := id, random.IntN(3) > 0
			if !here {
				to = []presence.LinkID{{Session: id.Session, Number: id.Number + 1}, {Session: "session-of-nobody", Number: 1}}[random.IntN(2)]
			}
			word := ""
			switch random.IntN(5) {
			case 4:
				word = "invitations"
				links.InvitationsChanged(presence.InvitationsChanged{Links: []presence.LinkID{to}})
			case 0:
				word = "beat"
				links.AskBeat(presence.AskBeat{Link: to, Probe: random.IntN(2) == 0})
			case 1:
				word = "expiring"
				links.WarnExpiry(to, time.Now())
			case 2:
				word = "own"
				links.OwnChanged(presence.OwnChanged{Links: []presence.LinkID{to}, Set: presence.Appearance{Status: presence.Busy}})
			case 3:
				room := rooms[random.IntN(len(rooms))]
				word = "out of " + string(room)
				links.TakenOut(presence.TakenOut{Link: to, Room: room, Reason: presence.ReasonRemoved})
			}
			if here {
				want = append(want, word)
			}
		}
		links.Cut(presence.Cut{Link: presence.LinkID{Session: id.Session, Number: id.Number + 1}, Ended: true})
		require.Equal(t, want, told())
		links.Cut(presence.Cut{Link: id, Ended: true})
		require.Equal(t, append(want, "cut"), told())
	}
}

// CheckRecorder checks a recorder while people come and go. Open returns the recorder, and a
// function that returns what it has recorded, in words: joined USER, left USER. It must record
// everything in order, must not change the effects, and must not use the slices after the call.
func CheckRecorder(t *testing.T, open func(t *testing.T) (recorder engine.Recorder, kept func() []string)) {
	each(t, func(t *testing.T, random *rand.Rand) {
		recorder, kept := open(t)
		core := presence.NewCore(presence.DefaultPolicy())
		start := time.Now()
		var effects presence.Effects
		links := map[presence.UserID]presence.LinkID{}
		var want []string
		for step := range 100 {
			user := presence.UserID(fmt.Sprint("w-", random.IntN(6)))
			at := presence.Instant{Mono: time.Since(start), Wall: time.Now()}
			if link, here := links[user]; here {
				_, err := core.Apply(at, presence.Bye{From: link}, &effects)
				require.NoError(t, err)
				delete(links, user)
				want = append(want, "left "+string(user))
			} else {
				reply, err := core.Apply(at, presence.Hello{User: user, NewSession: presence.SessionID(fmt.Sprint("session-", step)), NewKey: "k", Rooms: rooms[:1]}, &effects)
				require.NoError(t, err)
				links[user] = reply.Link
				want = append(want, "joined "+string(user))
			}
			before := slices.Clone(effects.List)
			recorder.Record(at.Wall, effects.List, effects.Touched)
			require.Equal(t, before, effects.List, "a recorder changes no effect")
			clear(effects.List)
			clear(effects.Touched)
			effects.Reset()
			time.Sleep(time.Duration(random.IntN(50)) * time.Millisecond)
		}
		require.Equal(t, want, kept())
	})
}
