//go:build linux

package main

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
)

// records measures the records: the speed of writing and reading, their cost for presence, and
// the time of a start with large records.
func (s *stage) records(r results) {
	s.slowdown(r)
	w := s.recordedWeek(func() {})
	r["journal_mb_per_million"] = float64(must(os.Stat(filepath.Join(w.dir, records.File))).Size()) / float64(w.entries)
	s.queries(r, w)
	s.imports(r, w) // before a service adds entries of its own
	s.export(r, w)
	s.restart(r)
}

// slowdown compares joins and leaves with records on disk and in memory, alternating in many
// short rounds.
func (s *stage) slowdown(r results) {
	disk, onDisk := s.startService("")
	defer disk.stop()
	memory, inMemory := s.startService(records.Memory)
	defer memory.stop()
	rounds, length := pick(s, 7, 5), pick(s, time.Second, 400*time.Millisecond)
	var kept, floor, ratio []float64
	for range rounds {
		f, v := s.joinsAndLeaves("http://"+inMemory, length), s.joinsAndLeaves("http://"+onDisk, length)
		kept, floor, ratio = append(kept, v), append(floor, f), append(ratio, f/v)
	}
	r["joins_and_leaves_per_second"], r["floor_joins_and_leaves_per_second"] = median(kept), median(floor)
	r["presence_slowdown_with_records"] = median(ratio)
}

// joinsAndLeaves returns the number of answers per second.
func (s *stage) joinsAndLeaves(service string, length time.Duration) (rate float64) {
	s.joining(service, length, ownRooms, func(done *atomic.Int64) {
		before, began := done.Load(), time.Now()
		time.Sleep(length)
		rate = float64(done.Load()-before) / time.Since(began).Seconds()
	})
	return rate
}

// cpuOfJoins returns the processor time of the service for one join or leave, in microseconds. It
// depends less on what else the machine does than how many there are per second.
func (s *stage) cpuOfJoins(length time.Duration) (us float64) {
	s.joining(s.service, length, ownRooms, func(done *atomic.Int64) {
		before, used := done.Load(), s.process.cpu()
		time.Sleep(length)
		us = float64((s.process.cpu() - used).Microseconds()) / float64(done.Load()-before)
	})
	return us
}

// ownRooms gives each person ten rooms.
func ownRooms(user string, n int) string { return fmt.Sprint("levee.", user, "-", n%10) }

// joining lets people join and leave rooms. While counts how many joins and leaves are done.
func (s *stage) joining(service string, length time.Duration, choose func(user string, n int) string, while func(done *atomic.Int64)) {
	const links = 600 // of which each may bring 50 frames a second
	var done atomic.Int64
	var all sync.WaitGroup
	ctx, cancel := context.WithCancel(context.Background())
	ready := make(chan struct{}, links)
	for range links {
		user := fmt.Sprint("j-", s.people.Add(1))
		all.Go(func() {
			link := must(client.Dial(ctx, client.Options{Server: service, Token: s.token(user)}))
			defer link.Close()
			ready <- struct{}{}
			pace := time.NewTicker(45 * time.Millisecond) // so that none brings more than it may
			defer pace.Stop()
			for n := 0; ctx.Err() == nil; n++ {
				room := choose(user, n)
				if link.Join(ctx, room) == nil && link.Leave(ctx, room) == nil {
					done.Add(2)
				}
				select {
				case <-pace.C:
				case <-ctx.Done():
				}
			}
			_ = link.Bye(context.Background())
		})
	}
	for range links {
		<-ready
	}
	time.Sleep(length) // in which each uses up what it may bring at once
	while(&done)
	cancel()
	all.Wait()
}

// imports adds entries of people who join and leave rooms to a copy of the week. The floor adds as
// many rows to the same table with the driver alone.
func (s *stage) imports(r results, w week) {
	dir := must(os.MkdirTemp(s.dir, "grown-"))
	check(os.CopyFS(dir, os.DirFS(w.dir)))
	rows, batch := pick(s, 300_000, 50_000), 5000
	random := rand.New(rand.NewPCG(1, 1))
	next := func(first int64) []journal.Entry {
		list := make([]journal.Entry, batch)
		for i := range list {
			list[i] = entry(random, first+int64(i), w.end)
		}
		return list
	}
	store := must(records.Open(dir))
	id := w.entries + 1
	began := time.Now()
	for range rows / batch {
		check(store.ImportEntries(next(id)))
		id += int64(batch)
	}
	r["journal_rows_per_second"] = float64(rows) / time.Since(began).Seconds()
	check(store.Close())
	bare := must(sql.Open("sqlite", "file:"+filepath.Join(dir, records.File)+"?_pragma=journal_mode(WAL)"))
	bare.SetMaxOpenConns(1)
	began = time.Now()
	for range rows / batch {
		insertBare(bare, next(id))
		id += int64(batch)
	}
	r["floor_journal_rows_per_second"] = float64(rows) / time.Since(began).Seconds()
	check(bare.Close())
	check(os.RemoveAll(dir))
}

func entry(random *rand.Rand, id int64, at time.Time) journal.Entry {
	user := random.IntN(20_000)
	return journal.Entry{
		ID: id, At: at.UnixMilli(), Realm: "main", Kind: []journal.Kind{journal.MemberJoined, journal.MemberLeft}[id%2],
		Room: presence.RoomName(fmt.Sprint("basin.b", random.IntN(1000))), User: presence.UserID(fmt.Sprint("w-", user)),
		Status: "online", Reason: "leave", Length: int64(random.IntN(3_600_000)), Open: true,
	}
}

// insertBare inserts entries in one transaction, 50 with each statement. Their number is a multiple of 50.
func insertBare(db *sql.DB, entries []journal.Entry) {
	const many = 50
	tx := must(db.Begin())
	insert := must(tx.Prepare("INSERT INTO journal (id, at, realm, kind, room, user, status, reason, length, open) VALUES " +
		strings.TrimSuffix(strings.Repeat("(?,?,?,?,?,?,?,?,?,?),", many), ",")))
	for some := range slices.Chunk(entries, many) {
		args := make([]any, 0, 10*many)
		for _, e := range some {
			args = append(args, e.ID, e.At, e.Realm, string(e.Kind), string(e.Room), string(e.User), e.Status, e.Reason, e.Length, e.Open)
		}
		must(insert.Exec(args...))
	}
	check(insert.Close())
	check(tx.Commit())
}

// queries reads the last hour of a room and the last day of a person, each time another.
func (s *stage) queries(r results, w week) {
	store := must(records.Open(w.dir))
	defer func() { check(store.Close()) }()
	random := rand.New(rand.NewPCG(2, 2))
	var room, person []float64
	for range pick(s, 200, 50) {
		room = append(room, took(func() { hourOfRoom(store, random.IntN(w.rooms), w.end) }))
		q := records.JournalQuery{Realm: "main", Users: []presence.UserID{presence.UserID(fmt.Sprint("w-", random.IntN(w.people)))}, From: w.end.Add(-24 * time.Hour)}
		person = append(person, took(func() { must(store.Journal(context.Background(), q, 1000)) }))
	}
	slices.Sort(room)
	slices.Sort(person)
	r["journal_query_room_ms"], r["journal_query_person_ms"] = room[len(room)*95/100], person[len(person)*95/100]
}

// hourOfRoom reads the last hour of a room.
func hourOfRoom(store *records.Store, room int, end time.Time) {
	q := records.JournalQuery{Realm: "main", Rooms: []presence.Pattern{presence.Pattern(fmt.Sprint("basin.b", room))}, From: end.Add(-time.Hour)}
	must(store.Journal(context.Background(), q, 1000))
}

// took returns how long something took, in milliseconds.
func took(do func()) float64 {
	began := time.Now()
	do()
	return float64(time.Since(began).Microseconds()) / 1000
}

// export exports the last two days of the journal and measures the memory of the service.
func (s *stage) export(r results, w week) {
	p, address := s.startService(w.dir)
	defer p.stop()
	time.Sleep(pick(s, 3*time.Second, time.Second))
	idle := p.rss()
	body := must(client.API{Server: "http://" + address, Key: key}.ExportJournal(context.Background(), client.JournalQuery{From: w.end.Add(-48 * time.Hour), To: w.end}, "ndjson"))
	most, rows := idle, 0
	began, looked := time.Now(), time.Now()
	lines := bufio.NewReaderSize(body, 1<<20)
	for {
		line, err := lines.ReadSlice('\n')
		if err == io.EOF {
			break
		}
		check(err)
		if rows++; rows%10_000 == 0 {
			check(json.Unmarshal(line, new(map[string]any)))
		}
		if time.Since(looked) > 50*time.Millisecond {
			looked, most = time.Now(), max(most, p.rss())
		}
	}
	check(body.Close())
	r["export_rows"] = float64(rows)
	r["export_rows_per_second"] = float64(rows) / time.Since(began).Seconds()
	r["export_mb_over_idle"] = (most - idle) / 1024
}

// directory returns where the records with many people are. It writes them once, and calls pause
// now and then.
func (s *stage) directory(pause func()) string {
	if s.many != "" {
		return s.many
	}
	s.many = must(os.MkdirTemp(s.dir, "many-"))
	store := must(records.Open(s.many))
	batch := make([]records.Person, 0, 5000)
	for i := range pick(s, 1_000_000, 50_000) {
		batch = append(batch, records.Person{Realm: "main", User: presence.UserID(fmt.Sprintf("w-%07d", i)), Name: fmt.Sprint("Volunteer ", i), FirstSeen: 1, LastSeen: int64(1 + i)})
		if len(batch) == cap(batch) {
			check(store.PutPeople(batch))
			batch = batch[:0]
			pause()
		}
	}
	check(store.Close())
	return s.many
}

// restart measures the start of a service with many people on record and many sessions that have
// not ended.
func (s *stage) restart(r results) {
	sessions := pick(s, 15_000, 2000)
	dir := s.directory(func() {})
	// The service is killed while it has these sessions.
	p, address := s.startService(dir)
	links := make([]*client.Link, sessions)
	var all sync.WaitGroup
	for w := range workers {
		all.Go(func() {
			for i := w; i < sessions; i += workers {
				links[i] = must(client.Dial(context.Background(), client.Options{
					Server: "http://" + address, Token: s.token(fmt.Sprintf("w-%07d", i)), Rooms: []string{fmt.Sprint("basin.b", i/10)}}))
			}
		})
	}
	all.Wait()
	time.Sleep(time.Second)
	check(p.cmd.Process.Kill())
	_ = p.cmd.Wait()
	for _, link := range links {
		link.Close()
	}
	began := time.Now()
	p, address = s.startService(dir)
	for {
		if _, err := (client.API{Server: "http://" + address}).Ready(context.Background()); err == nil {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	r["restart_ready_s"] = time.Since(began).Seconds()
	rooms := must(client.API{Server: "http://" + address, Key: key}.Rooms(context.Background(), "**", "", 1))
	if rooms.Total != (sessions+9)/10 {
		check(fmt.Errorf("%d rooms were restored, of %d", rooms.Total, (sessions+9)/10))
	}
	p.stop()
}
