// Package engine owns a core of presence: its lock, its clock, the order of
// what happens, and the numbering of what others see.
//
// Changes of a room are gathered for a short window and then sealed into one
// [Batch] with the room's next revision. A receiver that starts from a snapshot
// and applies the batches that follow has exactly the service's list at each
// revision. No rule of presence stands here; they are all in package presence,
// which is the only package of Tovik that this one may import.
package engine

import (
	"context"
	"log/slog"
	"math"
	"sync"
	"time"

	"tovik.example/tovik/internal/presence"
)

// DefaultWindow is how long changes of a room are gathered before they are
// sealed.
const DefaultWindow = 20 * time.Millisecond

// advanceMax bounds the timers fired under one hold of the lock.
const advanceMax = 1000

// Sink takes sealed batches. The contract of an implementation:
//   - Take is called with the engine's lock held, in the order of sealing;
//   - it never blocks and never calls the engine;
//   - it may keep the batch, and changes nothing in it.
type Sink interface{ Take(Batch) }

// Links carries out what the core wants done about links. Its methods are
// called with the engine's lock held; they never block and never call the
// engine. A link that is gone is no error.
type Links interface {
	// AskBeat writes a beat request, and then gives the engine a
	// [presence.BeatWritten].
	AskBeat(presence.LinkID)
	// Cut closes the connection, telling the client the reason.
	Cut(presence.LinkID, presence.Reason)
}

// Options are what an Engine is made of. Sink and Links are required.
type Options struct {
	Policy presence.Policy
	Sink   Sink
	Links  Links
	Window time.Duration // 0 stands for DefaultWindow
	Log    *slog.Logger  // nil stands for none; debug lines on sessions
}

// Engine is a core with a lock and a clock around it. All methods are safe for
// concurrent use.
type Engine struct {
	sink   Sink
	links  Links
	window time.Duration
	log    *slog.Logger
	start  time.Time
	kick   chan struct{} // holds one: time must be looked at anew; a second says nothing more

	mu      sync.Mutex
	core    *presence.Core
	effects presence.Effects
	feeds   map[presence.RoomName]*feed
	pending []*feed       // feeds with unsealed changes, in order of their first
	sealAt  time.Duration // when the pending changes are to be sealed
	waiting time.Duration // what Run waits for
}

// New returns an engine with an empty core. Nothing falls due until [Engine.Run]
// is called.
func New(o Options) *Engine {
	if o.Window == 0 {
		o.Window = DefaultWindow
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	return &Engine{
		sink: o.Sink, links: o.Links, window: o.Window, log: o.Log,
		start:   time.Now(),
		kick:    make(chan struct{}, 1),
		core:    presence.NewCore(o.Policy),
		feeds:   map[presence.RoomName]*feed{},
		waiting: math.MaxInt64,
	}
}

// Policy returns the realm's policy.
func (e *Engine) Policy() presence.Policy { return e.core.Policy() }

// Do applies an input at the present instant. Its error is a
// [*presence.Refusal], or that of ctx when it is over before the input's turn.
func (e *Engine) Do(ctx context.Context, in presence.Input) (presence.Reply, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if err := ctx.Err(); err != nil {
		return presence.Reply{}, err
	}
	now := e.now()
	reply, err := e.core.Apply(now, in, &e.effects)
	e.carryOut(now)
	e.wakeBefore(e.due())
	return reply, err
}

// Run lets time pass until ctx is over. It is called once.
func (e *Engine) Run(ctx context.Context) {
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		case <-e.kick:
		}
		timer.Reset(e.pass())
	}
}

// pass does what is due and returns how long nothing will be.
func (e *Engine) pass() time.Duration {
	e.mu.Lock()
	defer e.mu.Unlock()
	now := e.now()
	_, more := e.core.Advance(now, advanceMax, &e.effects)
	e.carryOut(now)
	if len(e.pending) > 0 && now.Mono >= e.sealAt {
		e.sealAll(now)
	}
	if more {
		e.waiting = now.Mono
		return 0
	}
	e.waiting = e.due()
	return e.waiting - now.Mono
}

func (e *Engine) due() time.Duration {
	due, ok := e.core.Due()
	if !ok {
		due = math.MaxInt64
	}
	if len(e.pending) > 0 {
		due = min(due, e.sealAt)
	}
	return due
}

// wakeBefore has Run look at the time anew if it waits for longer than it may.
func (e *Engine) wakeBefore(due time.Duration) {
	if due >= e.waiting {
		return
	}
	e.waiting = due
	select {
	case e.kick <- struct{}{}:
	default:
	}
}

func (e *Engine) now() presence.Instant {
	now := time.Now()
	return presence.Instant{Mono: now.Sub(e.start), Wall: now}
}

func (e *Engine) carryOut(now presence.Instant) {
	for _, effect := range e.effects.List {
		switch effect := effect.(type) {
		case presence.MemberChanged:
			e.note(now, effect)
		case presence.AskBeat:
			e.links.AskBeat(effect.Link)
		case presence.Cut:
			e.links.Cut(effect.Link, effect.Reason)
		case presence.SessionOpened:
			e.log.Debug("session opened", "session", effect.Link.Session, "user", effect.User)
		case presence.SessionResumed:
			e.log.Debug("session resumed", "session", effect.Link.Session, "link", effect.Link.Number)
		case presence.SessionInGrace:
			e.log.Debug("session in grace", "session", effect.Link.Session, "link", effect.Link.Number,
				"reason", effect.Reason)
		case presence.SessionEnded:
			e.log.Debug("session ended", "session", effect.Link.Session, "user", effect.User,
				"reason", effect.Reason)
		}
	}
	e.effects.Reset()
}

// Snapshot returns a room as it is now, under its newest revision: unsealed
// changes are sealed first. It is false when nobody is in the room.
func (e *Engine) Snapshot(room presence.RoomName) (Snapshot, bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	f := e.feeds[room]
	if f == nil {
		return Snapshot{Room: room}, false
	}
	e.sealNow(e.now(), f)
	members, ok := e.core.Members(room)
	return Snapshot{Room: room, Revision: f.revision, Members: members, Count: e.core.Count(room)}, ok
}

// Count returns how many are in a room now.
func (e *Engine) Count(room presence.RoomName) presence.Count {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Count(room)
}

// Rooms returns the counts of all rooms that somebody is in, by name.
func (e *Engine) Rooms() map[presence.RoomName]presence.Count {
	e.mu.Lock()
	defer e.mu.Unlock()
	names := e.core.Rooms()
	rooms := make(map[presence.RoomName]presence.Count, len(names))
	for _, name := range names {
		rooms[name] = e.core.Count(name)
	}
	return rooms
}
