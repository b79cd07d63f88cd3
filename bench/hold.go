//go:build linux

package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"runtime"
	"slices"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"tovik.example/tovik/internal/deflate"
	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/engine/enginetest"
	"tovik.example/tovik/internal/presence"
)

// hold measures the longest time for which the core is locked, by inputs, timers and questions.
// A room has ten thousand members who follow it, and a hundred watchers; people come, go and
// become idle, and some watchers page through the members.
//
// A goroutine that holds the core can lose its processor to another one, or to another process.
// Processor time leaves that out. The floor has it too: after each input, a loop that takes as
// much processor time as the last hold.
func (s *stage) hold(r results) {
	const people, watchers, workers = 10_000, 100, 2
	held := &holds{began: time.Now()}
	policy := presence.DefaultPolicy()
	var e *engine.Engine
	hub := delivery.NewHub(delivery.Options{Policy: &policy, Source: func(sink engine.Sink) delivery.Source {
		e = engine.New(engine.Options{Policy: policy, Sink: sink, Links: enginetest.NoLinks{}, Held: held, Now: held.now})
		return e
	}})
	ctx, stop := context.WithCancel(context.Background())
	var running sync.WaitGroup
	onOneThread := func(run func()) { // the clock of the thread then shows what a hold took
		running.Go(func() {
			runtime.LockOSThread()
			run()
		})
	}
	onOneThread(func() { e.Run(ctx) })
	awake := make(chan *delivery.Receiver, 2*(people+watchers))
	follow := func(cause delivery.Cause, view presence.View) {
		var receiver *delivery.Receiver
		receiver = hub.NewReceiver(view, func() {
			select {
			case awake <- receiver:
			default: // it is woken again
			}
		})
		receiver.Follow(cause, room, delivery.How{Detail: delivery.AtMembers})
	}
	for range workers {
		onOneThread(func() {
			var frames []deflate.Text
			for {
				select {
				case receiver := <-awake:
					frames, _ = receiver.Next(frames[:0])
				case <-ctx.Done():
					return
				}
			}
		})
	}
	onOneThread(func() {
		defer stop()
		links := make([]presence.LinkID, people)
		for i := range links {
			user := presence.UserID(fmt.Sprintf("w-%05d", i))
			reply := must(e.Do(ctx, presence.Hello{User: user, Profile: presence.Profile{Name: string(user)},
				NewSession: presence.SessionID("session-" + user), NewKey: "k", Rooms: []presence.RoomName{room}}))
			links[i] = reply.Link
			follow(delivery.Joined, presence.Open)
		}
		for i := range watchers {
			follow(delivery.Watched, presence.View(i%2))
		}
		time.Sleep(time.Second)
		held.forget()
		random := rand.New(rand.NewPCG(7, 7))
		end := time.Now().Add(pick(s, 20*time.Second, 3*time.Second))
		for n := 0; time.Now().Before(end); n++ {
			link := links[random.IntN(people)]
			for _, in := range [][]presence.Input{
				{presence.Leave{From: link, Room: room}, presence.Join{From: link, Room: room}},
				{presence.Idle{From: link}}, {presence.Activity{From: link}}}[random.IntN(3)] {
				_, _ = e.Do(ctx, in)
				held.loop()
			}
			if n%500 == 0 { // a newcomer watches the room
				hub.Page(engine.Topic{Room: room, View: presence.Full}, engine.Revision{}, delivery.PageWanted{Limit: 200})
				follow(delivery.Watched, presence.Full)
			}
			time.Sleep(time.Millisecond)
		}
	})
	running.Wait()
	hub.Close()
	r["core_held_longest_ms"], r["core_held_p999_ms"] = most(held.wall, 0), most(held.wall, 0.001)
	r["core_held_cpu_longest_ms"], r["floor_core_held_longest_ms"] = most(held.cpu, 0), most(held.floor, 0)
	r["floor_core_held_p999_ms"] = most(held.floor, 0.001)
}

// holds collects durations in milliseconds. The engine reads its clock when it locks the core and
// just before it unlocks it.
type holds struct {
	began time.Time

	mu               sync.Mutex
	spent            [2]time.Duration // processor time of the thread at the last two readings of the clock
	wall, cpu, floor []float64
}

func (h *holds) now() presence.Instant {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.spent = [2]time.Duration{h.spent[1], threadTime()}
	now := time.Now()
	return presence.Instant{Mono: now.Sub(h.began), Wall: now}
}

func (h *holds) Observe(seconds float64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.wall = append(h.wall, seconds*1000)
	h.cpu = append(h.cpu, (h.spent[1]-h.spent[0]).Seconds()*1000)
}

// loop takes as much processor time as the core was held for last.
func (h *holds) loop() {
	h.mu.Lock()
	long := h.spent[1] - h.spent[0]
	h.mu.Unlock()
	since, spent := time.Now(), threadTime()
	for threadTime() < spent+long {
	}
	h.floor = append(h.floor, time.Since(since).Seconds()*1000)
}

// forget empties the lists, and makes them large enough for what follows.
func (h *holds) forget() {
	h.mu.Lock()
	defer h.mu.Unlock()
	const many = 1 << 18
	h.wall, h.cpu, h.floor = make([]float64, 0, many), make([]float64, 0, many), make([]float64, 0, many)
}

// threadTime is the processor time that the thread has used.
func threadTime() time.Duration {
	var t unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_THREAD_CPUTIME_ID, &t); err != nil {
		panic(err) // the clock is always there
	}
	return time.Duration(t.Nano())
}

// most returns the duration that a share of all exceed.
func most(list []float64, share float64) float64 {
	slices.Sort(list)
	return list[len(list)-1-int(share*float64(len(list)))]
}
