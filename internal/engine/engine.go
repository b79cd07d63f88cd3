// Package engine owns a core of presence: its lock, its clock, the order of
// what happens, and the numbering of what others see.
//
// A change in a calm room is sealed at once. The changes in a busy room are gathered for a
// short window and sealed into one [Batch] with the room's next revision. A receiver that
// starts from a snapshot and applies the batches that follow has exactly the service's list
// at each revision. No rule of presence stands here; they are all in package presence,
// which is the only package of Tovik that this one may import.
package engine

import (
	"context"
	"errors"
	"log/slog"
	"math"
	"sync"
	"time"

	"tovik.example/tovik/internal/presence"
)

// DefaultWindow is how long the changes of a busy room are gathered before they are sealed
// together. A room is calm, and its next change is sealed at once, when its last seal is one
// window ago, or two if that seal had several changes.
const DefaultWindow = 20 * time.Millisecond

// advanceMax limits how many timers fire under one hold of the lock.
const advanceMax = 200

// ErrNotReady is the error of a core on another node that has not answered in time, and ErrNoRealm that of
// one whose realm has ended.
var (
	ErrNotReady = errors.New("no node that owns the realm has answered in time")
	ErrNoRealm  = errors.New("the realm has ended")
)

// Sink receives what others see, in the order of sealing. The rules for an implementation:
//   - The engine calls it from one goroutine at a time, without the core's lock. A slow sink
//     delays only the callers whose changes it is being told.
//   - It must not call [Engine.Do], and must not wait for a caller of Do.
//   - It may keep its arguments, but must not change them.
type Sink interface {
	Take(*Batch)
	// TakeUnchanged reports a seal that changed nothing: the changes that [Engine.Unsealed]
	// reported cancelled each other.
	TakeUnchanged(Topic)
	TakeTypists(Typists)
	TakeSight(Sight)
	TakeAsks(Asks)
}

// Links carries out the core's orders about links. The rules of [Sink] apply. Orders and batches
// have one common order: an order about a room comes before the batch with the change that
// caused it. An order for a link that has ended is ignored.
type Links interface {
	// AskBeat writes a beat request, and gives the engine a [presence.BeatWritten]: for a probe
	// just before it is written, so that no answer comes earlier, and otherwise just after, so
	// that silence is not counted from before.
	AskBeat(presence.AskBeat)
	// Cut closes the connection, telling the client the reason.
	Cut(presence.Cut)
	// TakenOut ends what the link follows of a room, and tells the client.
	TakenOut(presence.TakenOut)
	// OwnChanged tells the clients what their person has set.
	OwnChanged(presence.OwnChanged)
	// AskAnswered tells the clients that asked how their ask ended. If they were admitted, their
	// sessions are in the room from now on.
	AskAnswered(presence.AskAnswered)
	// InvitationAnswered tells the clients of both sides how an invitation ended.
	InvitationAnswered(presence.InvitationAnswered)
	// PassEnded checks again what the links follow.
	PassEnded(presence.PassEnded)
	// InvitationsChanged tells the clients of a person their open invitations.
	InvitationsChanged(presence.InvitationsChanged)
	// WarnExpiry tells the client when its token expires.
	WarnExpiry(link presence.LinkID, expires time.Time)
}

// Recorder keeps what happens. Its methods are called with the engine's lock held, in order.
// They never block and never call the engine. They may keep the effects but not the slices, and
// must not change them.
type Recorder interface {
	// Record takes what has just happened, and the people whose saved state is out of date.
	Record(at time.Time, effects []presence.Effect, touched []presence.UserID)
	// Restored takes what a restart has brought back, which is nothing that happens, and
	// whom it concerns.
	Restored(at time.Time, effects []presence.Effect, touched []presence.UserID)
}

// Observer takes measurements.
type Observer interface{ Observe(float64) }

type unobserved struct{}

func (unobserved) Observe(float64) {}

// Options are what an Engine is made of. Sink and Links are required.
type Options struct {
	Policy   presence.Policy
	Sink     Sink
	Links    Links
	Recorder Recorder      // nil stands for none
	Window   time.Duration // 0 stands for DefaultWindow
	Chunk    int           // how many members of a room are read under one lock; 0 stands for 200
	// Held is told, in seconds, of each time for which the engine was held, and Late of
	// each by which something was done late. Nil stands for nobody.
	Held, Late Observer
	Log        *slog.Logger // nil stands for none; debug lines on sessions
	// NewRun makes the runs of revisions of a view, each once; nil stands for random
	// ones. A run must tell nothing of what happened before.
	NewRun func(presence.View) string
	// Epoch, if it is not 0, makes the engine one of several that run the realm in turn (see
	// [presence.Core.SetEpoch]).
	Epoch uint32
	// Now reads the clock; nil stands for the system's.
	Now func() presence.Instant
}

// Engine is a core with a lock and a clock. All methods are safe for concurrent use.
type Engine struct {
	sink   Sink
	links  Links
	record Recorder // nil: none
	window time.Duration
	chunk  int
	newRun func(presence.View) string
	held   Observer
	late   Observer
	log    *slog.Logger
	start  time.Time
	clock  func() presence.Instant // nil: the system's
	kick   chan struct{}           // holds one: time must be looked at anew; a second says nothing more
	outbox outbox

	mu       sync.Mutex
	core     *presence.Core
	effects  presence.Effects
	feeds    map[Topic]*feed
	readings map[Topic][]*reading // under way
	pending  []*feed              // feeds of busy rooms with unsealed changes, in order of their first
	calm     []*feed              // feeds of calm rooms with changes that are sealed before the lock is let go
	people   [2]people            // by view: unsealed changes of people as such
	spare    []*unsealed
	news     []any                            // to tell, in order, once the lock is released
	waiting  time.Duration                    // what Run waits for
	attempt  uint64                           // of the last hello
	settled  map[uint64]chan presence.Settled // the hellos that wait for a probe; each holds one
}

// New returns an engine with an empty core. No timer fires until [Engine.Run] is called.
func New(o Options) *Engine {
	if o.Window == 0 {
		o.Window = DefaultWindow
	}
	if o.Chunk == 0 {
		o.Chunk = 200
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Held == nil {
		o.Held = unobserved{}
	}
	if o.Late == nil {
		o.Late = unobserved{}
	}
	if o.NewRun == nil {
		o.NewRun = randomRun
	}
	e := &Engine{
		sink: o.Sink, links: o.Links, record: o.Recorder, window: o.Window, chunk: o.Chunk, newRun: o.NewRun, held: o.Held, late: o.Late, log: o.Log,
		start:    time.Now(),
		kick:     make(chan struct{}, 1),
		core:     presence.NewCore(o.Policy),
		feeds:    map[Topic]*feed{},
		readings: map[Topic][]*reading{},
		settled:  map[uint64]chan presence.Settled{},
		waiting:  math.MaxInt64,
		clock:    o.Now,
	}
	if o.Epoch > 0 {
		e.core.SetEpoch(o.Epoch)
	}
	return e
}

// Policy returns the present policy of the realm. It must not be changed.
func (e *Engine) Policy() *presence.Policy {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Policy()
}

// SetPolicy puts another policy in force (see [presence.SetPolicy]).
func (e *Engine) SetPolicy(policy presence.Policy) {
	_, _ = e.Do(context.Background(), presence.SetPolicy{Policy: policy}) // is never refused
}

// Do applies an input now. A hello that has to wait for a probe of an older link is answered
// after the probe, or withdrawn if ctx is done first. The error is a [*presence.Refusal], or
// that of ctx.
func (e *Engine) Do(ctx context.Context, in presence.Input) (presence.Reply, error) {
	if err := ctx.Err(); err != nil {
		return presence.Reply{}, err
	}
	reply, wait, err := e.Begin(in)
	if wait == nil {
		return reply, err
	}
	return wait(ctx)
}

// waiting is a hello that waits for a probe of an older link.
type waiting struct {
	engine  *Engine
	session presence.SessionID
	attempt uint64
	settled chan presence.Settled // holds one
}

// answer waits for the answer to the hello, and withdraws the hello if ctx is done first. Call
// it once.
func (w *waiting) answer(ctx context.Context) (presence.Reply, error) {
	select {
	case s := <-w.settled:
		return s.Reply, s.Err
	case <-ctx.Done():
	}
	if w.engine.withdraw(w) {
		return presence.Reply{}, ctx.Err()
	}
	s := <-w.settled // a moment before
	return s.Reply, s.Err
}

// withdraw returns false if the hello has been settled.
func (e *Engine) withdraw(w *waiting) bool {
	waited := false
	e.change(func(now presence.Instant) {
		if waited = e.settled[w.attempt] != nil; waited {
			delete(e.settled, w.attempt)
			_, _ = e.core.Apply(now, presence.Withdraw{Session: w.session, Attempt: w.attempt}, &e.effects) // never refused
		}
	})
	return waited
}

// Begin is Do for a caller that has other things to do while a hello waits for a probe: it then
// returns a function instead of a reply. Call it once. It waits for the answer, and withdraws the
// hello if its context is done first.
func (e *Engine) Begin(in presence.Input) (_ presence.Reply, wait func(context.Context) (presence.Reply, error), _ error) {
	reply, waits, err := e.apply(in)
	if waits == nil {
		return reply, nil, err
	}
	return presence.Reply{}, waits.answer, nil
}

func (e *Engine) apply(in presence.Input) (reply presence.Reply, waits *waiting, err error) {
	e.change(func(now presence.Instant) {
		if hello, ok := in.(presence.Hello); ok {
			if hello.Attempt == 0 {
				e.attempt++
				hello.Attempt = e.attempt
			}
			in = hello
		}
		reply, err = e.core.Apply(now, in, &e.effects)
		if reply.Pending {
			hello := in.(presence.Hello)
			waits = &waiting{engine: e, session: hello.Session, attempt: hello.Attempt, settled: make(chan presence.Settled, 1)}
			e.settled[hello.Attempt] = waits.settled
		}
	})
	return reply, waits, err
}

// change changes the core. It returns once the outcome is recorded and told.
func (e *Engine) change(what func(now presence.Instant)) {
	e.hold(func(now presence.Instant) {
		what(now)
		e.carryOut(now)
		e.wakeBefore(e.due())
	})
}

// hold calls what with the core locked, and then tells the outcome.
func (e *Engine) hold(what func(now presence.Instant)) {
	e.mu.Lock()
	now := e.now()
	defer e.letGo(now)
	what(now)
}

// letGo unlocks the core and then tells the news, so that nothing is encoded or written under
// the lock.
func (e *Engine) letGo(since presence.Instant) {
	told := len(e.news) > 0
	if told {
		e.outbox.add(e.news)
		clear(e.news)
		e.news = e.news[:0]
	}
	e.held.Observe((e.now().Mono - since.Mono).Seconds())
	e.mu.Unlock()
	if told {
		e.outbox.empty(e.sink, e.links)
	}
}

// Run lets time pass until ctx is done. Call it once.
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
		timer.Reset(e.Pass())
	}
}

// Pass does what is due, and returns for how long nothing will be. [Engine.Run] calls it.
func (e *Engine) Pass() time.Duration {
	e.mu.Lock()
	now := e.now()
	defer e.letGo(now)
	if late := now.Mono - e.waiting; e.waiting > 0 && late > 0 && e.waiting != math.MaxInt64 {
		e.late.Observe(late.Seconds())
	}
	_, more := e.core.Advance(now, advanceMax, &e.effects)
	e.carryOut(now)
	e.sealDue(now)
	e.sealPeople(now)
	if more {
		e.waiting = now.Mono
		return 0
	}
	e.waiting = e.due()
	return e.waiting - now.Mono
}

// Due returns when Pass has something to do next; [math.MaxInt64] stands for never.
func (e *Engine) Due() time.Duration {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.due()
}

func (e *Engine) due() time.Duration {
	due, ok := e.core.Due()
	if !ok {
		due = math.MaxInt64
	}
	if len(e.pending) > 0 {
		due = min(due, e.pending[0].sealAt)
	}
	for view := range e.people {
		if p := &e.people[view]; len(p.changes) > 0 {
			due = min(due, p.sealAt)
		}
	}
	return due
}

// wakeBefore wakes Run if it would sleep beyond due.
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
	if e.clock != nil {
		return e.clock()
	}
	now := time.Now()
	return presence.Instant{Mono: now.Sub(e.start), Wall: now}
}

func (e *Engine) carryOut(now presence.Instant) {
	if e.record != nil && len(e.effects.List)+len(e.effects.Touched) > 0 {
		e.record.Record(now.Wall, e.effects.List, e.effects.Touched)
	}
	e.spread(now)
	e.sealCalm(now)
}

// spread passes each effect to the part that handles it.
func (e *Engine) spread(now presence.Instant) {
	for _, effect := range e.effects.List {
		switch effect := effect.(type) {
		case presence.MemberChanged:
			e.note(now, effect)
		case presence.TypingChanged:
			e.noteTyping(now, effect)
		case presence.PersonChanged:
			e.notePerson(now, effect)
		case presence.AskBeat, presence.Cut, presence.WarnExpiry, presence.TakenOut, presence.OwnChanged, presence.InvitationAnswered, presence.InvitationsChanged, presence.PassEnded:
			e.news = append(e.news, effect)
		case presence.AskOpened:
			e.news = append(e.news, Asks{effect.Room, e.core.Asks(now, effect.Room)})
		case presence.AskAnswered:
			e.news = append(e.news, effect, Asks{effect.Room, e.core.Asks(now, effect.Room)})
		case presence.Settled:
			waiting, ok := e.settled[effect.Attempt]
			if !ok { // it was given
				e.news = append(e.news, effect)
				continue
			}
			e.news = append(e.news, answer{waiting, effect})
			delete(e.settled, effect.Attempt)
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

// Restore takes over what an earlier run has saved. Call it before anything else.
func (e *Engine) Restore(saved presence.Saved) error {
	e.mu.Lock()
	now := e.now()
	defer e.letGo(now)
	err := e.core.Restore(now, saved, &e.effects)
	if e.record != nil {
		e.record.Restored(now.Wall, e.effects.List, e.effects.Touched)
	}
	e.spread(now)
	e.wakeBefore(e.due())
	return err
}
