package journal_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// night is a core with a journal of one realm.
type night struct {
	t       *testing.T
	core    *presence.Core
	at      presence.Instant
	effects presence.Effects
	fold    *journal.Fold
	entries []wire.Record
	links   map[string]presence.LinkID // by session
}

var dusk = time.Date(2026, 11, 23, 18, 0, 0, 0, time.UTC)

func newNight(t *testing.T) *night {
	n := &night{t: t, core: presence.NewCore(presence.DefaultPolicy()), at: presence.Instant{Wall: dusk}, links: map[string]presence.LinkID{}}
	n.fold = journal.NewFold("main", func(e journal.Entry) {
		e.ID = int64(len(n.entries) + 1)
		n.entries = append(n.entries, e.Record())
	}, func(*journal.Announcement) {})
	return n
}

// after lets time pass.
func (n *night) after(d time.Duration) *night {
	end := n.at.Mono + d
	for {
		due, ok := n.core.Due()
		if !ok || due > end {
			break
		}
		n.at = presence.Instant{Mono: due, Wall: dusk.Add(due)}
		for more := true; more; {
			_, more = n.core.Advance(n.at, 100, &n.effects)
		}
		n.take()
	}
	n.at = presence.Instant{Mono: end, Wall: dusk.Add(end)}
	return n
}

func (n *night) take() {
	for _, effect := range n.effects.List {
		n.fold.Take(n.at.Wall.UnixMilli(), effect, false)
		if ask, ok := effect.(presence.AskBeat); ok { // everybody answers
			_, _ = n.core.Apply(n.at, presence.Beat{From: ask.Link}, new(presence.Effects))
		}
	}
	n.effects.Reset()
}

func (n *night) does(in presence.Input) *night {
	n.t.Helper()
	reply, err := n.core.Apply(n.at, in, &n.effects)
	require.NoError(n.t, err)
	if hello, ok := in.(presence.Hello); ok {
		n.links[string(hello.NewSession)] = reply.Link
	}
	n.take()
	return n
}

func (n *night) opens(user, session string, rooms ...presence.RoomName) *night {
	return n.does(presence.Hello{User: presence.UserID(user), NewSession: presence.SessionID(session), NewKey: "key", Nonce: "page", Rooms: rooms})
}

func (n *night) returns(user, session, fresh string) *night {
	return n.does(presence.Hello{User: presence.UserID(user), Session: presence.SessionID(session), Key: "key", Nonce: "page", NewSession: presence.SessionID(fresh), NewKey: "key", Rooms: []presence.RoomName{"desk.night"}})
}

func (n *night) beacon(session string) *night {
	return n.does(presence.ClosingBeacon{Session: presence.SessionID(session), Key: "key", Nonce: "page"})
}

// TestALineSaysWhatHappenedAndWhy plays short stories, and compares the text of their last line.
func TestALineSaysWhatHappenedAndWhy(t *testing.T) {
	const desk = presence.RoomName("desk.night")
	for text, story := range map[string]func(n *night){
		"came online and joined desk.night": func(n *night) { n.opens("merrin", "s1", desk) },
		"left desk.night and went offline: the page closed and did not return within 3 s": func(n *night) {
			n.opens("merrin", "s1", desk).after(time.Minute).beacon("s1").after(4 * time.Second)
		},
		"left desk.night and went offline: the link was lost and did not return within 1 min 30 s (page in the background)": func(n *night) {
			n.opens("merrin", "s1", desk).after(time.Minute).does(presence.PageHidden{From: n.links["s1"], Hidden: true}).does(presence.LinkLost{Link: n.links["s1"]}).after(2 * time.Minute)
		},
		"left desk.night and went offline: signed off": func(n *night) {
			n.opens("merrin", "s1", desk).after(time.Minute).does(presence.Bye{From: n.links["s1"]})
		},
		"reloaded a page in 300 ms": func(n *night) {
			n.opens("merrin", "s1", desk).after(time.Minute).beacon("s1").after(300*time.Millisecond).returns("merrin", "s1", "s2")
		},
		"was without a link for 4 s": func(n *night) {
			n.opens("merrin", "s1", desk).after(time.Minute).does(presence.LinkLost{Link: n.links["s1"]}).after(4*time.Second).returns("merrin", "s1", "s2")
		},
		"came online and joined desk.night: the earlier session had ended": func(n *night) {
			n.opens("merrin", "s1", desk).beacon("s1").after(time.Minute).returns("merrin", "s1", "s2")
		},
		"closed or reloaded a page":         func(n *night) { n.opens("merrin", "s1", desk).after(time.Minute).beacon("s1").after(time.Second) },
		"opened another page in desk.night": func(n *night) { n.opens("merrin", "s1", desk).after(time.Minute).opens("merrin", "s2", desk) },
		"is away: no input for 5 min":       func(n *night) { n.opens("merrin", "s1", desk).after(6 * time.Minute) },
		"is busy (on the radio)": func(n *night) {
			n.opens("merrin", "s1").after(time.Minute).does(presence.SetStatus{User: "merrin", Status: presence.Busy, Note: "on the radio"})
		},
		"left desk.night on one of several pages: signed off": func(n *night) {
			n.opens("merrin", "s1", desk).opens("merrin", "s2", desk).after(time.Minute).does(presence.Bye{From: n.links["s2"]})
		},
		"closed a session: signed off": func(n *night) {
			n.opens("merrin", "s1", desk).opens("merrin", "s2").after(time.Minute).does(presence.Bye{From: n.links["s2"]})
		},
		"left desk.night": func(n *night) {
			n.opens("merrin", "s1", desk).after(time.Minute).does(presence.Leave{From: n.links["s1"], Room: desk})
		},
		"was removed from desk.night with the key key-7": func(n *night) {
			n.opens("merrin", "s1", desk).after(time.Minute).does(presence.Remove{User: "merrin", Room: desk, By: "key-7"})
		},
		"is online, after 4 changes in 1 min 15 s": func(n *night) {
			n.opens("merrin", "s1", desk).after(time.Minute)
			for i := range 4 {
				status := []presence.Status{presence.Busy, ""}[i%2]
				n.does(presence.SetStatus{User: "merrin", Status: status}).after(25 * time.Second)
			}
		},
	} {
		n := newNight(t)
		story(n)
		lines := journal.LinesOf(n.entries)
		last := lines[len(lines)-1]
		require.Equal(t, text, last.Text, "%+v", n.entries)
		require.Equal(t, "merrin", last.User)
		require.Equal(t, text == "closed or reloaded a page", last.Waiting)
	}
}

// TestEntriesOfOperatorsAndTheServiceAreSentences compares the texts of entries that are a line by
// themselves.
func TestEntriesOfOperatorsAndTheServiceAreSentences(t *testing.T) {
	for text, entry := range map[string]wire.Record{
		"The configuration was reloaded with the key key-7: policies, keep":    {Kind: "config.reloaded", By: "key-7", Note: "policies, keep"},
		"The configuration was reloaded: nothing changed":                      {Kind: "config.reloaded"},
		"The hook hook-1 siren was added with the key key-7":                   {Kind: "hook.added", By: "key-7", Note: "hook-1 siren"},
		"The room desk.night was declared with the key key-7":                  {Kind: "room.declared", By: "key-7", Room: "desk.night"},
		"The records were backed up with the key key-7":                        {Kind: "records.backed-up", By: "key-7"},
		"A person was erased with the key key-7":                               {Kind: "person.erased", By: "key-7"},
		"was signed out with the key key-7":                                    {Kind: "person.signed-out", By: "key-7", User: "merrin"},
		"is no longer engaged by desk.call, after 1 min":                       {Kind: "engaged.ended", User: "merrin", Room: "desk.call", Length: 60_000},
		"The journal could not be written for 5 s: 1 entry lost":               {Kind: "journal.gap", Length: 5_000, Lost: 1},
		"The service started 3 s after a crash":                                {Kind: "service.started", Reason: "crash", Length: 3_000},
		"The service started again, 2 s later":                                 {Kind: "service.started", Reason: "restart", Length: 2_000},
		"invited tobin into desk.call; the invitation was declined after 4 s":  {Kind: "invitation.answered", User: "merrin", Other: "tobin", Room: "desk.call", Reason: "declined", Length: 4_000},
		"The machine stood still for 8 s; all deadlines moved by that":         {Kind: "service.suspended", Length: 8_000},
		"The declaration of the room desk.night was undone with the key key-7": {Kind: "room.undeclared", By: "key-7", Room: "desk.night"},
	} {
		require.Equal(t, text, journal.LinesOf([]wire.Record{entry})[0].Text)
	}
}

// TestEachEntryIsInOneLine puts the entries of random histories together, whole and in pieces: no
// entry is lost, doubled or out of order, and a line is about one person.
func TestEachEntryIsInOneLine(t *testing.T) {
	for seed := range uint64(30) {
		random := rand.New(rand.NewPCG(seed, 18))
		n := newNight(t)
		rooms := []presence.RoomName{"desk.night", "basin.upper-weir"}
		for step := range 150 {
			user := fmt.Sprint("w-", random.IntN(4))
			session := fmt.Sprint(user, "-", random.IntN(3))
			link, known := n.links[session]
			apply := func(in presence.Input) {
				_, _ = n.core.Apply(n.at, in, &n.effects)
				n.take()
			}
			switch dice := random.IntN(9); {
			case !known || dice < 2:
				reply, err := n.core.Apply(n.at, presence.Hello{User: presence.UserID(user), Session: link.Session, Key: "key", Nonce: "page",
					NewSession: presence.SessionID(fmt.Sprint(session, "-", step)), NewKey: "key", Rooms: rooms[:random.IntN(3)]}, &n.effects)
				require.NoError(t, err)
				n.links[session] = reply.Link
				n.take()
			case dice < 4:
				apply(presence.LinkLost{Link: link})
			case dice < 5:
				apply(presence.ClosingBeacon{Session: link.Session, Key: "key", Nonce: "page"})
			case dice < 6:
				apply(presence.Bye{From: link})
			case dice < 7:
				apply(presence.SetStatus{User: presence.UserID(user), Status: []presence.Status{presence.Busy, presence.Away, ""}[random.IntN(3)]})
			default:
				apply(presence.Join{From: link, Room: rooms[random.IntN(2)]})
			}
			n.after(time.Duration(random.Int64N(int64(40 * time.Second))))
		}
		seen := map[int64]bool{}
		for _, line := range journal.LinesOf(n.entries) {
			require.NotEmpty(t, line.Text)
			last := int64(0)
			for _, r := range line.Entries {
				require.False(t, seen[r.ID])
				require.Greater(t, r.ID, last)
				require.Equal(t, line.User, r.User)
				seen[r.ID], last = true, r.ID
			}
			require.Equal(t, line.Entries[0].ID, line.ID)
			require.Equal(t, last, line.Newest())
		}
		require.Len(t, seen, len(n.entries))
	}
}

// TestOnlyOnesOwnSessionIsNamedAsWanted names the session of somebody else, and one's own, as the
// one to resume.
func TestOnlyOnesOwnSessionIsNamedAsWanted(t *testing.T) {
	n := newNight(t)
	n.opens("merrin", "s1", "desk.night").opens("tobin", "s2").beacon("s1").after(time.Minute)
	n.returns("tobin", "s1", "s3").returns("merrin", "s1", "s4").returns("merrin", "made-up", "s5")
	wanted := map[string]string{}
	for _, r := range n.entries {
		if r.Kind == string(journal.SessionOpened) {
			wanted[r.Session] = r.Wanted
		}
	}
	require.Equal(t, map[string]string{"s1": "", "s2": "", "s3": "", "s4": "s1", "s5": ""}, wanted)
}

// TestEndedSessionsAreForgotten ends sessions at several minutes, and then a great many at once.
func TestEndedSessionsAreForgotten(t *testing.T) {
	var last journal.Entry
	fold := journal.NewFold("main", func(e journal.Entry) { last = e }, func(*journal.Announcement) {})
	end := func(minute int, session presence.SessionID) {
		fold.Take(int64(minute)*60_000, presence.SessionEnded{User: "merrin", Link: presence.LinkID{Session: session}}, false)
	}
	named := func(session presence.SessionID) bool {
		fold.Take(0, presence.SessionOpened{User: "merrin", Link: presence.LinkID{Session: "new"}, Wanted: session}, false)
		return last.Wanted == session
	}
	end(0, "s0")
	end(14, "s14")
	end(15, "s15")
	require.True(t, named("s0") && named("s14") && named("s15"))
	end(29, "s29")
	require.True(t, named("s14"))
	end(30, "s30")
	require.False(t, named("s0") || named("s14"))
	require.True(t, named("s15") && named("s29") && named("s30"))

	for i := range 110_000 {
		end(31, presence.SessionID(fmt.Sprint("m", i)))
	}
	require.False(t, named("s30") || named("m9999"))
	require.True(t, named("m60000") && named("m109999"))
}
