package server

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/gateway"
	"tovik.example/tovik/internal/hooks"
	"tovik.example/tovik/internal/httpapi"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// world makes and removes realms. It is the [httpapi.World].
type world struct {
	config   Config // of which a reload changes the policy and what realms are told
	secure   *certificate
	store    *records.Store
	writer   *records.Writer
	hooks    *hooks.Dispatcher
	measures *httpapi.Measures
	keys     *access.Keyring
	realms   *realm.Realms
	gateway  *gateway.Gateway

	mu sync.Mutex // one change of realms at a time
}

// beginAll starts every realm: the main one, those on record, and those of the configuration.
// Key sets are fetched until ctx is done.
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
			if err := w.keys.UseKeySet(ctx, set, func(err error) { w.config.Log.Warn("a key set could not be fetched", "realm", name, "error", err) }); err != nil {
				return err
			}
		}
	}
	w.tellStart(last)
	return nil
}

// tellStart writes into the journals how the last run ended, and how long ago.
func (w *world) tellStart(last records.Run) {
	how, away := "first", time.Duration(0)
	if last.ID != 0 {
		how, away = "restart", time.Since(time.UnixMilli(last.Mark))
		if last.Stopped == 0 {
			how = "crash"
		}
	}
	w.writer.Note(journal.ServiceStarted, how, away)
}

// begin starts a realm with what it has on record, however the last run ended.
func (w *world) begin(name string, last records.Run) error {
	settings := w.config.Realms[name]
	r, err := realm.Open(realm.Options{
		Name: name, Policy: w.config.policy(name), Links: w.gateway, Store: w.store, Writer: w.writer, Admission: settings.Admission, Origins: settings.Origins,
		Last: last, Held: w.measures.Held, Late: w.measures.Late, FanOut: w.measures.FanOut, Log: w.config.Log,
	})
	if err != nil {
		return err
	}
	w.realms.Add(r)
	return nil
}

// AddRealm makes a realm, durably.
func (w *world) AddRealm(name string) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if room, err := presence.ParseRoom(name); err != nil || len(room) > 64 {
		return &wire.Problem{Code: wire.CodeBadField, Field: "name", Value: wire.Shorten(name), Detail: "invalid name of a realm",
			Allowed: "1 to 64 bytes: words of letters, digits, - and _, joined by single dots"}
	}
	_, err := w.store.AddRealm(name)
	if errors.Is(err, records.ErrExists) || name == access.Main {
		return &wire.Problem{Code: wire.CodeExists, Field: "name", Value: name, Detail: "a realm of this name exists", Allowed: "another name"}
	}
	if err != nil {
		return err
	}
	return w.begin(name, records.Run{})
}

// RemoveRealm removes a realm and everything in it.
func (w *world) RemoveRealm(name string) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if name == access.Main {
		return &wire.Problem{Code: wire.CodeBadField, Field: "realm", Value: name, Detail: "the main realm cannot be removed", Allowed: "a realm that was added"}
	}
	r, err := w.realms.Get(name)
	if err != nil {
		return err
	}
	w.keys.Forget(name)
	w.hooks.Forget(name)
	w.realms.Remove(name)
	w.gateway.CloseRealm(name)
	r.Close()
	if err := w.writer.End(context.Background(), name); err != nil {
		w.config.Log.Warn("writing the records failed", "error", err)
	}
	if err := w.store.RemoveRealm(name); err != nil && !errors.Is(err, records.ErrNotFound) {
		return err
	}
	return nil
}

// end stops all realms.
func (w *world) end() {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, r := range w.realms.All() {
		r.Close()
	}
}
