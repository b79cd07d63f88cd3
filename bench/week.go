//go:build linux

package main

import (
	"fmt"
	"os"
	"time"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/rehearsal"
)

// week is a recorded week of many people who come, lose their links and return.
type week struct {
	dir        string // of the records
	begin, end time.Time
	policy     presence.Policy // in force
	people     int             // w-0, w-1, …
	rooms      int             // basin.b0, basin.b1, …
	sessions   int
	entries    int64
}

// recordedWeek returns a week of more than a million sessions. It records the week once for all parts
// of a bench, which takes minutes, and calls pause every second or so.
func (s *stage) recordedWeek(pause func()) week {
	if s.week.dir != "" {
		return s.week
	}
	w := week{dir: must(os.MkdirTemp(s.dir, "week-")), end: time.Now(), policy: presence.DefaultPolicy(), people: pick(s, 17_600, 1000), rooms: 500}
	w.begin = w.end.Add(-7 * 24 * time.Hour)
	w.policy.BeatEvery = 1000 * time.Hour // the journal has none
	script := w.script()
	store := must(records.Open(w.dir))
	const batch = 20_000
	entries := make([]journal.Entry, 0, batch)
	flush := func() {
		check(store.ImportEntries(entries))
		entries = entries[:0]
		pause()
	}
	keep := func(e journal.Entry) {
		w.entries++
		e.ID = w.entries
		if entries = append(entries, e); len(entries) == batch {
			flush()
		}
		if e.Kind == journal.SessionOpened {
			w.sessions++
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
	note(w.begin, journal.ServiceStarted)
	script.Play()
	note(w.end, journal.ServiceStopped)
	flush()
	check(store.Close())
	s.week = w
	return w
}

// script has each person come 50 times.
func (w week) script() rehearsal.Script {
	const shifts = 50
	script := rehearsal.Script{Policy: w.policy, Begin: w.begin, Length: w.end.Sub(w.begin), Seed: 1}
	for i := range w.people {
		who := rehearsal.Character{User: presence.UserID(fmt.Sprint("w-", i)), Rooms: []presence.RoomName{presence.RoomName(fmt.Sprint("basin.b", i%w.rooms))}, Ends: rehearsal.End(i % 3)}
		who.Habits = rehearsal.Habits{Every: rehearsal.Spread{Median: 40 * time.Minute, Sigma: 0.5}, Closing: rehearsal.Incident{Weight: 2, Gap: rehearsal.Spread{Median: time.Second, Sigma: 1}, Never: 0.1},
			Lost: rehearsal.Incident{Weight: 1, Gap: rehearsal.Spread{Median: 4 * time.Second, Sigma: 1.2}, Never: 0.1}}
		for n := range shifts {
			from := time.Duration(n)*script.Length/shifts + time.Duration(i)*time.Second/10
			who.Shifts = append(who.Shifts, rehearsal.Shift{From: from, To: from + time.Hour})
		}
		script.Cast = append(script.Cast, who)
	}
	return script
}
