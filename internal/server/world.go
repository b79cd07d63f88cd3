package server

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/gateway"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// world makes and ends realms. It is the [httpapi.World].
type world struct {
	config  Config
	store   *records.Store
	keys    *access.Keyring
	links   *gateway.Links
	realms  *gateway.Realms
	gateway *gateway.Gateway // set before the first realm is added over HTTP

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
	for name := range names {
		if err := w.begin(name); err != nil {
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
	return nil
}

// begin starts a realm: its core, with the removals that it has on record.
func (w *world) begin(name string) error {
	hub := delivery.NewHub(w.config.Policy)
	e := engine.New(engine.Options{Policy: *w.config.Policy, Sink: hub, Links: w.links, Log: w.config.Log.With("realm", name)})
	hub.Use(e)
	removals, err := w.store.Removals(name)
	if err != nil {
		return fmt.Errorf("read the removals of the realm %s: %w", name, err)
	}
	if w.config.Data != "" {
		n, err := restore(e, w.config.Data, name)
		if err != nil {
			return err
		}
		if n > 0 {
			w.config.Log.Info("sessions restored", "realm", name, "sessions", n)
		}
	}
	for _, r := range removals {
		if _, err := e.Do(context.Background(), presence.Refuse{User: r.User, Room: r.Room, At: r.At.UnixMilli()}); err != nil {
			return err
		}
	}
	settings := w.config.Realms[name]
	ctx, cancel := context.WithCancel(context.Background())
	var running sync.WaitGroup
	running.Go(func() { e.Run(ctx) })
	w.ends[name] = func() {
		cancel()
		running.Wait()
	}
	w.realms.Add(&gateway.Realm{Name: name, Engine: e, Hub: hub, Store: w.store, Origins: settings.Origins, Admission: settings.Admission})
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
	return w.begin(name)
}

// RemoveRealm ends a realm, with everybody in it, and deletes what is kept of it.
func (w *world) RemoveRealm(name string) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if name == access.Main {
		return &wire.Problem{Code: wire.CodeBadField, Field: "realm", Value: name, Detail: "the main realm stays", Allowed: "a realm that was added"}
	}
	err := w.store.RemoveRealm(name)
	if errors.Is(err, records.ErrNotFound) {
		return &wire.Problem{Code: wire.CodeUnknownRealm, Field: "realm", Value: wire.Shorten(name), Detail: "there is no realm of this name"}
	}
	if err != nil {
		return err
	}
	w.keys.Forget(name)
	w.realms.Remove(name)
	w.gateway.CloseRealm(name)
	w.ends[name]()
	delete(w.ends, name)
	return nil
}

// end stops the cores of all realms, and leaves their sessions for the next start.
func (w *world) end() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	var failed []error
	for _, realm := range w.realms.All() {
		w.ends[realm.Name]()
		if w.config.Data != "" {
			failed = append(failed, save(realm.Engine, w.config.Data, realm.Name))
		}
	}
	return errors.Join(failed...)
}
