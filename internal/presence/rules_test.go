package presence_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/presence"
)

const (
	ms     = time.Millisecond
	minute = time.Minute
	soon   = 20 * ms // a timer fires at most one tick late
)

func activity(from presence.LinkID) presence.Input { return presence.Activity{From: from} }
func idle(from presence.LinkID) presence.Input     { return presence.Idle{From: from} }
func bye(from presence.LinkID) presence.Input      { return presence.Bye{From: from} }
func closing(from presence.LinkID) presence.Input  { return presence.Closing{From: from} }

func millis(d time.Duration) int64 { return dusk.Add(d).UnixMilli() }

// The failures of docs/design.md §1. Those of sessions, statuses, typing and counts are tested
// with their rules; those of delivery and words in other packages.

func TestNobodyIsSeenBeforeTheyAreIdentified(t *testing.T) {
	st := tell(t)
	_, err := st.apply(presence.Hello{NewSession: "s-1", NewKey: "k", Rooms: []presence.RoomName{weir}})
	requireRefusal(t, err, presence.CodeBadUser)
	st.nobodySaw("somebody without an id")
	st.must(presence.Hello{User: "ilse", Profile: presence.Profile{Name: "Ilse Marrow"}, NewSession: "s-2", NewKey: "k",
		Rooms: []presence.RoomName{weir}})
	require.Equal(t, "Ilse Marrow", st.seen[0].After.Profile.Name, "the first that is seen of somebody has their name")
}

func TestOnlyTheFactOfTypingTravels(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab").types_("tab", 1, true)
	both := presence.Views(1<<presence.Full | 1<<presence.Open)
	require.Equal(t, []presence.TypingChanged{{Views: both, Room: weir, User: "ilse", On: true}}, st.types)
}

func TestSessionKeepsItsIdAcrossReloads(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab")
	first := st.tabs["tab"].link
	for range 5 {
		st.at(st.now + s).closes("tab").reloads("tab")
	}
	require.Equal(t, presence.LinkID{Session: first.Session, Number: first.Number + 5}, st.tabs["tab"].link)
}

// Session life (docs/design.md §3). Reload, closing, loss, silence and bye are in
// session_test.go.

func TestHiddenPageHasALongerGrace(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab").othersSaw("ilse joined")
	st.does("tab", func(from presence.LinkID) presence.Input { return presence.PageHidden{From: from, Hidden: true} })
	st.at(1 * s).loses("tab")
	st.at(91*s - ms).nobodySaw("a hidden page's slow return")
	st.at(91*s + soon).othersSaw("ilse left: lost")
}

func TestHiddenPageThatClosesHasTheGraceOfClosing(t *testing.T) {
	st := tell(t)
	st.opensAs("ilse", "tab", presence.Hello{PageHidden: true}).othersSaw("ilse joined")
	st.at(1 * s).loses("tab").closes("tab")
	st.at(4*s + soon).othersSaw("ilse left: closing")
}

func TestShownPageHasTheUsualGraceAgain(t *testing.T) {
	st := tell(t)
	st.opensAs("ilse", "tab", presence.Hello{PageHidden: true}).othersSaw("ilse joined")
	st.does("tab", func(from presence.LinkID) presence.Input { return presence.PageHidden{From: from, Hidden: false} })
	st.at(1 * s).loses("tab")
	st.at(11*s + soon).othersSaw("ilse left: lost")
}

func TestLeaseEndsTheSessionWithoutFurtherGrace(t *testing.T) {
	st := tell(t)
	st.opensAs("gauge", "device", presence.Hello{Leased: true}).othersSaw("gauge joined")
	st.at(100 * s).beats("device").loses("device") // a lease has no connection to lose
	st.at(250*s - ms).nobodySaw("a lease that runs")
	require.Empty(t, st.asked, "who comes by themselves is not asked")
	st.at(250*s + soon).othersSaw("gauge left: silent")
}

func TestUnrenewedTokenCutsTheLinkAfterAWarning(t *testing.T) {
	st := tell(t)
	st.opensAs("ilse", "tab", presence.Hello{Expires: millis(5 * minute), IdleFor: new(time.Duration)}).othersSaw("ilse joined")
	keepAwake := func(until time.Duration) {
		for st.now < until {
			st.at(min(st.now+14*s, until)).does("tab", activity)
		}
	}
	keepAwake(4*minute - 100*ms)
	require.Empty(t, st.warns)
	st.at(4*minute + soon)
	require.Equal(t, []presence.WarnExpiry{{Link: st.tabs["tab"].link, Expires: millis(5 * minute)}}, st.warns)
	keepAwake(5*minute - 100*ms)
	st.at(5*minute + soon)
	require.Equal(t, presence.ReasonExpired, st.cut[0].Reason)
	st.nobodySaw("the expiry")
	_, err := st.apply(presence.Hello{User: "ilse", Expires: millis(5 * minute), Session: st.tabs["tab"].link.Session, Key: st.tabs["tab"].key})
	requireRefusal(t, err, presence.CodeExpired)
	st.tabs["tab"].hello.Expires = millis(time.Hour)
	st.at(5*minute+5*s).returns("tab").resumed("tab", true).nobodySaw("the return with a valid token")
}

func TestFrameOfAnExpiredTokenIsNoSignOfLife(t *testing.T) {
	st := tell(t)
	st.opensAs("ilse", "tab", presence.Hello{Expires: millis(10 * s)}).othersSaw("ilse joined")
	st.now = 10*s + 5*ms // before its timer has fired
	_, err := st.apply(presence.Beat{From: st.tabs["tab"].link})
	requireRefusal(t, err, presence.CodeExpired)
	st.at(20*s + 100*ms).othersSaw("ilse left: expired")
}

func TestRenewalIsSilent(t *testing.T) {
	st := tell(t)
	st.opensAs("ilse", "tab", presence.Hello{Expires: millis(2 * minute)}).othersSaw("ilse joined")
	st.at(10*s).does("tab", func(from presence.LinkID) presence.Input {
		return presence.Renew{From: from, Expires: millis(time.Hour)}
	})
	st.at(3 * minute)
	require.Empty(t, st.warns)
	require.Empty(t, st.cut)
}

func TestRemovalEndsNowAndRefusesTokensIssuedBefore(t *testing.T) {
	st := tell(t)
	st.opensAs("ilse", "tab", presence.Hello{Issued: millis(0)}).othersSaw("ilse joined")
	st.at(10 * s).must(presence.Remove{User: "ilse"})
	st.othersSaw("ilse left: removed")
	require.Equal(t, presence.ReasonRemoved, st.cut[0].Reason)
	require.True(t, st.cut[0].Ended)
	_, err := st.apply(presence.Hello{User: "ilse", Issued: millis(10 * s), NewSession: "s-x", NewKey: "k"})
	requireRefusal(t, err, presence.CodeRemoved)
	st.at(20*s).opensAs("ilse", "again", presence.Hello{Issued: millis(11 * s)}).othersSaw("ilse joined")
}

func TestARemovalHoldsForATokenFromAClockThatIsAhead(t *testing.T) {
	for _, room := range []presence.RoomName{"", weir} {
		st := tell(t)
		st.opensAs("ilse", "tab", presence.Hello{Issued: millis(30 * s)}, weir)
		st.at(10 * s).must(presence.Remove{User: "ilse", Room: room})
		_, err := st.apply(presence.Hello{User: "ilse", Issued: millis(30 * s), NewSession: "s-x", NewKey: "k", Rooms: []presence.RoomName{weir}})
		requireRefusal(t, err, presence.CodeRemoved)
		st.at(11*s).opensAs("ilse", "again", presence.Hello{Issued: millis(31 * s)}, weir)
	}
}

func TestRemovalFromARoomLeavesTheOthers(t *testing.T) {
	st := tell(t)
	st.opensAs("ilse", "tab", presence.Hello{Issued: millis(0)}, weir, "desk.night").othersSaw("ilse joined", "ilse joined")
	st.at(10 * s).must(presence.Remove{User: "ilse", Room: weir})
	st.othersSaw("ilse left: removed")
	_, err := st.apply(presence.Join{From: st.tabs["tab"].link, Room: weir})
	requireRefusal(t, err, presence.CodeRemoved)
	require.Equal(t, 1, st.core.Count("desk.night", presence.Open).People)
	st.does("tab", func(from presence.LinkID) presence.Input { return presence.Renew{From: from, Issued: millis(11 * s)} })
	st.does("tab", func(from presence.LinkID) presence.Input { return presence.Join{From: from, Room: weir} })
	st.othersSaw("ilse joined")
}

func TestARemovalIsToldToEveryLinkThatWasInTheRoom(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "one", weir, "desk.night").opens("ilse", "two").opens("ilse", "elsewhere", "desk.night").opens("ilse", "lost").opens("tobin", "other")
	st.loses("lost")
	st.must(presence.Remove{User: "ilse", Room: weir})
	require.ElementsMatch(t, []presence.TakenOut{
		{Link: st.tabs["one"].link, Room: weir, Reason: presence.ReasonRemoved}, {Link: st.tabs["two"].link, Room: weir, Reason: presence.ReasonRemoved},
	}, st.takenOut())
	require.Empty(t, st.cut, "they go on in their other rooms")
}

func (s *story) takenOut() (list []presence.TakenOut) {
	for _, effect := range s.all {
		if taken, ok := effect.(presence.TakenOut); ok {
			list = append(list, taken)
		}
	}
	return list
}

func TestATokenThatGrantsLessTakesTheSessionOutOfRooms(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab", weir, "desk.night").othersSaw("ilse joined", "ilse joined")
	link := st.tabs["tab"].link
	st.must(presence.Renew{From: link, Grants: []presence.Pattern{"basin.*"}})
	st.othersSaw("ilse left: leave")
	require.Equal(t, []presence.TakenOut{{Link: link, Room: "desk.night", Reason: presence.ReasonLeave}}, st.takenOut())
	st.loses("tab").tabs["tab"].hello.Grants = []presence.Pattern{"desk.*"}
	st.returns("tab").resumed("tab", true).othersSaw("ilse left: leave")
	require.Empty(t, st.tabs["tab"].reply.Rooms, "a return with such a token leaves them, too")
}

func TestRoomsThatAreWantedOneByOneAreRefusedOneByOne(t *testing.T) {
	st := tellUnder(t, func(p *presence.Policy) {
		p.RoomsPerSession = 2
		full := p.RoomPolicy
		full.Capacity = 1
		p.Rooms = []presence.PatternPolicy{{Pattern: "desk.*", RoomPolicy: full}}
	})
	st.opens("tobin", "other", "desk.night")
	wanted := []presence.RoomName{"desk.night", weir, "basin.fen-end", "basin.low-bridge"}
	_, err := st.apply(presence.Hello{User: "ilse", Rooms: wanted[:2], NewSession: "s-x", NewKey: "k"})
	requireRefusal(t, err, presence.CodeRoomFull)
	st.opensAs("ilse", "tab", presence.Hello{OneByOne: true}, wanted...)
	reply := st.tabs["tab"].reply
	require.Equal(t, []presence.RoomName{weir, "basin.fen-end"}, reply.Rooms)
	require.Len(t, reply.Refused, 2)
	require.Equal(t, presence.CodeRoomFull, reply.Refused[0].Err.Code)
	require.Equal(t, presence.CodeTooManyRooms, reply.Refused[1].Err.Code)
	require.Equal(t, presence.RoomName("basin.low-bridge"), reply.Refused[1].Room)
}

func TestTheLongestGhostMayHaveAHiddenPage(t *testing.T) {
	p := presence.DefaultPolicy()
	require.Equal(t, p.BeatEvery+p.Silence()+p.GraceBackground, p.LongestGhost())
	lax := p.RoomPolicy
	lax.GraceLost = 3 * minute
	p.Rooms = []presence.PatternPolicy{{Pattern: "desk.*", RoomPolicy: lax}}
	require.Equal(t, p.BeatEvery+p.Silence()+3*minute, p.LongestGhost(), "the laxest room counts")
	st := tell(t)
	st.opensAs("ilse", "tab", presence.Hello{PageHidden: true}).othersSaw("ilse joined")
	st.at(15*s + soon).requestsAreWritten()
	q := presence.DefaultPolicy()
	st.at(q.LongestGhost() + 3*soon).othersSaw("ilse left: silent")
}

func TestSignOutEndsAllSessionsOfAPerson(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "one").opens("ilse", "two").opens("tobin", "other").othersSaw("ilse joined", "ilse changed", "tobin joined")
	st.must(presence.SignOut{User: "ilse"})
	st.othersSaw("ilse changed", "ilse left: bye").counts(1, 1)
	require.Len(t, st.cut, 2)
}

func TestOperatorEndsOneSession(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "one").opens("ilse", "two").othersSaw("ilse joined", "ilse changed")
	st.must(presence.EndSession{Session: st.tabs["one"].link.Session})
	st.othersSaw("ilse changed")
	_, err := st.apply(presence.EndSession{Session: st.tabs["one"].link.Session})
	requireRefusal(t, err, presence.CodeNoSession)
}

func TestRestartIsSilentForThoseWhoReturn(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab").opens("tobin", "other").opensAs("gauge", "device", presence.Hello{Leased: true})
	st.must(presence.SetStatus{User: "ilse", Status: presence.Busy, Note: "at the sluice"})
	st.must(presence.Remove{User: "hanne"})
	st.must(presence.Declare{Room: "desk.empty", Declared: true})
	st.at(20 * s).requestsAreWritten()
	before := st.core.Members(weir, presence.Full)
	saved := st.core.Save(instant(st.now))
	text, err := json.Marshal(saved)
	require.NoError(t, err)
	again, err := json.Marshal(st.core.Save(instant(st.now)))
	require.NoError(t, err)
	require.Equal(t, string(text), string(again), "the same state saves the same")

	// The service is down for a minute, and its clock starts anew.
	st.core = presence.NewCore(presence.DefaultPolicy())
	var read presence.Saved
	require.NoError(t, json.Unmarshal(text, &read))
	st.now, st.seen = 0, nil
	var out presence.Effects
	ready := presence.Instant{Mono: 0, Wall: dusk.Add(80 * s)}
	require.NoError(t, st.core.Restore(ready, read, &out))
	require.Equal(t, before, st.core.Members(weir, presence.Full), "with the same since")
	require.True(t, st.core.Exists("desk.empty", presence.Open))
	_, err = st.apply(presence.Hello{User: "hanne", Issued: millis(0), NewSession: "s-h", NewKey: "k"})
	requireRefusal(t, err, presence.CodeRemoved)
	st.at(9*s).returns("tab").resumed("tab", true)
	st.at(10*s + soon).othersSaw("tobin left: lost")
	require.Equal(t, millis(0), st.all[len(st.all)-1].(presence.SessionEnded).LastSeen, "the true last seen")
	require.Equal(t, presence.Busy, st.member("ilse").Status)
	st.at(150*s - 100*ms).requestsAreWritten()
	st.at(150*s + soon).othersSaw("gauge left: silent")
}

// TestACrashBlamesNobody restores what was saved at edges, for people who have been heard and
// active since.
func TestACrashBlamesNobody(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab").opens("tobin", "other").opens("corin", "third")
	kept := st.core.Save(instant(st.now))
	for at := 10 * s; at < 10*time.Minute; at += 10 * s {
		st.at(at).does("tab", func(link presence.LinkID) presence.Input { return presence.Activity{From: link} })
	}
	st.core, st.now, st.seen = presence.NewCore(presence.DefaultPolicy()), 0, nil
	kept.Mark = millis(10*time.Minute - s)
	var out presence.Effects
	require.NoError(t, st.core.Restore(presence.Instant{Wall: dusk.Add(11 * time.Minute)}, kept, &out))
	require.Equal(t, presence.Online, st.member("ilse").Status, "who was awake is not shown away before they can say so")
	st.at(9*s).returns("tab").resumed("tab", true)
	st.does("tab", func(link presence.LinkID) presence.Input { return presence.Activity{From: link} })
	st.at(10*s+soon).othersSaw("corin left: lost", "tobin left: lost")
	require.Equal(t, kept.Mark, st.all[len(st.all)-1].(presence.SessionEnded).LastSeen, "last seen is the last mark")
}

func TestRestoreRefusesWhatItCannotRead(t *testing.T) {
	var out presence.Effects
	core := presence.NewCore(presence.DefaultPolicy())
	require.ErrorContains(t, core.Restore(instant(0), presence.Saved{Version: 9}, &out), "version 9")
	require.ErrorContains(t, core.Restore(instant(0), presence.Saved{Version: presence.SavedVersion,
		People: []presence.SavedPerson{{User: "ilse"}, {User: "ilse"}}}, &out), "ilse")
	require.ErrorContains(t, core.Restore(instant(0), presence.Saved{Version: presence.SavedVersion,
		People: []presence.SavedPerson{{User: "ilse", Sessions: []presence.SavedSession{{ID: "s"}}}}}, &out), "none")
	st := tell(t)
	st.opens("ilse", "tab")
	require.ErrorContains(t, st.core.Restore(instant(0), presence.Saved{Version: presence.SavedVersion}, &out), "not empty")
}

// Which policy.

func TestEachRoomHasTheGraceOfItsOwnPolicy(t *testing.T) {
	st := tellUnder(t, func(p *presence.Policy) {
		patient, brisk := p.RoomPolicy, p.RoomPolicy
		patient.GraceLost, brisk.GraceLost = 30*s, 2*s
		p.Rooms = []presence.PatternPolicy{{Pattern: "**", RoomPolicy: patient}, {Pattern: "desk.*", RoomPolicy: brisk},
			{Pattern: "desk.night", RoomPolicy: p.RoomPolicy}}
	})
	st.opens("ilse", "tab", weir, "desk.day", "desk.night").othersSaw("ilse joined", "ilse joined", "ilse joined")
	st.loses("tab")
	st.at(2*s + soon).othersSaw("ilse left: lost")
	require.False(t, st.core.Exists("desk.day", presence.Open))
	st.at(10*s + soon).othersSaw("ilse left: lost")
	st.at(20*s).says("tab", []presence.RoomName{weir, "desk.night"})
	st.resumed("tab", true).othersSaw("ilse joined") // silent at the weir, a plain join at the desk
	st.loses("tab")
	st.at(50*s+soon).othersSaw("ilse left: lost", "ilse left: lost")
	require.Equal(t, presence.ReasonLost, st.ended[st.tabs["tab"].link.Session], "it ends after the longest")
}

func TestMostSpecificPatternWins(t *testing.T) {
	policy := presence.DefaultPolicy()
	for i, pattern := range []presence.Pattern{"**", "basin.**", "*.upper", "basin.*", "basin.upper"} {
		policy.Rooms = append(policy.Rooms, presence.PatternPolicy{Pattern: pattern, RoomPolicy: presence.RoomPolicy{Capacity: i + 1}})
	}
	for room, want := range map[presence.RoomName]int{"desk": 1, "basin.a.b": 2, "desk.upper": 3, "basin.lower": 4, "basin.upper": 5} {
		require.Equal(t, want, policy.For(room).Capacity, room)
	}
}

func TestFullRoomRefusesOneMorePersonButNotOneMoreTab(t *testing.T) {
	st := tellUnder(t, func(p *presence.Policy) { p.Capacity = 2 })
	st.opens("ilse", "one").opens("tobin", "two").opens("ilse", "three")
	st.opens("hanne", "four", "desk.night")
	_, err := st.apply(presence.Join{From: st.tabs["four"].link, Room: weir})
	requireRefusal(t, err, presence.CodeRoomFull)
	_, err = st.apply(presence.Hello{User: "hanne", NewSession: "s-h", NewKey: "k", Rooms: []presence.RoomName{"desk.day", weir}})
	requireRefusal(t, err, presence.CodeRoomFull)
	require.False(t, st.core.Exists("desk.day", presence.Full), "refused whole")
	st.must(presence.Bye{From: st.tabs["two"].link})
	st.does("four", func(from presence.LinkID) presence.Input { return presence.Join{From: from, Room: weir} })
}

func TestSecondSessionReplacesTheFirstWithoutAFlicker(t *testing.T) {
	st := tellUnder(t, func(p *presence.Policy) { p.SecondSession = presence.ReplaceFirst })
	st.opens("ilse", "one").othersSaw("ilse joined")
	st.opens("ilse", "two").othersSaw("ilse changed", "ilse changed").counts(1, 1)
	require.Equal(t, presence.ReasonReplaced, st.ended[st.tabs["one"].link.Session])
	require.Equal(t, presence.ReasonReplaced, st.cut[0].Reason)
}

func TestSecondSessionIsRefusedWhileTheFirstHasALink(t *testing.T) {
	st := tellUnder(t, func(p *presence.Policy) { p.SecondSession = presence.RefuseSecond })
	st.opens("ilse", "one").othersSaw("ilse joined")
	_, err := st.apply(presence.Hello{User: "ilse", NewSession: "s-2", NewKey: "k"})
	requireRefusal(t, err, presence.CodeAlreadyHere)
	st.at(1 * s).loses("one")
	st.opens("ilse", "two").othersSaw("ilse changed", "ilse changed").counts(1, 1)
}

// Status and idleness.

func TestStatusFollowsTheMostAwakeSession(t *testing.T) {
	st := tell(t)
	st.isShown("ilse", presence.Offline, presence.Offline)
	st.opens("ilse", "one").opens("ilse", "two").othersSaw("ilse joined", "ilse changed")
	st.isShown("ilse", presence.Online, presence.Online)
	st.at(1*s).does("one", idle).nobodySaw("one idle tab of two")
	st.does("two", idle).othersSaw("ilse changed").isShown("ilse", presence.Away, presence.Away)
	st.does("one", activity).othersSaw("ilse changed").isShown("ilse", presence.Online, presence.Online)
	st.does("one", idle).does("two", activity).othersSaw("ilse changed", "ilse changed")
	st.does("two", bye).othersSaw("ilse changed").isShown("ilse", presence.Away, presence.Away)
}

func TestIdleAfterFiveMinutesWithoutActivityWhateverTheBeats(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab").othersSaw("ilse joined")
	for st.now < 4*minute {
		st.at(st.now + 10*s).beats("tab")
	}
	st.does("tab", activity)
	for st.now < 9*minute-10*s {
		st.at(st.now + 10*s).beats("tab")
	}
	st.nobodySaw("idleness before its time")
	st.at(9*minute+soon).othersSaw("ilse changed").isShown("ilse", presence.Away, presence.Away)
	st.beats("tab").loses("tab").returns("tab").nobodySaw("activity in a beat or in resuming")
	st.does("tab", activity).othersSaw("ilse changed")
}

func TestActivityCountsFromWhenItWas(t *testing.T) {
	st := tell(t)
	ago := func(d time.Duration) func(presence.LinkID) presence.Input {
		return func(from presence.LinkID) presence.Input { return presence.Activity{From: from, IdleFor: d} }
	}
	st.opens("ilse", "tab").othersSaw("ilse joined")
	st.at(4*minute).does("tab", ago(30*s))
	st.at(8*minute+29*s).does("tab", ago(2*minute)).nobodySaw("idleness before its time")
	st.at(11*minute+29*s+soon).othersSaw("ilse changed").isShown("ilse", presence.Away, presence.Away)
	st.does("tab", ago(6*minute)).nobodySaw("activity that is as good as none")
	st.does("tab", ago(20*s)).othersSaw("ilse changed").isShown("ilse", presence.Online, presence.Online)
}

func TestARemovalOutlivesARestart(t *testing.T) {
	st := tell(t)
	st.at(10 * s)
	st.must(presence.Refuse{User: "ilse", At: millis(8 * s)})
	st.must(presence.Refuse{User: "ilse", At: millis(5 * s)}) // an older one takes nothing back
	_, err := st.apply(presence.Hello{User: "ilse", Issued: millis(7 * s), NewSession: "s", NewKey: "k"})
	require.Equal(t, presence.CodeRemoved, err.(*presence.Refusal).Code)
	st.opensAs("ilse", "tab", presence.Hello{Issued: millis(9 * s)}).othersSaw("ilse joined")
	st.must(presence.Refuse{User: "ilse", Room: weir, At: millis(9 * s)})
	altogether, rooms := st.core.Refused("ilse", millis(8*s))
	require.True(t, altogether)
	require.Equal(t, []presence.RoomName{weir}, rooms)
	altogether, rooms = st.core.Refused("ilse", millis(9*s+time.Millisecond))
	require.False(t, altogether)
	require.Empty(t, rooms)
}

func TestAnErasedPersonIsNobody(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab").othersSaw("ilse joined")
	st.must(presence.SetStatus{User: "ilse", Status: presence.Busy})
	st.must(presence.Hide{User: "ilse", Hidden: true})
	st.must(presence.Refuse{User: "ilse", At: millis(1 * s)})
	st.must(presence.Erase{User: "ilse"})
	saved := st.core.Save(instant(st.now))
	require.Empty(t, saved.People)
	st.must(presence.Erase{User: "nobody"})
}

func TestHelloSaysForHowLongItHasBeenIdle(t *testing.T) {
	st := tell(t)
	for idleFor, want := range map[time.Duration]presence.Status{6 * minute: presence.Away, 4 * minute: presence.Online} {
		user := presence.UserID(want)
		st.opensAs(user, string(user), presence.Hello{IdleFor: &idleFor}).isShown(user, want, want)
	}
	st.at(1*minute+soon).isShown("online", presence.Away, presence.Away)
}

func TestDeviceWithoutInputIsAwakeWhileAlive(t *testing.T) {
	st := tell(t)
	st.opensAs("gauge", "device", presence.Hello{NoInput: true}).othersSaw("gauge joined")
	for st.now < 10*minute {
		st.at(st.now + 14*s).beats("device")
	}
	st.does("device", idle).nobodySaw("a device's idleness").isShown("gauge", presence.Online, presence.Online)
}

func TestSetStatusSurvivesDisconnectionUntilItsEnd(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab").othersSaw("ilse joined")
	st.must(presence.SetStatus{User: "ilse", Status: presence.Busy, Note: "at the sluice", Until: millis(10 * minute)})
	st.othersSaw("ilse changed").isShown("ilse", presence.Busy, presence.Busy)
	require.Equal(t, "at the sluice", st.member("ilse").Note)
	st.does("tab", idle).nobodySaw("idleness under a set status")
	st.does("tab", bye).othersSaw("ilse left: bye").isShown("ilse", presence.Offline, presence.Offline)
	st.at(9*minute).opens("ilse", "again").othersSaw("ilse joined").isShown("ilse", presence.Busy, presence.Busy)
	st.at(10*minute+soon).othersSaw("ilse changed").isShown("ilse", presence.Online, presence.Online)
}

func TestANoteGoesWithAnyStatus(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab").othersSaw("ilse joined")
	st.must(presence.SetStatus{User: "ilse", Note: "at the sluice", Until: millis(20 * minute)})
	st.othersSaw("ilse changed").isShown("ilse", presence.Online, presence.Online)
	require.Equal(t, "at the sluice", st.member("ilse").Note)
	st.at(minute).does("tab", idle).othersSaw("ilse changed").isShown("ilse", presence.Away, presence.Away)
	require.Equal(t, "at the sluice", st.member("ilse").Note)
	st.does("tab", bye).othersSaw("ilse left: bye").isShown("ilse", presence.Offline, presence.Offline)
	st.at(2*minute).opens("ilse", "again").othersSaw("ilse joined")
	require.Equal(t, "at the sluice", st.member("ilse").Note, "it outlasts sessions")
	st.must(presence.SetStatus{User: "ilse", Status: presence.Busy})
	st.othersSaw("ilse changed")
	require.Empty(t, st.member("ilse").Note, "the newer one replaces it")
	st.must(presence.SetStatus{User: "ilse", Note: "back", Until: millis(3 * minute)})
	st.othersSaw("ilse changed").isShown("ilse", presence.Online, presence.Online)
	st.at(3*minute + soon).othersSaw("ilse changed")
	require.Empty(t, st.member("ilse").Note)
}

func TestSetStatusIsAnnouncedOnlyIfWhatOthersSeeChanges(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab").othersSaw("ilse joined")
	st.must(presence.SetStatus{User: "ilse", Status: presence.Away})
	st.othersSaw("ilse changed").must(presence.SetStatus{User: "ilse", Status: presence.Away})
	st.nobodySaw("the same again")
	st.does("tab", idle)
	st.must(presence.SetStatus{User: "ilse"})
	st.nobodySaw("away by idleness instead of by word")
}

func TestMalformedStatusIsRefused(t *testing.T) {
	st := tell(t)
	for code, in := range map[presence.Code]presence.SetStatus{
		presence.CodeBadNote:   {User: "ilse", Status: presence.Busy, Note: "two\nlines"},
		presence.CodeBadStatus: {User: "ilse", Status: presence.Busy, Until: millis(-1)},
	} {
		_, err := st.apply(in)
		requireRefusal(t, err, code)
	}
	_, err := st.apply(presence.SetStatus{User: "ilse", Status: presence.Offline})
	requireRefusal(t, err, presence.CodeBadStatus)
}

// Typing.

func TestContinuousTypingIsOneStart(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab")
	for i := range 20 {
		st.at(time.Duration(i)*3*s).types_("tab", uint64(i+1), true)
	}
	require.Len(t, st.types, 1)
	st.typists("ilse")
	st.at(57*s + 6*s - ms).typists("ilse")
	st.at(57*s + 6*s + soon).typists()
	require.Len(t, st.types, 2, "an abandoned draft ends by itself")
}

func TestTypingEndsByWordAndOldReportsChangeNothing(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab").types_("tab", 5, true).typists("ilse")
	st.types_("tab", 7, false).typists()
	st.types_("tab", 6, true).typists()
	st.types_("tab", 8, true).typists("ilse")
	st.does("tab", func(from presence.LinkID) presence.Input { return presence.Sent{From: from, Room: weir, Number: 9} }).typists()
}

func TestTypingReportsAreNumberedAnewOnEachLink(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab").types_("tab", 40, true).types_("tab", 41, false).typists()
	st.at(1*s).loses("tab").reloads("tab").types_("tab", 1, true).typists("ilse")
	require.True(t, st.must(presence.Typing{From: st.tabs["tab"].link, Room: weir, Number: 1, On: false}).Stale, "an old report is not said to be applied")
	st.typists("ilse")
	require.False(t, st.must(presence.Typing{From: st.tabs["tab"].link, Room: weir, On: false}).Stale, "one without a number is the next")
	st.typists()
}

func TestTypingIsTheUnionOverSessionsAndSentEndsItsOwnPart(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "one").opens("ilse", "two").opens("tobin", "other")
	st.types_("one", 1, true).types_("two", 1, true).types_("other", 1, true).typists("ilse", "tobin")
	st.does("one", func(from presence.LinkID) presence.Input { return presence.Sent{From: from, Room: weir, Number: 2} })
	st.typists("ilse", "tobin")
	st.types_("two", 2, false).typists("tobin")
}

func TestTypingEndsOnLeaveAndOnClosingButNotOnALoss(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "lost").opens("tobin", "closed").opens("hanne", "gone")
	st.types_("lost", 1, true).types_("closed", 1, true).types_("gone", 1, true)
	st.at(1*s).loses("lost").does("closed", closing)
	st.must(presence.Leave{From: st.tabs["gone"].link, Room: weir})
	st.typists("ilse")
	st.at(6*s + soon).typists()
}

func TestTypingInARoomOneIsNotInIsRefused(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab", "desk.night")
	_, err := st.apply(presence.Typing{From: st.tabs["tab"].link, Room: weir, Number: 1, On: true})
	requireRefusal(t, err, presence.CodeNotInRoom)
}

// Counting.

func TestCountsAreSplitByStatus(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "one").opens("ilse", "two").opens("tobin", "three").opens("hanne", "four")
	st.does("three", idle)
	st.must(presence.SetStatus{User: "hanne", Status: presence.Busy})
	require.Equal(t, presence.Count{People: 3, Sessions: 4, Online: presence.Tally{People: 1, Sessions: 2},
		Away: presence.Tally{People: 1, Sessions: 1}, Busy: presence.Tally{People: 1, Sessions: 1}}, st.core.Count(weir, presence.Open))
}

func TestDeclaredRoomExistsWithNobodyInIt(t *testing.T) {
	st := tell(t)
	st.must(presence.Declare{Room: weir, Declared: true})
	require.Equal(t, []presence.RoomName{weir}, st.core.Rooms(presence.Open))
	st.opens("ilse", "tab").does("tab", bye)
	require.True(t, st.core.Exists(weir, presence.Open))
	st.must(presence.Declare{Room: weir})
	require.Empty(t, st.core.Rooms(presence.Full))
}

// Hiding.

func TestHidingIsAPlainLeaveInTheOpenView(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab").othersSaw("ilse joined")
	st.types_("tab", 1, true)
	st.at(5 * s).must(presence.Hide{User: "ilse", Hidden: true})
	require.Len(t, st.seen, 1)
	require.True(t, st.seen[0].Views.Has(presence.Open))
	require.False(t, st.seen[0].Views.Has(presence.Full))
	require.Equal(t, millis(5*s), st.seen[0].LastSeen)
	st.othersSaw("ilse left: leave").isShown("ilse", presence.Online, presence.Offline).typists()
	require.False(t, st.core.Exists(weir, presence.Open), "a room with nobody else in it is not there")
	require.Equal(t, []presence.UserID{"ilse"}, st.core.Typing(weir, presence.Full))
	st.at(9 * s).must(presence.Hide{User: "ilse", Hidden: false})
	st.othersSaw("ilse joined").isShown("ilse", presence.Online, presence.Online)
	require.Equal(t, dusk.Add(9*s), st.core.Members(weir, presence.Open)[0].Since, "since tells nothing of the time before")
	require.Equal(t, dusk, st.core.Members(weir, presence.Full)[0].Since)
}

func TestHiddenPersonTakesNoPlaceAndHidesOverSessions(t *testing.T) {
	st := tellUnder(t, func(p *presence.Policy) { p.Capacity = 1 })
	st.must(presence.Hide{User: "ilse", Hidden: true})
	st.opens("ilse", "hidden").opens("tobin", "shown")
	require.Equal(t, 1, st.core.Count(weir, presence.Open).People)
	_, err := st.apply(presence.Hide{User: "ilse", Hidden: false})
	requireRefusal(t, err, presence.CodeRoomFull)
	st.does("hidden", bye).opens("ilse", "again").isShown("ilse", presence.Online, presence.Offline)
}

// Why is this so?

func TestExplainGivesTheEvidence(t *testing.T) {
	st := tell(t)
	x := st.core.Explain(instant(0), "ilse", "")
	require.Equal(t, presence.RuleNoSession, x.Because[presence.Full])
	st.opens("ilse", "one").opens("ilse", "two", "desk.night")
	st.types_("one", 1, true)
	st.at(1*s).loses("one").does("two", idle)
	x = st.core.Explain(instant(2*s), "ilse", weir)
	require.Equal(t, presence.RuleAwake, x.Because[presence.Open])
	require.Equal(t, 1, x.Member[presence.Open].Sessions)
	require.True(t, x.Typing)
	require.Len(t, x.Sessions, 1)
	one := x.Sessions[0]
	require.Equal(t, presence.Grace, one.State)
	require.Equal(t, presence.ReasonLost, one.Reason)
	require.Equal(t, dusk.Add(1*s), one.LostAt)
	require.Equal(t, []presence.Upcoming{
		{At: dusk.Add(6 * s), Act: presence.StopTyping, Room: weir},
		{At: dusk.Add(11 * s), Act: presence.EndGrace},
		{At: dusk.Add(5 * minute), Act: presence.FallIdle},
	}, one.Next)
	require.Len(t, st.core.Explain(instant(2*s), "ilse", "").Sessions, 2)

	st.at(11*s+soon).isShown("ilse", presence.Away, presence.Away)
	require.Equal(t, presence.RuleIdle, st.core.Explain(instant(st.now), "ilse", "").Because[presence.Open])
	st.must(presence.SetStatus{User: "ilse", Status: presence.Busy})
	st.must(presence.Hide{User: "ilse", Hidden: true})
	x = st.core.Explain(instant(st.now), "ilse", "")
	require.Equal(t, presence.RuleSet, x.Because[presence.Full])
	require.Equal(t, presence.RuleHidden, x.Because[presence.Open])
}

// TestANewPolicyHoldsFromNowOn: timers that are running keep their length.
func TestANewPolicyHoldsFromNowOn(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab").opens("tobin", "phone").opens("hanne", "desk")
	st.at(5*s).loses("phone").othersSaw("ilse joined", "tobin joined", "hanne joined")
	policy := presence.DefaultPolicy()
	policy.IdleAfter, policy.GraceLost = 12*s, 30*s
	policy.Rooms = []presence.PatternPolicy{{Pattern: "basin.*", RoomPolicy: policy.RoomPolicy}}
	policy.Rooms[0].GraceLost = 2 * s
	st.at(6 * s)
	st.must(presence.SetPolicy{Policy: policy})
	st.at(7 * s).loses("desk")
	st.at(8 * s).nobodySaw("anything yet")
	st.at(9500 * time.Millisecond)
	require.Equal(t, 2, st.core.Count(weir, presence.Full).Online.People, "who was lost under the new policy has left after its 2 s")
	st.at(16 * s)
	require.Equal(t, 1, st.core.Count(weir, presence.Full).People, "who was lost before has left after the 10 s that they had")
	require.Equal(t, presence.Away, st.member("ilse").Status, "idle after 12 s, though her timer was set for 5 min")
}
