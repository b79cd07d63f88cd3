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
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// Links are the links of the service. Besides what the core wants done about them
// ([engine.Links]) they carry cues, and end what a removed person follows.
type Links interface {
	engine.Links
	// Offer sends a frame over a link, and tells whether it did: a link that is gone, or has
	// too much unread, goes without. It is called without locks.
	Offer(link presence.LinkID, frame []byte) bool
	// Removed ends what a person follows in a room, or with an empty room all their links.
	// It is called without locks, after the removal is in force.
	Removed(realm string, user presence.UserID, room presence.RoomName)
}

// Options are what a Realm is made of. Admission, Origins, the observers and Log may be nil.
type Options struct {
	Name      string
	Policy    *presence.Policy // must not be changed
	Links     Links
	Store     *records.Store
	Writer    *records.Writer
	Admission *admission.Client // is asked who may be in rooms; nil: grants alone decide
	Origins   []string          // of pages that may be clients, as in https://app.example; nil: any
	// Last is how the last run of the service ended, which decides how long those who were
	// here have been away.
	Last records.Run
	// Held is told for how long the core was held, Late how late something was done, and
	// FanOut how long a change took from its seal until it was handed to be written: all in
	// seconds.
	Held, Late, FanOut engine.Observer
	Log                *slog.Logger
}

// Realm is a world of people and rooms: its core, and what follows that. Nothing crosses
// from one to another. All methods are safe for concurrent use.
type Realm struct {
	name      string
	engine    *engine.Engine
	hub       *delivery.Hub
	store     *records.Store
	writer    *records.Writer
	links     Links
	admission *admission.Client
	origins   atomic.Pointer[[]string]

	stop    context.CancelFunc
	running sync.WaitGroup // what stop ends
}

// Open starts a realm with what it has on record. Close it.
func Open(o Options) (*Realm, error) {
	log := o.Log
	if log != nil {
		log = log.With("realm", o.Name)
	}
	r := &Realm{name: o.Name, store: o.Store, writer: o.Writer, links: o.Links, admission: o.Admission}
	r.SetOrigins(o.Origins)
	err := o.Writer.Record(o.Name, func(recorder engine.Recorder) (*engine.Engine, error) {
		r.hub = delivery.NewHub(delivery.Options{Policy: o.Policy, Delay: o.FanOut, Source: func(hub engine.Sink) delivery.Source {
			r.engine = engine.New(engine.Options{Policy: *o.Policy, Sink: hub, Links: o.Links, Recorder: recorder, Held: o.Held, Late: o.Late, Log: log})
			return r.engine
		}})
		return r.engine, r.restore(o.Last, log)
	})
	if err != nil {
		return nil, fmt.Errorf("the records of the realm %s: %w", o.Name, err)
	}
	ctx, stop := context.WithCancel(context.Background())
	r.stop = stop
	r.running.Go(func() { r.engine.Run(ctx) })
	return r, nil
}

// mostLastSeen is how many people's last-seen times the core knows from the start.
const mostLastSeen = 100_000

// restore brings back everybody who was here, the rooms that are declared, when others were
// last seen, and who was removed.
func (r *Realm) restore(last records.Run, log *slog.Logger) error {
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
		r.engine.Recall(engine.Subject{User: seen[i].User, View: presence.Full}, time.UnixMilli(seen[i].LastSeen))
		if open := seen[i].LastSeenOpen; open != 0 {
			r.engine.Recall(engine.Subject{User: seen[i].User, View: presence.Open}, time.UnixMilli(open))
		}
	}
	if err := r.engine.Restore(saved); err != nil {
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

// Close stops the realm's clock, and what its hub does by itself. Its links have been
// closed before.
func (r *Realm) Close() {
	r.hub.Close()
	r.stop()
	r.running.Wait()
}

// Name returns the realm's name.
func (r *Realm) Name() string { return r.name }

// SetOrigins says pages of which origins may be clients, as in https://app.example; nil
// stands for any.
func (r *Realm) SetOrigins(origins []string) { r.origins.Store(&origins) }

// Origins returns the origins whose pages may be clients; nil stands for any.
func (r *Realm) Origins() []string { return *r.origins.Load() }

func (r *Realm) allowsOrigin(origin string) bool {
	origins := r.Origins()
	return origins == nil || slices.Contains(origins, origin)
}

// allows tells whether a caller may be a client of the realm: a page of an origin that is
// allowed or of the service itself, or no page.
func (r *Realm) allows(c Caller) error {
	if c.Origin == "" || c.Own || r.allowsOrigin(c.Origin) {
		return nil
	}
	return &wire.Problem{Code: wire.CodeBadOrigin, Field: "Origin", Value: wire.Shorten(c.Origin),
		Detail: "pages of this origin may not be clients of the realm", Allowed: "the origins that the realm names"}
}

func (r *Realm) setPolicy(policy *presence.Policy) {
	r.hub.SetPolicy(policy)
	r.engine.SetPolicy(*policy)
}

// do tells the core. A link that is gone does not take back what it asked for, so there is
// no context.
func (r *Realm) do(in presence.Input) (presence.Reply, error) {
	return r.engine.Do(context.Background(), in)
}

// Apply gives the core what has become of a link: [presence.BeatWritten] and
// [presence.LinkLost]. The core refuses neither.
func (r *Realm) Apply(in presence.Input) { _, _ = r.do(in) }

// profiles returns what the directory has of people. Those whom it does not know, or all
// when it cannot be read, have none.
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

// keepTimeout is how long an answer waits for the records.
const keepTimeout = 5 * time.Second

// kept returns when everything that has happened is written. Its error is a [*wire.Problem].
func (r *Realm) kept(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, keepTimeout)
	defer cancel()
	if err := r.writer.Sync(ctx); err != nil {
		return problem.NotRecorded("it holds, but will not outlast a restart of the service until the records can be written", err)
	}
	return nil
}

// remove takes a person out of a room, or with an empty room out of the realm, and lets
// their tokens of before be refused. It is written first, so that it outlives whatever
// comes; and with it ends all that they follow there, over whatever link.
func (r *Realm) remove(user presence.UserID, room presence.RoomName) (at time.Time, err error) {
	at = time.Now().UTC().Truncate(time.Millisecond)
	if err := r.store.Remove(records.Removal{Realm: r.name, User: user, Room: room, At: at}); err != nil {
		return at, err
	}
	if _, err := r.do(presence.Remove{User: user, Room: room}); err != nil {
		return at, err
	}
	r.links.Removed(r.name, user, room)
	return at, nil
}
