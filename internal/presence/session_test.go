package presence_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/presence"
)

const s = time.Second

func TestReloadWithinGraceIsSilent(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	st.at(4 * s).closes("tab").loses("tab")
	st.at(4*s+150*time.Millisecond).reloads("tab").resumed("tab", true)
	st.at(30*s).nobodySaw("a reload").counts(1, 1)
}

func TestClosedPageLeavesAfterItsGraceAndNotBefore(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	st.at(4 * s).closes("tab").loses("tab")
	st.at(7*s-1).nobodySaw("the closing before its grace was over").counts(1, 1)
	st.at(7*s+20*time.Millisecond).othersSaw("ilse left: closing").counts(0, 0)
	require.Equal(t, presence.ReasonClosing, st.ended[st.tabs["tab"].link.Session])
}

func TestBeaconAfterTheCloseShortensTheGrace(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	st.at(4 * s).loses("tab")
	st.at(5 * s).closes("tab")
	st.at(8*s - 1).nobodySaw("the closing early")
	st.at(8*s + 20*time.Millisecond).othersSaw("ilse left: closing")
}

func TestSecondSignOfLossNeverLengthensTheGrace(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	st.at(4 * s).loses("tab")
	st.at(13 * s).closes("tab") // 3 s from here would be later than 10 s from the loss
	st.at(14*s + 20*time.Millisecond).othersSaw("ilse left: lost")
}

func TestLostLinkReturnsWithinGraceSilently(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	st.at(4 * s).loses("tab")
	st.at(14*s-1).returns("tab").resumed("tab", true)
	st.at(20 * s).nobodySaw("the lost link")
	require.Equal(t, []presence.RoomName{weir}, st.tabs["tab"].reply.Rooms)
}

func TestLostLinkLeavesAfterItsGrace(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	st.at(4 * s).loses("tab")
	st.at(14*s - 1).nobodySaw("the loss before its grace was over")
	st.at(14*s + 20*time.Millisecond)
	require.Equal(t, dusk.UnixMilli(), st.seen[0].LastSeen, "last seen is the last evidence, not when the timer fired")
	require.Equal(t, presence.Offline, st.seen[0].After.Status)
	st.othersSaw("ilse left: lost")
}

func TestEndedSessionNeverRevives(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	old := st.tabs["tab"].link
	st.at(1 * s).loses("tab")
	st.at(20 * s).othersSaw("ilse left: lost")
	st.reloads("tab").resumed("tab", false).othersSaw("ilse joined")
	require.Equal(t, presence.UnknownSession, st.tabs["tab"].reply.NotResumed)
	require.NotEqual(t, old.Session, st.tabs["tab"].link.Session)
	_, err := st.apply(presence.Beat{From: old})
	requireRefusal(t, err, presence.CodeNoSession)
}

func TestByeLeavesNow(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	st.at(2 * s).must(presence.Bye{From: st.tabs["tab"].link})
	st.othersSaw("ilse left: bye").counts(0, 0)
}

func TestClosingOverTheLinkIsTheLastThatCountsThere(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	st.at(1 * s).must(presence.Closing{From: st.tabs["tab"].link})
	_, err := st.apply(presence.Beat{From: st.tabs["tab"].link})
	requireRefusal(t, err, presence.CodeOldLink)
	st.at(4*s + 20*time.Millisecond).othersSaw("ilse left: closing")
}

func TestSilentLinkIsLostAfterARequestThatWasWritten(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	st.at(15*s + 20*time.Millisecond)
	require.Len(t, st.asked, 1, "a quiet link is asked after beat.every")
	st.at(16 * s).requestsAreWritten()
	st.at(16*s + 37500*time.Millisecond - 1)
	require.Empty(t, st.cut, "silence counts from the request written")
	st.at(16*s + 37500*time.Millisecond + 20*time.Millisecond)
	require.Equal(t, []presence.Cut{{Link: st.tabs["tab"].link, Reason: presence.ReasonSilent}}, st.cut)
	st.nobodySaw("the silence")
	st.at(16*s + 47520*time.Millisecond + 20*time.Millisecond).othersSaw("ilse left: silent")
	require.LessOrEqual(t, st.now, time.Second+ghost()+100*time.Millisecond)
}

func TestSilenceCountsFromTheFirstUnansweredRequest(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	for st.now < 52*s { // each request is written at once, and asked again after beat.every
		st.at(st.now + 100*ms).requestsAreWritten()
	}
	require.Empty(t, st.cut)
	st.at(53 * s)
	require.Equal(t, presence.ReasonSilent, st.cut[0].Reason)
}

func TestRequestThatWasNeverWrittenBlamesNobody(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	st.at(120 * s).nobodySaw("a silence of the service's own")
	require.Len(t, st.asked, 7, "but the link is asked again each beat.every")
}

func TestAnsweredRequestsKeepASessionAlive(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	for i := range 15 {
		st.at(time.Duration(i+1) * 16 * s).requestsAreWritten().beats("tab")
	}
	st.nobodySaw("an answering client")
	require.Empty(t, st.cut)
}

func TestAnyFrameIsASignOfLife(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	st.at(14 * s).must(presence.Join{From: st.tabs["tab"].link, Room: weir})
	st.at(28 * s)
	require.Empty(t, st.asked, "who talks is not asked")
}

func TestPausedServiceBlamesNobody(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "live").opens("tobin", "lost").othersSaw("ilse joined", "tobin joined")
	st.at(16 * s).requestsAreWritten().loses("lost")
	st.oversleeps(10 * time.Minute).nobodySaw("the pause")
	st.at(10*time.Minute+2*s).beats("live").returns("lost").resumed("lost", true)
	st.at(11 * time.Minute).nobodySaw("the pause")
}

func TestInputAfterAPauseShiftsDeadlinesToo(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	st.at(1 * s).loses("tab")
	st.now = 5 * time.Minute // a frame is handled before the timer is
	st.opens("tobin", "other")
	st.at(5*time.Minute + 5*s).othersSaw("tobin joined")
	st.returns("tab").resumed("tab", true)
}

func TestOlderLinkChangesNothing(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	old, oldNonce := st.tabs["tab"].link, st.tabs["tab"].nonce
	st.at(1 * s).loses("tab").reloads("tab")
	late := presence.ClosingBeacon{Session: old.Session, Key: st.tabs["tab"].key, Nonce: oldNonce}
	require.True(t, st.must(late).Stale, "a closing of the page before the reload")
	for _, in := range []presence.Input{
		presence.Beat{From: old}, presence.Bye{From: old}, presence.Closing{From: old},
		presence.Join{From: old, Room: weir}, presence.Leave{From: old, Room: weir},
	} {
		_, err := st.apply(in)
		requireRefusal(t, err, presence.CodeOldLink)
	}
	st.must(presence.LinkLost{Link: old})
	st.at(60*s).nobodySaw("late words of the page before").counts(1, 1)
}

func TestSamePageOnANewNetworkTakesOver(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "phone").othersSaw("ilse joined")
	old := st.tabs["phone"].link
	st.at(2*s).returns("phone").resumed("phone", true)
	require.Equal(t, []presence.Cut{{Link: old, Reason: presence.ReasonReplaced}}, st.cut)
	st.nobodySaw("the new network").counts(1, 1)
}

func TestDuplicatedTabGetsASessionOfItsOwn(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	original := st.tabs["tab"].link
	st.at(2 * s).reloads("tab") // another nonce while the first page seems to live
	require.True(t, st.tabs["tab"].reply.Pending)
	require.Equal(t, []presence.LinkID{original}, st.asked, "the old link is probed")
	st.at(2*s + 100*time.Millisecond).must(presence.Beat{From: original})
	st.resumed("tab", false)
	require.Equal(t, presence.SessionInUse, st.tabs["tab"].reply.NotResumed)
	require.NotEqual(t, original.Session, st.tabs["tab"].link.Session)
	st.othersSaw("ilse changed").counts(1, 2)
}

func TestHalfDeadLinkIsTakenOverAfterAProbe(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	original := st.tabs["tab"].link
	st.at(2 * s).reloads("tab")
	st.at(4*s - time.Millisecond)
	require.True(t, st.tabs["tab"].reply.Pending)
	st.at(4*s+20*time.Millisecond).resumed("tab", true)
	require.Equal(t, []presence.Cut{{Link: original, Reason: presence.ReasonReplaced}}, st.cut)
	st.nobodySaw("the takeover").counts(1, 1)
}

func TestLossOfTheOldLinkSettlesAProbeAtOnce(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	original := st.tabs["tab"].link
	st.at(2 * s).reloads("tab").must(presence.LinkLost{Link: original})
	st.resumed("tab", true).nobodySaw("the reload")
}

func TestNobodyResumesWhatIsNotTheirs(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	st.at(1 * s).loses("tab")
	victim := st.tabs["tab"]
	for name, thief := range map[string]presence.Hello{
		"another person":    {User: "tobin", Session: victim.link.Session, Key: victim.key},
		"without the key":   {User: "ilse", Session: victim.link.Session, Key: "guessed"},
		"an unknown id":     {User: "ilse", Session: "s-none", Key: victim.key},
		"with an empty key": {User: "ilse", Session: victim.link.Session},
	} {
		thief.NewSession, thief.NewKey = presence.SessionID("s-"+name), "k"
		reply := st.must(thief)
		require.False(t, reply.Resumed, name)
		require.Equal(t, presence.UnknownSession, reply.NotResumed, name)
	}
	for name, forged := range map[string]presence.ClosingBeacon{
		"without the key":   {Session: victim.link.Session, Key: "guessed", Nonce: victim.nonce},
		"without the nonce": {Session: victim.link.Session, Key: victim.key},
		"an unknown id":     {Session: "s-none", Key: victim.key, Nonce: victim.nonce},
	} {
		require.True(t, st.must(forged).Stale, name)
	}
	for name, forged := range map[string]presence.ByeNote{
		"without the key": {Session: victim.link.Session, Key: "guessed"},
		"an unknown id":   {Session: "s-none", Key: victim.key},
	} {
		require.True(t, st.must(forged).Stale, name)
	}
	st.at(10*s).returns("tab").resumed("tab", true).nobodySaw("the theft")
	require.False(t, st.must(presence.ByeNote{Session: victim.link.Session, Key: victim.key}).Stale)
	st.othersSaw("ilse left: bye")
}

func TestLinksAreThoseThatCarryAndTheHiddenAreNotSeen(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "one").opens("ilse", "two").opens("tobin", "tab", weir, "desk.night").opensAs("gauge", "lease", presence.Hello{Leased: true})
	st.loses("two")
	st.must(presence.Hide{User: "tobin", Hidden: true})
	one, tab := st.tabs["one"].link, st.tabs["tab"].link
	require.ElementsMatch(t, []presence.Carried{{Link: one, User: "ilse", Seen: true}, {Link: tab, User: "tobin"}}, st.core.LinksIn(weir, presence.Open))
	require.Equal(t, []presence.Carried{{Link: tab, User: "tobin", Seen: true}}, st.core.LinksOf("tobin", presence.Full))
	_, live := st.core.LinkOf(st.tabs["two"].link.Session, presence.Open)
	require.False(t, live)
	link, live := st.core.LinkOf(one.Session, presence.Open)
	require.True(t, live)
	require.Equal(t, presence.UserID("ilse"), link.User)
	require.Empty(t, st.core.RoomsOf("tobin", presence.Open))
	require.Equal(t, []presence.RoomName{weir, "desk.night"}, st.core.RoomsOf("tobin", presence.Full))
}

func TestOnePersonWithThreeTabsIsOnePersonAndThreeSessions(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "one").opens("ilse", "two").opens("ilse", "three")
	st.othersSaw("ilse joined", "ilse changed", "ilse changed").counts(1, 3)
	st.at(5 * s).must(presence.Bye{From: st.tabs["one"].link})
	st.othersSaw("ilse changed").counts(1, 2)
	require.Equal(t, dusk, st.member("ilse").Since, "since is the person's and does not jump with the oldest tab")
	st.must(presence.Bye{From: st.tabs["two"].link})
	st.must(presence.Bye{From: st.tabs["three"].link})
	st.othersSaw("ilse changed", "ilse left: bye").counts(0, 0)
}

func TestLeaveOfOneRoomKeepsTheOthers(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab", weir, "desk.night").othersSaw("ilse joined", "ilse joined")
	st.must(presence.Leave{From: st.tabs["tab"].link, Room: weir})
	require.Equal(t, presence.Online, st.seen[0].After.Status, "the person is still online elsewhere")
	st.othersSaw("ilse left: leave").counts(0, 0)
	require.Equal(t, 1, st.core.Count("desk.night", presence.Full).People)
	_, err := st.apply(presence.Leave{From: st.tabs["tab"].link, Room: weir})
	requireRefusal(t, err, presence.CodeNotInRoom)
}

func TestHelloIsInExactlyTheRoomsItWants(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab", weir, "desk.night").othersSaw("ilse joined", "ilse joined")
	st.at(1 * s).loses("tab")
	reply := st.says("tab", []presence.RoomName{"desk.night", "sluice.mill-lane", "desk.night"})
	require.Equal(t, []presence.RoomName{"desk.night", "sluice.mill-lane"}, reply.Rooms)
	st.othersSaw("ilse left: leave", "ilse joined")
	require.Empty(t, st.says("tab", []presence.RoomName{}).Rooms)
}

func TestAskingCreatesNothingAndARoomEndsWithItsLastMember(t *testing.T) {
	st := tell(t)
	require.Empty(t, st.core.Members(weir, presence.Full))
	require.False(t, st.core.Exists(weir, presence.Full))
	require.Empty(t, st.core.Rooms(presence.Full))
	st.opens("ilse", "tab")
	require.Equal(t, []presence.RoomName{weir}, st.core.Rooms(presence.Full))
	st.must(presence.Bye{From: st.tabs["tab"].link})
	require.Empty(t, st.core.Rooms(presence.Full))
}

func TestNewerProfileIsSeenInEveryRoom(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "tab", weir, "desk.night").othersSaw("ilse joined", "ilse joined")
	st.must(presence.Hello{User: "ilse", Profile: presence.Profile{Name: "Ilse Marrow"},
		NewSession: "s-phone", NewKey: "k", Rooms: []presence.RoomName{}})
	st.othersSaw("ilse changed", "ilse changed")
	require.Equal(t, "Ilse Marrow", st.member("ilse").Profile.Name)
}

func TestRefusedInputChangesNothing(t *testing.T) {
	st := tell(t)
	policy := presence.DefaultPolicy()
	var many []presence.RoomName
	for i := range policy.RoomsPerSession + 1 {
		many = append(many, presence.RoomName(fmt.Sprintf("basin.b%d", i)))
	}
	for want, in := range map[presence.Code]presence.Hello{
		presence.CodeTooManyRooms: {User: "ilse", Rooms: many},
		presence.CodeBadUser:      {User: ""},
		presence.CodeBadProfile:   {User: "ilse", Profile: presence.Profile{Name: "Ilse\u202eMarrow"}},
		presence.CodeBadNonce:     {User: "ilse", Nonce: strings.Repeat("n", 65)},
	} {
		_, err := st.apply(in)
		requireRefusal(t, err, want)
	}
	st.nobodySaw("a refused hello")
	require.Empty(t, st.core.Rooms(presence.Full))

	st.opens("ilse", "tab", many[1:]...)
	_, err := st.apply(presence.Join{From: st.tabs["tab"].link, Room: many[0]})
	requireRefusal(t, err, presence.CodeTooManyRooms)
	for i := range policy.SessionsPerPerson - 1 {
		st.opens("ilse", fmt.Sprint("tab", i))
	}
	_, err = st.apply(presence.Hello{User: "ilse", NewSession: "s-more", NewKey: "k"})
	requireRefusal(t, err, presence.CodeTooManySessions)
}

func TestAdvanceDoesNoMoreThanItIsTold(t *testing.T) {
	st := tell(t)
	for i := range 10 {
		st.opens(presence.UserID(fmt.Sprint("w-", i)), fmt.Sprint("tab", i)).loses(fmt.Sprint("tab", i))
	}
	st.at(10*s - 1).seen = nil
	var out presence.Effects
	_, more := st.core.Advance(instant(10*s+20*time.Millisecond), 4, &out)
	st.take(out)
	require.True(t, more)
	require.Len(t, st.seen, 4)
	st.oversleeps(10*s + 20*time.Millisecond)
	require.Len(t, st.seen, 10)
}

func ghost() time.Duration {
	policy := presence.DefaultPolicy()
	return policy.LongestGhost()
}

func requireRefusal(t *testing.T, err error, code presence.Code) {
	t.Helper()
	var refusal *presence.Refusal
	require.ErrorAs(t, err, &refusal)
	require.Equal(t, code, refusal.Code)
}
