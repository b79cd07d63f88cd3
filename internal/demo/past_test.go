package demo_test

import (
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/demo"
	"tovik.example/tovik/internal/headcount"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/timing"
)

// TestThePastHasItsStory finds the story of the night in the records: the flood, the outage, the
// hook that failed, a page that somebody left open, and the people who are here now. The past
// ends at six different times of day.
func TestThePastHasItsStory(t *testing.T) {
	for _, clock := range []string{"04:40", "06:20", "11:50", "15:50", "20:50", "23:30"} {
		synctest.Test(t, func(t *testing.T) {
			now, err := time.ParseInLocation("2006-01-02 15:04", "2026-11-24 "+clock, time.Local)
			require.NoError(t, err)
			time.Sleep(time.Until(now))
			t.Log("at " + clock) // in case it fails
			hasItsStory(t)
		})
	}
}

func hasItsStory(t *testing.T) {
	dir := t.TempDir()
	o := demo.PastOptions{Data: dir, Length: 36 * time.Hour, People: 30, Seed: 7}
	open, err := demo.Before(t.Context(), o)
	require.NoError(t, err)
	require.Greater(t, len(open), 20)
	again, err := demo.Before(t.Context(), o)
	require.NoError(t, err)
	require.Empty(t, again, "there is a past already")

	store, err := records.Open(dir)
	require.NoError(t, err)
	defer func() { require.NoError(t, store.Close()) }()
	begin, end := time.Now().Add(-37*time.Hour), time.Now()
	policy := demo.Policy()
	replay := timing.NewReplay(policy, policy, "")
	silent, kinds := 0, map[journal.Kind]int{}
	require.NoError(t, store.EachMove(t.Context(), "main", begin, end, func(float64) {}, func(e *journal.Entry) {
		replay.Take(e)
		kinds[e.Kind]++
		if e.Kind == journal.SessionLost && e.Reason == "silent" {
			silent++
		}
	}))
	replay.Finish()
	require.GreaterOrEqual(t, silent, 5, "the mobile network was down")
	require.Equal(t, 2, kinds[journal.RoomDeclared])
	require.Equal(t, 1, kinds[journal.HookAdded])
	require.Positive(t, kinds[journal.MemberLeft])
	x := replay.Exceptions()
	require.Zero(t, x.Recorded)
	require.LessOrEqual(t, x.Replayed, 1, "a session that returned after its grace ended, but before the tick that would have ended it")

	hours, err := store.Headcounts(t.Context(), records.HeadcountQuery{Realm: "main", Step: headcount.Hour, From: begin, To: end, Most: 100})
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(hours), 34)
	var flood, before headcount.Row // of the night that is wholly in the past
	for _, h := range hours {
		switch at := time.UnixMilli(h.At).Local(); {
		case end.Sub(at) < 3*time.Hour: // all have come together
		case at.Hour() == 4:
			flood = h
		case at.Hour() == 1:
			before = h
		}
	}
	require.Greater(t, flood.PeopleMax, before.PeopleMax+5)
	deliveries, err := store.Deliveries(t.Context(), "hook-siren", "", 0, 100_000)
	require.NoError(t, err)
	tries := 0
	for _, d := range deliveries {
		require.Equal(t, records.Delivered, d.State)
		tries = max(tries, d.Attempts)
	}
	require.NotEmpty(t, deliveries)
	require.GreaterOrEqual(t, tries, 2, "the hook failed for a while")
	rooms, err := store.Rooms("main")
	require.NoError(t, err)
	require.Len(t, rooms, 2)
	people, err := store.SavedPeople("main")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(people), 20)
	var oldest int64
	for _, p := range people {
		for _, s := range p.Sessions {
			if s.Live && (oldest == 0 || s.LastActive < oldest) {
				oldest = s.LastActive
			}
		}
	}
	require.Less(t, oldest, end.Add(-3*time.Hour).UnixMilli(), "somebody forgot to sign out")
}

func TestAPastMayBeShortAndLong(t *testing.T) {
	t.Parallel()
	for _, length := range []time.Duration{time.Minute, time.Hour, 5 * 24 * time.Hour} {
		open, err := demo.Before(t.Context(), demo.PastOptions{Data: t.TempDir(), Length: length, People: 6, Seed: 1})
		require.NoError(t, err, length)
		require.NotEmpty(t, open, length)
	}
}
