//go:build linux

package main

import (
	"context"
	"runtime"
	"time"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/timing"
)

// timing replays a recorded week under the policy in force and under another.
func (s *stage) timing(r results) {
	w := s.recordedWeek(func() {})
	store := must(records.Open(w.dir))
	defer func() { check(store.Close()) }()
	runtime.GC()
	began := time.Now()
	other := w.policy
	check(timing.Try(&other, "grace.lost", "20s"))
	study, inForce, tried := timing.NewStudy(&w.policy, ""), timing.NewReplay(w.policy, w.policy, ""), timing.NewReplay(w.policy, other, "")
	most, read := uint64(0), 0
	check(store.EachMove(context.Background(), "main", w.begin, w.end, func(float64) {
		var m runtime.MemStats
		if read%50_000 < 5000 {
			runtime.ReadMemStats(&m)
			most = max(most, m.HeapInuse)
		}
	}, func(e *journal.Entry) {
		read++
		study.Take(e)
		inForce.Take(e)
		tried.Take(e)
	}))
	inForce.Finish()
	tried.Finish()
	r["week_replayed_s"], r["week_replay_mb"] = time.Since(began).Seconds(), float64(most)/1e6
	x := inForce.Exceptions()
	r["week_sessions"], r["week_exceptions"] = float64(w.sessions), float64(x.Recorded+x.Replayed)
}
