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
	"log/slog"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"tovik.example/tovik/internal/presence"
)

// DefaultWindow is how long the changes of a busy room are gathered before they are sealed
// together. A room is calm, and its next change is sealed at once, when its last seal is one
// window ago, or two if that seal had several changes.
const DefaultWindow = 20 * time.Millisecond

// advanceMax limits how many timers fire under one hold of the lock.
const advanceMax = 1000

// Sink takes what others see, sealed. The contract of an implementation:
//   - it is called with the engine's lock held, in the order of sealing;
//   - it never blocks and never calls the engine;
//   - it may keep what it is given, and changes nothing in it;
//   - a batch with the revision of the one before has nothing in it: nothing came of what
//     [Engine.Unsealed] told of.
type Sink interface {
	Take(Batch)
	TakeTypists(Typists)
	TakeSight(Sight)
}

// Links carries out what the core wants done about links. Its methods are
// called with the engine's lock held; they never block and never call the
// engine. A link that is gone is no error.
type Links interface {
	// AskBeat writes a beat request, and then gives the engine a
	// [presence.BeatWritten].
	AskBeat(presence.LinkID)
	// Cut closes the connection, telling the client the reason.
	Cut(presence.Cut)
	// TakenOut ends what the link follows of a room, and tells the client.
	TakenOut(presence.TakenOut)
	// OwnChanged tells the clients what their person has set.
	OwnChanged(presence.OwnChanged)
	// WarnExpiry tells the client when its token expires.
	WarnExpiry(link presence.LinkID, expires time.Time)
}

// Recorder keeps what happens. Its methods are called with the engine's lock held, in order.
// They never block and never call the engine. They may keep the effects but not the slices, and
// must not change them.
type Recorder interface {
	// Record takes what has just happened, and of whom there is something new to save.
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
	// Held is told, in seconds, of each time for which the engine was held, and Late of
	// each by which something was done late. Nil stands for nobody.
	Held, Late Observer
	Log        *slog.Logger // nil stands for none; debug lines on sessions
	// NewRun makes the runs of revisions of a view, each once; nil stands for random
	// ones. A run must tell nothing of what happened before.
	NewRun func(presence.View) string
}

// Engine is a core with a lock and a clock. All methods are safe for concurrent use.
type Engine struct {
	sink   Sink
	links  Links
	record Recorder // nil: none
	window time.Duration
	newRun func(presence.View) string
	held   Observer
	late   Observer
	log    *slog.Logger
	start  time.Time
	kick   chan struct{} // holds one: time must be looked at anew; a second says nothing more

	mu      sync.Mutex
	core    *presence.Core
	effects presence.Effects
	feeds   map[Topic]*feed
	pending []*feed   // feeds of busy rooms with unsealed changes, in order of their first
	calm    []*feed   // feeds of calm rooms with changes that are sealed before the lock is let go
	people  [2]people // by view: unsealed changes of people as such
	spare   []*unsealed
	waiting time.Duration                    // what Run waits for
	attempt uint64                           // of the last hello
	settled map[uint64]chan presence.Settled // the hellos that wait for a probe; each holds one
}

// New returns an engine with an empty core. No timer fires until [Engine.Run] is called.
func New(o Options) *Engine {
	if o.Window == 0 {
		o.Window = DefaultWindow
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
	return &Engine{
		sink: o.Sink, links: o.Links, record: o.Recorder, window: o.Window, newRun: o.NewRun, held: o.Held, late: o.Late, log: o.Log,
		start:   time.Now(),
		kick:    make(chan struct{}, 1),
		core:    presence.NewCore(o.Policy),
		feeds:   map[Topic]*feed{},
		settled: map[uint64]chan presence.Settled{},
		waiting: math.MaxInt64,
	}
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
	reply, waiting, err := e.Begin(in)
	if waiting == nil {
		return reply, err
	}
	return waiting.Answer(ctx)
}

// Waiting is a hello that waits for a probe of an older link.
type Waiting struct {
	engine  *Engine
	session presence.SessionID
	attempt uint64
	settled chan presence.Settled // holds one
}

// Answer waits for the answer to the hello, and withdraws the hello if ctx is done first. Call
// it once.
func (w *Waiting) Answer(ctx context.Context) (presence.Reply, error) {
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
func (e *Engine) withdraw(w *Waiting) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.settled[w.attempt] == nil {
		return false
	}
	delete(e.settled, w.attempt)
	now := e.now()
	_, _ = e.core.Apply(now, presence.Withdraw{Session: w.session, Attempt: w.attempt}, &e.effects) // never refused
	e.carryOut(now)
	return true
}

// Begin is Do for a caller that has other things to do while a hello waits for a probe: it then
// returns what to wait for instead of a reply.
func (e *Engine) Begin(in presence.Input) (presence.Reply, *Waiting, error) {
	reply, settled, err := e.apply(in)
	if settled == nil {
		return reply, nil, err
	}
	return presence.Reply{}, settled, nil
}

func (e *Engine) apply(in presence.Input) (presence.Reply, *Waiting, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if hello, ok := in.(presence.Hello); ok {
		e.attempt++
		hello.Attempt = e.attempt
		in = hello
	}
	now := e.now()
	defer e.holds(now)
	reply, err := e.core.Apply(now, in, &e.effects)
	var waiting *Waiting
	if reply.Pending {
		waiting = &Waiting{engine: e, session: in.(presence.Hello).Session, attempt: e.attempt, settled: make(chan presence.Settled, 1)}
		e.settled[e.attempt] = waiting.settled
	}
	e.carryOut(now)
	e.wakeBefore(e.due())
	return reply, waiting, err
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
		timer.Reset(e.pass())
	}
}

// pass does what is due, and returns how long nothing will be.
func (e *Engine) pass() time.Duration {
	e.mu.Lock()
	defer e.mu.Unlock()
	now := e.now()
	defer e.holds(now)
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

// holds reports how long the engine has been held.
func (e *Engine) holds(since presence.Instant) {
	e.held.Observe((time.Since(e.start) - since.Mono).Seconds())
}

// Size returns how many sessions, people and rooms there are, in the full view.
func (e *Engine) Size() presence.Size {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Size()
}

func (e *Engine) now() presence.Instant {
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

// spread passes the effects on.
func (e *Engine) spread(now presence.Instant) {
	for _, effect := range e.effects.List {
		switch effect := effect.(type) {
		case presence.MemberChanged:
			e.note(now, effect)
		case presence.TypingChanged:
			e.noteTyping(now, effect)
		case presence.PersonChanged:
			e.notePerson(now, effect)
		case presence.AskBeat:
			e.links.AskBeat(effect.Link)
		case presence.Cut:
			e.links.Cut(effect)
		case presence.WarnExpiry:
			e.links.WarnExpiry(effect.Link, time.UnixMilli(effect.Expires))
		case presence.TakenOut:
			e.links.TakenOut(effect)
		case presence.OwnChanged:
			e.links.OwnChanged(effect)
		case presence.Settled:
			e.settled[effect.Attempt] <- effect
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

// Unsealed tells whether a topic has changes that are not sealed yet. Waiting for the seal does
// not hasten it: what a newcomer gets depends on the room, not on its followers.
func (e *Engine) Unsealed(topic Topic) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	f := e.feeds[topic]
	return f != nil && f.waiting
}

// Sealing returns a channel that closes when the pending changes of a topic are sealed; nil if
// there are none.
func (e *Engine) Sealing(topic Topic) <-chan struct{} {
	e.mu.Lock()
	defer e.mu.Unlock()
	f := e.feeds[topic]
	if f == nil || !f.waiting {
		return nil
	}
	if f.waited == nil {
		f.waited = make(chan struct{})
	}
	return f.waited
}

// Sealed returns a topic at its newest revision, without changes that are not sealed yet.
func (e *Engine) Sealed(topic Topic) Snapshot {
	e.mu.Lock()
	defer e.mu.Unlock()
	f := e.feeds[topic]
	if f == nil {
		return e.whole(topic, Revision{})
	}
	s := e.whole(topic, f.revision)
	if f.unsealed == nil || len(f.unsealed.changes) == 0 {
		return s
	}
	s.Members = slices.DeleteFunc(s.Members, func(m presence.Member) bool { _, changed := f.unsealed.index[m.User]; return changed })
	for _, c := range f.unsealed.changes {
		if c.before.Sessions > 0 {
			s.Members = append(s.Members, c.before)
		}
	}
	slices.SortFunc(s.Members, func(a, b presence.Member) int { return strings.Compare(string(a.User), string(b.User)) })
	s.Count = presence.CountOf(s.Members)
	s.Exists = s.Exists || len(s.Members) > 0
	return s
}

// SnapshotNow returns a topic as it is now: unsealed changes are sealed first. It is for
// operators, who are few and see everything.
func (e *Engine) SnapshotNow(topic Topic) Snapshot {
	e.mu.Lock()
	defer e.mu.Unlock()
	var revision Revision
	if f := e.feeds[topic]; f != nil {
		if f.waiting {
			e.sealNow(e.now(), f)
		}
		revision = f.revision
	}
	return e.whole(topic, revision)
}

func (e *Engine) whole(topic Topic, revision Revision) Snapshot {
	return Snapshot{Topic: topic, Revision: revision, Members: e.core.Members(topic.Room, topic.View),
		Count: e.core.Count(topic.Room, topic.View), Exists: e.core.Exists(topic.Room, topic.View)}
}

// Count returns how many are in a topic now. It returns false if the room does not exist in the
// view.
func (e *Engine) Count(topic Topic) (presence.Count, bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Count(topic.Room, topic.View), e.core.Exists(topic.Room, topic.View)
}

// Links returns the links of the members of a room now, and of each whether the view sees its
// person there.
func (e *Engine) Links(room presence.RoomName, view presence.View) []presence.Carried {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.LinksIn(room, view)
}

// Tally returns the present count of a topic with its newest revision. The count includes
// changes that are not sealed yet; they will get another revision.
func (e *Engine) Tally(topic Topic) (presence.Count, Revision) {
	e.mu.Lock()
	defer e.mu.Unlock()
	var revision Revision
	if f := e.feeds[topic]; f != nil {
		revision = f.revision
	}
	return e.core.Count(topic.Room, topic.View), revision
}

// Session returns what is known about a session, and its person. It returns false for a wrong
// key as for an unknown session.
func (e *Engine) Session(session presence.SessionID, key string) (presence.Evidence, presence.UserID, bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Session(e.now(), session, key)
}

// Refused returns for what a person's token is refused, by its time of issue: for the realm, or
// for rooms.
func (e *Engine) Refused(user presence.UserID, issued time.Time) (altogether bool, rooms []presence.RoomName) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Refused(user, issued.UnixMilli())
}

// LinkOf returns the link of a session now.
func (e *Engine) LinkOf(session presence.SessionID, view presence.View) (presence.Carried, bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.LinkOf(session, view)
}

// Near tells whether a view sees a person in a room in which another one is.
func (e *Engine) Near(user, other presence.UserID, view presence.View) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Near(user, other, view)
}

// Cue returns over which links a cue goes (see [presence.Core.Cue]).
func (e *Engine) Cue(from presence.LinkID, to presence.CueTo, may []presence.Pattern) ([]presence.Carried, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Cue(from, to, may)
}

// RoomsOver returns the rooms that the session of a link is in; none if the link is not its
// present one.
func (e *Engine) RoomsOver(link presence.LinkID) []presence.RoomName {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.RoomsOver(link)
}

// Over notes a sign of life over a link, and returns the rooms of its session. Its error is a
// [*presence.Refusal]: the link is not the session's present one.
func (e *Engine) Over(link presence.LinkID) ([]presence.RoomName, error) {
	if _, err := e.Do(context.Background(), presence.Beat{From: link}); err != nil {
		return nil, err
	}
	return e.RoomsOver(link), nil
}

// RoomsOf returns the rooms in which a view sees a person now.
func (e *Engine) RoomsOf(user presence.UserID, view presence.View) []presence.RoomName {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.RoomsOf(user, view)
}

// LinksOf returns the links of a person now.
func (e *Engine) LinksOf(user presence.UserID, view presence.View) []presence.Carried {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.LinksOf(user, view)
}

// SavePeople calls each with what a restart needs to know of people; of an unknown person that
// is nothing. Which is called with the lock held, so that nothing happens between its answer and
// what is saved.
func (e *Engine) SavePeople(which func() []presence.UserID, each func(presence.SavedPerson)) {
	e.mu.Lock()
	defer e.mu.Unlock()
	now := e.now()
	for _, user := range which() {
		saved, _ := e.core.SavePerson(now, user)
		each(saved)
	}
}

// Restore takes over what an earlier run has saved. Call it before anything else.
func (e *Engine) Restore(saved presence.Saved) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	now := e.now()
	err := e.core.Restore(now, saved, &e.effects)
	if e.record != nil {
		e.record.Restored(now.Wall, e.effects.List, e.effects.Touched)
	}
	e.spread(now)
	e.wakeBefore(e.due())
	return err
}

// Known returns the people of whom there is something to save, in no particular order.
func (e *Engine) Known() []presence.UserID {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Known()
}

// Recall sets when somebody was last seen, before anything is heard of them.
func (e *Engine) Recall(subject Subject, lastSeen time.Time) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.people[subject.View].gone.recall(subject.User, lastSeen.UnixMilli())
}

// Rooms returns the counts of all rooms that exist in a view.
func (e *Engine) Rooms(view presence.View) map[presence.RoomName]presence.Count {
	e.mu.Lock()
	defer e.mu.Unlock()
	names := e.core.Rooms(view)
	rooms := make(map[presence.RoomName]presence.Count, len(names))
	for _, name := range names {
		rooms[name] = e.core.Count(name, view)
	}
	return rooms
}

// Explain explains how a person is shown, and with a room why they are in it or not.
func (e *Engine) Explain(user presence.UserID, room presence.RoomName) presence.Explanation {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Explain(e.now(), user, room)
}

// MembersNow returns the members of a room now, sealed or not.
func (e *Engine) MembersNow(room presence.RoomName) []presence.Member {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.core.Members(room, presence.Full)
}
