//go:build linux

package main

import (
	"context"
	"fmt"
	"os"
	"runtime"
	"time"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/rehearsal"
	"tovik.example/tovik/internal/timing"
)

// timing replays a recorded week under the policy in force and under another.
func (s *stage) timing(r results) {
	dir := must(os.MkdirTemp(s.dir, "week-"))
	sessions := pick(s, 1_000_000, 50_000)
	end := time.Now()
	begin := end.Add(-7 * 24 * time.Hour)
	policy := presence.DefaultPolicy()
	policy.BeatEvery = 1000 * time.Hour // the journal has none
	script := rehearsal.Script{Policy: policy, Begin: begin, Length: end.Sub(begin), Seed: 1}
	people := sessions / 50
	for i := range people {
		who := rehearsal.Character{User: presence.UserID(fmt.Sprint("w-", i)), Rooms: []presence.RoomName{presence.RoomName(fmt.Sprint("basin.b", i%500))}, Ends: rehearsal.End(i % 3)}
		who.Habits = rehearsal.Habits{Every: rehearsal.Spread{Median: 40 * time.Minute, Sigma: 0.5}, Closing: rehearsal.Incident{Weight: 2, Gap: rehearsal.Spread{Median: time.Second, Sigma: 1}, Never: 0.1},
			Lost: rehearsal.Incident{Weight: 1, Gap: rehearsal.Spread{Median: 4 * time.Second, Sigma: 1.2}, Never: 0.1}}
		for n := range 50 {
			from := time.Duration(n)*script.Length/50 + time.Duration(i)*time.Second/10
			who.Shifts = append(who.Shifts, rehearsal.Shift{From: from, To: from + time.Hour})
		}
		script.Cast = append(script.Cast, who)
	}
	store := must(records.Open(dir))
	past := must(records.NewPast(store, "main", begin, nil))
	opened := 0
	script.Tell = func(at time.Time, effects []presence.Effect, touched []presence.UserID) {
		past.Record(at, effects, touched)
		for _, e := range effects {
			if _, ok := e.(presence.SessionOpened); ok {
				opened++
			}
		}
	}
	saved, _ := script.Play()
	check(past.Close(context.Background(), end, saved))
	script.Cast = nil
	past = nil
	runtime.GC()
	began := time.Now()
	other := policy
	check(timing.Try(&other, "grace.lost", "20s"))
	study, inForce, tried := timing.NewStudy(&policy, ""), timing.NewReplay(policy, policy, ""), timing.NewReplay(policy, other, "")
	most, entries := uint64(0), 0
	check(store.EachMove(context.Background(), "main", begin, end, func(float64) {
		var m runtime.MemStats
		if entries%50_000 < 5000 {
			runtime.ReadMemStats(&m)
			most = max(most, m.HeapInuse)
		}
	}, func(e *journal.Entry) {
		entries++
		study.Take(e)
		inForce.Take(e)
		tried.Take(e)
	}))
	inForce.Finish()
	tried.Finish()
	r["week_replayed_s"], r["week_replay_mb"] = time.Since(began).Seconds(), float64(most)/1e6
	x := inForce.Exceptions()
	r["week_sessions"], r["week_exceptions"] = float64(opened), float64(x.Recorded+x.Replayed)
	check(store.Close())
	check(os.RemoveAll(dir))
}
