package presence_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/presence"
)

// Doing, asks, invitations and engagement (docs/design.md §3) as stories.

const (
	desk  = presence.RoomName("desk.night")
	call  = presence.RoomName("call.upstream")
	watch = presence.RoomName("desk.handover")
)

// tellOfMeetings tells a story under a policy in which the desk asks, and calls and handovers
// engage.
func tellOfMeetings(t *testing.T) *story {
	return tellUnder(t, func(p *presence.Policy) {
		asks, engages := p.RoomPolicy, p.RoomPolicy
		asks.Entry = presence.EntryAsk
		engages.Engages = true
		p.Rooms = []presence.PatternPolicy{{Pattern: "desk.night", RoomPolicy: asks}, {Pattern: "call.*", RoomPolicy: engages}, {Pattern: "desk.handover", RoomPolicy: engages}}
	})
}

// keeper opens a tab that may let others into the desk.
func (s *story) keeper(user presence.UserID, name string) *story {
	s.t.Helper()
	return s.opensAs(user, name, presence.Hello{Admits: []presence.Pattern{"desk.*"}}, desk)
}

func (s *story) joins(name string, room presence.RoomName) presence.Reply {
	s.t.Helper()
	s.tries++
	return s.must(presence.Join{From: s.tabs[name].link, Room: room, NewAsk: presence.AskID(fmt.Sprint("ask-", s.tries))})
}

// asksFor lets a tab ask to be let into the desk, and returns the id of the ask.
func (s *story) asksFor(name string) presence.AskID {
	s.t.Helper()
	reply := s.joins(name, desk)
	require.Len(s.t, reply.Asked, 1, "it asks")
	return reply.Asked[0].Ask
}

func (s *story) answers(name string, ask presence.AskID, admit bool) error {
	_, err := s.apply(presence.AnswerAsk{From: s.tabs[name].link, Ask: ask, Admit: admit})
	return err
}

func (s *story) invites(name string, to presence.UserID, room presence.RoomName) (presence.InvitationID, error) {
	s.tries++
	reply, err := s.apply(presence.Invite{From: s.tabs[name].link, To: to, Room: room, New: presence.InvitationID(fmt.Sprint("invitation-", s.tries)), Anywhere: true})
	return reply.Invitation, err
}

// outcomes returns how asks and invitations ended since the last call, and over which sessions
// that was told.
func (s *story) outcomes() (list []string) {
	for _, effect := range s.all {
		switch e := effect.(type) {
		case presence.AskAnswered:
			list = append(list, fmt.Sprintf("%s %s, told to %s", e.User, e.Outcome, s.tabsOf(e.Links)))
		case presence.InvitationAnswered:
			list = append(list, fmt.Sprintf("%s to %s %s, told to %s", e.From, e.To, e.Outcome, s.tabsOf(e.Links)))
		}
	}
	s.all = nil
	return list
}

func (s *story) tabsOf(links []presence.LinkID) string {
	var names []string
	for _, link := range links {
		for name, tab := range s.tabs {
			if tab.link.Session == link.Session {
				names = append(names, name)
			}
		}
	}
	return strings.Join(names, " ")
}

func (s *story) isIn(user presence.UserID, room presence.RoomName, want bool) *story {
	s.t.Helper()
	_, in := s.core.Member(user, room, presence.Open)
	require.Equal(s.t, want, in, "%s is in %s", user, room)
	return s
}

// Doing.

func (s *story) doesNow(name, object string) *story {
	s.t.Helper()
	s.must(presence.Doing{From: s.tabs[name].link, Room: weir, Object: object})
	return s
}

func (s *story) isDoing(user presence.UserID, object string) *story {
	s.t.Helper()
	require.Equal(s.t, object, s.member(user).Doing)
	return s
}

func TestDoingIsThatOfTheSessionThatSetItLastAndIsStillThere(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "desk").opens("ilse", "phone")
	st.doesNow("desk", `{"page":3}`).isDoing("ilse", `{"page":3}`)
	st.at(1*s).doesNow("phone", `{"page":5}`).isDoing("ilse", `{"page":5}`)
	st.at(2*s).does("phone", bye).isDoing("ilse", `{"page":3}`)
	st.at(3*s).doesNow("desk", "").isDoing("ilse", "")
}

func TestChangesOfDoingAreMergedIntoOnePerInterval(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab").othersSaw("ilse joined")
	for x := range 10 { // in 90 ms
		st.at(time.Duration(x)*10*ms).doesNow("tab", fmt.Sprintf(`{"x":%d}`, x))
	}
	st.isDoing("ilse", `{"x":0}`).othersSaw("ilse changed")
	st.at(100*ms+soon).isDoing("ilse", `{"x":9}`).othersSaw("ilse changed")
	st.at(1 * s).nobodySaw("anything else")
}

func TestASessionThatReplacesAnotherIsSeenDoingSomethingAtOnce(t *testing.T) {
	st := tellUnder(t, func(p *presence.Policy) { p.SecondSession = presence.ReplaceFirst })
	st.opens("ilse", "tab").doesNow("tab", `{"page":3}`).at(1 * s)
	report := presence.Report{Doing: map[presence.RoomName]string{weir: `{"page":4}`}}
	st.opensAs("ilse", "meter", presence.Hello{Leased: true, Report: &report}, weir).isDoing("ilse", `{"page":4}`)
}

func TestDoingSurvivesAReloadAndARestartButNotALeave(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab").doesNow("tab", `{"gauge":"mill"}`)
	st.at(1*s).closes("tab").at(2*s).reloads("tab").isDoing("ilse", `{"gauge":"mill"}`)
	restored := presence.NewCore(presence.DefaultPolicy())
	text, err := json.Marshal(st.core.Save(instant(st.now)))
	require.NoError(t, err)
	var saved presence.Saved
	require.NoError(t, json.Unmarshal(text, &saved))
	require.NoError(t, restored.Restore(instant(st.now), saved, &presence.Effects{}))
	require.Equal(t, `{"gauge":"mill"}`, restored.Members(weir, presence.Open)[0].Doing)
	st.must(presence.Leave{From: st.tabs["tab"].link, Room: weir})
	st.at(3*s).joins("tab", weir)
	st.isDoing("ilse", "")
}

func TestDoingOfAHiddenPersonIsNotSeen(t *testing.T) {
	st := tell(t)
	st.must(presence.Hide{User: "ilse", Hidden: true})
	st.opens("ilse", "tab").seen = nil
	st.doesNow("tab", `{"page":3}`).isDoing("ilse", `{"page":3}`)
	require.Len(t, st.seen, 1)
	require.False(t, st.seen[0].Views.Has(presence.Open))
}

func TestDoingOverTheBoundOrElsewhereIsRefusedAndAnOldOneChangesNothing(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab")
	from := st.tabs["tab"].link
	_, err := st.apply(presence.Doing{From: from, Room: weir, Object: `{"text":"` + strings.Repeat("x", 1024) + `"}`})
	requireRefusal(t, err, presence.CodeBadDoing)
	_, err = st.apply(presence.Doing{From: from, Room: desk, Object: `{}`})
	requireRefusal(t, err, presence.CodeNotInRoom)
	st.must(presence.Doing{From: from, Room: weir, Number: 7, Object: `{"page":7}`})
	require.True(t, st.must(presence.Doing{From: from, Room: weir, Number: 6, Object: `{"page":6}`}).Stale)
	st.isDoing("ilse", `{"page":7}`)
}

func TestDoingIsSavedAtMostEvery5Seconds(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab")
	saves := 0
	count := func(out presence.Effects) { saves += len(out.Touched) }
	for x := range 120 { // 12 s
		at := instant(time.Duration(x) * 100 * ms)
		var out presence.Effects
		_, err := st.core.Apply(at, presence.Doing{From: st.tabs["tab"].link, Room: weir, Object: fmt.Sprintf(`{"x":%d}`, x)}, &out)
		require.NoError(t, err)
		for more := true; more; {
			_, more = st.core.Advance(at, 10, &out)
		}
		count(out)
	}
	require.Equal(t, 3, saves)
}

// Asking to be let in.

func TestAnAskIsSeenByThoseWhoMayAdmitAndTheFirstAnswerCounts(t *testing.T) {
	st := tellOfMeetings(t)
	st.keeper("hanne", "hanne").keeper("ilse", "ilse").opens("tobin", "tobin")
	ask := st.asksFor("tobin")
	st.isIn("tobin", desk, false)
	require.Equal(t, []presence.OpenAsk{{Ask: ask, Room: desk, User: "tobin", Since: millis(0), Until: millis(minute)}}, st.core.Asks(instant(0), desk))
	x := st.core.Explain(instant(12*s), "tobin", desk)
	require.Equal(t, 2, x.Admit, "two people can answer")
	require.Equal(t, ask, x.Ask.Ask)
	require.NoError(t, st.answers("hanne", ask, true))
	st.isIn("tobin", desk, true)
	require.Equal(t, []string{"tobin admitted, told to tobin"}, st.outcomes())
	require.ErrorContains(t, st.answers("ilse", ask, false), "this one is over: admitted")
	st.isIn("tobin", desk, true)
}

func TestAPassSurvivesReloadsAndRestartsAndEnds(t *testing.T) {
	st := tellOfMeetings(t)
	st.keeper("hanne", "hanne").opens("tobin", "tobin")
	require.NoError(t, st.answers("hanne", st.asksFor("tobin"), true))
	saved := st.core.Save(instant(0))
	st.must(presence.Leave{From: st.tabs["tobin"].link, Room: desk})
	st.at(1 * s)
	require.Empty(t, st.joins("tobin", desk).Asked, "the pass lets them in again")
	restored := presence.NewCore(*st.core.Policy())
	require.NoError(t, restored.Restore(instant(0), saved, &presence.Effects{}))
	require.Equal(t, []presence.Pass{{User: "tobin", Room: desk, Until: millis(12 * time.Hour)}}, restored.Passes(instant(0), "tobin"))
	st.does("tobin", bye).at(13*time.Hour).opens("tobin", "tobin")
	require.Len(t, st.joins("tobin", desk).Asked, 1, "the pass has ended")
}

func TestWhoIsRefusedMayAskAgainAfterAMinute(t *testing.T) {
	st := tellOfMeetings(t)
	st.keeper("hanne", "hanne").opens("tobin", "tobin")
	require.NoError(t, st.answers("hanne", st.asksFor("tobin"), false))
	require.Equal(t, []string{"tobin refused, told to tobin"}, st.outcomes())
	_, err := st.apply(presence.Join{From: st.tabs["tobin"].link, Room: desk})
	requireRefusal(t, err, presence.CodeAskedBefore)
	require.ErrorContains(t, err, "18:01:00")
	st.at(minute + soon)
	st.asksFor("tobin")
}

func TestAnAskThatNobodyAnswersExpiresAndIsFreeToBeRepeated(t *testing.T) {
	st := tellOfMeetings(t)
	st.opens("tobin", "tobin")
	st.asksFor("tobin")
	st.at(minute + soon)
	require.Equal(t, []string{"tobin expired, told to tobin"}, st.outcomes())
	st.asksFor("tobin")
}

func TestAnAskEndsWithItsLastSession(t *testing.T) {
	st := tellOfMeetings(t)
	st.opens("tobin", "desk").opens("tobin", "phone")
	require.Equal(t, st.asksFor("desk"), st.asksFor("phone"), "a person asks once")
	st.does("desk", bye)
	require.Len(t, st.core.AllAsks(instant(0)), 1)
	st.at(1 * s).loses("phone").at(5 * s)
	require.Len(t, st.core.AllAsks(instant(st.now)), 1, "a lost link is not the end")
	st.at(11*s + soon)
	require.Equal(t, []string{"tobin gone, told to "}, st.outcomes())
	require.Empty(t, st.core.AllAsks(instant(st.now)))
}

func TestAReloadGoesOnAsking(t *testing.T) {
	st := tellOfMeetings(t)
	st.keeper("hanne", "hanne").opens("tobin", "tobin")
	ask := st.asksFor("tobin")
	st.at(1 * s).closes("tobin").at(2 * s)
	st.tabs["tobin"].nonce += "'"
	reply := st.says("tobin", []presence.RoomName{weir, desk})
	require.Equal(t, ask, reply.Asked[0].Ask)
	require.NoError(t, st.answers("hanne", ask, true))
	st.isIn("tobin", desk, true)
}

func TestCapacityIsCheckedWhenSomebodyIsAdmitted(t *testing.T) {
	st := tellUnder(t, func(p *presence.Policy) { p.Entry, p.Capacity = presence.EntryAsk, 2 })
	st.keeper("hanne", "hanne").opensAs("tobin", "tobin", presence.Hello{}, []presence.RoomName{}...).opensAs("ilse", "ilse", presence.Hello{}, []presence.RoomName{}...)
	first, second := st.asksFor("tobin"), st.asksFor("ilse")
	require.NoError(t, st.answers("hanne", first, true))
	requireRefusal(t, st.answers("hanne", second, true), presence.CodeRoomFull)
	st.does("tobin", bye)
	require.NoError(t, st.answers("hanne", second, true), "it still waited")
	st.isIn("ilse", desk, true)
}

func TestOnlyAMemberWhoMayAdmitKnowsOfAnAsk(t *testing.T) {
	st := tellOfMeetings(t)
	st.keeper("hanne", "inside").opens("tobin", "tobin").opens("mara", "stranger")
	st.opensAs("ilse", "outside", presence.Hello{Admits: []presence.Pattern{"desk.*"}}, weir)
	st.opens("wido", "member").must(presence.GrantPass{User: "wido", Room: desk, Until: millis(minute)})
	require.Empty(t, st.joins("member", desk).Asked, "a member with a pass")
	ask := st.asksFor("tobin")
	for _, name := range []string{"outside", "stranger", "member", "tobin"} {
		require.Equal(t, st.answers(name, "ask-of-nobody", true).(*presence.Refusal).Allowed, st.answers(name, ask, true).(*presence.Refusal).Allowed, name)
	}
	st.must(presence.Hide{User: "hanne", Hidden: true})
	requireRefusal(t, st.answers("inside", ask, true), presence.CodeHiding)
	require.Len(t, st.core.Asks(instant(0), desk), 1)
}

func TestARemovalRevokesThePassAndEndsTheAsk(t *testing.T) {
	st := tellOfMeetings(t)
	st.keeper("hanne", "hanne").opens("tobin", "tobin").opens("ilse", "ilse")
	require.NoError(t, st.answers("hanne", st.asksFor("tobin"), true))
	st.asksFor("ilse")
	st.at(1 * s).must(presence.Remove{User: "tobin", Room: desk})
	st.must(presence.Remove{User: "ilse", Room: desk})
	require.Empty(t, st.core.Passes(instant(st.now), "tobin"))
	require.Contains(t, st.outcomes(), "ilse withdrawn, told to ilse")
	st.isIn("tobin", desk, false)
	require.Empty(t, st.core.AllAsks(instant(st.now)))
}

func TestWhoHidesCannotAskAndStopsAsking(t *testing.T) {
	st := tellOfMeetings(t)
	st.opens("tobin", "tobin")
	st.asksFor("tobin")
	st.must(presence.Hide{User: "tobin", Hidden: true})
	require.Equal(t, []string{"tobin withdrawn, told to tobin"}, st.outcomes())
	_, err := st.apply(presence.Join{From: st.tabs["tobin"].link, Room: desk})
	requireRefusal(t, err, presence.CodeHiding)
}

func TestTheBackEndAnswersAndGivesPasses(t *testing.T) {
	st := tellOfMeetings(t)
	st.opens("tobin", "tobin").opens("ilse", "ilse")
	st.must(presence.DecideAsk{Ask: st.asksFor("tobin"), Admit: true})
	st.isIn("tobin", desk, true)
	st.asksFor("ilse")
	st.must(presence.GrantPass{User: "ilse", Room: desk, Until: millis(minute)})
	st.isIn("ilse", desk, true)
	_, err := st.apply(presence.GrantPass{User: "ilse", Room: desk, Until: millis(-minute)})
	requireRefusal(t, err, presence.CodeBadPass)
	st.must(presence.RevokePass{User: "ilse", Room: desk})
	st.isIn("ilse", desk, true)
	st.must(presence.Leave{From: st.tabs["ilse"].link, Room: desk})
	require.Len(t, st.joins("ilse", desk).Asked, 1)
}

// Inviting and being engaged.

// TestACallFromTheInvitationToTheDroppedPartner: Ilse invites Tobin, who is in two tabs and
// accepts in one; both are busy; Mara hears why she cannot invite him; his cable is cut, and Ilse
// is online again after his grace.
func TestACallFromTheInvitationToTheDroppedPartner(t *testing.T) {
	st := tellOfMeetings(t)
	st.opens("ilse", "ilse").opens("tobin", "one").opens("tobin", "two").opens("mara", "mara")
	st.joins("ilse", call)
	st.isShown("ilse", presence.Busy, presence.Busy)
	invitation, err := st.invites("ilse", "tobin", call)
	require.NoError(t, err)
	require.Len(t, st.core.Invitations(instant(0), "tobin").Received, 1)
	st.at(4 * s).must(presence.Accept{From: st.tabs["one"].link, Invitation: invitation})
	require.Equal(t, []string{"ilse to tobin accepted, told to ilse one two"}, st.outcomes())
	_, err = st.apply(presence.Accept{From: st.tabs["two"].link, Invitation: invitation})
	require.ErrorContains(t, err, "this one is over: accepted")
	st.isShown("tobin", presence.Busy, presence.Busy).isIn("tobin", call, true)
	require.True(t, st.core.Person("tobin", presence.Open).Engaged)
	_, err = st.invites("mara", "tobin", watch)
	requireRefusal(t, err, presence.CodeEngaged)
	st.at(60 * s).loses("one").seen = nil
	st.at(70*s+soon).isIn("tobin", call, false).isShown("tobin", presence.Online, presence.Online)
	left := 0
	for _, m := range st.seen {
		if m.Room == call && m.After.Sessions == 0 {
			require.Equal(t, presence.ReasonLost, m.Reason)
			left++
		}
	}
	require.Equal(t, 1, left)
	st.must(presence.Leave{From: st.tabs["ilse"].link, Room: call})
	st.isShown("ilse", presence.Online, presence.Online)
}

func TestAnInvitationIsRefusedAtOnceWithTheReason(t *testing.T) {
	st := tellOfMeetings(t)
	st.opens("ilse", "ilse").opens("tobin", "tobin").opens("mara", "mara").opens("hanne", "hanne")
	refused := func(to presence.UserID, room presence.RoomName, code presence.Code) {
		t.Helper()
		_, err := st.invites("ilse", to, room)
		requireRefusal(t, err, code)
	}
	refused("ilse", call, presence.CodeBadUser)
	refused("joss", call, presence.CodeOffline)
	refused("tobin", weir, presence.CodeAlreadyHere)
	refused("tobin", desk, presence.CodeMustAsk)
	st.must(presence.SetStatus{User: "mara", Status: presence.Busy})
	refused("mara", call, presence.CodeSetBusy)
	st.must(presence.Hide{User: "hanne", Hidden: true})
	refused("hanne", call, presence.CodeOffline)
	for n := range st.core.Policy().InvitationsMax {
		_, err := st.invites("ilse", "tobin", presence.RoomName(fmt.Sprint("call.", n)))
		require.NoError(t, err)
	}
	refused("tobin", "call.more", presence.CodeTooManyInvitations)
	again, err := st.invites("ilse", "tobin", "call.0")
	require.NoError(t, err, "the same again is the same")
	require.Equal(t, st.core.Invitations(instant(0), "tobin").Received[0].Invitation, again)
}

func TestWhomOneMayNotSeeIsOfflineToThem(t *testing.T) {
	st := tellOfMeetings(t)
	st.opens("ilse", "ilse").opens("tobin", "tobin", "sluice.mill-lane")
	from := st.tabs["ilse"].link
	_, far := st.apply(presence.Invite{From: from, To: "tobin", Room: call, New: "invitation-1"})
	_, nobody := st.apply(presence.Invite{From: from, To: "tobim", Room: call, New: "invitation-2"})
	require.Equal(t, strings.ReplaceAll(far.Error(), "tobin", "tobim"), nobody.Error())
	st.joins("tobin", weir)
	st.must(presence.Invite{From: from, To: "tobin", Room: call, New: "invitation-3"})
}

func TestHowAnInvitationEnds(t *testing.T) {
	for what, tale := range map[string]struct {
		act  func(*story, presence.InvitationID)
		told string
	}{
		"declined":    {func(st *story, i presence.InvitationID) { st.must(presence.Decline{st.tabs["two"].link, i}) }, "declined, told to ilse one two"},
		"taken back":  {func(st *story, i presence.InvitationID) { st.must(presence.TakeBack{st.tabs["ilse"].link, i}) }, "withdrawn, told to ilse one two"},
		"expired":     {func(st *story, _ presence.InvitationID) { st.at(30*s + soon) }, "expired, told to ilse one two"},
		"gone":        {func(st *story, _ presence.InvitationID) { st.does("ilse", bye) }, "gone, told to one two"},
		"hidden":      {func(st *story, _ presence.InvitationID) { st.must(presence.Hide{"ilse", true}) }, "withdrawn, told to ilse one two"},
		"removed":     {func(st *story, _ presence.InvitationID) { st.must(presence.Remove{User: "tobin", Room: call}) }, "withdrawn, told to ilse one two"},
		"by back end": {func(st *story, i presence.InvitationID) { st.must(presence.EndInvitation{i}) }, "withdrawn, told to ilse one two"},
	} {
		t.Run(what, func(t *testing.T) {
			st := tellOfMeetings(t)
			st.opens("ilse", "ilse").opens("tobin", "one").opens("tobin", "two")
			invitation, err := st.invites("ilse", "tobin", call)
			require.NoError(t, err)
			tale.act(st, invitation)
			require.Equal(t, []string{"ilse to tobin " + tale.told}, st.outcomes())
			require.Empty(t, st.core.AllInvitations(instant(st.now)))
			_, err = st.apply(presence.Accept{From: st.tabs["one"].link, Invitation: invitation})
			requireRefusal(t, err, presence.CodeNoInvitation)
		})
	}
}

func TestAnAnswerToSomebodyElsesInvitationIsRefused(t *testing.T) {
	st := tellOfMeetings(t)
	st.opens("ilse", "ilse").opens("tobin", "tobin").opens("mara", "mara")
	invitation, err := st.invites("ilse", "tobin", call)
	require.NoError(t, err)
	_, err = st.apply(presence.Accept{From: st.tabs["mara"].link, Invitation: invitation})
	require.ErrorContains(t, err, "somebody else's")
	_, err = st.apply(presence.Accept{From: st.tabs["mara"].link, Invitation: "invitation-of-nobody"})
	require.ErrorContains(t, err, "unknown")
	st.isIn("mara", call, false)
	st.must(presence.Hide{User: "tobin", Hidden: true})
	for _, in := range []presence.Input{presence.Accept{st.tabs["tobin"].link, invitation}, presence.Decline{st.tabs["tobin"].link, invitation}} {
		_, err = st.apply(in)
		requireRefusal(t, err, presence.CodeHiding)
	}
}

func TestAnAcceptedInvitationIsAPass(t *testing.T) {
	st := tellOfMeetings(t)
	st.keeper("hanne", "hanne").opens("tobin", "tobin")
	invitation, err := st.invites("hanne", "tobin", desk)
	require.NoError(t, err)
	st.must(presence.Accept{From: st.tabs["tobin"].link, Invitation: invitation})
	st.isIn("tobin", desk, true)
	require.Len(t, st.core.Passes(instant(0), "tobin"), 1)
}

func TestNobodyIsEngagedTwiceUnlessTheRoomsAllowIt(t *testing.T) {
	st := tellOfMeetings(t)
	st.opens("ilse", "tab").joins("tab", call)
	_, err := st.apply(presence.Join{From: st.tabs["tab"].link, Room: watch})
	requireRefusal(t, err, presence.CodeEngaged)
	require.ErrorContains(t, err, "leave call.upstream first")
	policy := *st.core.Policy()
	policy.Rooms = append([]presence.PatternPolicy(nil), policy.Rooms...)
	for i := range policy.Rooms {
		policy.Rooms[i].EngagesSeveral = true
	}
	st.must(presence.SetPolicy{Policy: policy})
	st.joins("tab", watch)
	require.Equal(t, []presence.Engagement{{call, dusk}, {watch, dusk}}, st.core.Explain(instant(0), "ilse", "").Engaged)
}

func TestASetStatusGoesBeforeEngagementAndAPolicyChangesIt(t *testing.T) {
	st := tellOfMeetings(t)
	st.opens("ilse", "tab").joins("tab", call)
	st.must(presence.SetStatus{User: "ilse", Status: presence.Away})
	st.isShown("ilse", presence.Away, presence.Away)
	st.must(presence.SetStatus{User: "ilse", Note: "call me at the desk"})
	require.Equal(t, presence.Appearance{Status: presence.Busy, Note: "call me at the desk", Engaged: true}, st.core.Person("ilse", presence.Open))
	require.Equal(t, presence.RuleEngaged, st.core.Explain(instant(0), "ilse", "").Because[presence.Open])
	st.seen = nil
	st.must(presence.SetPolicy{Policy: presence.DefaultPolicy()})
	st.isShown("ilse", presence.Online, presence.Online).othersSaw("ilse changed", "ilse changed")
}

func TestASetStatusMayEndWithItsSessionAndHaveALabelOfThePolicy(t *testing.T) {
	st := tellUnder(t, func(p *presence.Policy) {
		p.Labels = map[presence.Status][]string{presence.Busy: {"on the radio", "at the pumps"}}
	})
	st.opens("ilse", "one").opens("ilse", "two")
	_, err := st.apply(presence.SetStatus{User: "ilse", Status: presence.Busy, Label: "on the phone"})
	requireRefusal(t, err, presence.CodeBadStatus)
	require.ErrorContains(t, err, "on the radio, at the pumps")
	st.must(presence.SetStatus{User: "ilse", Status: presence.Busy, Label: "at the pumps", Session: st.tabs["one"].link.Session})
	require.Equal(t, "at the pumps", st.core.Person("ilse", presence.Open).Label)
	st.does("one", bye).isShown("ilse", presence.Online, presence.Online)
	_, err = st.apply(presence.SetStatus{User: "ilse", Status: presence.Busy, Session: st.tabs["one"].link.Session})
	requireRefusal(t, err, presence.CodeNoSession)
}

func TestAMemberListsTheKindsOfTheirDevices(t *testing.T) {
	st := tell(t)
	st.opensAs("ilse", "desk", presence.Hello{Device: presence.Desktop}).opensAs("ilse", "phone", presence.Hello{Device: presence.Phone}).opens("ilse", "other")
	require.Equal(t, []string{"desktop", "phone"}, st.member("ilse").Devices.Words())
	st.does("desk", bye)
	require.Equal(t, []string{"phone"}, st.member("ilse").Devices.Words())
}

func TestOpenAsksAndInvitationsSurviveARestart(t *testing.T) {
	st := tellOfMeetings(t)
	st.keeper("hanne", "hanne").opens("tobin", "tobin").opens("ilse", "ilse")
	ask := st.asksFor("tobin")
	invitation, err := st.invites("ilse", "hanne", call)
	require.NoError(t, err)
	st.opensAs("corin", "corin", presence.Hello{Profile: presence.Profile{Name: "Corin"}})
	st.must(presence.InviteFor{User: "corin", To: "tobin", Room: call, New: "of-the-back-end"})
	st.does("corin", bye)
	saved := st.at(20 * s).core.Save(instant(20 * s))
	st.core = presence.NewCore(*st.core.Policy())
	var out presence.Effects
	require.NoError(t, st.core.Restore(instant(25*s), saved, &out))
	require.Equal(t, ask, st.core.Asks(instant(25*s), desk)[0].Ask)
	require.Equal(t, millis(65*s), st.core.Asks(instant(25*s), desk)[0].Until, "what was left of its minute")
	require.Equal(t, invitation, st.core.Invitations(instant(25*s), "hanne").Received[0].Invitation)
	require.Equal(t, "Corin", st.core.Invitations(instant(25*s), "tobin").Received[0].FromProfile.Name, "who is not here any more")
	st.now = 25 * s
	st.at(35*s + soon)
	require.Contains(t, st.outcomes(), "ilse to hanne gone, told to ", "whose session did not return")
}
