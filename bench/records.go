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
	dir := must(os.MkdirTemp(s.dir, "long-"))
	s.seed(r, dir)
	s.queries(r, dir)
	s.export(r, dir)
	check(os.RemoveAll(dir))
	s.restart(r)
}

// slowdown compares joins and leaves with records on disk and in memory, alternating in many
// short rounds.
func (s *stage) slowdown(r results) {
	disk, onDisk := s.startService("")
	defer disk.stop()
	memory, inMemory := s.startService(records.Memory)
	defer memory.stop()
	rounds, length := pick(s, 9, 5), pick(s, time.Second, 400*time.Millisecond)
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

// seed writes a long journal of people who join and leave rooms over some days. The floor writes
// such rows with the driver alone, and fewer of them, because it takes longer the more there are.
func (s *stage) seed(r results, dir string) {
	rows := pick(s, 5_000_000, 200_000)
	store := must(records.Open(dir))
	at := time.Now().Add(-5 * 24 * time.Hour)
	gap := 5 * 24 * time.Hour / time.Duration(rows)
	random := rand.New(rand.NewPCG(1, 1))
	batch := make([]journal.Entry, 0, 5000)
	began := time.Now()
	for id := int64(1); id <= int64(rows); id++ {
		batch = append(batch, entry(random, id, at))
		at = at.Add(gap)
		if len(batch) == cap(batch) {
			check(store.ImportEntries(batch))
			batch = batch[:0]
		}
	}
	r["journal_rows_per_second"] = float64(rows) / time.Since(began).Seconds()
	check(store.Close())
	size := must(os.Stat(filepath.Join(dir, records.File))).Size()
	r["journal_mb_per_million"] = float64(size) / float64(rows)
	r["floor_journal_rows_per_second"] = bareRows(filepath.Join(must(os.MkdirTemp(s.dir, "bare-")), "bare.db"), pick(s, 200_000, 50_000))
}

func entry(random *rand.Rand, id int64, at time.Time) journal.Entry {
	user := random.IntN(20_000)
	return journal.Entry{
		ID: id, At: at.UnixMilli(), Realm: "main", Kind: []journal.Kind{journal.MemberJoined, journal.MemberLeft}[id%2],
		Room: presence.RoomName(fmt.Sprint("basin.b", random.IntN(1000))), User: presence.UserID(fmt.Sprint("w-", user)),
		Status: "online", Reason: "leave", Length: int64(random.IntN(3_600_000)), Open: true,
	}
}

// bareRows inserts rows with the same columns and indexes by prepared statements.
func bareRows(path string, rows int) float64 {
	db := must(sql.Open("sqlite", "file:"+path+"?_pragma=journal_mode(WAL)"))
	db.SetMaxOpenConns(1)
	defer func() { check(db.Close()) }()
	for _, statement := range []string{
		"CREATE TABLE journal (id INTEGER PRIMARY KEY, at INTEGER, realm TEXT, kind TEXT, room TEXT, user TEXT, status TEXT, reason TEXT, length INTEGER, open INTEGER)",
		"CREATE INDEX a ON journal (realm, room)", "CREATE INDEX b ON journal (realm, user)",
	} {
		must(db.Exec(statement))
	}
	random := rand.New(rand.NewPCG(1, 1))
	const many = 50
	sqlText := "INSERT INTO journal VALUES " + strings.TrimSuffix(strings.Repeat("(?,?,?,?,?,?,?,?,?,?),", many), ",")
	insert := must(db.Prepare(sqlText))
	began := time.Now()
	tx := must(db.Begin())
	for id := 0; id < rows; {
		args := make([]any, 0, 10*many)
		for range many {
			id++
			e := entry(random, int64(id), began)
			args = append(args, e.ID, e.At, e.Realm, string(e.Kind), string(e.Room), string(e.User), e.Status, e.Reason, e.Length, e.Open)
		}
		must(tx.Stmt(insert).Exec(args...))
		if id%5000 == 0 {
			check(tx.Commit())
			tx = must(db.Begin())
		}
	}
	check(tx.Commit())
	return float64(rows) / time.Since(began).Seconds()
}

// queries reads the last hour of a room and the last day of a person, each time another.
func (s *stage) queries(r results, dir string) {
	store := must(records.Open(dir))
	defer func() { check(store.Close()) }()
	random := rand.New(rand.NewPCG(2, 2))
	var room, person []float64
	for range pick(s, 200, 50) {
		room = append(room, took(func() { hourOfRoom(store, random) }))
		began := time.Now()
		q := records.JournalQuery{Realm: "main", Users: []presence.UserID{presence.UserID(fmt.Sprint("w-", random.IntN(20_000)))}, From: began.Add(-24 * time.Hour)}
		must(store.Journal(context.Background(), q, 1000))
		person = append(person, float64(time.Since(began).Microseconds())/1000)
	}
	slices.Sort(room)
	slices.Sort(person)
	r["journal_query_room_ms"], r["journal_query_person_ms"] = room[len(room)*95/100], person[len(person)*95/100]
}

// hourOfRoom reads the last hour of some room.
func hourOfRoom(store *records.Store, random *rand.Rand) {
	q := records.JournalQuery{Realm: "main", Rooms: []presence.Pattern{presence.Pattern(fmt.Sprint("basin.b", random.IntN(1000)))}, From: time.Now().Add(-time.Hour)}
	must(store.Journal(context.Background(), q, 1000))
}

// took returns how long something took, in milliseconds.
func took(do func()) float64 {
	began := time.Now()
	do()
	return float64(time.Since(began).Microseconds()) / 1000
}

// export exports the whole journal and measures the memory of the service.
func (s *stage) export(r results, dir string) {
	p, address := s.startService(dir)
	defer p.stop()
	time.Sleep(pick(s, 3*time.Second, time.Second))
	idle := p.rss()
	body := must(client.API{Server: "http://" + address, Key: key}.ExportJournal(context.Background(), client.JournalQuery{}, "ndjson"))
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

// restart measures the start of a service with many people on record and many sessions that have
// not ended.
func (s *stage) restart(r results) {
	people, sessions := pick(s, 1_000_000, 50_000), pick(s, 15_000, 2000)
	dir := must(os.MkdirTemp(s.dir, "many-"))
	store := must(records.Open(dir))
	batch := make([]records.Person, 0, 5000)
	for i := range people {
		batch = append(batch, records.Person{Realm: "main", User: presence.UserID(fmt.Sprintf("w-%07d", i)), Name: fmt.Sprint("Volunteer ", i), FirstSeen: 1, LastSeen: int64(1 + i)})
		if len(batch) == cap(batch) {
			check(store.PutPeople(batch))
			batch = batch[:0]
		}
	}
	check(store.Close())
	// The service is killed while it has these sessions.
	p, address := s.startService(dir)
	var links []*client.Link
	for i := range sessions {
		links = append(links, must(client.Dial(context.Background(), client.Options{
			Server: "http://" + address, Token: s.token(fmt.Sprintf("w-%07d", i)), Rooms: []string{fmt.Sprint("basin.b", i/10)}})))
	}
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
	check(os.RemoveAll(dir))
}
