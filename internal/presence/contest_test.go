package presence_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/presence"
)

// contender returns the hello of a page that claims the session of a tab.
func (s *story) contender(name, nonce string) presence.Hello {
	tab := s.tabs[name]
	s.tries++
	id := presence.SessionID("s-of-" + nonce)
	return presence.Hello{Attempt: s.tries, User: tab.user, Session: tab.link.Session, Key: tab.key, Nonce: nonce, Rooms: []presence.RoomName{weir},
		NewSession: id, NewKey: "key of " + nonce}
}

// settled returns the answer to a pending hello.
func (s *story) settled(attempt uint64) *presence.Settled {
	for _, effect := range s.all {
		if settled, ok := effect.(presence.Settled); ok && settled.Attempt == attempt {
			return &settled
		}
	}
	return nil
}

func TestAClosingOverTheProbedLinkGivesWayToThePageThatWaits(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	original := st.tabs["tab"].link
	st.at(2 * s).reloads("tab")
	require.True(t, st.tabs["tab"].reply.Pending)
	st.at(2*s + 50*ms).must(presence.Closing{From: original})
	st.resumed("tab", true)
	require.Equal(t, original.Session, st.tabs["tab"].link.Session)
	st.at(30*s).nobodySaw("the reload").counts(1, 1)
}

// A page that was reloaded may have sent something shortly before, which arrives after the hello
// of the page that comes after it.
func TestWhatWasOnItsWayBeforeTheProbeIsNoAnswerToIt(t *testing.T) {
	st := tell(t)
	st.stuck = true
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	original := st.tabs["tab"].link
	st.at(2 * s).reloads("tab")
	require.True(t, st.tabs["tab"].reply.Pending)
	st.must(presence.Activity{From: original})
	st.must(presence.BeatWritten{To: original})
	st.must(presence.Beat{From: original})
	require.Nil(t, st.settled(st.tabs["tab"].try))
	st.must(presence.BeatWritten{To: original, Probe: true})
	st.at(30*s).resumed("tab", true)
	st.nobodySaw("the reload").counts(1, 1)
}

// An answer may be lost on its way; the hello then comes again.
func TestAHelloThatComesAgainHasTheSessionThatItOpened(t *testing.T) {
	st := tell(t)
	st.core.SetEpoch(1)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	hello := st.contender("tab", "another page")
	hello.Session, hello.Key = "", ""
	first := st.at(1 * s).must(hello)
	again := st.at(2 * s).must(hello)
	require.Equal(t, first.Link.Session, again.Link.Session)
	require.Equal(t, first.Key, again.Key)
	require.False(t, again.Resumed)
	require.Greater(t, again.Link.Number, first.Link.Number)
	st.counts(1, 2)

	claim := st.contender("tab", "a duplicate")
	require.True(t, st.at(3*s).must(claim).Pending)
	require.True(t, st.must(claim).Pending, "while it waits it comes again")
	require.Nil(t, st.settled(claim.Attempt))
	st.must(presence.Beat{From: st.tabs["tab"].link})
	settled := st.settled(claim.Attempt)
	require.NoError(t, settled.Err)
	claimed := st.must(claim)
	require.Equal(t, settled.Reply.Link.Session, claimed.Link.Session)
	require.Equal(t, presence.SessionInUse, claimed.NotResumed)
	st.counts(1, 3)
}

func TestAWithdrawnHelloDoesNothing(t *testing.T) {
	for name, then := range map[string]func(st *story, original presence.LinkID){
		"an answered probe": func(st *story, original presence.LinkID) { st.must(presence.Beat{From: original}) },
		"silence":           func(st *story, _ presence.LinkID) { st.at(10 * s) },
	} {
		st := tell(t)
		st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
		original := st.tabs["tab"].link
		hello := st.contender("tab", "another page")
		require.True(t, st.at(2*s).must(hello).Pending)
		st.must(presence.Withdraw{Session: hello.Session, Attempt: hello.Attempt})
		then(st, original)
		st.nobodySaw(name).counts(1, 1)
		require.Nil(t, st.settled(hello.Attempt), name)
		require.Empty(t, st.cut, "the working link stays: %s", name)
	}
}

func TestAWithdrawnHelloLeavesTheOthersThatWait(t *testing.T) {
	st := tell(t)
	st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
	gone, waits := st.contender("tab", "gone"), st.contender("tab", "waits")
	st.must(gone)
	st.must(waits)
	st.must(presence.Withdraw{Session: gone.Session, Attempt: gone.Attempt})
	st.at(3 * s)
	require.True(t, st.settled(waits.Attempt).Reply.Resumed, "the first that is left takes over")
	require.Nil(t, st.settled(gone.Attempt))
	st.must(presence.Withdraw{Session: waits.Session, Attempt: waits.Attempt}) // too late
	st.nobodySaw("the takeover").counts(1, 1)
}

func TestOfSeveralHellosOfOnePageTheNewestCounts(t *testing.T) {
	for _, answers := range []bool{true, false} {
		st := tell(t)
		st.at(0).opens("ilse", "tab").othersSaw("ilse joined")
		original := st.tabs["tab"].link
		first, second := st.contender("tab", "one page"), st.contender("tab", "one page")
		require.True(t, st.at(1*s).must(first).Pending)
		require.True(t, st.at(1*s+200*ms).must(second).Pending)
		requireRefusal(t, st.settled(first.Attempt).Err, presence.CodeOldLink)
		if answers {
			st.must(presence.Beat{From: original})
			st.counts(1, 2)
		} else {
			st.at(4*s).counts(1, 1).nobodySaw("the takeover")
		}
		require.Equal(t, !answers, st.settled(second.Attempt).Reply.Resumed)
	}
}
