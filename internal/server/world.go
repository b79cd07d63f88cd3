package server

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/gateway"
	"tovik.example/tovik/internal/hooks"
	"tovik.example/tovik/internal/httpapi"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// world makes and ends realms. It is the [httpapi.World].
type world struct {
	config   Config // of which a reload changes the policy and what realms are told
	secure   *certificate
	store    *records.Store
	writer   *records.Writer
	hooks    *hooks.Dispatcher
	measures *httpapi.Measures
	keys     *access.Keyring
	links    *gateway.Links
	realms   *gateway.Realms
	gateway  *gateway.Gateway // set before the first realm is added over HTTP

	mu   sync.Mutex // one change of realms at a time
	ends map[string]func()
}

// beginAll starts every realm: the main one, those on record, and those that the
// configuration names. Key sets are fetched until ctx is over.
func (w *world) beginAll(ctx context.Context) error {
	kept, err := w.store.Realms()
	if err != nil {
		return err
	}
	names := map[string]bool{access.Main: true}
	for _, realm := range kept {
		names[realm.Name] = true
	}
	for _, name := range slices.Sorted(maps.Keys(w.config.Realms)) {
		if !names[name] {
			if _, err := w.store.AddRealm(name); err != nil {
				return err
			}
			names[name] = true
		}
	}
	last, err := w.store.LastRun()
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if err := w.begin(name, last); err != nil {
			return err
		}
		for _, key := range w.config.Realms[name].TokenKeys {
			key.Realm = name
			if err := w.keys.UseTokenKey(&key); err != nil {
				return err
			}
		}
		for _, set := range w.config.Realms[name].KeySets {
			set.Realm = name
			if err := w.keys.UseKeySet(ctx, set, func(err error) { w.config.Log.Warn("a key set", "realm", name, "error", err) }); err != nil {
				return err
			}
		}
	}
	w.tellStart(last)
	return nil
}

// tellStart writes into the journals how the service had ended, and how long ago.
func (w *world) tellStart(last records.Run) {
	how, away := "first", time.Duration(0)
	if last.ID != 0 {
		how, away = "restart", time.Since(time.UnixMilli(last.Mark))
		if last.Stopped == 0 {
			how = "crash"
		}
	}
	w.writer.Note(records.ServiceStarted, how, away)
}

// mostLastSeen is of how many a realm's engine knows from the start when they were last
// seen.
const mostLastSeen = 100_000

// begin starts a realm: its core, with what it has on record, whatever way the last run
// of the service had ended.
func (w *world) begin(name string, last records.Run) error {
	hub := delivery.NewHub(w.config.Policy)
	recorder := w.writer.Recorder(name)
	e := engine.New(engine.Options{Policy: *w.config.Policy, Sink: hub, Links: w.links, Recorder: recorder, Held: w.measures.Held, Late: w.measures.Late, Log: w.config.Log.With("realm", name)})
	hub.Use(e)
	hub.Observe(w.measures.FanOut)
	recorder.Use(e)
	removals, err := w.store.Removals(name)
	if err != nil {
		return fmt.Errorf("read the removals of the realm %s: %w", name, err)
	}
	if err := w.restore(e, name, last); err != nil {
		return fmt.Errorf("the records of the realm %s: %w", name, err)
	}
	for _, r := range removals {
		if _, err := e.Do(context.Background(), presence.Refuse{User: r.User, Room: r.Room, At: r.At.UnixMilli()}); err != nil {
			return err
		}
	}
	if err := w.writer.Begin(recorder); err != nil {
		return fmt.Errorf("the headcounts of the realm %s: %w", name, err)
	}
	settings := w.config.Realms[name]
	ctx, cancel := context.WithCancel(context.Background())
	var running sync.WaitGroup
	running.Go(func() { e.Run(ctx) })
	w.ends[name] = func() {
		hub.Close()
		cancel()
		running.Wait()
	}
	realm := &gateway.Realm{Name: name, Engine: e, Hub: hub, Store: w.store, Writer: w.writer, Admission: settings.Admission}
	realm.SetOrigins(settings.Origins)
	w.realms.Add(realm)
	return nil
}

// restore brings back everybody who was here, the rooms that are declared, and when
// others were last seen.
func (w *world) restore(e *engine.Engine, name string, last records.Run) error {
	people, err := w.store.SavedPeople(name)
	if err != nil {
		return err
	}
	rooms, err := w.store.Rooms(name)
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
	seen, err := w.store.LastSeen(name, mostLastSeen)
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
	if sessions > 0 {
		w.config.Log.Info("sessions restored", "realm", name, "sessions", sessions)
	}
	return nil
}

// AddRealm makes a realm that stays.
func (w *world) AddRealm(name string) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if room, err := presence.ParseRoom(name); err != nil || len(room) > 64 {
		return &wire.Problem{Code: wire.CodeBadField, Field: "name", Value: wire.Shorten(name), Detail: "a realm cannot have this name",
			Allowed: "1 to 64 bytes: words of letters, digits, - and _, joined by single dots"}
	}
	_, err := w.store.AddRealm(name)
	if errors.Is(err, records.ErrExists) || name == access.Main {
		return &wire.Problem{Code: wire.CodeExists, Field: "name", Value: name, Detail: "there is a realm of this name", Allowed: "another name"}
	}
	if err != nil {
		return err
	}
	return w.begin(name, records.Run{})
}

// RemoveRealm ends a realm, with everybody in it, and deletes what is kept of it.
func (w *world) RemoveRealm(name string) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if name == access.Main {
		return &wire.Problem{Code: wire.CodeBadField, Field: "realm", Value: name, Detail: "the main realm stays", Allowed: "a realm that was added"}
	}
	if _, err := w.realms.Get(name); err != nil {
		return err
	}
	w.keys.Forget(name)
	w.hooks.Forget(name)
	w.realms.Remove(name)
	w.gateway.CloseRealm(name)
	if end := w.ends[name]; end != nil {
		end()
		delete(w.ends, name)
	}
	if err := w.writer.End(context.Background(), name); err != nil {
		w.config.Log.Warn("what waits to be written", "error", err)
	}
	if err := w.store.RemoveRealm(name); err != nil && !errors.Is(err, records.ErrNotFound) {
		return err
	}
	return nil
}

// end stops the cores of all realms.
func (w *world) end() {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, end := range w.ends {
		end()
	}
}
