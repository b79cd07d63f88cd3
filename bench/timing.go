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
	entries := make([]journal.Entry, 0, 20_000)
	id, opened := int64(0), 0
	flush := func() {
		if len(entries) == 0 {
			return
		}
		check(store.ImportEntries(entries))
		entries = entries[:0]
	}
	keep := func(e journal.Entry) {
		id++
		e.ID = id
		if entries = append(entries, e); len(entries) == cap(entries) {
			flush()
		}
		if e.Kind == journal.SessionOpened {
			opened++
		}
	}
	note := func(at time.Time, kind journal.Kind) {
		keep(journal.Entry{At: at.UnixMilli(), Realm: "main", Kind: kind, Open: true})
	}
	fold := journal.NewFold("main", keep, func(*journal.Announcement) {})
	script.Tell = func(at time.Time, effects []presence.Effect, _ []presence.UserID) {
		for _, effect := range effects {
			fold.Take(at.UnixMilli(), effect, false)
		}
	}
	note(begin, journal.ServiceStarted)
	script.Play()
	note(end, journal.ServiceStopped)
	flush()
	script.Cast, fold, entries = nil, nil, nil
	runtime.GC()
	began := time.Now()
	other := policy
	check(timing.Try(&other, "grace.lost", "20s"))
	study, inForce, tried := timing.NewStudy(&policy, ""), timing.NewReplay(policy, policy, ""), timing.NewReplay(policy, other, "")
	most, read := uint64(0), 0
	check(store.EachMove(context.Background(), "main", begin, end, func(float64) {
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
	r["week_sessions"], r["week_exceptions"] = float64(opened), float64(x.Recorded+x.Replayed)
	check(store.Close())
	check(os.RemoveAll(dir))
}
