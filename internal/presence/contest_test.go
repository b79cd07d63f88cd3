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
