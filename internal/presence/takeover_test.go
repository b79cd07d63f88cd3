package presence_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tovik.example/tovik/internal/presence"
)

// begin gives core and model an epoch.
func (w *world) begin(epoch uint32) {
	w.core.SetEpoch(epoch)
	w.model.epoch, w.model.minted = epoch, presence.LinkNumber(epoch)<<32
}

// facts are what carriers know of all links, from the model.
func (w *world) facts() (facts []presence.Fact) {
	m := w.model
	for _, p := range w.core.Save(instant(w.now)).People {
		for _, is := range p.Sessions {
			s := m.session(is.ID)
			if !s.live || s.Leased {
				continue
			}
			f := presence.Fact{User: p.User, Profile: p.Profile, Hidden: p.Hidden, Session: is, Admits: s.Admits,
				Heard: m.now - s.heard, Active: m.now - s.active, Unanswered: -1, Confirmed: true}
			if s.unheard > 0 {
				f.Unanswered = m.now - s.unheard
			}
			for _, e := range s.rooms {
				f.Reported = append(f.Reported, presence.RoomReports{Room: e.room, Typing: e.report, Doing: e.number, On: e.typing, Ago: m.now - e.until + m.policy.For(e.room).TypingExpires})
			}
			facts = append(facts, f)
		}
	}
	return facts
}

// settles withdraws all hellos that wait.
func (w *world) settles() {
	for _, s := range w.model.sessions {
		for _, hello := range slices.Clone(s.waiting) {
			w.tell(presence.Withdraw{Session: hello.Session, Attempt: hello.Attempt})
		}
	}
}

// takenOver makes the model what a takeover leaves: leases run anew, whoever is in grace types no
// longer, and what somebody is doing is seen at once.
func (m *model) takenOver() {
	for _, s := range m.sessions {
		if s.live && s.Leased {
			s.heard, s.unheard = m.now, 0
			if !s.idle {
				s.active = m.now
			}
		}
		if !s.live || s.Leased {
			s.Admits = nil // the next hello says it again
		}
		for _, e := range s.rooms {
			if !s.live || s.Leased {
				e.typing, e.report, e.number = false, 0, 0
			}
		}
	}
	for place := range m.shown {
		m.shown[place] = mShown{object: m.newestDoing(place), at: m.now - m.policy.For(place.room).DoingEvery}
	}
}

// TestAHandoverIsNotSeen lets another core continue in the middle of a history, to which carriers
// report all links in any order. From then on it is the same history.
func TestAHandoverIsNotSeen(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		policy := meeting(presence.AllowSecond)
		w := newWorld(t, policy)
		w.begin(1)
		defer func() {
			if t.Failed() {
				t.Logf("the history:\n%s", strings.Join(w.story, "\n"))
			}
		}()
		history := numbers(t)
		w.play(history[:150], func() {})
		w.settles()
		w.pass(w.after(historyLength+1, 0)) // a tick of its own
		facts := w.facts()
		saved := w.core.Save(instant(w.now))
		onRecord := func() {
			require.Equal(t, lastingOf(w.core.Save(instant(w.now)).People), lastingOf(byUser(w.kept)), "each change says whom to save")
		}
		onRecord()
		next := presence.NewCore(policy)
		w.story = append(w.story, w.now.String()+" handover")
		require.NoError(t, next.Continue(instant(w.now), saved, presence.Takeover{Time: w.core.Time(), Wall: saved.At, Whole: true}, &w.effects))
		w.core, w.handedOver = next, true
		w.keep()
		w.begin(2)
		for _, i := range rapid.Permutation(indexes(facts)).Draw(t, "order") {
			require.Equal(t, presence.SeatKept, next.Reseat(instant(w.now), facts[i], &w.effects))
		}
		require.False(t, due(next), "time stands still")
		next.GoOn(instant(w.now))
		w.model.takenOver()
		w.keep()
		w.copies()
		w.agree()
		w.playFrom(150, history[150:300], w.agree)
		w.pass(w.now + time.Minute)
		w.agree()
		onRecord()
	})
}

// copies makes the replicas anew from the core, as receivers do who compare their lists with the
// first ones of a new core.
func (w *world) copies() {
	for _, view := range views {
		w.replicas[view], w.typing[view] = map[presence.RoomName]map[presence.UserID]presence.Member{}, map[mPlace]bool{}
		for _, room := range someRooms {
			w.replicas[view][room] = map[presence.UserID]presence.Member{}
			for _, m := range w.core.Members(room, view) {
				w.replicas[view][room][m.User] = m
			}
			for _, user := range w.core.Typing(room, view) {
				w.typing[view][mPlace{room, user}] = true
			}
		}
		for _, user := range someUsers {
			w.people[view][user] = w.core.Person(user, view)
		}
	}
}

func due(c *presence.Core) bool {
	_, ok := c.Due()
	return ok
}

func indexes[T any](list []T) (all []int) {
	for i := range list {
		all = append(all, i)
	}
	return all
}

// TestADeathShowsNobodyLeaving lets a core continue from a record that lacks the last inputs.
// Everybody with a link stays where they are; who said bye is gone; and once nothing more is
// heard, everybody is gone in time.
func TestADeathShowsNobodyLeaving(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		policy := meeting(presence.AllowSecond)
		w := newWorld(t, policy)
		w.begin(1)
		history := numbers(t)
		w.play(history[:150], func() {})
		record := w.core.Save(instant(w.now))
		mark := presence.Takeover{Time: w.core.Time(), Wall: record.At}
		opened := map[presence.SessionID]bool{}
		for _, p := range record.People {
			for _, s := range p.Sessions {
				opened[s.ID] = true
			}
		}
		w.playFrom(150, history[150:150+rapid.IntRange(0, 20).Draw(t, "unrecorded")], func() {})
		w.settles()

		next := presence.NewCore(policy)
		next.SetEpoch(2)
		var out presence.Effects
		require.NoError(t, next.Continue(instant(w.now), record, mark, &out))
		kept := map[presence.UserID]presence.SavedPerson{}
		for _, p := range next.Save(instant(w.now)).People {
			kept[p.User] = p
		}
		facts := w.facts()
		for i := range facts {
			facts[i].Confirmed = opened[facts[i].Session.ID]
		}
		for _, p := range record.People { // carriers name the sessions that ended
			for _, s := range p.Sessions {
				if w.model.session(s.ID) == nil {
					facts = append(facts, presence.Fact{User: p.User, Profile: p.Profile, Session: s, Unanswered: -1, Confirmed: true, Lost: presence.ReasonBye})
				}
			}
		}
		for _, i := range rapid.Permutation(indexes(facts)).Draw(t, "order") {
			seat := next.Reseat(instant(w.now), facts[i], &out)
			if s := w.model.session(facts[i].Session.ID); s != nil {
				require.Contains(t, []presence.Seat{presence.SeatKept, presence.SeatAdopted, presence.SeatCreated}, seat)
			}
		}
		saveAgain(kept, next, w.now, out.Touched)
		require.Equal(t, lastingOf(next.Save(instant(w.now)).People), lastingOf(byUser(kept)), "a report says whom to save")
		next.GoOn(instant(w.now))
		for _, s := range w.model.sessions {
			if !s.live || s.Leased {
				continue
			}
			link, ok := next.LinkOf(s.Session, presence.Full)
			require.True(t, ok, "%s is live", s.Session)
			require.Equal(t, s.link, link.Link.Number)
			require.ElementsMatch(t, w.core.RoomsOver(link.Link), next.RoomsOver(link.Link))
		}
		for _, p := range record.People {
			for _, s := range p.Sessions {
				if w.model.session(s.ID) == nil {
					_, ok := next.LinkOf(s.ID, presence.Full)
					require.False(t, ok, "%s has ended", s.ID)
				}
			}
		}
		consistent := func() {
			for _, room := range someRooms {
				for _, view := range views {
					require.Equal(t, presence.CountOf(next.Members(room, view)), next.Count(room, view))
				}
			}
		}
		consistent()
		end := w.now + max(policy.Lease, policy.BeatEvery+policy.Silence()+policy.GraceBackground)
		for due, ok := next.Due(); ok && due <= end; due, ok = next.Due() {
			out.Reset()
			next.Advance(instant(max(w.now, due)), 1, &out)
			for _, effect := range out.List {
				if ask, ok := effect.(presence.AskBeat); ok {
					_, _ = next.Apply(instant(max(w.now, due)), presence.BeatWritten{To: ask.Link}, &out)
				}
			}
			consistent()
		}
		require.Zero(t, next.Size().Sessions, "no ghosts")
		require.Zero(t, next.Size().InGrace+next.Size().Leases+next.Size().People)
	})
}

// lastingOf leaves out times, which change without being saved anew.
func lastingOf(people []presence.SavedPerson) []presence.SavedPerson {
	people = withoutTimes(people, false)
	for i := range people {
		for j := range people[i].Sessions {
			people[i].Sessions[j].Active = 0
		}
	}
	return people
}

// seated is a core that continues from nothing, and facts of ilse's session over its links.
func seated(t *testing.T) (*presence.Core, func(link presence.LinkNumber, rooms ...presence.RoomName) presence.Fact, *presence.Effects) {
	core, out := presence.NewCore(presence.DefaultPolicy()), &presence.Effects{}
	core.SetEpoch(2)
	require.NoError(t, core.Continue(instant(s), presence.Saved{Version: presence.SavedVersion}, presence.Takeover{Time: s}, out))
	core.GoOn(instant(s))
	return core, func(link presence.LinkNumber, rooms ...presence.RoomName) presence.Fact {
		f := presence.Fact{User: "ilse", Profile: presence.Profile{Name: "Ilse Marrow"}, Unanswered: -1,
			Session: presence.SavedSession{ID: "session-1", Key: strings.Repeat("ab", 16), Nonce: "page", Link: link, Issued: 1, Opened: 1}}
		for _, room := range rooms {
			f.Session.Rooms = append(f.Session.Rooms, presence.SavedEntry{Room: room})
		}
		return f
	}, out
}

func TestOfTwoLinksOfASessionTheHigherLives(t *testing.T) {
	for name, links := range map[string][2]presence.LinkNumber{"the lower is reported first": {1<<32 + 4, 1<<32 + 5}, "the higher is reported first": {1<<32 + 5, 1<<32 + 4}} {
		t.Run(name, func(t *testing.T) {
			core, fact, out := seated(t)
			first := core.Reseat(instant(s), fact(links[0], weir), out)
			second := core.Reseat(instant(s), fact(links[1], weir), out)
			require.Equal(t, presence.SeatCreated, first)
			link, _ := core.LinkOf("session-1", presence.Full)
			require.Equal(t, max(links[0], links[1]), link.Link.Number)
			if links[1] > links[0] {
				require.Equal(t, presence.SeatAdopted, second)
				require.Contains(t, out.List, presence.Cut{Link: presence.LinkID{Session: "session-1", Number: links[0]}, Reason: presence.ReasonReplaced})
			} else {
				require.Equal(t, presence.SeatOlder, second)
			}
			require.Equal(t, 1, core.Count(weir, presence.Open).Sessions)
		})
	}
}

func TestAConfirmedSessionThatIsUnknownHasEnded(t *testing.T) {
	core, fact, out := seated(t)
	f := fact(1<<32 + 4)
	f.Confirmed = true
	require.Equal(t, presence.SeatEnded, core.Reseat(instant(s), f, out))
	require.Zero(t, core.Size().Sessions)
}

// TestASessionThatThisCoreHasEndedStaysEnded has a session that was opened and ended before anything of it was on record.
func TestASessionThatThisCoreHasEndedStaysEnded(t *testing.T) {
	core, fact, out := seated(t)
	f := fact(2<<32 + 4)
	f.Lost = presence.ReasonLost
	require.Equal(t, presence.SeatEnded, core.Reseat(instant(s), f, out))
	require.Zero(t, core.Size().Sessions)
}

func TestARemovalBeatsWhatACarrierReports(t *testing.T) {
	core, fact, out := seated(t)
	_, err := core.Apply(instant(s), presence.Remove{User: "ilse", Room: weir}, out)
	require.NoError(t, err)
	require.Equal(t, presence.SeatCreated, core.Reseat(instant(s), fact(1<<32+4, weir, "desk.night"), out))
	require.Equal(t, []presence.RoomName{"desk.night"}, core.RoomsOf("ilse", presence.Full))
	_, err = core.Apply(instant(2*s), presence.Remove{User: "ilse"}, out)
	require.NoError(t, err)
	require.Equal(t, presence.SeatEnded, core.Reseat(instant(2*s), fact(1<<32+4, weir), out))
}

func TestASecondSessionIsJudgedByWhenEachWasOpened(t *testing.T) {
	for _, c := range []struct {
		second presence.SecondSession
		opened [2]int64 // as they are reported
		stays  presence.SessionID
	}{
		{presence.ReplaceFirst, [2]int64{1, 2}, "session-2"}, {presence.ReplaceFirst, [2]int64{2, 1}, "session-1"},
		{presence.RefuseSecond, [2]int64{1, 2}, "session-1"}, {presence.RefuseSecond, [2]int64{2, 1}, "session-2"},
	} {
		core, fact, out := seated(t)
		policy := presence.DefaultPolicy()
		policy.SecondSession = c.second
		_, err := core.Apply(instant(s), presence.SetPolicy{Policy: policy}, out)
		require.NoError(t, err)
		for i, opened := range c.opened {
			f := fact(1<<32+presence.LinkNumber(i), weir)
			f.Session.ID, f.Session.Opened = presence.SessionID("session-"+string(rune('1'+i))), opened
			core.Reseat(instant(s), f, out)
		}
		require.Equal(t, 1, core.Size().Sessions, "%+v", c)
		_, stays := core.LinkOf(c.stays, presence.Full)
		require.True(t, stays, "%+v", c)
	}
}

func TestALostLinkIsSeatedAndThenLost(t *testing.T) {
	core, fact, out := seated(t)
	f := fact(1<<32+4, weir)
	f.Lost = presence.ReasonLost
	require.Equal(t, presence.SeatGone, core.Reseat(instant(s), f, out))
	require.Equal(t, 1, core.Size().InGrace, "its client may come back")
	f.Lost = presence.ReasonBye
	require.Equal(t, presence.SeatGone, core.Reseat(instant(s), f, out))
	require.Zero(t, core.Size().Sessions)
}

func TestALinkWhoseCarrierIsNotHeardIsSilent(t *testing.T) {
	core, fact, out := seated(t)
	policy := core.Policy()
	core.Reseat(instant(s), fact(1<<32+4, weir), out)
	core.Unseat(instant(2*s), presence.LinkID{Session: "session-1", Number: 1<<32 + 4}, out)
	advance := func(at time.Duration) {
		for more := true; more; {
			_, more = core.Advance(instant(at), 10, out)
		}
	}
	lost := s + policy.BeatEvery + policy.Silence()
	for at := 2 * s; at < lost; at += s / 2 {
		advance(at)
	}
	require.Zero(t, core.Size().InGrace)
	advance(lost + tickTime)
	require.Equal(t, 1, core.Size().InGrace)
}

func TestSentInvitationsStayInTheirOrder(t *testing.T) {
	st := tell(t)
	st.opens("tobin", "a", "desk.night").opens("ilse", "b", "desk.night").opens("hanne", "c", "desk.night")
	invites := func(id presence.InvitationID, to presence.UserID) {
		st.must(presence.InviteFor{User: "hanne", To: to, Room: weir, New: id})
		st.at(st.now + time.Second)
	}
	invites("invitation-1", "tobin")
	invites("invitation-2", "ilse")
	sent := func(c *presence.Core) (to []presence.UserID) {
		for _, i := range c.Invitations(instant(st.now), "hanne").Sent {
			to = append(to, i.To)
		}
		return to
	}
	require.Equal(t, []presence.UserID{"tobin", "ilse"}, sent(st.core))
	next := presence.NewCore(*st.core.Policy())
	require.NoError(t, next.Restore(instant(st.now), st.core.Save(instant(st.now)), &presence.Effects{}))
	require.Equal(t, []presence.UserID{"tobin", "ilse"}, sent(next), "not in that of their receivers")
}

func TestAGraceKeepsItsReasonInEachRoomOverATakeover(t *testing.T) {
	policy := presence.DefaultPolicy()
	longer := policy.RoomPolicy
	longer.GraceClosing = 20 * s
	policy.Rooms = []presence.PatternPolicy{{Pattern: "desk.*", RoomPolicy: longer}}
	core, next, out := presence.NewCore(policy), presence.NewCore(policy), &presence.Effects{}
	core.SetEpoch(2)
	next.SetEpoch(3)
	reply, err := core.Apply(instant(s), presence.Hello{User: "ilse", Nonce: "page", NewSession: "session-1", NewKey: "k", Rooms: []presence.RoomName{weir, "desk.night"}}, out)
	require.NoError(t, err)
	_, err = core.Apply(instant(2*s), presence.Closing{From: reply.Link}, out)
	require.NoError(t, err)
	require.NoError(t, next.Continue(instant(3*s), core.Save(instant(3*s)), presence.Takeover{Time: 3 * s, Whole: true}, out))
	next.GoOn(instant(3 * s))
	out.Reset()
	for at := 3 * s; at < 10*s; at += s / 2 {
		next.Advance(instant(at), 10, out)
	}
	left := slices.DeleteFunc(slices.Clone(out.List), func(e presence.Effect) bool { _, is := e.(presence.MemberChanged); return !is })
	require.Len(t, left, 1, "of one room only")
	require.Equal(t, []any{weir, presence.ReasonClosing}, []any{left[0].(presence.MemberChanged).Room, left[0].(presence.MemberChanged).Reason})
}

func TestAGraceOfARecordThatMayLackAReturnIsLongEnoughForOne(t *testing.T) {
	core, fact, out := seated(t)
	core.Reseat(instant(s), fact(1<<32+4, weir), out)
	_, err := core.Apply(instant(2*s), presence.Closing{From: presence.LinkID{Session: "session-1", Number: 1<<32 + 4}}, out)
	require.NoError(t, err)
	saved := core.Save(instant(4 * s)) // a second of the grace is left
	for whole, left := range map[bool]time.Duration{true: s, false: core.Policy().GraceLost} {
		next := presence.NewCore(*core.Policy())
		next.SetEpoch(3)
		out.Reset()
		require.NoError(t, next.Continue(instant(60*s), saved, presence.Takeover{Time: 4 * s, Wall: saved.At, Whole: whole}, out))
		require.Equal(t, !whole, slices.Contains(out.Touched, "ilse"), "a longer grace is recorded")
		require.Subset(t, []presence.UserID{"ilse"}, out.Touched, "and nothing else")
		next.GoOn(instant(70 * s)) // time stood still
		require.Equal(t, presence.ReasonClosing, next.Save(instant(70 * s)).People[0].Sessions[0].Reason)
		for at := 70 * s; at < 70*s+left; at += s / 2 {
			next.Advance(instant(at), 10, out)
		}
		require.Equal(t, 1, next.Size().InGrace)
		next.Advance(instant(70*s+left+tickTime), 10, out)
		require.Zero(t, next.Size().InGrace)
	}
}

func TestAPageThatSaidItIsClosingIsNotRevived(t *testing.T) {
	for _, closing := range []bool{true, false} {
		core, fact, out := seated(t)
		core.Reseat(instant(s), fact(1<<32+4, weir), out)
		link := presence.LinkID{Session: "session-1", Number: 1<<32 + 4}
		var in presence.Input = presence.LinkLost{Link: link}
		if closing {
			in = presence.Closing{From: link}
		}
		_, err := core.Apply(instant(2*s), in, out)
		require.NoError(t, err)
		next := continued(t, core, 2*s, out)
		want := presence.SeatKept // its carrier has the link after all
		if closing {
			want = presence.SeatOlder
		}
		require.Equal(t, want, next.Reseat(instant(2*s), fact(1<<32+4, weir), out))
	}
}

func TestAnUnchangedLinkWritesNothing(t *testing.T) {
	core, fact, out := seated(t)
	core.Reseat(instant(s), fact(1<<32+4, weir), out)
	saved := core.Save(instant(2 * s))
	for _, rooms := range [][]presence.RoomName{{weir}, {weir, "desk.night"}, {}} {
		next := presence.NewCore(*core.Policy())
		next.SetEpoch(3)
		require.NoError(t, next.Continue(instant(60*s), saved, presence.Takeover{Time: core.Time(), Wall: saved.At}, out))
		for at := 61 * s; at < 64*s; at += s { // time stands still
			out.Reset()
			require.Equal(t, presence.SeatKept, next.Reseat(instant(at), fact(1<<32+4, rooms...), out))
			require.Equal(t, len(rooms) != 1 && at == 61*s, len(out.List)+len(out.Touched) > 0, "%v at %v: %v %v", rooms, at, out.List, out.Touched)
		}
	}
}

// continued returns a core that continues another one, after a handover.
func continued(t *testing.T, core *presence.Core, at time.Duration, out *presence.Effects) *presence.Core {
	saved := core.Save(instant(at))
	next := presence.NewCore(*core.Policy())
	next.SetEpoch(3)
	require.NoError(t, next.Continue(instant(at), saved, presence.Takeover{Time: core.Time(), Wall: saved.At, Whole: true}, out))
	next.GoOn(instant(at))
	return next
}

// losesItsLink advances a core, and requires that its only link is lost at a time.
func losesItsLink(t *testing.T, core *presence.Core, from, at time.Duration, out *presence.Effects) {
	t.Helper()
	for now := from; now < at-tickTime; now += s / 2 {
		core.Advance(instant(now), 10, out)
		require.Zero(t, core.Size().InGrace, "at %v", now)
	}
	core.Advance(instant(at+tickTime), 10, out)
	require.Equal(t, 1, core.Size().InGrace)
}

func TestAnUnansweredRequestGoesOnCounting(t *testing.T) {
	core, fact, out := seated(t)
	f := fact(1<<32+4, weir)
	f.Heard, f.Unanswered = 20*s, 5*s
	core.Reseat(instant(30*s), f, out)
	losesItsLink(t, core, 30*s, 25*s+core.Policy().Silence(), out)
}

func TestASilenceGoesOnOverATakeover(t *testing.T) {
	core, fact, out := seated(t)
	core.Reseat(instant(s), fact(1<<32+4, weir), out)
	out.Reset()
	core.Unseat(instant(2*s), presence.LinkID{Session: "session-1", Number: 1<<32 + 4}, out)
	require.Contains(t, out.Touched, presence.UserID("ilse"), "it is recorded")
	lost := s + core.Policy().BeatEvery + core.Policy().Silence()
	for now := 2 * s; now <= 20*s; now += s / 2 {
		core.Advance(instant(now), 10, out)
	}
	losesItsLink(t, continued(t, core, 20*s, out), 20*s, lost, out)
}

func TestOpenAsksStayInTheirOrder(t *testing.T) {
	policy := meeting(presence.AllowSecond)
	core := presence.NewCore(policy)
	var out presence.Effects
	for i, user := range []presence.UserID{"tobin", "hanne", "ilse"} {
		_, err := core.Apply(instant(time.Duration(i+1)*s), presence.Hello{User: user, Issued: dusk.UnixMilli(), NewSession: presence.SessionID("session-of-" + user),
			NewKey: "key", NewAsk: presence.AskID("ask-of-" + user), Rooms: []presence.RoomName{"desk.night"}}, &out)
		require.NoError(t, err)
	}
	next := presence.NewCore(policy)
	require.NoError(t, next.Restore(instant(4*s), core.Save(instant(4*s)), &out))
	require.Equal(t, askers(core), askers(next))
}

func askers(core *presence.Core) (users []presence.UserID) {
	for _, a := range core.Asks(instant(4*s), "desk.night") {
		users = append(users, a.User)
	}
	return users
}

func TestAReportTellsAPageWhatItHasMissed(t *testing.T) {
	core, fact, out := seated(t)
	link := presence.LinkID{Session: "session-1", Number: 1<<32 + 4}
	f := fact(link.Number, weir, "desk.night")
	core.Reseat(instant(s), f, out)
	for _, in := range []presence.Input{presence.Remove{User: "ilse", Room: weir}, presence.SetStatus{User: "ilse", Status: presence.Busy}} {
		_, err := core.Apply(instant(s), in, out)
		require.NoError(t, err)
	}
	out.Reset()
	ask := presence.OpenAsk{Ask: "ask-1", Room: "gate.lower-lock", User: "ilse"}
	f.Told.Asks, f.Told.Invitations = []presence.OpenAsk{ask}, []presence.InvitationID{"invitation-1"}
	require.Equal(t, presence.SeatKept, core.Reseat(instant(2*s), f, out))
	busy := presence.Appearance{Status: presence.Busy}
	links := []presence.LinkID{link}
	require.Equal(t, []presence.Effect{
		presence.TakenOut{Link: link, Room: weir, Reason: presence.ReasonRemoved}, presence.OwnChanged{Links: links, Set: busy},
		presence.AskAnswered{OpenAsk: ask, Outcome: presence.Expired, Links: links}, presence.InvitationsChanged{Links: links},
	}, out.List)
	out.Reset()
	f = fact(link.Number, "desk.night")
	f.Told.Set = busy
	core.Reseat(instant(2*s), f, out)
	require.Empty(t, out.List)
}

func TestWhoWasAdmittedAfterATakeoverIsIn(t *testing.T) {
	var out presence.Effects
	core := presence.NewCore(meeting(presence.AllowSecond))
	reply, err := core.Apply(instant(s), presence.Hello{User: "ilse", Issued: dusk.UnixMilli(), NewSession: "session-1", NewKey: "key", NewAsk: "ask-1", Rooms: []presence.RoomName{"desk.night"}}, &out)
	require.NoError(t, err)
	f := presence.Fact{User: "ilse", Unanswered: -1, Session: core.Save(instant(s)).People[0].Sessions[0], Told: presence.Told{Asks: reply.Asked}}
	next := continued(t, core, 2*s, &out)
	_, err = next.Apply(instant(3*s), presence.DecideAsk{Ask: "ask-1", Admit: true}, &out) // the carrier has not reported yet
	require.NoError(t, err)
	out.Reset()
	require.Equal(t, presence.SeatKept, next.Reseat(instant(4*s), f, &out))
	require.Equal(t, []presence.RoomName{"desk.night"}, next.RoomsOf("ilse", presence.Full))
	require.Equal(t, presence.Admitted, out.List[len(out.List)-1].(presence.AskAnswered).Outcome)
}

func TestAReportTellsNothingTwice(t *testing.T) {
	core, fact, out := seated(t)
	f := fact(1<<32+4, weir, "desk.night")
	core.Reseat(instant(s), f, out)
	next := continued(t, core, 2*s, out)
	out.Reset()
	f.Grants = []presence.Pattern{"basin.*"} // it was renewed with less, and the carrier lacks what came of it
	require.Equal(t, presence.SeatKept, next.Reseat(instant(3*s), f, out))
	taken := slices.DeleteFunc(slices.Clone(out.List), func(e presence.Effect) bool { _, is := e.(presence.TakenOut); return !is })
	require.Equal(t, []presence.Effect{presence.TakenOut{Link: presence.LinkID{Session: "session-1", Number: 1<<32 + 4}, Room: "desk.night", Reason: presence.ReasonLeave}}, taken)
}

// TestALinkThatLivesAfterAllIsOnRecord has a link that one owner took for lost. Its carrier reports it to the next one.
func TestALinkThatLivesAfterAllIsOnRecord(t *testing.T) {
	core, fact, out := seated(t)
	core.Reseat(instant(s), fact(1<<32+4, weir), out)
	_, err := core.Apply(instant(2*s), presence.LinkLost{Link: presence.LinkID{Session: "session-1", Number: 1<<32 + 4}}, out)
	require.NoError(t, err)
	saved := core.Save(instant(3 * s))
	require.False(t, saved.People[0].Sessions[0].Live)
	next := presence.NewCore(*core.Policy())
	next.SetEpoch(3)
	require.NoError(t, next.Continue(instant(4*s), saved, presence.Takeover{Time: 3 * s, Whole: true}, out))
	out.Reset()
	require.Equal(t, presence.SeatKept, next.Reseat(instant(4*s), fact(1<<32+4, weir), out))
	require.True(t, next.Save(instant(4 * s)).People[0].Sessions[0].Live)
	require.Equal(t, []presence.UserID{"ilse"}, out.Touched)
}
