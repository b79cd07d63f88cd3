package records_test

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/engine/enginetest"
	"tovik.example/tovik/internal/headcount"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
)

// nowhere ignores everything.
type nowhere struct {
	enginetest.NoSink
	enginetest.NoLinks
}

func (nowhere) Deliveries(*journal.Announcement) []records.Delivery { return nil }
func (nowhere) Committed([]records.Delivery)                        {}

// night is a realm with its records, in a bubble.
type night struct {
	*testing.T
	store    *records.Store
	writer   *records.Writer
	engine   *engine.Engine
	recorder engine.Recorder
	links    map[presence.UserID]presence.LinkID
}

const (
	weir = presence.RoomName("basin.upper-weir")
	desk = presence.RoomName("desk.night")
)

// begin runs the records and core of a service until the returned function is called. Sessions
// without a connection last so long that they need no beats.
func begin(t *testing.T, store *records.Store, retention records.Retention) (*night, func()) {
	t.Helper()
	w, err := records.NewWriter(records.WriterOptions{Store: store, Retention: retention,
		Outbox: func(*records.Writer) (records.Outbox, error) { return nowhere{}, nil }})
	require.NoError(t, err)
	policy := presence.DefaultPolicy()
	policy.Lease, policy.IdleAfter = 1000*time.Hour, 1000*time.Hour
	last, err := store.LastRun()
	require.NoError(t, err)
	people, err := store.SavedPeople("main")
	require.NoError(t, err)
	saved := presence.Saved{Version: presence.SavedVersion, People: people, At: last.Mark}
	if last.Stopped == 0 {
		saved.Mark = last.Mark
	}
	var e *engine.Engine
	var recorder engine.Recorder
	require.NoError(t, w.Record("main", func(r engine.Recorder) (*engine.Engine, error) {
		recorder = r
		e = engine.New(engine.Options{Policy: policy, Sink: nowhere{}, Links: nowhere{}, Recorder: recorder})
		return e, e.Restore(saved)
	}))
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{}, 2)
	go func() { e.Run(ctx); done <- struct{}{} }()
	go func() { w.Run(ctx); done <- struct{}{} }()
	return &night{t, store, w, e, recorder, map[presence.UserID]presence.LinkID{}}, func() {
		cancel()
		<-done
		<-done
	}
}

func (n *night) do(in presence.Input) presence.Reply {
	n.Helper()
	reply, err := n.engine.Do(n.Context(), in)
	require.NoError(n, err)
	return reply
}

func (n *night) comes(user presence.UserID, rooms ...presence.RoomName) {
	n.Helper()
	id := presence.SessionID(fmt.Sprintf("s-%s-%d", user, time.Now().UnixNano()))
	n.links[user] = n.do(presence.Hello{User: user, NewSession: id, NewKey: "k", Leased: true, Rooms: rooms, Profile: presence.Profile{Name: "The " + string(user)}}).Link
}

func (n *night) goes(user presence.UserID) {
	n.Helper()
	n.do(presence.Bye{From: n.links[user]})
	delete(n.links, user)
}

func (n *night) journal(q records.JournalQuery) []journal.Entry {
	n.Helper()
	require.NoError(n, n.writer.Sync(n.Context()))
	q.Realm = "main"
	all, err := n.store.Journal(n.Context(), q, 100_000)
	require.NoError(n, err)
	return all
}

func bubble(t *testing.T, play func(t *testing.T)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		time.Sleep(time.Until(time.Date(2026, 11, 23, 2, 0, 0, 0, time.UTC)))
		play(t)
	})
}

// TestARecorderKeepsWhatItIsTold checks a recorder without the changes of an engine.
func TestARecorderKeepsWhatItIsTold(t *testing.T) {
	enginetest.CheckRecorder(t, func(t *testing.T) (engine.Recorder, func() []string) {
		store, err := records.Open(records.Memory)
		require.NoError(t, err)
		n, end := begin(t, store, records.Retention{})
		t.Cleanup(func() {
			end()
			require.NoError(t, store.Close())
		})
		return n.recorder, func() (kept []string) {
			for _, e := range n.journal(records.JournalQuery{Kinds: []journal.Kind{journal.MemberJoined, journal.MemberLeft}}) {
				kept = append(kept, strings.TrimPrefix(string(e.Kind), "member.")+" "+string(e.User))
			}
			return kept
		}
	})
}

// here returns the stays of the people who are in a room now.
func (n *night) here(room presence.RoomName) (stays []records.Stay) {
	for _, m := range n.engine.MembersNow(room) {
		stays = append(stays, records.Stay{User: m.User, Joined: m.Since.UnixMilli()})
	}
	return stays
}

// TestUsageIsTheSameHoweverItIsSummedUp has people there around midnight: days, hours and minutes are put together so that each
// is counted once.
func TestUsageIsTheSameHoweverItIsSummedUp(t *testing.T) {
	bubble(t, func(t *testing.T) {
		store, err := records.Open(records.Memory)
		require.NoError(t, err)
		time.Sleep(time.Until(time.Now().Truncate(24 * time.Hour).Add(23*time.Hour + 10*time.Minute)))
		n, end := begin(t, store, records.Retention{})
		started := time.Now()
		n.comes("ilse", weir)
		time.Sleep(20*time.Minute + 7*time.Second)
		tobin := time.Now()
		n.comes("tobin", weir)
		time.Sleep(time.Hour + 20*time.Second)
		n.goes("tobin")
		want := time.Since(tobin)
		time.Sleep(70 * time.Minute)
		require.NoError(t, n.writer.Sync(t.Context()))
		now := time.Now()
		want += now.Sub(started)
		for _, hourly := range []bool{true, false} {
			rows, err := store.Usage(t.Context(), "main", hourly, started.Truncate(24*time.Hour), now)
			require.NoError(t, err)
			var all headcount.Row
			steps := map[headcount.Step]int{}
			for i := range rows {
				all.Add(&rows[i])
				steps[rows[i].Step]++
			}
			require.InDelta(t, want.Seconds(), float64(all.PeopleTime)/1000, 70, "by hour: %t", hourly) // the present minute is written every few seconds
			require.Equal(t, []int{2, 2, 2}, []int{all.PeopleMax, all.SessionsMax, all.LinksMax})
			require.Equal(t, hourly, steps[headcount.Day] == 0)
			require.Positive(t, steps[headcount.Hour])
			require.LessOrEqual(t, steps[headcount.Minute], 120)
		}
		end()
		require.NoError(t, n.writer.Close())
		require.NoError(t, store.Close())
	})
}

// TestHeadcountsAreWhatWasThere makes people come and go at random for some hours, in two rooms, and compares
// the counts with those computed from the list of changes. In the first hour a block of the journal's indexes ends.
func TestHeadcountsAreWhatWasThere(t *testing.T) {
	for _, seed := range []uint64{3} { // a longer list looks longer
		bubble(t, func(t *testing.T) {
			store, err := records.Open(records.Memory)
			require.NoError(t, err)
			require.NoError(t, store.ImportEntries([]journal.Entry{{ID: 1<<18 - 60, At: time.Now().Add(-24 * time.Hour).UnixMilli(), Realm: "other", Kind: journal.ServiceStarted}}))
			n, end := begin(t, store, records.Retention{})
			random := rand.New(rand.NewPCG(seed, 1))
			started := time.Now()
			type change struct {
				at   time.Time
				user presence.UserID
				room presence.RoomName
				on   bool
			}
			var changes []change
			users := []presence.UserID{"ilse", "tobin", "hanne", "corin"}
			in := map[presence.UserID]presence.RoomName{}
			for time.Since(started) < 100*time.Minute {
				time.Sleep(time.Duration(random.Int64N(int64(4 * time.Minute))))
				user := users[random.IntN(len(users))]
				_, here := n.links[user]
				if here {
					n.goes(user)
				} else {
					in[user] = []presence.RoomName{weir, desk}[random.IntN(2)]
					n.comes(user, in[user])
				}
				changes = append(changes, change{time.Now(), user, in[user], !here})
			}
			time.Sleep(time.Until(started.Add(2*time.Hour + 10*time.Second)))
			require.NoError(t, n.writer.Sync(t.Context()))

			// reckon computes the headcount of a room, or of the realm, in a period.
			reckon := func(room presence.RoomName, from, to time.Time) (least, most, distinct, joins, leaves int, mean float64) {
				here, met := map[presence.UserID]bool{}, map[presence.UserID]bool{}
				least, most = -1, -1
				sum, last := 0.0, from
				look := func() {
					if least < 0 || len(here) < least {
						least = len(here)
					}
					most = max(most, len(here))
				}
				looked := false
				for _, c := range changes {
					if !c.at.Before(to) {
						break
					}
					if room != "" && c.room != room {
						continue
					}
					if !c.at.Before(from) {
						if !looked {
							look()
							for user := range here {
								met[user] = true
							}
							looked = true
						}
						sum += float64(len(here)) * c.at.Sub(last).Seconds()
						last = c.at
					}
					if c.on {
						here[c.user] = true
					} else {
						delete(here, c.user)
					}
					if !c.at.Before(from) {
						look()
						if c.on {
							joins++
							met[c.user] = true
						} else {
							leaves++
						}
					}
				}
				if !looked {
					look()
					for user := range here {
						met[user] = true
					}
				}
				sum += float64(len(here)) * to.Sub(last).Seconds()
				return least, most, len(met), joins, leaves, sum / to.Sub(from).Seconds()
			}
			for _, room := range []presence.RoomName{weir, desk, ""} {
				for _, step := range []headcount.Step{headcount.Minute, headcount.Hour} {
					rows, err := store.Headcounts(t.Context(), records.HeadcountQuery{Realm: "main", Room: room, Step: step, From: started, To: started.Add(2 * time.Hour), Most: 1000})
					require.NoError(t, err)
					length := time.Duration(step) * time.Millisecond
					require.NotEmpty(t, rows)
					for _, row := range rows {
						from := time.UnixMilli(row.At)
						least, most, distinct, joins, leaves, mean := reckon(room, from, from.Add(length))
						where := fmt.Sprintf("seed %d, %s, %s of %s", seed, room, length, from.UTC().Format(time.TimeOnly))
						require.Equal(t, []int{least, most, distinct, joins, leaves}, []int{row.PeopleMin, row.PeopleMax, row.Visitors, row.Joins, row.Leaves}, where)
						require.InDelta(t, mean, float64(row.PeopleTime)/float64(max(row.Span, 1)), 0.01, where)
					}
				}
			}
			// The attendance agrees with the list, too.
			at := started.Add(time.Duration(random.Int64N(int64(100 * time.Minute))))
			stays, err := store.Attendance(t.Context(), "main", weir, at, at.Add(time.Millisecond), n.here(weir))
			require.NoError(t, err)
			var got []presence.UserID
			for _, stay := range stays {
				got = append(got, stay.User)
			}
			here := map[presence.UserID]bool{}
			for _, c := range changes {
				if c.at.Before(at) && c.room == weir {
					here[c.user] = c.on
				}
			}
			var want []presence.UserID
			for user, on := range here {
				if on {
					want = append(want, user)
				}
			}
			slices.Sort(got)
			slices.Sort(want)
			require.Equal(t, want, got)
			end()
			require.NoError(t, n.writer.Close())
			require.NoError(t, store.Close())
		})
	}
}

// TestACrashLosesNobody ends the records without closing them, like a crash.
func TestACrashLosesNobody(t *testing.T) {
	bubble(t, func(t *testing.T) {
		dir := t.TempDir()
		store, err := records.Open(dir)
		require.NoError(t, err)
		n, end := begin(t, store, records.Retention{})
		n.comes("ilse", weir)
		n.comes("tobin", weir, desk)
		n.do(presence.SetStatus{User: "ilse", Status: presence.Busy, Note: "at the sluice"})
		n.comes("hanne", desk)
		n.goes("hanne")
		gone := time.Now()
		time.Sleep(7 * time.Second)
		end()
		require.NoError(t, store.Close())
		time.Sleep(time.Minute)

		store, err = records.Open(dir)
		require.NoError(t, err)
		last, err := store.LastRun()
		require.NoError(t, err)
		require.Zero(t, last.Stopped)
		n, end = begin(t, store, records.Retention{})
		require.Len(t, n.engine.MembersNow(weir), 2)
		require.Len(t, n.engine.MembersNow(desk), 1)
		require.Equal(t, presence.Busy, n.engine.MembersNow(weir)[0].Status)
		seen, err := store.LastSeen("main", 10)
		require.NoError(t, err)
		require.Len(t, seen, 1)
		require.Equal(t, gone.UnixMilli(), seen[0].LastSeen)
		before := len(n.journal(records.JournalQuery{}))
		require.Equal(t, before, len(n.journal(records.JournalQuery{})), "a restart is nothing that happens")
		rows, err := store.Headcounts(t.Context(), records.HeadcountQuery{Realm: "main", Room: weir, Step: headcount.Minute, From: gone.Add(-time.Minute), To: time.Now(), Most: 10})
		require.NoError(t, err)
		require.Len(t, rows, 1, "while the service was away nothing was counted")
		time.Sleep(6 * time.Second)
		rows, err = store.Headcounts(t.Context(), records.HeadcountQuery{Realm: "main", Room: weir, Step: headcount.Minute, From: time.Now().Add(-time.Second), To: time.Now(), Most: 10})
		require.NoError(t, err)
		require.Len(t, rows, 1)
		require.Equal(t, []int{2, 2, 2, 0}, []int{rows[0].PeopleMin, rows[0].PeopleMax, rows[0].Visitors, rows[0].Joins}, "who was brought back did not come")
		n.do(presence.SignOut{User: "ilse"})
		require.Len(t, n.journal(records.JournalQuery{After: int64(before), Kinds: []journal.Kind{journal.MemberLeft}}), 1)
		end()
		require.NoError(t, n.writer.Close())
		require.NoError(t, store.Close())
		_, err = records.Check(t.Context(), dir)
		require.NoError(t, err)
	})
}

// TestTheJournalIsReadBothWays reads everything in pages, by each index.
func TestTheJournalIsReadBothWays(t *testing.T) {
	bubble(t, func(t *testing.T) {
		store, err := records.Open(records.Memory)
		require.NoError(t, err)
		n, end := begin(t, store, records.Retention{})
		for i := range 60 {
			user := presence.UserID(fmt.Sprintf("w-%d", i%7))
			n.comes(user, []presence.RoomName{weir, desk}[i%2])
			time.Sleep(time.Duration(i) * time.Second)
			n.goes(user)
		}
		all := n.journal(records.JournalQuery{})
		require.Len(t, all, 60*6, "opened, joined, online; left, offline, ended")
		readBothWays(t, store, all)
		end()
		require.NoError(t, n.writer.Close())
		require.NoError(t, store.Close())
	})
}

// TestWhatIsOldIsDeleted checks the age and number limits of each kind.
func TestWhatIsOldIsDeleted(t *testing.T) {
	bubble(t, func(t *testing.T) {
		store, err := records.Open(records.Memory)
		require.NoError(t, err)
		n, end := begin(t, store, records.Retention{
			Journal: 3 * time.Hour, Kinds: map[journal.Kind]time.Duration{journal.SessionOpened: 30 * time.Minute}, JournalRows: 200,
			KindRows: map[journal.Kind]int64{journal.StatusChanged: 20}, Minutes: time.Hour,
		})
		for range 150 {
			n.comes("ilse", weir)
			time.Sleep(30 * time.Second)
			n.goes("ilse")
			time.Sleep(30 * time.Second)
		}
		all := n.journal(records.JournalQuery{})
		oldest := map[journal.Kind]time.Duration{}
		for _, e := range all {
			if _, known := oldest[e.Kind]; !known {
				oldest[e.Kind] = time.Since(time.UnixMilli(e.At))
			}
		}
		require.LessOrEqual(t, len(all), 220)
		statuses := 0
		for _, e := range all {
			if e.Kind == journal.StatusChanged {
				statuses++
			}
		}
		require.InDelta(t, 30, statuses, 12, "20, and those of the ten minutes since they were counted")
		require.Less(t, oldest[journal.SessionOpened], 32*time.Minute)
		require.Greater(t, oldest[journal.SessionOpened], 20*time.Minute, "and no younger ones")
		rows, err := store.Headcounts(t.Context(), records.HeadcountQuery{Realm: "main", Room: weir, Step: headcount.Minute, From: time.Now().Add(-10 * time.Hour), To: time.Now(), Most: 1000})
		require.NoError(t, err)
		require.InDelta(t, 60, len(rows), 3)
		hours, err := store.Headcounts(t.Context(), records.HeadcountQuery{Realm: "main", Room: weir, Step: headcount.Hour, From: time.Now().Add(-10 * time.Hour), To: time.Now(), Most: 1000})
		require.NoError(t, err)
		require.Len(t, hours, 2, "hours are kept longer")
		require.Equal(t, 60, hours[0].Joins)
		end()
		require.NoError(t, n.writer.Close())
		require.NoError(t, store.Close())
	})
}

// TestAGapIsCountedAndTold locks the file until more has happened than can wait.
func TestAGapIsCountedAndTold(t *testing.T) {
	bubble(t, func(t *testing.T) {
		dir := t.TempDir()
		store, err := records.Open(dir)
		require.NoError(t, err)
		n, end := begin(t, store, records.Retention{})
		n.writer.HoldAtMost(100)
		n.comes("ilse", weir)
		n.journal(records.JournalQuery{})
		db, err := sql.Open("sqlite", filepath.Join(dir, records.File)+"?_txlock=immediate")
		require.NoError(t, err)
		tx, err := db.Begin()
		require.NoError(t, err)
		from := time.Now()
		for range 50 {
			n.comes("tobin", weir)
			n.goes("tobin")
			time.Sleep(50 * time.Millisecond)
		}
		time.Sleep(time.Second)
		health := n.writer.Health()
		require.ErrorContains(t, health.Failing, "locked")
		require.InDelta(t, 50*6-100, health.Lost, 12, "what is more than 100 entries")
		require.NoError(t, tx.Rollback())
		require.NoError(t, db.Close())
		time.Sleep(10 * time.Second)
		health = n.writer.Health()
		require.NoError(t, health.Failing)
		all := n.journal(records.JournalQuery{From: from, Kinds: []journal.Kind{journal.Gap}})
		require.NotEmpty(t, all)
		lost := int64(0)
		for _, e := range all {
			lost += e.Lost
		}
		require.Equal(t, health.Lost, lost, "as many as are missing")
		require.Len(t, n.journal(records.JournalQuery{}), 3+50*6-int(lost)+len(all))
		people, err := store.SavedPeople("main")
		require.NoError(t, err)
		require.Len(t, people, 1, "of people nothing is lost")
		end()
		require.NoError(t, n.writer.Close())
		require.NoError(t, store.Close())
	})
}
