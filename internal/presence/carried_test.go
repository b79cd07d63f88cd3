package presence_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/presence"
)

// TestACueReachesWhoIsSeenInARoomOfItsGiver checks each kind of addressee against the giver's
// token and rooms.
func TestACueReachesWhoIsSeenInARoomOfItsGiver(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "giver").opens("ilse", "second", weir, "desk.night").opens("tobin", "near").opens("hanne", "far", "basin.fen-end").opens("corin", "ghost")
	st.must(presence.Hide{User: "corin", Hidden: true})
	from := func(tab string) presence.LinkID { return st.tabs[tab].link }
	session := func(tab string) presence.SessionID { return from(tab).Session }
	everywhere, basins := []presence.Pattern{"**"}, []presence.Pattern{"basin.*"}
	for name, c := range map[string]struct {
		to      presence.CueTo
		may     []presence.Pattern
		refused presence.Code
		reaches []string // tabs; the giver is not seen by itself
	}{
		"a room":                            {presence.CueTo{Room: weir}, basins, "", []string{"second", "near", "ghost"}},
		"a room, the giver too":             {presence.CueTo{Room: weir, Own: true}, basins, "", []string{"giver", "second", "near", "ghost"}},
		"a room of another session of mine": {presence.CueTo{Room: "desk.night"}, everywhere, "", []string{"second"}},
		"a room that is not granted":        {presence.CueTo{Room: "desk.night"}, basins, presence.CodeNotGranted, nil},
		"a room without the giver":          {presence.CueTo{Room: "basin.fen-end"}, basins, presence.CodeNotInRoom, nil},
		"a person in the room":              {presence.CueTo{User: "tobin"}, basins, "", []string{"near"}},
		"a person elsewhere":                {presence.CueTo{User: "hanne"}, everywhere, presence.CodeNotGranted, nil},
		"a person who hides":                {presence.CueTo{User: "corin"}, everywhere, presence.CodeNotGranted, nil},
		"a person who is not there":         {presence.CueTo{User: "nobody"}, everywhere, presence.CodeNotGranted, nil},
		"a person, no cues granted":         {presence.CueTo{User: "tobin"}, nil, presence.CodeNotGranted, nil},
		"a session":                         {presence.CueTo{Session: session("near")}, basins, "", []string{"near"}},
		"a session elsewhere":               {presence.CueTo{Session: session("far")}, everywhere, presence.CodeNotGranted, nil},
		"a session of nobody":               {presence.CueTo{Session: "s-none"}, everywhere, presence.CodeNotGranted, nil},
	} {
		links, err := st.cue(from("giver"), c.to, c.may)
		if c.refused != "" {
			requireRefusal(t, err, c.refused)
			continue
		}
		require.NoError(t, err, name)
		var reached []presence.LinkID
		for _, l := range links {
			reached = append(reached, l.Link)
			require.Equal(t, l.Link != from("ghost"), l.Seen, "%s: somebody who hides gets it, and is not counted", name)
		}
		var want []presence.LinkID
		for _, tab := range c.reaches {
			want = append(want, from(tab))
		}
		require.ElementsMatch(t, want, reached, name)
	}
	_, err := st.cue(from("ghost"), presence.CueTo{Room: weir}, everywhere)
	requireRefusal(t, err, presence.CodeHiding)
	_, err = st.cue(presence.LinkID{Session: "s-none", Number: 1}, presence.CueTo{Room: weir}, everywhere)
	requireRefusal(t, err, presence.CodeNoSession)
}

func TestNearIsWhoIsSeenInARoomWithSomebody(t *testing.T) {
	st := tell(t)
	st.opens("ilse", "one").opens("tobin", "two").opens("hanne", "three", "desk.night").opens("corin", "four")
	st.must(presence.Hide{User: "corin", Hidden: true})
	near := func(user presence.UserID, view presence.View) bool { return st.core.Near(user, "ilse", view) }
	require.True(t, near("tobin", presence.Open))
	require.False(t, near("hanne", presence.Open), "in another room")
	require.False(t, near("nobody", presence.Full))
	require.False(t, near("corin", presence.Open), "who hides is seen nowhere")
	require.True(t, near("corin", presence.Full))
	require.True(t, st.core.Near("ilse", "corin", presence.Open), "somebody who hides sees those around them")
}
