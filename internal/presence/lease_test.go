package presence_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/presence"
)

// leased returns the hello of a device that beats over HTTP.
func leased(report *presence.Report) presence.Hello {
	return presence.Hello{Leased: true, Issued: millis(0), Profile: presence.Profile{Name: "gauge 7"}, Report: report}
}

func (s *story) beatsOverHTTP(name string, rooms []presence.RoomName, report *presence.Report) (presence.Effects, error) {
	tab := s.tabs[name]
	hello := tab.hello
	hello.User, hello.Nonce, hello.Session, hello.Key, hello.Rooms, hello.Report = tab.user, tab.nonce, tab.link.Session, tab.key, rooms, report
	hello.NewSession, hello.NewKey = "s-fresh", "fresh"
	var out presence.Effects
	reply, err := s.core.Apply(instant(s.now), hello, &out)
	if err == nil {
		tab.welcomed(reply)
	}
	return out, err
}

func TestALeaseThatBringsNothingNewWritesNothing(t *testing.T) {
	st := tell(t)
	st.at(0).opensAs("gauge", "device", leased(nil)).othersSaw("gauge joined")
	link := st.tabs["device"].link
	for _, rooms := range [][]presence.RoomName{nil, {weir}} {
		out, err := st.at(st.now+10*s).beatsOverHTTP("device", rooms, nil)
		require.NoError(t, err)
		require.Empty(t, out.List)
		require.Empty(t, out.Touched)
		require.Equal(t, link, st.tabs["device"].link, "it goes on over the same link")
	}
	out, err := st.beatsOverHTTP("device", []presence.RoomName{weir, "desk.night"}, nil)
	require.NoError(t, err)
	require.Equal(t, []presence.UserID{"gauge"}, out.Touched[:1], "another room is saved")
	st.at(170*s-ms).counts(1, 1)
	st.at(170*s+soon).counts(0, 0)
}

func TestTheReportOfALeaseIsAppliedWholeOrNotAtAll(t *testing.T) {
	st := tell(t)
	for _, rooms := range [][]presence.RoomName{nil, {}, {"desk.night"}} {
		var out presence.Effects
		hello := leased(&presence.Report{Typing: []presence.RoomName{weir}})
		hello.User, hello.Rooms, hello.NewSession, hello.NewKey = "gauge", rooms, "s-new", "new"
		_, err := st.core.Apply(instant(0), hello, &out)
		requireRefusal(t, err, presence.CodeNotInRoom)
		require.Empty(t, out.List)
		require.Zero(t, st.core.Size().Sessions, "no session is left behind")
	}
	st.at(1*s).opensAs("gauge", "device", leased(&presence.Report{Active: true, Typing: []presence.RoomName{weir}}))
	st.typists("gauge").isShown("gauge", presence.Online, presence.Online)
	_, err := st.beatsOverHTTP("device", nil, &presence.Report{Idle: true, Typing: []presence.RoomName{"desk.night"}})
	requireRefusal(t, err, presence.CodeNotInRoom)
	st.typists("gauge").isShown("gauge", presence.Online, presence.Online)
	_, err = st.beatsOverHTTP("device", nil, &presence.Report{Idle: true, Typing: []presence.RoomName{}})
	require.NoError(t, err)
	st.typists().isShown("gauge", presence.Away, presence.Away)
}
