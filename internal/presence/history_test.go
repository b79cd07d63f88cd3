package presence_test

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tovik.example/tovik/internal/presence"
)

const (
	// Timers fire on a tick, and so does everything here, so that a model without ticks agrees.
	// All durations are whole units, and each input has its own tick of a unit. So consequences
	// of two inputs never coincide; their order at one instant is not a rule.
	tickTime = 16 * time.Millisecond
	unit     = 512 * tickTime // more than a history has inputs
	// historyLength is the number of inputs of a history. The flag -rapid.checks sets the number
	// of histories.
	historyLength = 500
)

var (
	someUsers = []presence.UserID{"ilse", "tobin", "hanne"}
	someRooms = []presence.RoomName{weir, "desk.night", "basin.fen-end"}
	views     = []presence.View{presence.Full, presence.Open}
)

// brisk is a policy with short times.
func brisk(second presence.SecondSession) presence.Policy {
	p := presence.DefaultPolicy()
	p.GraceClosing, p.GraceLost, p.GraceBackground, p.TypingExpires = 1*unit, 3*unit, 6*unit, 2*unit
	p.BeatEvery, p.Probe, p.Lease, p.IdleAfter, p.ExpiryWarning = 4*unit, 1*unit, 9*unit, 12*unit, 2*unit
	p.DoingEvery = 1 * unit // like the others a whole number of the core's ticks
	small := p.RoomPolicy
	small.Capacity, small.GraceLost, small.TypingExpires = 2, 5*unit, 1*unit
	p.Rooms = []presence.PatternPolicy{{Pattern: "basin.*", RoomPolicy: small}}
	p.RoomsPerSession, p.SessionsPerPerson, p.SecondSession = 2, 4, second
	p.Labels = map[presence.Status][]string{presence.Busy: {"on the radio"}, presence.Online: {"on the radio"}}
	return p
}

// meeting is brisk with a room that asks and engages, and one that engages.
func meeting(second presence.SecondSession) presence.Policy {
	p := brisk(second)
	p.DoingEvery, p.InvitationWaits, p.InvitationsMax = 2*unit, 4*unit, 2
	desk, fen := p.RoomPolicy, p.Rooms[0].RoomPolicy
	desk.Entry, desk.AskWaits, desk.AskPass, desk.AskAgain, desk.Engages = presence.EntryAsk, 5*unit, 20*unit, 3*unit, true
	desk.Capacity = 2
	fen.Engages = true
	p.Rooms = append(p.Rooms, presence.PatternPolicy{Pattern: "desk.*", RoomPolicy: desk}, presence.PatternPolicy{Pattern: "basin.fen-end", RoomPolicy: fen})
	return p
}

// world plays a history on the core and on the model, and keeps a replica of each view from the
// core's effects alone.
type world struct {
	t        require.TestingT
	core     *presence.Core
	model    *model
	now      time.Duration
	effects  presence.Effects
	replicas map[presence.View]map[presence.RoomName]map[presence.UserID]presence.Member
	typing   map[presence.View]map[mPlace]bool
	people   map[presence.View]map[presence.UserID]presence.Appearance
	settled  map[uint64]mAnswer
	hellos   []presence.Hello // as they were answered
	links    []presence.LinkID
	pending  map[uint64]presence.Hello
	attempts uint64
	story    []string
	kept     map[presence.UserID]presence.SavedPerson // as of their last edge
	open     strings.Builder                          // every effect that the open view sees
	meetingWorld
}

func newWorld(t require.TestingT, policy presence.Policy) *world {
	w := &world{t: t, core: presence.NewCore(policy), model: newModel(policy), settled: map[uint64]mAnswer{}, pending: map[uint64]presence.Hello{},
		kept: map[presence.UserID]presence.SavedPerson{}, meetingWorld: newMeetingWorld(),
		replicas: map[presence.View]map[presence.RoomName]map[presence.UserID]presence.Member{},
		typing:   map[presence.View]map[mPlace]bool{}, people: map[presence.View]map[presence.UserID]presence.Appearance{}}
	for _, view := range views {
		w.replicas[view] = map[presence.RoomName]map[presence.UserID]presence.Member{}
		w.typing[view], w.people[view] = map[mPlace]bool{}, map[presence.UserID]presence.Appearance{}
	}
	return w
}

// pass advances the time of core and model.
func (w *world) pass(to time.Duration) {
	for due, ok := w.core.Due(); ok && due <= to; due, ok = w.core.Due() {
		w.now = max(w.now, due)
		for more := true; more; {
			_, more = w.core.Advance(instant(w.now), 2, &w.effects)
		}
		w.take()
	}
	w.now = to
	w.model.pass(to)
}

// tell applies an input to both and compares the answers.
func (w *world) tell(in presence.Input) {
	w.story = append(w.story, fmt.Sprintf("%v %T%+v", w.now, in, in))
	reply, err := w.core.Apply(instant(w.now), in, &w.effects)
	got := answered(reply, err)
	want := w.model.apply(in)
	require.Equal(w.t, want, got, "the answer to %T%+v", in, in)
	if hello, ok := in.(presence.Hello); ok {
		w.welcomed(hello, reply)
	}
	w.take()
}

func (w *world) welcomed(hello presence.Hello, reply presence.Reply) {
	switch {
	case reply.Pending:
		w.pending[hello.Attempt] = hello
	case reply.Link.Session != "":
		hello.Session, hello.Key = reply.Link.Session, reply.Key
		w.hellos = append(w.hellos, hello)
		w.links = append(w.links, reply.Link)
	}
}

func answered(reply presence.Reply, err error) mAnswer {
	var refusal *presence.Refusal
	if errors.As(err, &refusal) {
		return mAnswer{code: refusal.Code}
	}
	answer := mAnswer{pending: reply.Pending, link: reply.Link, resumed: reply.Resumed, why: reply.NotResumed, stale: reply.Stale}
	answer.meeting = meetingOf(reply)
	for _, r := range reply.Refused {
		answer.refused += fmt.Sprintf("%s: %s ", r.Room, r.Err.Code)
	}
	return answer
}

// take applies the effects to the replicas. Each change must continue the replica's state.
func (w *world) take() {
	for _, effect := range w.effects.List {
		switch effect := effect.(type) {
		case presence.MemberChanged:
			for _, view := range views {
				if effect.Views.Has(view) {
					w.takeMember(view, effect)
				}
			}
			w.note(effect.Views, effect.Room, effect.Before, effect.After, effect.Reason, effect.LastSeen)
		case presence.TypingChanged:
			for _, view := range views {
				if place := (mPlace{effect.Room, effect.User}); effect.Views.Has(view) {
					require.NotEqual(w.t, effect.On, w.typing[view][place], "a change of typing changes something")
					w.typing[view][place] = effect.On
				}
			}
			w.note(effect.Views, effect.Room, effect.User, effect.On)
		case presence.PersonChanged:
			for _, view := range views {
				if effect.Views.Has(view) {
					w.people[view][effect.User] = effect.After
				}
			}
			w.note(effect.Views, effect.User, effect.Before, effect.After, effect.LastSeen)
		case presence.Settled:
			w.settled[effect.Attempt] = answered(effect.Reply, effect.Err)
			w.welcomed(w.pending[effect.Attempt], effect.Reply)
		default:
			w.takeMeeting(effect)
		}
	}
	w.keep()
}

// keep saves whom the effects say to save, and forgets the effects.
func (w *world) keep() {
	saveAgain(w.kept, w.core, w.now, w.effects.Touched)
	w.effects.Reset()
}

// saveAgain saves some people, as a recorder does.
func saveAgain(kept map[presence.UserID]presence.SavedPerson, core *presence.Core, now time.Duration, users []presence.UserID) {
	for _, user := range users {
		if saved, known := core.SavePerson(instant(now), user); known {
			kept[user] = saved
		} else {
			delete(kept, user)
		}
	}
}

// byUser returns the people who were saved, by user id.
func byUser(kept map[presence.UserID]presence.SavedPerson) (people []presence.SavedPerson) {
	for _, user := range slices.Sorted(maps.Keys(kept)) {
		people = append(people, kept[user])
	}
	return people
}

func (w *world) note(in presence.Views, what ...any) {
	if in.Has(presence.Open) {
		fmt.Fprintln(&w.open, append([]any{w.now}, what...)...)
	}
}

func (w *world) takeMember(view presence.View, m presence.MemberChanged) {
	room := w.replicas[view][m.Room]
	if room == nil {
		room = map[presence.UserID]presence.Member{}
		w.replicas[view][m.Room] = room
	}
	if m.Before.Sessions > 0 {
		require.Equal(w.t, room[m.Before.User], m.Before, "a change follows what was seen")
	} else {
		require.NotContains(w.t, room, m.After.User)
	}
	require.NotEqual(w.t, m.Before, m.After, "a change changes something")
	room[m.After.User] = m.After
	if m.After.Sessions == 0 {
		delete(room, m.After.User)
	}
}

// agree compares core, model and replicas.
func (w *world) agree() {
	same(w, len(w.model.settled), len(w.settled), "settled hellos")
	for attempt, want := range w.model.settled {
		same(w, want, w.settled[attempt], "a settled hello")
	}
	w.agreeOnMeetings()
	for _, view := range views {
		for _, room := range someRooms {
			w.agreeOnRoom(room, view)
		}
		for _, user := range someUsers {
			want := w.model.appearance(user, view)
			same(w, want, w.core.Person(user, view), "the person")
			if seen, ok := w.people[view][user]; ok || want.Status != presence.Offline {
				same(w, want, seen, "the person as told")
			}
		}
	}
	for _, user := range someUsers {
		sameList(w, w.model.evidence(user), w.coreEvidence(user), "the sessions")
	}
}

func (w *world) agreeOnRoom(room presence.RoomName, view presence.View) {
	want := w.model.members(room, view)
	sameList(w, want, w.core.Members(room, view), "members of "+string(room))
	same(w, len(want), len(w.replicas[view][room]), "the replica's size")
	var count presence.Count
	for _, m := range want {
		same(w, m, w.replicas[view][room][m.User], "the replica")
		part := &count.Online
		switch m.Status {
		case presence.Away:
			part = &count.Away
		case presence.Busy:
			part = &count.Busy
		}
		count.People, count.Sessions = count.People+1, count.Sessions+m.Sessions
		part.People, part.Sessions = part.People+1, part.Sessions+m.Sessions
	}
	same(w, count, w.core.Count(room, view), "the count")
	same(w, w.model.exists(room, view), w.core.Exists(room, view), "existence")
	typists := w.core.Typing(room, view)
	slices.Sort(typists)
	sameList(w, w.model.typists(room, view), typists, "the typists")
	for _, user := range someUsers {
		same(w, slices.Contains(typists, user), w.typing[view][mPlace{room, user}], "typing as told")
	}
}

func (w *world) coreEvidence(user presence.UserID) (list []evidence) {
	for _, s := range w.core.Explain(instant(w.now), user, "").Sessions {
		e := evidence{id: s.Session, link: s.Link, state: s.State, idle: s.Idle, reason: s.Reason}
		for _, r := range s.Rooms {
			e.rooms += string(r) + " "
		}
		list = append(list, e)
	}
	return sortEvidence(list)
}

// same is require.Equal, but fast if both are equal.
func same[T comparable](w *world, want, got T, what string) {
	if want != got {
		require.Equal(w.t, want, got, what)
	}
}

func sameList[T comparable](w *world, want, got []T, what string) {
	if !slices.Equal(want, got) {
		require.Equal(w.t, want, got, what)
	}
}

// input turns a number into an input. Zero is none, so that shrinking removes inputs. The low
// bits choose the kind.
func (w *world) input(n uint64) presence.Input {
	kind, a, b, c := n%64, int(n>>6%16), int(n>>10%16), int(n>>14%16)
	user, room := someUsers[a%3], someRooms[b%3]
	var link presence.LinkID
	if len(w.links) > 0 {
		link = w.links[len(w.links)-1-c%min(len(w.links), 8)]
	}
	wall := dusk.Add(w.now).UnixMilli()
	if kind >= 32 {
		if in := w.meetingInput(kind, a, b, c, user, room, link, wall); in != nil {
			return in
		}
		kind -= 32
	}
	switch kind {
	case 0:
		return nil
	case 1, 2, 3:
		return w.hello(presence.Hello{User: user}, a, b, c)
	case 4, 5, 6, 7:
		if len(w.hellos) > 0 {
			old := w.hellos[len(w.hellos)-1-a%min(len(w.hellos), 6)]
			again := presence.Hello{User: old.User, Session: old.Session, Key: old.Key, Nonce: old.Nonce}
			return w.hello(again, a, b, c)
		}
		return nil
	case 8, 9:
		return presence.Join{From: link, Room: room, NewAsk: w.newAsk()}
	case 10:
		return presence.Leave{From: link, Room: room}
	case 11:
		return presence.Beat{From: link}
	case 12:
		for _, attempt := range slices.Sorted(maps.Keys(w.pending)) {
			hello := w.pending[attempt]
			if _, settled := w.settled[attempt]; !settled && attempt+uint64(a) >= w.attempts {
				return presence.Withdraw{Session: hello.Session, Attempt: attempt}
			}
		}
		return presence.Beat{From: link}
	case 13, 14:
		return presence.Activity{From: link, IdleFor: time.Duration(a%3) * 7 * unit}
	case 15:
		return presence.Idle{From: link}
	case 16:
		return presence.PageHidden{From: link, Hidden: a%2 == 0}
	case 17, 18:
		return presence.Typing{From: link, Room: room, Number: uint64(len(w.story) + 4 - a%4), On: a%4 > 0}
	case 19:
		return presence.Sent{From: link, Room: room, Number: uint64((len(w.story) + 4) * (a % 4 / 3))}
	case 20:
		return presence.BeatWritten{To: link, Probe: a%2 == 0}
	case 21:
		return presence.LinkLost{Link: link}
	case 22:
		return presence.Closing{From: link}
	case 23:
		return presence.Bye{From: link}
	case 24:
		if len(w.hellos) > 0 {
			h := w.hellos[len(w.hellos)-1-a%min(len(w.hellos), 4)]
			if c%3 == 0 {
				return presence.ByeNote{Session: h.Session, Key: h.Key}
			}
			return presence.ClosingBeacon{Session: h.Session, Key: h.Key, Nonce: fmt.Sprint(b % 3)}
		}
		return nil
	case 25:
		until := int64(0)
		if c%2 == 0 {
			until = wall + int64(time.Duration(c)*unit/time.Millisecond)
		}
		in := presence.SetStatus{User: user, Status: []presence.Status{"", presence.Busy, presence.Away}[b%3], Note: strings.Repeat("!", a%2), Until: until}
		if b%4 == 1 {
			in.Label = "on the radio"
		}
		if b%5 == 1 {
			in.Session = link.Session
		}
		return in
	case 26, 27:
		return presence.Hide{User: user, Hidden: b%2 == 0}
	case 28:
		if b%4 == 0 {
			return presence.Remove{User: user}
		}
		return presence.Remove{User: user, Room: room, Issued: wall + int64(a%3-1)*int64(2*unit/time.Millisecond)}
	case 29:
		return presence.SignOut{User: user}
	case 30:
		return presence.Renew{From: link, Issued: wall, Expires: wall + int64(time.Duration(b)*unit/time.Millisecond), Profile: presence.Profile{Name: fmt.Sprint(a % 2)}, Grants: grants(a), Admits: admits(b)}
	}
	return presence.Declare{Room: room, Declared: a%2 == 0}
}

func (w *world) hello(in presence.Hello, a, b, c int) presence.Hello {
	w.attempts++
	in.Attempt = w.attempts
	wall := dusk.Add(w.now).UnixMilli()
	in.NewSession, in.NewKey = presence.SessionID(fmt.Sprint("s-", w.attempts)), fmt.Sprint("k-", w.attempts)
	if in.Session == "" || a%2 == 0 {
		in.Nonce = fmt.Sprint(b % 3)
	}
	in.Issued = wall - int64(c%3*16)
	if c%5 == 0 {
		in.Expires = wall + int64(time.Duration(b+2)*unit/time.Millisecond)
	}
	if b%4 > 0 {
		in.Rooms = someRooms[a%2 : a%2+b%3]
	}
	in.Leased, in.NoInput, in.PageHidden = b%7 == 6, c%7 == 6, c%4 == 3
	in.OneByOne, in.Grants, in.Admits, in.NewAsk = c%3 == 1, grants(a+b), admits(b+c), w.newAsk()
	in.Device = presence.Device(b % 5)
	if in.Leased && a%3 > 0 {
		in.Report = &presence.Report{Active: a%4 == 1, Idle: a%4 == 2}
		if c%2 == 0 {
			in.Report.Typing = someRooms[c%3 : c%3+b%2]
		}
		if c%4 == 1 {
			in.Report.Doing = map[presence.RoomName]string{someRooms[b%3]: fmt.Sprintf(`{"page":%d}`, a%2)}
		}
	}
	if a%5 == 4 {
		idle := time.Duration(c) * unit
		in.IdleFor = &idle
	}
	in.Profile.Name = fmt.Sprint(c % 2)
	return in
}

// grants returns the grants of some tokens, mostly all rooms.
func grants(n int) []presence.Pattern {
	switch n % 8 {
	case 6:
		return []presence.Pattern{"basin.*"}
	case 7:
		return []presence.Pattern{}
	}
	return nil
}

// after returns the time of the input that a number stands for: the high bits are a pause, and
// each input has its own tick.
func (w *world) after(i int, n uint64) time.Duration {
	pause := time.Duration(0)
	if n>>18%4 == 0 {
		pause = time.Duration(n>>20%8) * unit
	}
	at := w.now.Truncate(unit) + pause + time.Duration(i)*tickTime
	if at <= w.now {
		at += unit
	}
	return at
}

// play plays the history that some numbers stand for.
func (w *world) play(history []uint64, each func()) { w.playFrom(0, history, each) }

// playFrom plays a part of a history. First is the number of its first input, which gives each its
// own tick.
func (w *world) playFrom(first int, history []uint64, each func()) {
	for i, n := range history {
		w.pass(w.after(first+i, n))
		if in := w.input(n); in != nil {
			w.tell(in)
		}
		each()
	}
}

func numbers(t *rapid.T) []uint64 {
	return rapid.SliceOfN(rapid.Uint64Range(0, 1<<26-1), historyLength, historyLength).Draw(t, "history")
}

func TestModelCoreAndReplicasAgree(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		second := rapid.SampledFrom([]presence.SecondSession{presence.AllowSecond, presence.AllowSecond, presence.ReplaceFirst, presence.RefuseSecond}).Draw(t, "second")
		policy := brisk(second)
		if rapid.Bool().Draw(t, "meeting") {
			policy = meeting(second)
		}
		w := newWorld(t, policy)
		defer func() {
			if t.Failed() {
				t.Logf("the history:\n%s", strings.Join(w.story, "\n"))
			}
		}()
		w.play(numbers(t), w.agree)
		w.pass(w.now + time.Minute)
		w.agree()
	})
}

// TestRestartIsNotSeen restores what a stop saves, and what was saved at edges, as after a
// crash.
func TestRestartIsNotSeen(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := newWorld(t, meeting(presence.AllowSecond))
		history := numbers(t)
		w.play(history[:100], func() {})
		saved := w.core.Save(instant(w.now))
		kept := presence.Saved{Version: presence.SavedVersion, At: saved.At, Declared: saved.Declared, People: byUser(w.kept)}
		require.Equal(t, withoutTimes(saved.People, false), withoutTimes(kept.People, false), "each edge says whom to save anew")
		size := presence.Size{Rooms: w.core.Size().Rooms}
		for _, p := range saved.People {
			size.Sessions += len(p.Sessions)
			if len(p.Sessions) > 0 {
				size.People++
			}
			for _, s := range p.Sessions {
				if !s.Live {
					size.InGrace++
				} else if s.Leased {
					size.Leases++
				}
			}
		}
		require.Equal(t, size, w.core.Size())
		if rapid.Bool().Draw(t, "crash") {
			saved = kept
		}
		restored := presence.NewCore(meeting(presence.AllowSecond))
		var out presence.Effects
		require.NoError(t, restored.Restore(instant(w.now), saved, &out))
		for _, view := range views {
			for _, room := range someRooms {
				require.Equal(t, withoutDoing(w.core.Members(room, view)), withoutDoing(restored.Members(room, view)), "a restart is not seen")
				require.Equal(t, w.core.Count(room, view), restored.Count(room, view))
			}
		}
		again := restored.Save(instant(w.now))
		require.Equal(t, withoutTimes(saved.People, true), withoutTimes(again.People, true))
	})
}

// withoutTimes removes what a beat changes and, for a restart, the loss of every link.
func withoutTimes(people []presence.SavedPerson, restarted bool) []presence.SavedPerson {
	people = slices.Clone(people)
	for i := range people {
		people[i].Sessions = slices.Clone(people[i].Sessions)
		for j := range people[i].Sessions {
			s := &people[i].Sessions[j]
			s.LastHeard, s.LastActive, s.Live = 0, 0, s.Live && !restarted
			s.Rooms = slices.Clone(s.Rooms)
			for k := range s.Rooms { // is saved every 5 s
				s.Rooms[k].Doing, s.Rooms[k].DoingOrder = "", 0
			}
		}
		people[i] = withoutTimesOfMeetings(people[i])
	}
	return people
}

// TestOpenViewTellsNothingOfWhoHides plays each history twice, the second time without the acts
// of the hidden person. The open view is the same, byte for byte.
func TestOpenViewTellsNothingOfWhoHides(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		history := numbers(t)
		ghost := rapid.SliceOfN(rapid.Uint64Range(0, 1<<26-1), historyLength, historyLength).Draw(t, "ghost")
		without := openEffects(t, history, nil)
		with := openEffects(t, history, ghost)
		require.Equal(t, without, with)
	})
}

// openEffects plays a history together with the acts of a person who hides all the time.
func openEffects(t *rapid.T, history, ghost []uint64) string {
	policy := meeting(presence.AllowSecond)
	w := newWorld(t, policy)
	g := &world{t: t, core: w.core, model: newModel(policy), settled: map[uint64]mAnswer{}, pending: map[uint64]presence.Hello{}, meetingWorld: newMeetingWorld()}
	g.minted = 1_000_000
	_, err := w.core.Apply(instant(0), presence.Hide{User: "ghost", Hidden: true}, &w.effects)
	require.NoError(t, err)
	for i, n := range history {
		w.passCore(w.after(i, n))
		if ghost != nil {
			g.now, g.attempts = w.now, uint64(1_000_000+i)
			if in := asGhost(g.input(ghost[i])); in != nil {
				g.asks, g.invites = w.asks, w.invites                    // it tries to answer what is others'
				reply, _ := w.core.Apply(instant(w.now), in, &w.effects) // a refusal is as good an act as any
				if hello, ok := in.(presence.Hello); ok {
					g.welcomed(hello, reply)
				}
				w.takeOpen()
			}
		}
		if in := w.input(n); in != nil {
			w.story = append(w.story, "")
			reply, _ := w.core.Apply(instant(w.now), in, &w.effects)
			if hello, ok := in.(presence.Hello); ok {
				w.welcomed(hello, reply)
			}
			w.takeOpen()
		}
	}
	return w.open.String()
}

// asGhost makes the hidden person act, and skips acts that they cannot do.
func asGhost(in presence.Input) presence.Input {
	switch in := in.(type) {
	case presence.Hello:
		in.User = "ghost"
		return in
	case presence.SetStatus:
		in.User = "ghost"
		return in
	case presence.SignOut:
		return presence.SignOut{User: "ghost"}
	case presence.InviteFor:
		in.User = "ghost"
		return in
	case presence.Hide, presence.Remove, presence.Declare, presence.DecideAsk, presence.EndInvitation, presence.GrantPass, presence.RevokePass:
		return nil
	}
	return in
}

func (w *world) passCore(to time.Duration) {
	for due, ok := w.core.Due(); ok && due <= to; due, ok = w.core.Due() {
		w.now = max(w.now, due)
		for more := true; more; {
			_, more = w.core.Advance(instant(w.now), 2, &w.effects)
		}
		w.takeOpen()
	}
	w.now = to
}

// takeOpen records what the open view gets, and the state that it can ask for.
func (w *world) takeOpen() {
	before := w.open.Len()
	for _, effect := range w.effects.List {
		switch effect := effect.(type) {
		case presence.MemberChanged:
			w.note(effect.Views, effect.Room, effect.Before, effect.After, effect.Reason, effect.LastSeen)
		case presence.TypingChanged:
			w.note(effect.Views, effect.Room, effect.User, effect.On)
		case presence.PersonChanged:
			w.note(effect.Views, effect.User, effect.Before, effect.After, effect.LastSeen)
		case presence.Settled:
			if hello, ok := w.pending[effect.Attempt]; ok {
				w.welcomed(hello, effect.Reply)
			}
		default:
			w.noteMeeting(effect)
		}
	}
	w.effects.Reset()
	if w.open.Len() == before {
		return
	}
	for _, room := range someRooms {
		fmt.Fprintln(&w.open, room, w.core.Exists(room, presence.Open), w.core.Members(room, presence.Open),
			w.core.Count(room, presence.Open), w.core.Typing(room, presence.Open))
	}
}
