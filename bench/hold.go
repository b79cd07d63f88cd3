//go:build linux

package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"tovik.example/tovik/internal/deflate"
	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/engine/enginetest"
	"tovik.example/tovik/internal/presence"
)

// hold measures the longest time for which the core is locked, by inputs, timers and questions.
// A room has ten thousand members who follow it, and a hundred watchers; people come, go and
// become idle, and some watchers page through the members.
func (s *stage) hold(r results) {
	const people, watchers, workers = 10_000, 100, 2
	held := &holds{}
	policy := presence.DefaultPolicy()
	var e *engine.Engine
	hub := delivery.NewHub(delivery.Options{Policy: &policy, Source: func(sink engine.Sink) delivery.Source {
		e = engine.New(engine.Options{Policy: policy, Sink: sink, Links: enginetest.NoLinks{}, Held: held})
		return e
	}})
	ctx, stop := context.WithCancel(context.Background())
	var running sync.WaitGroup
	running.Go(func() { e.Run(ctx) })
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
		running.Go(func() {
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
		}
		if n%500 == 0 { // somebody who comes, and wants to see the room
			hub.Page(engine.Topic{Room: room, View: presence.Full}, engine.Revision{}, delivery.PageWanted{Limit: 200})
			follow(delivery.Watched, presence.Full)
		}
		time.Sleep(time.Millisecond)
	}
	stop()
	running.Wait()
	hub.Close()
	r["core_held_longest_ms"], r["core_held_p999_ms"] = held.most(0), held.most(0.001)
}

// holds collects the durations in milliseconds.
type holds struct {
	mu   sync.Mutex
	list []float64
}

func (h *holds) Observe(seconds float64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.list = append(h.list, seconds*1000)
}

func (h *holds) forget() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.list = nil
}

// most returns the duration that a share of all exceed.
func (h *holds) most(share float64) float64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	slices.Sort(h.list)
	return h.list[len(h.list)-1-int(share*float64(len(h.list)))]
}
