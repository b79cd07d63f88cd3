package timing_test

import (
	"flag"
	"fmt"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/rehearsal"
	"tovik.example/tovik/internal/timing"
)

var monday = time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)

const day = 24 * time.Hour

// week plays a script under a policy, and gives each entry of its journal to takers.
func week(s rehearsal.Script, take ...func(*journal.Entry)) {
	id := int64(0)
	fold := journal.NewFold("main", func(e journal.Entry) {
		id++
		e.ID = id
		for _, t := range take {
			t(&e)
		}
	}, func(*journal.Announcement) {})
	s.Begin = monday
	s.Tell = func(at time.Time, effects []presence.Effect, _ []presence.UserID) {
		for _, effect := range effects {
			fold.Take(at.UnixMilli(), effect, false)
		}
	}
	s.Play()
	for _, t := range take { // so that all journals end at the same time
		t(&journal.Entry{ID: id + 1, At: monday.Add(s.Length).UnixMilli(), Kind: journal.ServiceStopped})
	}
}

// steady are people who are there all week. Their pages reload and lose their links, and come
// back after known times.
func steady(people int, seed uint64, h rehearsal.Habits) rehearsal.Script {
	policy := presence.DefaultPolicy()
	policy.BeatEvery = 1000 * time.Hour
	s := rehearsal.Script{Policy: policy, Length: 7 * day, Seed: seed}
	for i := range people {
		s.Cast = append(s.Cast, rehearsal.Character{User: presence.UserID(fmt.Sprintf("w-%03d", i)), Rooms: []presence.RoomName{"basin.upper-weir"}, Shifts: []rehearsal.Shift{{To: 8 * day}}, Habits: h})
	}
	return s
}

func TestTheReplayUnderThePolicyInForceHasTheLeavesOnRecord(t *testing.T) {
	t.Parallel()
	s := town(3)
	recorded := s.Policy
	replay := timing.NewReplay(recorded, recorded, "")
	left := 0
	week(s, replay.Take, func(e *journal.Entry) {
		if e.Kind == journal.MemberLeft {
			left++
		}
	})
	replay.Finish()
	require.Greater(t, left, 500)
	require.Equal(t, left, replay.Recorded())
	require.Equal(t, left, replay.Outcome().Leaves)
	require.Zero(t, replay.Exceptions().Recorded+replay.Exceptions().Replayed)
}

// town is a week of people with several rooms and tabs, whose pages do all that pages do.
func town(seed uint64) rehearsal.Script {
	policy := presence.DefaultPolicy()
	levee := policy.RoomPolicy
	levee.GraceLost = 25 * time.Second
	policy.Rooms = []presence.PatternPolicy{{Pattern: "levee.*", RoomPolicy: levee}}
	s := rehearsal.Script{Policy: policy, Length: day, Seed: seed}
	rooms := []presence.RoomName{"basin.upper-weir", "levee.north-bank", "desk.night"}
	for i := range 60 {
		c := rehearsal.Character{User: presence.UserID(fmt.Sprintf("w-%03d", i)), Rooms: []presence.RoomName{rooms[i%3], rooms[(i+1)%3]}, Tabs: 1 + i%2, Stream: i%5 == 0, Ends: rehearsal.End(i % 4)}
		c.Habits = rehearsal.Habits{
			Every:      rehearsal.Spread{Median: 4 * time.Minute, Sigma: 0.5},
			Closing:    rehearsal.Incident{Weight: 8, Gap: rehearsal.Spread{Median: 700 * time.Millisecond, Sigma: 1.2}, Never: 0.1},
			Lost:       rehearsal.Incident{Weight: 4, Gap: rehearsal.Spread{Median: 4 * time.Second, Sigma: 1.3}, Never: 0.1},
			Background: rehearsal.Incident{Weight: 2, Gap: rehearsal.Spread{Median: 40 * time.Second, Sigma: 1}, Never: 0.1},
			Typing:     rehearsal.Incident{Weight: 4, Gap: rehearsal.Spread{Median: 8 * time.Second, Sigma: 0.7}, Never: 0.2},
			Quiet:      rehearsal.Incident{Weight: 2, Gap: rehearsal.Spread{Median: 8 * time.Minute, Sigma: 0.6}},
			Moves:      rehearsal.Incident{Weight: 2, Gap: rehearsal.Spread{Median: 5 * time.Minute, Sigma: 0.5}},
			Input:      rehearsal.Spread{Median: time.Minute, Sigma: 0.3},
		}
		for from := time.Duration(i%12) * time.Hour; from < s.Length; from += day {
			c.Shifts = append(c.Shifts, rehearsal.Shift{From: from, To: from + 8*time.Hour})
		}
		s.Cast = append(s.Cast, c)
	}
	s.Outages = []rehearsal.Outage{{From: 7 * time.Hour, For: 90 * time.Second, Hits: func(c *rehearsal.Character) bool { return c.Tabs == 1 }}}
	return s
}

// TestTheReplayKnowsRestartsAndStandstills replays a rehearsal in which the service restarts and
// its machine stands still.
func TestTheReplayKnowsRestartsAndStandstills(t *testing.T) {
	t.Parallel()
	policy := presence.DefaultPolicy()
	replay := timing.NewReplay(policy, policy, "")
	counts := map[journal.Kind]int{}
	take := func(e journal.Entry) {
		counts[e.Kind]++
		replay.Take(&e)
	}
	fold := journal.NewFold("main", take, func(*journal.Announcement) {})
	rehearsal.Run(rehearsal.Options{
		Policy: policy, People: 300, Length: 14 * time.Hour, Seed: 18, Begin: monday,
		Tell: func(at time.Time, effects []presence.Effect, _ []presence.UserID) {
			for _, effect := range effects {
				fold.Take(at.UnixMilli(), effect, false)
			}
		},
		Restarted: func(at time.Time, away time.Duration) {
			take(journal.Entry{At: at.UnixMilli(), Kind: journal.ServiceStarted, Length: away.Milliseconds()})
		},
	})
	replay.Finish()
	require.Positive(t, counts[journal.ServiceStarted])
	require.Positive(t, counts[journal.ServiceSuspended])
	left := counts[journal.MemberLeft]
	require.Greater(t, left, 500)
	x := replay.Exceptions()
	require.LessOrEqual(t, x.Recorded+x.Replayed, left/400, "%+v", x)
	require.InDelta(t, left, replay.Outcome().Leaves, float64(left)/200)
}

// TestWhatIfIsWhatWouldHaveBeen replays a recorded stretch under other policies, and compares
// that with the stretch played under them.
func TestWhatIfIsWhatWouldHaveBeen(t *testing.T) {
	t.Parallel()
	tries := []struct {
		key, value string
		exact      bool // the journal knows everything that it takes
	}{
		{"grace.lost", "45s", true}, {"grace.lost", "2s", true}, {"grace.closing", "9s", true}, {"grace.closing", "500ms", true}, {"grace.background", "5s", true},
		{"idle.after", "12m", true}, {"beat.every", "25s", false}, {"beat.every", "5s", false}, {"beat.tolerance", "1", false}, {"idle.after", "2m", false},
	}
	for i, try := range tries {
		t.Run(try.key+"="+try.value, func(t *testing.T) {
			t.Parallel()
			s := town(uint64(i))
			recorded, other := s.Policy, s.Policy
			require.NoError(t, timing.Try(&other, try.key, try.value))
			inForce, guess := timing.NewReplay(recorded, recorded, ""), timing.NewReplay(recorded, other, "")
			week(s, inForce.Take, guess.Take)
			inForce.Finish()
			guess.Finish()
			s.Policy = other
			replay := timing.NewReplay(other, other, "")
			week(s, replay.Take)
			replay.Finish()
			is, truth := guess.Outcome(), replay.Outcome()
			require.NotEqual(t, inForce.Outcome(), truth, "the key makes no difference")
			if try.exact {
				const ties = 4 // returns in the very tick of the core's clock in which a grace ends
				require.InDelta(t, truth.Leaves, is.Leaves, ties)
				require.InDelta(t, truth.Losses, is.Losses, ties)
				require.InDelta(t, truth.Flickers, is.Flickers, ties)
				require.InDelta(t, truth.Ghosts, is.Ghosts, float64(ties*time.Minute))
				require.InDelta(t, truth.Away, is.Away, float64(10*time.Second))
				return
			}
			// Beats go by what was heard when, and short idle times are not on record.
			require.InEpsilon(t, truth.Leaves, is.Leaves, 0.02)
			require.InEpsilon(t, truth.Flickers, is.Flickers, 0.04)
			require.InEpsilon(t, truth.Ghosts, is.Ghosts, 0.1)
			require.LessOrEqual(t, is.Away, truth.Away+time.Minute)
		})
	}
}

var seeds = flag.Int("seeds", 1, "how many worlds the advice is tried on")

// TestTheAdviceHolds asks for advice from a week whose gaps are known, and plays another week
// with the advised grace: 0.5 to 2 of 1,000 returns are flickers, and the interval has the true
// value, nearly always.
func TestTheAdviceHolds(t *testing.T) {
	t.Parallel()
	habits := []struct {
		cause timing.Cause
		gap   rehearsal.Spread
		key   string
		only  func(rehearsal.Incident) rehearsal.Habits
	}{
		{timing.Closing, rehearsal.Spread{Median: 600 * time.Millisecond, Sigma: 0.8}, "grace.closing", func(i rehearsal.Incident) rehearsal.Habits { return rehearsal.Habits{Closing: i} }},
		{timing.Lost, rehearsal.Spread{Median: 2 * time.Second, Sigma: 0.9}, "grace.lost", func(i rehearsal.Incident) rehearsal.Habits { return rehearsal.Habits{Lost: i} }},
		{timing.Background, rehearsal.Spread{Median: 9 * time.Second, Sigma: 0.7}, "grace.background", func(i rehearsal.Incident) rehearsal.Habits { return rehearsal.Habits{Background: i} }},
	}
	var good, covered atomic.Int64
	t.Run("worlds", func(t *testing.T) {
		for seed := range *seeds {
			h := habits[seed%len(habits)]
			t.Run(fmt.Sprint(seed), func(t *testing.T) {
				t.Parallel()
				usual := h.only(rehearsal.Incident{Weight: 1, Gap: h.gap, Never: 0.02})
				usual.Every = rehearsal.Spread{Median: 7 * time.Minute, Sigma: 0.4}
				s := steady(40, uint64(seed), usual)
				study := timing.NewStudy(&s.Policy, "")
				week(s, study.Take)
				advice := timing.Advise(study.Gaps[h.cause], time.Second)
				require.Greater(t, advice.Returns, int64(timing.Enough))
				// Nearly all gaps end within a minute of the grace, so their quantile is the truth.
				truth := h.gap.Quantile(1 - timing.Target)
				if advice.Grace.Low <= truth && truth <= advice.Grace.High {
					covered.Add(1)
				}
				s.Seed += 1 << 32
				require.NoError(t, timing.Try(&s.Policy, h.key, advice.Grace.Value.String()))
				if h.cause == timing.Background { // it is at least as long as that of the foreground
					require.NoError(t, timing.Try(&s.Policy, "grace.lost", "100ms"))
				}
				fresh := timing.NewStudy(&s.Policy, "")
				flickers, left := 0, map[presence.UserID]int64{}
				week(s, fresh.Take, func(e *journal.Entry) {
					switch e.Kind {
					case journal.MemberLeft:
						left[e.User] = e.At
					case journal.MemberJoined:
						if at, was := left[e.User]; was && e.At-at <= timing.Soon.Milliseconds() {
							flickers++
						}
					}
				})
				share := 1000 * float64(flickers) / float64(fresh.Gaps[h.cause].Returns.N)
				t.Logf("%s: %d returns, advised %v (%v to %v), truly %v; then %.2f flickers in 1,000", h.cause, advice.Returns, advice.Grace.Value, advice.Grace.Low, advice.Grace.High, truth, share)
				if 0.5 <= share && share <= 2 {
					good.Add(1)
				}
			})
		}
	})
	t.Logf("of %d worlds, %d have 0.5 to 2 flickers in 1,000, and %d intervals have the truth", *seeds, good.Load(), covered.Load())
	require.GreaterOrEqual(t, float64(good.Load()), 0.95*float64(*seeds))
	require.GreaterOrEqual(t, float64(covered.Load()), 0.88*float64(*seeds))
}
