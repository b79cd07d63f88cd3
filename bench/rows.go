//go:build linux

package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"sync"
	"time"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/engine/enginetest"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
)

// rows measures what the rows of a cluster cost while everybody reconnects, and while every link is
// reported to another owner. The owner makes rows of what happens, in batches as for the log. Each of
// two nodes puts them into its file, as fast as it can; both and the owner share this machine.
func (s *stage) rows(r results) {
	sessions := pick(s, 100_000, 10_000)
	const perRoom, every = 10, 25 * time.Millisecond
	began := time.Now()
	owner := func(epoch uint32) (*engine.Engine, *records.Maker) {
		maker := records.NewMaker(records.MakerOptions{Realm: "aldermoor", From: time.Now()})
		return engine.New(engine.Options{Policy: presence.DefaultPolicy(), Sink: enginetest.NoSink{}, Links: enginetest.NoLinks{}, Recorder: maker, Epoch: epoch,
			Now: func() presence.Instant { return presence.Instant{Mono: time.Since(began), Wall: time.Now()} }}), maker
	}
	e, maker := owner(1)
	check(e.Continue(presence.Saved{Version: presence.SavedVersion}, presence.Takeover{}))
	e.GoOn()
	nodes := []*rowsNode{s.rowsNode("here"), s.rowsNode("there")}
	hello := func(i int, link presence.LinkID, key string) presence.Hello {
		return presence.Hello{User: presence.UserID(fmt.Sprintf("w-%06d", i)), Profile: presence.Profile{Name: fmt.Sprint("Watcher ", i)}, Session: link.Session, Key: key, Nonce: "n",
			NewSession: presence.SessionID(fmt.Sprintf("session-%06d", i)), NewKey: fmt.Sprintf("key-%06d", i), Issued: 1, Rooms: []presence.RoomName{presence.RoomName(fmt.Sprintf("basin.b%05d", i/perRoom))}}
	}
	// play does something for each session, and returns how long that took and the rows that followed.
	play := func(e *engine.Engine, maker *records.Maker, each func(i int)) (took time.Duration, rows, bytes int) {
		start, flushed := time.Now(), time.Now()
		flush := func() {
			made := maker.Rows(time.Now(), e.Save).(*records.Rows)
			if made.Empty() {
				return
			}
			text := must(json.Marshal(made))
			rows, bytes, flushed = rows+made.Size(), bytes+len(text), time.Now()
			for _, n := range nodes {
				n.records <- appended{text, time.Now()}
			}
		}
		for i := range sessions {
			each(i)
			if time.Since(flushed) >= every {
				flush()
				flushed = time.Now()
			}
		}
		flush()
		return time.Since(start), rows, bytes
	}
	settle := func() (lag time.Duration) {
		for _, n := range nodes {
			lag = max(lag, n.settle())
		}
		return lag
	}

	links := make([]presence.LinkID, sessions)
	play(e, maker, func(i int) { links[i] = must(e.Give(hello(i, presence.LinkID{}, ""))).Link })
	settle()
	start := time.Now()
	took, rows, bytes := play(e, maker, func(i int) {
		must(e.Give(presence.LinkLost{Link: links[i]}))
		links[i] = must(e.Give(hello(i, links[i], fmt.Sprintf("key-%06d", i)))).Link
	})
	lag := settle()
	all := time.Since(start)
	r["reconnects_s"], r["reconnects_rows"], r["reconnects_log_mb"] = took.Seconds(), float64(rows), float64(bytes)/1e6
	r["reconnects_on_nodes_s"], r["reconnects_lag_s"] = all.Seconds(), lag.Seconds()
	r["reconnect_rows_per_second"] = float64(rows) / all.Seconds()

	facts := make([]presence.Fact, sessions)
	for i := range facts {
		saved, _ := e.Save(presence.UserID(fmt.Sprintf("w-%06d", i)))
		facts[i] = presence.Fact{User: saved.User, Profile: saved.Profile, Session: saved.Sessions[0], Unanswered: -1, Confirmed: true}
	}
	reseat := func(e *engine.Engine) func(int) {
		return func(i int) {
			if seat := e.Reseat(facts[i]); seat != presence.SeatKept {
				panic("a link is " + string(seat))
			}
		}
	}
	took, rows, _ = play(e, maker, reseat(e))
	r["reseats_s"], r["reseats_rows"] = took.Seconds(), float64(rows)

	start = time.Now()
	next, nextMaker := owner(2)
	check(next.Continue(must(nodes[0].store.State("aldermoor")), presence.Takeover{Time: e.Time(), Wall: time.Now().UnixMilli()}))
	r["takeover_restore_s"] = time.Since(start).Seconds()
	took, rows, _ = play(next, nextMaker, reseat(next))
	settle()
	r["takeover_reseats_s"], r["takeover_rows"] = took.Seconds(), float64(rows)
	for _, n := range nodes {
		n.stop()
	}
	for _, f := range must(records.Compare(context.Background(), nodes[0].dir, nodes[1].dir)) {
		if f.Wrong {
			panic("the nodes differ: " + f.What + ": " + f.Detail)
		}
	}
}

// rowsNode is a node that puts rows into its file: all that wait, in one transaction.
type rowsNode struct {
	dir     string
	store   *records.Store
	records chan appended
	running sync.WaitGroup

	// What follows is run's.
	at  records.Position
	lag time.Duration // the longest time that a record waited
}

// appended is a record of the log, and when it was appended.
type appended struct {
	text []byte
	at   time.Time
}

func (s *stage) rowsNode(name string) *rowsNode {
	dir := must(os.MkdirTemp(s.dir, name))
	n := &rowsNode{dir: dir, store: must(records.Open(dir)), records: make(chan appended, 1<<20), at: records.Position{Log: "bench"}}
	n.running.Go(n.run)
	return n
}

func (n *rowsNode) run() {
	for first := range n.records {
		waiting := []appended{first}
		for len(n.records) > 0 {
			waiting = append(waiting, <-n.records)
		}
		rows := make([]records.Rows, len(waiting))
		for i, a := range waiting {
			check(json.Unmarshal(a.text, &rows[i]))
			n.at = n.at.Next(a.text)
		}
		check(n.store.Put(n.at, rows))
		n.lag = max(n.lag, time.Since(first.at))
	}
}

// settle waits until everything is put, and returns the longest time that a record waited for that.
func (n *rowsNode) settle() time.Duration {
	close(n.records)
	n.running.Wait()
	lag := n.lag
	n.lag, n.records = 0, make(chan appended, 1<<20)
	n.running.Go(n.run)
	return lag
}

func (n *rowsNode) stop() {
	close(n.records)
	n.running.Wait()
	check(n.store.Close())
}
