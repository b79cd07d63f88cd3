package cluster_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

func TestTheLogRefusesAnOwnerThatWasReplaced(t *testing.T) {
	w := begun(t)
	w.deaf[dipper], w.noTable[dipper], w.loses = true, true, func(from, to cluster.Name, _ cluster.Envelope) bool { return to == dipper && from != dipper }
	w.gives(heron, false)
	w.until("the next owner", func() bool { return len(w.kinds(2)) > 0 })
	before := len(w.kinds(1))
	w.says(dipper, 7, "ilse") // the old one knows nothing of it yet
	w.run(200 * time.Millisecond)
	require.Len(t, w.kinds(1), before)
	require.NotContains(t, w.rows[kestrel].Text(), "ilse")
}

func TestARecordWhoseOutcomeIsUnknownIsAppendedAgain(t *testing.T) {
	w := begun(t)
	lost := ""
	w.outcome = func(_ cluster.Name, r cluster.Record) cluster.Outcome {
		if r.Kind == cluster.KindBatch && lost == "" {
			lost = r.ID
			return cluster.Unknown
		}
		return cluster.Done
	}
	w.opens(heron, 7, "ilse")
	w.run(time.Second)
	require.NotEmpty(t, lost)
	require.True(t, slices.ContainsFunc(w.log, func(r cluster.Record) bool { return r.ID == lost }), "under the same id")
}

// TestANodeAwaitsTheRowsThatItReadsOrAnswersFor asks both the owner and another node, as each record is appended.
func TestANodeAwaitsTheRowsThatItReadsOrAnswersFor(t *testing.T) {
	w := begun(t)
	link := w.opens(heron, 7, "ilse")
	w.run(time.Second)
	type awaits struct{ owner, other bool }
	var of map[cluster.Kind]awaits
	w.outcome = func(_ cluster.Name, r cluster.Record) cluster.Outcome {
		of[r.Kind] = awaits{w.nodes[dipper].Awaits(&r), w.nodes[kestrel].Awaits(&r)}
		return cluster.Done
	}
	gives := func(in presence.Input) {
		of = map[cluster.Kind]awaits{}
		w.on(heron, func(n *cluster.Node) { n.Requested(w.at(), 1, 7, cluster.Request{Attempt: 99, Input: in}) })
		w.run(2 * time.Second)
	}
	gives(presence.Join{From: link, Room: "basin.upper-weir"})
	require.Equal(t, map[cluster.Kind]awaits{cluster.KindMark: {}, cluster.KindBatch: {}}, of, "nobody waits")
	gives(presence.SetStatus{User: "ilse", Status: presence.Busy})
	require.Equal(t, awaits{owner: true}, of[cluster.KindBatch], "its answer promises that it lasts")
	gives(presence.Remove{User: "ilse"})
	require.Equal(t, awaits{true, true}, of[cluster.KindBatch], "what she follows ends at all nodes")
	w.gives(kestrel, true)
	w.until("the next owner", func() bool { return w.owned(kestrel).Speaks })
	require.Equal(t, awaits{true, true}, of[cluster.KindEnds])
	require.Equal(t, awaits{true, true}, of[cluster.KindBegins], "it reads the rows then")
}

func TestAnOwnerHandsOverOnceTheNextHasReadAhead(t *testing.T) {
	for _, readsOn := range []bool{false, true} {
		w := begun(t)
		w.readsOn = readsOn
		w.gives(kestrel, true)
		began := w.now
		w.until("the next owner begins", func() bool { return w.nodes[kestrel].Known(1).Owner == kestrel && !w.owned(dipper).Speaks })
		took, most := w.now-began, cluster.DefaultTimings().Heartbeat
		if readsOn {
			most += cluster.DefaultTimings().Prepare
			require.Greater(t, took, cluster.DefaultTimings().Prepare, "it has time to read")
		}
		require.Less(t, took, most+200*time.Millisecond)
	}
}

// TestAnOwnerAnswersUntilItsRecordIsThere has a slow log, for which nobody should have to wait.
func TestAnOwnerAnswersUntilItsRecordIsThere(t *testing.T) {
	timings := cluster.DefaultTimings()
	w := begun(t)
	w.outcome = func(_ cluster.Name, r cluster.Record) cluster.Outcome {
		if r.Kind == cluster.KindBatch {
			return cluster.Unknown
		}
		return cluster.Done
	}
	w.opens(heron, 7, "ilse")
	w.run(100 * time.Millisecond)
	w.gives(kestrel, true)
	w.run(2 * timings.Prepare)
	require.True(t, w.owned(dipper).Speaks, "the next owner has read ahead, and waits")
	w.outcome = nil
	since := w.now
	w.until("it hands over", func() bool { return !w.owned(dipper).Speaks })
	require.Less(t, w.now-since, 2*timings.Flush)
}

func TestAnOwnerWritesEverythingBeforeItHandsOver(t *testing.T) {
	timings := cluster.DefaultTimings()
	timings.Prepare = 0
	w := begin(newTrioWith(t, []cluster.Name{dipper, heron, kestrel}, timings))
	w.opens(heron, 7, "ilse")
	w.gives(kestrel, true)
	w.on(dipper, func(n *cluster.Node) { n.Table(w.at(), w.owners, true) }) // before it has written anything
	w.settle()
	w.until("the next owner", func() bool { return w.owned(kestrel).Speaks })
	kinds := w.kinds(1)
	require.Equal(t, []cluster.Kind{cluster.KindBatch, cluster.KindEnds}, kinds[len(kinds)-2:])
	require.Len(t, w.rows[kestrel].Confirmed(1, []presence.SessionID{"session-6", "session-7"}), 1)
}

// TestASilentOwnerHandsOverWhenItMaySpeak has an owner in doubt when the table names the next one.
func TestASilentOwnerHandsOverWhenItMaySpeak(t *testing.T) {
	w := begun(t)
	w.loses = func(_, to cluster.Name, e cluster.Envelope) bool {
		return to == dipper && slices.ContainsFunc(e.Messages, func(m cluster.Message) bool { _, echo := m.(cluster.Echo); return echo })
	}
	w.until("it is silent", func() bool { return !w.owned(dipper).Speaks })
	w.gives(kestrel, true)
	w.run(2 * cluster.DefaultTimings().Prepare)
	w.loses = nil
	healed := w.now
	w.until("the next owner", func() bool { return w.owned(kestrel).Speaks })
	kinds := w.kinds(1)
	require.Equal(t, cluster.KindEnds, kinds[len(kinds)-1])
	require.Less(t, w.now-healed, 3*cluster.DefaultTimings().Heartbeat)
}

func TestTheNextOwnerContinuesAtTheTimeOfTheLastMark(t *testing.T) {
	w := begun(t)
	w.run(20 * time.Second)
	w.still[dipper] = true
	last := w.owned(dipper).Engine.Time()
	w.until("the next owner", func() bool { return w.owned(heron).Speaks || w.owned(kestrel).Speaks })
	next := w.owned(w.owners.Realms[1].Owner).Engine.Time()
	require.InDelta(t, last.Seconds(), next.Seconds(), 1.5, "time without an owner does not count")
}

func TestTheTimeOfASilentOwnerStandsStill(t *testing.T) {
	w := begun(t)
	w.noTable = map[cluster.Name]bool{dipper: true, heron: true, kestrel: true} // nobody can replace it
	w.loses = func(from, to cluster.Name, _ cluster.Envelope) bool {
		return from != to && (from == dipper || to == dipper)
	}
	w.run(2 * time.Second)
	require.False(t, w.owned(dipper).Speaks)
	before := w.owned(dipper).Engine.Time()
	w.run(5 * time.Second)
	require.Equal(t, before, w.owned(dipper).Engine.Time())
	w.loses = nil
	w.until("it goes on", func() bool { return w.owned(dipper).Speaks })
	require.InDelta(t, before.Seconds(), w.owned(dipper).Engine.Time().Seconds(), 1)
}

// TestAnOwnerThatWasCutOffSaysNothingBeforeItsMark has others that may have replaced it, and died since.
func TestAnOwnerThatWasCutOffSaysNothingBeforeItsMark(t *testing.T) {
	w := begun(t)
	w.noTable = map[cluster.Name]bool{dipper: true, heron: true, kestrel: true}
	w.loses = func(from, to cluster.Name, _ cluster.Envelope) bool {
		return from != to && (from == dipper || to == dipper)
	}
	w.run(4 * time.Second)
	w.loses = nil
	w.outcome = func(cluster.Name, cluster.Record) cluster.Outcome { return cluster.Unknown }
	w.run(2 * time.Second)
	require.False(t, w.owned(dipper).Speaks)
	w.outcome = nil
	w.until("it goes on", func() bool { return w.owned(dipper).Speaks })
}

func TestAnOwnerThatStoodStillSaysNothingBeforeItsMark(t *testing.T) {
	for _, phase := range []string{"active", "begins"} {
		w := begun(t)
		w.opens(heron, 7, "ilse")
		if phase == "begins" {
			w.gives(kestrel, false)
			w.outcome = func(name cluster.Name, r cluster.Record) cluster.Outcome {
				w.still[kestrel] = w.still[kestrel] || name == kestrel && r.Kind == cluster.KindBegins
				return cluster.Done
			}
			w.until("it begins, and stands still", func() bool { return w.still[kestrel] })
			w.outcome = nil
		} else {
			w.gives(kestrel, false)
			w.until("it owns the realm", func() bool { return w.owned(kestrel).Speaks })
			w.still[kestrel] = true
		}
		w.gives(dipper, false)
		w.until("it is replaced", func() bool { return w.owned(dipper).Epoch == 3 && w.owned(dipper).Speaks })
		waiting := w.waiting[kestrel] // the log comes first, up to its own record; then nothing for a while
		w.waiting[kestrel] = nil
		w.acts[kestrel] = nil
		w.deaf[kestrel] = phase == "active"
		if phase == "begins" { // it applies its own begins, and not what follows
			log := w.log
			w.log = log[:slices.IndexFunc(log, func(r cluster.Record) bool { return r.Epoch == 2 && r.Kind == cluster.KindBegins })+1]
			w.still[kestrel] = false
			w.applies(kestrel)
			w.settle()
			w.log = log
			w.deaf[kestrel] = true
		}
		w.loses = func(from, to cluster.Name, _ cluster.Envelope) bool { return to == kestrel && from != kestrel }
		w.wakes(kestrel)
		w.says(kestrel, 9, "tobin")
		w.run(400 * time.Millisecond)
		for _, to := range w.names {
			for _, m := range w.said(kestrel, to) {
				_, speaks := m.(cluster.FromOwner)
				require.False(t, speaks, "%s: %T %v", phase, m, m)
			}
		}
		w.deaf[kestrel], w.loses = false, nil
		for _, do := range waiting {
			do()
		}
		w.applies(kestrel)
		w.run(time.Second)
		require.Zero(t, w.owned(kestrel), "it reads that it was replaced")
	}
}

func TestOlderOwnersAreIgnoredAndGiveUp(t *testing.T) {
	w := begun(t)
	link := w.opens(kestrel, 7, "ilse")
	w.deaf[dipper], w.noTable[dipper] = true, true
	w.loses = func(from, to cluster.Name, _ cluster.Envelope) bool { return to == dipper && from != dipper }
	w.gives(heron, false)
	w.until("the next owner", func() bool { return w.nodes[kestrel].Known(1).Epoch == 2 && w.owned(heron).Speaks })
	require.NotZero(t, w.owned(dipper), "the old one knows nothing")
	w.on(kestrel, func(n *cluster.Node) {
		n.Receive(w.at(), cluster.Envelope{From: dipper, Sender: 1, To: 1, Last: 1 << 40, Messages: []cluster.Message{cluster.FromOwner{Realm: 1, Epoch: 1, What: cluster.Order{Effect: presence.Cut{Link: link}}}}})
	})
	w.settle()
	require.Empty(t, took[cluster.Close](w, kestrel))
	w.loses = nil
	w.until("a heartbeat tells it", func() bool { return w.owned(dipper) == cluster.Owned{} })
}

func TestAHelloThatComesAgainHasTheSameAnswer(t *testing.T) {
	w := begun(t)
	var asked cluster.Envelope
	w.loses = func(from, to cluster.Name, e cluster.Envelope) bool {
		if from == heron && slices.ContainsFunc(e.Messages, isUp[cluster.Request]) {
			asked = e
		}
		return false
	}
	first := w.opens(heron, 7, "ilse")
	asked.Last++ // it was repeated while the answer was on its way
	w.acts[dipper] = nil
	w.on(dipper, func(n *cluster.Node) { n.Receive(w.at(), asked) })
	w.until("it is answered again", func() bool { return slices.ContainsFunc(w.said(dipper, heron), isFrom[cluster.Answer]) })
	now, _ := w.owned(dipper).Engine.LinkOf("session-7", presence.Full)
	require.Equal(t, first, now.Link)
}

// TestWhatARequestBringsAboutIsToldBeforeItsAnswer has somebody join a room that is followed at the same node: the owner's,
// and another one.
func TestWhatARequestBringsAboutIsToldBeforeItsAnswer(t *testing.T) {
	for _, at := range []cluster.Name{dipper, heron} {
		w := begun(t)
		w.on(at, func(n *cluster.Node) {
			n.Follow(w.at(), 1, cluster.Follow{Wishes: []cluster.Wish{{Pattern: "**", View: presence.Full}}})
		})
		link := w.opens(at, 7, "ilse")
		w.run(time.Second)
		w.acts[at] = nil
		w.on(at, func(n *cluster.Node) {
			n.Requested(w.at(), 1, 7, cluster.Request{Attempt: 99, Input: presence.Join{From: link, Room: "basin.upper-weir"}})
		})
		w.run(20 * time.Millisecond)
		told := slices.IndexFunc(w.acts[at], func(act cluster.Act) bool {
			show, ok := act.(cluster.Show)
			batch, is := show.What.(*engine.Batch)
			return ok && is && len(batch.Joined) == 1
		})
		answered := slices.IndexFunc(w.acts[at], func(act cluster.Act) bool { _, is := act.(cluster.PassAnswer); return is })
		require.NotEqual(t, -1, told, at)
		require.Greater(t, answered, told, at)
	}
}

func TestTheTableIsReadLessOftenInCalmTimes(t *testing.T) {
	timings := cluster.DefaultTimings()
	w := begun(t)
	reads := func(heartbeats int) int {
		w.acts[heron] = nil
		w.run(time.Duration(heartbeats) * timings.Heartbeat)
		return len(took[cluster.ReadTable](w, heron))
	}
	require.InDelta(t, 20, reads(20), 2, "nobody knows yet whether all is well")
	w.run(2 * timings.Steady)
	require.InDelta(t, 5, reads(20), 1)
	w.gives(kestrel, true) // and nobody hears of it
	since := w.now
	w.until("the next owner", func() bool { return w.owned(kestrel).Speaks })
	require.Less(t, w.now-since, 6*timings.Heartbeat)
	w.still[dipper] = true
	w.run(timings.Dead)
	require.InDelta(t, 20, reads(20), 2, "a node is not heard")
}

func TestABeatRequestForALinkThatIsGoneSaysSo(t *testing.T) {
	w := begun(t)
	gone := presence.LinkID{Session: "session-7", Number: 1<<32 + 7}
	w.on(heron, func(n *cluster.Node) {
		n.Receive(w.at(), cluster.Envelope{From: dipper, Sender: 1, To: 1, Last: 1 << 40, Messages: []cluster.Message{cluster.FromOwner{Realm: 1, Epoch: 1, What: cluster.Order{Effect: presence.AskBeat{Link: gone}}}}})
	})
	w.run(20 * time.Millisecond)
	require.Contains(t, w.said(heron, dipper), cluster.Message(cluster.ToOwner{Realm: 1, What: cluster.Say{Input: presence.LinkLost{Link: gone}}}))
}

func TestWhatIsFollowedIsToldAfterAReport(t *testing.T) {
	w := begun(t)
	w.outcome = func(_ cluster.Name, r cluster.Record) cluster.Outcome {
		if r.Kind == cluster.KindBatch && r.Epoch == 1 {
			return cluster.Unknown // only the carrier knows the session
		}
		return cluster.Done
	}
	follows := func(rooms presence.Pattern) {
		w.on(kestrel, func(n *cluster.Node) {
			n.Follow(w.at(), 1, cluster.Follow{Wishes: []cluster.Wish{{Pattern: rooms, View: presence.Full}}})
		})
	}
	w.opens(kestrel, 7, "ilse")
	follows("**")
	w.run(time.Second)
	reports, followed := 0, false
	w.loses = func(from, to cluster.Name, e cluster.Envelope) bool {
		if from != kestrel || to != heron {
			return false
		}
		report := slices.ContainsFunc(e.Messages, isUp[cluster.Report])
		if report {
			reports++
		} else if w.owned(heron).Speaks && slices.ContainsFunc(e.Messages, isUp[cluster.Follow]) {
			followed = true
		}
		return report && !followed
	}
	w.still[dipper] = true
	w.gives(heron, false)
	w.acts[kestrel] = nil
	w.until("the next owner", func() bool { return w.owned(heron).Speaks })
	follows("desk.*")
	w.run(5 * time.Second)
	require.True(t, followed)
	require.Greater(t, reports, 1)
	require.NotEmpty(t, took[cluster.Show](w, kestrel))
	for _, show := range took[cluster.Show](w, kestrel) {
		if b, ok := show.What.(*engine.Batch); ok {
			require.Empty(t, b.Left)
		}
	}
}

// TestTheFirstChangeOfARestoredRoomIsNotItsBeginning loses the lists of a new owner, whose first change then
// comes: the room had members before it.
func TestTheFirstChangeOfARestoredRoomIsNotItsBeginning(t *testing.T) {
	w := begun(t)
	w.opens(heron, 7, "ilse")
	bram := w.opens(heron, 8, "bram")
	w.run(time.Second)
	w.still[dipper] = true
	w.gives(heron, false)
	w.until("the next owner", func() bool { return w.owned(heron).Speaks })
	w.run(time.Second)
	w.loses = func(from, to cluster.Name, e cluster.Envelope) bool {
		return from == heron && to == kestrel && slices.ContainsFunc(e.Messages, isFrom[cluster.Rooms])
	}
	w.on(kestrel, func(n *cluster.Node) {
		n.Follow(w.at(), 1, cluster.Follow{Wishes: []cluster.Wish{{Pattern: "**", View: presence.Full}}})
	})
	w.run(100 * time.Millisecond)
	w.on(heron, func(n *cluster.Node) {
		n.Requested(w.at(), 1, 8, cluster.Request{Attempt: 20, Input: presence.Leave{From: bram, Room: "desk.night"}})
	})
	w.run(100 * time.Millisecond)
	w.loses = nil
	w.run(5 * time.Second)
	list, known := w.nodes[kestrel].List(1, engine.Topic{Room: "desk.night"})
	require.True(t, known)
	require.Len(t, list.Members, 1)
	require.Equal(t, presence.UserID("ilse"), list.Members[0].User)
}

// TestAnOwnerDoesNotGoOnInARealmThatHasEnded cuts an owner off, ends its realm, and heals the cut before the
// owner reads the log.
func TestAnOwnerDoesNotGoOnInARealmThatHasEnded(t *testing.T) {
	w := begun(t)
	w.run(time.Second)
	w.deaf[dipper], w.loses = true, func(from, to cluster.Name, _ cluster.Envelope) bool {
		return from != to && (from == dipper || to == dipper)
	}
	w.until("the owner doubts", func() bool { return !w.owned(dipper).Speaks })
	w.log = append(w.log, cluster.Record{ID: "the-end", Kind: cluster.KindGone, Realm: 1})
	w.last = cluster.Position(len(w.log))
	w.run(time.Second)
	w.loses = nil
	w.noTable = map[cluster.Name]bool{dipper: true, heron: true, kestrel: true}
	w.run(3 * time.Second)
	require.False(t, w.owned(dipper).Speaks)
	w.deaf[dipper] = false
	w.run(time.Second)
	_, owns := w.nodes[dipper].Owned(1)
	require.False(t, owns)
}

func TestANewOwnerWaitsForNodesThatItHasNotHeardYet(t *testing.T) {
	w := begun(t)
	w.opens(kestrel, 7, "ilse")
	w.run(time.Second)
	w.gives(heron, false)
	is := w.owners.Realms[1]
	is.Incarnation = 2
	w.owners.Realms[1] = is
	w.start(heron, 2) // and it owns the realm at once
	w.applies(heron)
	w.loses = func(from, to cluster.Name, e cluster.Envelope) bool { return from == kestrel && to == heron }
	began := w.now
	w.until("it speaks", func() bool { return w.owned(heron).Speaks })
	require.GreaterOrEqual(t, w.now-began, 2*time.Second, "which is how long it waits for a report at most")
}

// TestANewOwnerWaitsForNodesThatOthersHear has an owner that was cut off from one node until it began.
func TestANewOwnerWaitsForNodesThatOthersHear(t *testing.T) {
	w := begun(t)
	w.opens(kestrel, 7, "ilse")
	w.noTable = map[cluster.Name]bool{dipper: true, kestrel: true}
	w.loses = func(from, to cluster.Name, _ cluster.Envelope) bool {
		return from == heron && to == kestrel || from == kestrel && to == heron
	}
	w.run(3 * time.Second)
	w.gives(heron, false)
	began := w.now
	w.until("it speaks", func() bool { return w.owned(heron).Speaks })
	require.GreaterOrEqual(t, w.now-began, 2*time.Second, "which is how long it waits for a report at most")
}

// joins asks for another room over a connection at heron.
func (w *trio) joins(conn cluster.ConnID, link presence.LinkID) {
	w.on(heron, func(n *cluster.Node) {
		n.Requested(w.at(), 1, conn, cluster.Request{Attempt: 70, Input: presence.Join{From: link, Room: "basin.upper-weir", NewAsk: "ask-1"}})
	})
	w.settle()
}

func TestARequestThatWasGivenUpIsNotCarriedOut(t *testing.T) {
	w := begun(t)
	w.noTable = map[cluster.Name]bool{dipper: true, heron: true, kestrel: true}
	link := w.opens(heron, 7, "ilse")
	w.still[dipper] = true
	w.joins(7, link)
	w.run(3200 * time.Millisecond)
	require.ErrorIs(t, w.answered[7].Err, cluster.ErrNotReady)
	w.wakes(dipper)
	w.until("it goes on", func() bool { return w.owned(dipper).Speaks })
	w.run(time.Second)
	require.Equal(t, []presence.RoomName{"desk.night"}, w.owned(dipper).Engine.RoomsOf("ilse", presence.Full))
}

func TestARequestOfAConnectionThatHasEndedIsAnswered(t *testing.T) {
	w := begun(t)
	link := w.opens(heron, 7, "ilse")
	w.still[dipper] = true
	w.joins(7, link)
	w.on(heron, func(n *cluster.Node) { n.Broke(w.at(), 1, 7) })
	w.settle()
	require.ErrorIs(t, w.answered[7].Err, cluster.ErrNotReady)
	w.joins(7, link)
	require.Equal(t, uint64(70), w.answered[7].Attempt)
}

// TestAJoinThatWasAnsweredTooLateIsTakenBack has an answer on its way while its request is given up.
func TestAJoinThatWasAnsweredTooLateIsTakenBack(t *testing.T) {
	w := begun(t)
	w.noTable = map[cluster.Name]bool{dipper: true, heron: true, kestrel: true}
	link := w.opens(heron, 7, "ilse")
	w.still[dipper] = true
	w.joins(7, link)
	w.run(1900 * time.Millisecond)
	var slow []cluster.Envelope
	w.loses = func(from, to cluster.Name, e cluster.Envelope) bool {
		if from == dipper && to == heron {
			slow = append(slow, e)
			return true
		}
		return false
	}
	w.wakes(dipper)
	w.run(1300 * time.Millisecond)
	require.Len(t, w.owned(dipper).Engine.RoomsOf("ilse", presence.Full), 2)
	require.ErrorIs(t, w.answered[7].Err, cluster.ErrNotReady)
	w.loses = nil
	for _, e := range slow {
		w.on(heron, func(n *cluster.Node) { n.Receive(w.at(), e) })
	}
	w.run(300 * time.Millisecond)
	w.run(300 * time.Millisecond)
	require.Len(t, w.owned(dipper).Engine.RoomsOf("ilse", presence.Full), 1)
}

func TestANodeThatOthersHearIsNotReplaced(t *testing.T) {
	w := begun(t)
	w.loses = func(from, to cluster.Name, _ cluster.Envelope) bool {
		return from == dipper && to == kestrel || from == kestrel && to == dipper
	}
	w.start(kestrel, 2) // it has never heard the owner
	w.applies(kestrel)
	w.run(10 * time.Second)
	require.Equal(t, cluster.Ownership{Owner: dipper, Incarnation: 1, Epoch: 1}, w.owners.Realms[1])
	require.True(t, w.owned(dipper).Speaks)
}

func TestAHelloFromBeforeAPauseIsRefused(t *testing.T) {
	w := begun(t)
	w.still[heron] = true
	w.says(heron, 7, "ilse") // its client will go elsewhere
	w.run(1500 * time.Millisecond)
	w.wakes(heron)
	w.run(time.Second)
	require.Empty(t, w.owned(dipper).Engine.RoomsOf("ilse", presence.Full))
	require.Contains(t, took[cluster.Close](w, heron), cluster.Close{Conn: 7, Why: cluster.CloseNotReady})
	w.opens(heron, 8, "ilse")
}

// TestAHelloThatWaitsThroughAPauseIsRefused has a node that stands still while the owner does not answer.
func TestAHelloThatWaitsThroughAPauseIsRefused(t *testing.T) {
	w := begun(t)
	w.still[dipper] = true
	w.says(heron, 7, "ilse")
	w.still[heron] = true
	w.run(1500 * time.Millisecond)
	w.wakes(heron)
	w.run(10 * time.Millisecond)
	require.Contains(t, took[cluster.Close](w, heron), cluster.Close{Conn: 7, Why: cluster.CloseNotReady})
}

// TestAnAnswerWhoseClientHasGoneIsALostLink has a client that goes while the answer to its hello is on its way. That it
// has gone does not reach the owner.
func TestAnAnswerWhoseClientHasGoneIsALostLink(t *testing.T) {
	w := begun(t)
	var slow []cluster.Envelope
	w.loses = func(from, to cluster.Name, e cluster.Envelope) bool {
		if from == dipper && to == heron {
			slow = append(slow, e)
		}
		return from == dipper && to == heron || slices.ContainsFunc(e.Messages, isUp[cluster.GiveUp])
	}
	w.says(heron, 7, "ilse")
	w.until("it is answered", func() bool { return slices.ContainsFunc(w.said(dipper, heron), isFrom[cluster.Answer]) })
	w.on(heron, func(n *cluster.Node) { n.Broke(w.at(), 1, 7) })
	w.settle()
	w.loses = nil
	is, live := w.owned(dipper).Engine.LinkOf("session-7", presence.Full)
	require.True(t, live)
	for _, e := range slow {
		w.on(heron, func(n *cluster.Node) { n.Receive(w.at(), e) })
	}
	w.run(20 * time.Millisecond)
	require.Contains(t, w.said(heron, dipper), cluster.Message(cluster.ToOwner{Realm: 1, What: cluster.Say{Input: presence.LinkLost{Link: is.Link}}}))
}

// TestAnOwnerThatStoodStillWhileItReadProvesItself has others that may have replaced it, and forgotten that.
func TestAnOwnerThatStoodStillWhileItReadProvesItself(t *testing.T) {
	w := begun(t)
	w.readsOn = true
	w.still[dipper] = true
	w.gives(heron, false)
	w.until("it reads, and has a report", func() bool { return slices.ContainsFunc(w.said(kestrel, heron), isUp[cluster.Report]) })
	w.still[dipper], w.still[heron] = false, true
	w.noTable = map[cluster.Name]bool{dipper: true, heron: true, kestrel: true}
	w.run(4 * time.Second)
	w.outcome = func(cluster.Name, cluster.Record) cluster.Outcome { return cluster.Unknown }
	w.wakes(heron)
	w.run(200 * time.Millisecond) // the others answer its heartbeats, so that there is no doubt for another reason
	w.read()
	w.run(2 * time.Second)
	require.False(t, w.owned(heron).Speaks)
	w.outcome = nil
	w.until("it goes on", func() bool { return w.owned(heron).Speaks })
}

// TestAnEarlyReportOfAFormerIncarnationDoesNotCount has a carrier that reports while the next owner reads the records, and
// dies and starts again before that is done.
func TestAnEarlyReportOfAFormerIncarnationDoesNotCount(t *testing.T) {
	w := begun(t)
	w.opens(kestrel, 7, "ilse")
	w.run(time.Second)
	w.readsOn = true
	w.still[dipper] = true
	w.gives(heron, false)
	w.until("the next owner has a report", func() bool { return slices.ContainsFunc(w.said(kestrel, heron), isUp[cluster.Report]) })
	w.start(kestrel, 2)
	w.applies(kestrel)
	w.run(600 * time.Millisecond)
	w.read()
	w.until("the next owner", func() bool { return w.owned(heron).Speaks })
	w.run(time.Second)
	_, live := w.owned(heron).Engine.LinkOf("session-7", presence.Full)
	require.True(t, live, "it is silent, not lost: its client may not know it yet")
	require.Positive(t, w.rows[heron].State(1).People[0].Sessions[0].Silent)
}

// TestNoLinkOutlivesACarrierThatIsNotHeard cuts a pair of nodes. The third hears both, so nobody is replaced.
func TestNoLinkOutlivesACarrierThatIsNotHeard(t *testing.T) {
	w := begun(t)
	w.opens(heron, 7, "ilse")
	w.loses = func(from, to cluster.Name, _ cluster.Envelope) bool {
		return from == heron && to == dipper || from == dipper && to == heron
	}
	policy := presence.DefaultPolicy()
	w.run(policy.LongestGhost() + 6*time.Second)
	require.True(t, w.owned(dipper).Speaks)
	require.Empty(t, w.owned(dipper).Engine.RoomsOf("ilse", presence.Full))
}

// TestALinkOfAFormerIncarnationIsSilent has a node that dies and starts again: from then on, whoever owns the realm counts
// the link as silent.
func TestALinkOfAFormerIncarnationIsSilent(t *testing.T) {
	w := begun(t)
	w.opens(heron, 7, "ilse")
	w.run(time.Second)
	silent := func() bool { return w.rows[kestrel].State(1).People[0].Sessions[0].Silent > 0 }
	require.False(t, silent())
	w.start(heron, 2)
	w.applies(heron)
	w.run(time.Second)
	require.True(t, silent())
	policy := presence.DefaultPolicy()
	w.run(policy.GhostIn(&policy.RoomPolicy, false))
	require.True(t, w.owned(dipper).Speaks)
	require.Empty(t, w.owned(dipper).Engine.RoomsOf("ilse", presence.Full))
}

// TestARoomIsNotKnownBeforeItsState has the state of a room come later than its name.
func TestARoomIsNotKnownBeforeItsState(t *testing.T) {
	w := begun(t)
	w.opens(heron, 7, "ilse")
	topic, wish := engine.Topic{Room: "desk.night"}, cluster.Wish{Pattern: "**"}
	w.loses = func(from, to cluster.Name, _ cluster.Envelope) bool { return from == dipper && to == kestrel }
	w.on(kestrel, func(n *cluster.Node) {
		n.Follow(w.at(), 1, cluster.Follow{Wishes: []cluster.Wish{wish}})
		n.Receive(w.at(), cluster.Envelope{From: dipper, Sender: 1, To: 1, Last: 1 << 40, Messages: []cluster.Message{cluster.FromOwner{Realm: 1, Epoch: 1, What: cluster.Rooms{Wish: wish, Names: []presence.RoomName{topic.Room}}}}})
	})
	w.settle()
	_, known := w.nodes[kestrel].Revision(1, topic)
	require.False(t, known)
	_, known = w.nodes[kestrel].Revision(1, engine.Topic{Room: "basin.upper-weir"})
	require.True(t, known, "there is no such room")
	w.on(kestrel, func(n *cluster.Node) {
		is := w.owned(dipper).Engine.Sealed(topic)
		n.Receive(w.at(), cluster.Envelope{From: dipper, Sender: 1, To: 1, Last: 1<<40 + 1, Messages: []cluster.Message{cluster.FromOwner{Realm: 1, Epoch: 1, What: cluster.State{Snapshot: is}}}})
	})
	w.settle()
	_, known = w.nodes[kestrel].Revision(1, topic)
	require.True(t, known)
	for _, show := range took[cluster.Show](w, kestrel) {
		if b, ok := show.What.(*engine.Batch); ok {
			require.NotEqual(t, engine.Revision{}, b.Follows(), "whoever was told that there is no such room gets it whole")
		}
	}
}

func TestTheConnectionsOfARealmThatHasEndedAreClosed(t *testing.T) {
	w := begun(t)
	w.opens(heron, 7, "ilse")
	w.log = append(w.log, cluster.Record{ID: "the-end", Kind: cluster.KindGone, Realm: 1})
	w.applies(heron)
	w.settle()
	require.Contains(t, took[cluster.Close](w, heron), cluster.Close{Conn: 7, Why: cluster.CloseGone})
}

func TestNoLinkOutlivesTheNodeThatCarriedIt(t *testing.T) {
	w := begun(t)
	link := w.opens(heron, 7, "ilse")
	w.noTable = map[cluster.Name]bool{dipper: true, heron: true, kestrel: true}
	w.loses = func(from, to cluster.Name, _ cluster.Envelope) bool { return from == dipper && to != dipper }
	w.until("the owner doubts", func() bool { return !w.owned(dipper).Speaks })
	w.on(heron, func(n *cluster.Node) { n.Said(w.at(), 1, 7, presence.Activity{From: link}) }) // which waits at the owner
	w.run(time.Second)
	w.start(heron, 2)
	w.applies(heron)
	w.run(time.Second)
	w.loses, w.noTable = nil, map[cluster.Name]bool{}
	w.until("it goes on", func() bool { return w.owned(dipper).Speaks })
	policy := presence.DefaultPolicy()
	w.run(policy.LongestGhost() + 2*time.Second)
	require.Empty(t, w.owned(dipper).Engine.RoomsOf("ilse", presence.Full))
}

func TestAnOwnerThatAppendsNoMarkIsReplaced(t *testing.T) {
	w := begun(t)
	w.outcome = func(name cluster.Name, _ cluster.Record) cluster.Outcome {
		if name == dipper {
			return cluster.Unknown
		}
		return cluster.Done
	}
	w.run(8 * time.Second)
	require.Equal(t, dipper, w.owners.Realms[1].Owner, "it is heard, so there is time")
	w.run(8 * time.Second)
	require.NotEqual(t, dipper, w.owners.Realms[1].Owner)
}

// TestWhoDoesNotReadTheLogReplacesNobody has nodes that can append, but read nothing, as when the server that
// read for them has died.
func TestWhoHeardNoMajorityReplacesNobody(t *testing.T) {
	w := begun(t)
	as := w.owners.Realms[1]
	w.loses = func(_, to cluster.Name, _ cluster.Envelope) bool { return to == heron }
	w.run(3 * w.timings.Dead)
	require.Equal(t, as, w.owners.Realms[1], "to heron, all others seem dead")
	w.loses = func(from, to cluster.Name, _ cluster.Envelope) bool { return to == heron && from == dipper }
	w.run(w.timings.Dead / 2)
	require.Equal(t, as, w.owners.Realms[1], "heron hears a majority again, and dipper a moment later")
}

func TestWhoDoesNotReadTheLogReplacesNobody(t *testing.T) {
	w := begun(t)
	w.deaf[heron], w.deaf[kestrel] = true, true
	w.run(30 * time.Second)
	require.Equal(t, cluster.Ownership{Owner: dipper, Incarnation: 1, Epoch: 1}, w.owners.Realms[1])
}

func TestAHelloWhoseClientHasGoneIsWithdrawn(t *testing.T) {
	w := begun(t)
	w.noTable = map[cluster.Name]bool{dipper: true, heron: true, kestrel: true}
	w.loses = func(from, to cluster.Name, _ cluster.Envelope) bool { return from == dipper && to != dipper }
	w.until("the owner doubts", func() bool { return !w.owned(dipper).Speaks })
	w.says(heron, 7, "ilse")
	w.on(heron, func(n *cluster.Node) { n.Broke(w.at(), 1, 7) })
	w.settle()
	w.loses = nil
	w.until("it goes on", func() bool { return w.owned(dipper).Speaks })
	w.run(time.Second)
	require.Empty(t, w.owned(dipper).Engine.RoomsOf("ilse", presence.Full))
}

// TestAnOwnerThatIsNotConfiguredCountsAsDead has a log that names a node which was taken out of the configuration.
func TestAnOwnerThatIsNotConfiguredCountsAsDead(t *testing.T) {
	w := begun(t)
	w.opens(heron, 7, "ilse")
	w.owners.Realms[1] = cluster.Ownership{Owner: "plover", Incarnation: 4, Epoch: 2}
	w.owners.Version++
	begins := cluster.Append{Record: cluster.Record{ID: "of-plover", Format: 1, Realm: 1, Epoch: 2, Kind: cluster.KindBegins, Node: "plover"}, After: w.last}
	require.Equal(t, cluster.Done, w.append(dipper, begins))
	w.says(kestrel, 8, "tobin")
	w.on(heron, func(n *cluster.Node) {
		n.Receive(w.at(), cluster.Envelope{From: "plover", Sender: 4, To: 1, Messages: []cluster.Message{cluster.TableChanged{}}})
	})
	w.until("another owner", func() bool { return w.owners.Realms[1].Owner != "plover" && w.owned(w.owners.Realms[1].Owner).Speaks })
	require.Equal(t, cluster.Epoch(3), w.owned(w.owners.Realms[1].Owner).Epoch)
}

// TestANodeStopsOnlyWhenItsReportIsThere has a node hand its realm over. The next owner begins, but nothing reaches it
// from the node: a stop would have it wait for the report until the end of the barrier.
func TestANodeStopsOnlyWhenItsReportIsThere(t *testing.T) {
	w := begun(t)
	cut := true
	w.loses = func(from, _ cluster.Name, e cluster.Envelope) bool {
		return cut && from == dipper && slices.ContainsFunc(e.Messages, func(m cluster.Message) bool { _, up := m.(cluster.ToOwner); return up })
	}
	w.nodes[dipper].Leave(w.at())
	w.until("another node has begun", func() bool { return w.nodes[dipper].Known(1).Owner != dipper })
	w.run(500 * time.Millisecond)
	require.False(t, w.nodes[dipper].OwnsNone())
	cut = false
	w.until("its report is there", func() bool { return w.nodes[dipper].OwnsNone() })
	require.True(t, w.owned(w.nodes[dipper].Known(1).Owner).Speaks)
}

// TestTheOlderOfTwoProcessesOfANameHalts has somebody start a node twice. Others know the later one.
func TestTheOlderOfTwoProcessesOfANameHalts(t *testing.T) {
	w := begun(t)
	w.on(dipper, func(n *cluster.Node) {
		n.Receive(w.at(), cluster.Envelope{From: heron, Sender: 1, To: 2, Messages: []cluster.Message{cluster.TableChanged{}}})
	})
	w.settle()
	require.Contains(t, w.nodes[dipper].Status(w.at()).Halted, "another process is the node dipper")
	_, owns := w.nodes[dipper].Owned(1)
	require.False(t, owns)
}

// TestAnOwnerWithoutTheExternalBrokerIsReplaced has a broker that takes nothing of the owner any more, while the other nodes
// still hear it.
func TestAnOwnerWithoutTheExternalBrokerIsReplaced(t *testing.T) {
	timings := cluster.ExternalTimings()
	w := begin(newTrioWith(t, nil, timings))
	w.outcome = func(by cluster.Name, _ cluster.Record) cluster.Outcome {
		return map[bool]cluster.Outcome{true: cluster.Unknown, false: cluster.Done}[by == dipper]
	}
	w.noTable[dipper] = true
	before := w.now
	w.until("the owner says nothing", func() bool { return !w.owned(dipper).Speaks })
	require.Less(t, w.now-before, timings.Doubt+timings.Heartbeat+timings.Mark)
	w.until("another node takes over", func() bool { return w.owners.Realms[1].Owner != dipper })
	require.Less(t, w.now-before, timings.Stuck, "the heartbeats of the owner say that it does not hear the broker")
}
