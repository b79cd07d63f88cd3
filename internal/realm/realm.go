package realm

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"tovik.example/tovik/internal/admission"
	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// Links are the links of the service. Besides carrying out the core's orders
// ([engine.Links]), they deliver cues, and stop what a removed person follows.
type Links interface {
	engine.Links
	// Offer sends a frame over a link, and reports whether it did: not if the link is gone or
	// has too much unread data. It is called without locks.
	Offer(link presence.LinkID, frame []byte) bool
	// Removed stops what a person follows in a room; for an empty room it closes all their
	// links. Links with tokens that were issued later stay, as a node may hear of a removal late.
	// It is called without locks, after the removal is in force.
	Removed(realm string, user presence.UserID, room presence.RoomName, until time.Time)
}

// Options are the parts and settings of a Realm. Admission, Origins, the observers and Log may
// be nil.
type Options struct {
	Name      string
	Policy    *presence.Policy // must not be changed
	Links     Links
	Store     *records.Store
	Writer    *records.Writer
	Admission *admission.Client // asked who may be in rooms; nil: only grants decide
	Origins   []string          // of pages that may be clients, as in https://app.example; nil: any
	// Core, if it is not nil, returns the realm's core on another node, which tells a sink and links. Then
	// the realm restores and records nothing: that is done where its core is. The changes of Store go
	// through the same log.
	Core func(engine.Sink, engine.Links) Elsewhere
	// Last says how the previous run of the service ended, and so since when its sessions have
	// had no link.
	Last records.Run
	// Held observes how long the core was locked, Late how late a timer ran, and FanOut the
	// time from the seal of a change until it was queued for writing, all in seconds.
	Held, Late, FanOut engine.Observer
	Log                *slog.Logger
}

// Realm has its own people, rooms and keys, separate from all other realms. It owns a core and
// what is driven by it. All methods are safe for concurrent use.
type Realm struct {
	name      string
	core      Core
	elsewhere Elsewhere // the core, if it may be on another node; else nil
	hub       *delivery.Hub
	store     *records.Store
	writer    *records.Writer
	links     Links
	admission *admission.Client
	origins   atomic.Pointer[[]string]
	early     early // tokens
	policy    atomic.Pointer[presence.Policy]
	studying  chan struct{} // holds one: a study of the timings is running

	stop    context.CancelFunc
	running sync.WaitGroup // what Close waits for
}

// Open starts a realm from its records. Close it.
func Open(o Options) (*Realm, error) {
	log := o.Log
	if log != nil {
		log = log.With("realm", o.Name)
	}
	r := &Realm{name: o.Name, store: o.Store, writer: o.Writer, links: o.Links, admission: o.Admission, studying: make(chan struct{}, 1)}
	r.SetOrigins(o.Origins)
	r.policy.Store(o.Policy)
	ctx, stop := context.WithCancel(context.Background())
	r.stop = stop
	if o.Core != nil {
		r.hub = delivery.NewHub(delivery.Options{Policy: o.Policy, Delay: o.FanOut, Source: func(hub engine.Sink) delivery.Source {
			r.elsewhere = o.Core(hub, linksOf{o.Links, o.Name})
			r.core = r.elsewhere
			return r.core
		}})
		return r, nil
	}
	var e *engine.Engine
	err := o.Writer.Record(o.Name, func(recorder engine.Recorder) (*engine.Engine, error) {
		r.hub = delivery.NewHub(delivery.Options{Policy: o.Policy, Delay: o.FanOut, Source: func(hub engine.Sink) delivery.Source {
			e = engine.New(engine.Options{Policy: *o.Policy, Sink: hub, Links: o.Links, Recorder: recorder, Held: o.Held, Late: o.Late, Log: log})
			r.core = e
			return e
		}})
		return e, r.restore(e, o.Last, log)
	})
	if err != nil {
		stop()
		return nil, fmt.Errorf("the records of the realm %s: %w", o.Name, err)
	}
	r.running.Go(func() { e.Run(ctx) })
	return r, nil
}

// linksOf are the links of a realm whose core is elsewhere.
type linksOf struct {
	Links
	realm string
}

// PersonRemoved ends what a removed person follows here. The removal may have come to any node.
func (l linksOf) PersonRemoved(removed presence.PersonRemoved) {
	l.Removed(l.realm, removed.User, removed.Room, time.UnixMilli(removed.Refused))
}

// act notes in the journal what an operator did.
func (r *Realm) act(e journal.Entry) {
	if r.elsewhere == nil {
		r.writer.Act(e)
		return
	}
	e.At, e.Open = time.Now().UnixMilli(), true
	r.running.Go(func() { _ = r.store.Act(e) }) // the action itself has been answered
}

// Answered calls do, and returns an error if it asked the core something and had no answer.
func (r *Realm) Answered(do func() error) error {
	if r.elsewhere == nil {
		return do()
	}
	before := r.elsewhere.Unanswered()
	err := do()
	if r.elsewhere.Unanswered() != before {
		return engine.ErrNotReady
	}
	return err
}

// mostLastSeen is the number of last-seen times that the core is started with.
const mostLastSeen = 100_000

// restore gives the core the sessions, declared rooms, last-seen times and removals on record.
func (r *Realm) restore(e *engine.Engine, last records.Run, log *slog.Logger) error {
	removals, err := r.store.Removals(r.name)
	if err != nil {
		return err
	}
	people, err := r.store.SavedPeople(r.name)
	if err != nil {
		return err
	}
	rooms, err := r.store.Rooms(r.name)
	if err != nil {
		return err
	}
	saved := presence.Saved{Version: presence.SavedVersion, At: last.Mark, People: people}
	if last.Stopped == 0 {
		saved.Mark = last.Mark
	}
	sessions := 0
	for i := range people {
		sessions += len(people[i].Sessions)
	}
	for _, room := range rooms {
		saved.Declared = append(saved.Declared, room.Room)
	}
	seen, err := r.store.LastSeen(r.name, mostLastSeen)
	if err != nil {
		return err
	}
	for i := range seen {
		e.Recall(engine.Subject{User: seen[i].User, View: presence.Full}, time.UnixMilli(seen[i].LastSeen))
		if open := seen[i].LastSeenOpen; open != 0 {
			e.Recall(engine.Subject{User: seen[i].User, View: presence.Open}, time.UnixMilli(open))
		}
	}
	if err := e.Restore(saved); err != nil {
		return err
	}
	if sessions > 0 && log != nil {
		log.Info("sessions restored", "sessions", sessions)
	}
	for _, removal := range removals {
		if _, err := r.do(presence.Refuse{User: removal.User, Room: removal.Room, At: removal.At.UnixMilli()}); err != nil {
			return err
		}
	}
	return nil
}

// Close stops the realm's timers and its hub. Close its links first.
func (r *Realm) Close() {
	r.hub.Close()
	r.stop()
	r.running.Wait()
}

// Name returns the realm's name.
func (r *Realm) Name() string { return r.name }

// SetOrigins sets the origins whose pages may be clients, as in https://app.example; nil
// allows all.
func (r *Realm) SetOrigins(origins []string) { r.origins.Store(&origins) }

// Origins returns the origins whose pages may be clients; nil means all.
func (r *Realm) Origins() []string { return *r.origins.Load() }

func (r *Realm) allowsOrigin(origin string) bool {
	origins := r.Origins()
	return origins == nil || slices.Contains(origins, origin)
}

// allows reports whether a caller may be a client of the realm: it is no page, a page of the
// service itself, or a page of an allowed origin.
func (r *Realm) allows(c Caller) error {
	if c.Origin == "" || c.Own || r.allowsOrigin(c.Origin) {
		return nil
	}
	return &wire.Problem{Code: wire.CodeBadOrigin, Field: "Origin", Value: wire.Shorten(c.Origin),
		Detail: "pages of this origin may not be clients of the realm", Allowed: "the origins that the realm names"}
}

// Policy returns the policy in force. It must not be changed.
func (r *Realm) Policy() *presence.Policy { return r.policy.Load() }

// SetPolicy replaces the policy. The new one must not be changed afterwards.
func (r *Realm) SetPolicy(policy *presence.Policy) {
	r.policy.Store(policy)
	r.hub.SetPolicy(policy)
	r.core.SetPolicy(*policy)
}

// do gives the core an input. It has no context, because a link that ends does not take back
// what it asked for.
func (r *Realm) do(in presence.Input) (presence.Reply, error) {
	return r.core.Do(context.Background(), in)
}

// Apply gives the core news of a link, [presence.BeatWritten] or [presence.LinkLost], which it
// never refuses.
func (r *Realm) Apply(in presence.Input) { _, _ = r.do(in) }

// profiles returns the profiles of people from the directory. People who are not in it have
// none; neither has anybody if it cannot be read.
func (r *Realm) profiles(ctx context.Context, users []presence.UserID) map[presence.UserID]presence.Profile {
	known, err := r.store.People(ctx, records.PeopleQuery{Realm: r.name, Users: users, Limit: len(users)})
	profiles := make(map[presence.UserID]presence.Profile, len(known))
	if err != nil {
		return profiles
	}
	for i := range known {
		profiles[known[i].User] = presence.Profile{Name: known[i].Name, Picture: known[i].Picture}
	}
	return profiles
}

// keepTimeout limits how long an answer waits for the records.
const keepTimeout = 5 * time.Second

// kept waits until everything that has happened is written. Its error is a [*wire.Problem].
func (r *Realm) kept(ctx context.Context) error {
	if r.elsewhere != nil {
		return nil // the core has answered, so it is
	}
	ctx, cancel := context.WithTimeout(ctx, keepTimeout)
	defer cancel()
	if err := r.writer.Sync(ctx); err != nil {
		return problem.NotRecorded("it holds, but will not outlast a restart of the service until the records can be written", err)
	}
	return nil
}

// remove removes a person from a room, or for an empty room from the realm. It refuses their
// earlier tokens and stops all that they follow there, over any link. The removal is written
// first, so that it survives a crash.
func (r *Realm) remove(user presence.UserID, room presence.RoomName, by string) (at time.Time, err error) {
	at = time.Now().UTC().Truncate(time.Millisecond)
	early := r.early.of(user)
	in := presence.Remove{User: user, By: by, Room: room, Issued: max(0, early.UnixMilli())}
	if r.elsewhere != nil { // which writes and tells it, too
		_, err = r.do(in)
		return at, err
	}
	for _, issued := range []time.Time{early, r.core.Issued(user)} {
		if issued.After(at) {
			at = issued
		}
	}
	if err := r.store.Remove(records.Removal{Realm: r.name, User: user, Room: room, At: at}); err != nil {
		return at, err
	}
	if _, err := r.do(in); err != nil {
		return at, err
	}
	r.links.Removed(r.name, user, room, at)
	return at, nil
}
