package server

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/peers"
	"tovik.example/tovik/internal/cluster/stored"
	"tovik.example/tovik/internal/engine"
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
	guard    *access.Guard
	signIns  *access.SignIns
	realms   *realm.Realms
	gateway  *gateway.Gateway
	node     *node // of a cluster; nil: this process is alone

	mu       sync.Mutex // one change of realms at a time
	settings sync.Mutex // guards common, and what a reload changes of config
	common   *common    // in a cluster, goes before config; nil: alone, or not read yet
}

// newWorld makes the parts that hold realms, and connects them. startRealms adds the realms.
func newWorld(c Config, secure *certificate, store *records.Store, keys *access.Keyring, n *node) (*world, error) {
	w := &world{config: c, secure: secure, store: store, measures: httpapi.NewMeasures(), keys: keys, guard: new(access.Guard),
		signIns: access.NewSignIns(store, keys, c.Log), node: n}
	rows, err := w.openRecords()
	if err != nil {
		return nil, err
	}
	w.realms = realm.NewRealms(realm.RealmsOptions{Keys: keys, Guard: w.guard, Store: store, Writer: w.writer, AsksOthers: c.asksOthers(), Elsewhere: n != nil})
	w.gateway = gateway.New(gateway.Options{Realms: w.realms, Peers: w.others(), Limits: c.Limits, Log: c.Log})
	if n == nil {
		return w, nil
	}
	for _, l := range []records.Listener{w.hooks, keys, w.signIns, n} {
		store.Listen(l)
	}
	if err := n.begin(w, c.Data, rows); err != nil {
		return nil, err
	}
	return w, nil
}

// openRecords makes the writer and the hooks. In a service that is alone, hooks deliver what the writer has written. At a
// node they deliver what comes with the log, and openRecords returns the rows of the log.
func (w *world) openRecords() (rows *stored.Records, err error) {
	c := &w.config
	newHooks := func(outcomes hooks.Outcomes) (err error) {
		w.hooks, err = hooks.New(hooks.Options{Store: w.store, Outcomes: outcomes, Shared: w.node != nil, Log: c.Log, Private: c.PrivateHooks, Retries: c.HookRetries})
		return err
	}
	writing := records.WriterOptions{Store: w.store, Log: c.Log, Retention: c.Retention, Gaps: w.measures.Gaps}
	if w.node == nil {
		w.leaveLog()
		writing.Outbox = func(writer *records.Writer) (records.Outbox, error) { err := newHooks(writer); return w.hooks, err }
	} else {
		rows, err = stored.New(w.store, w.node.broker.Identity, cluster.NewFold(access.Main), func(r *stored.Records) (records.Deliverer, error) { err := newHooks(r); return w.hooks, err })
		if err != nil {
			return nil, err
		}
	}
	w.writer, err = records.NewWriter(writing)
	return rows, err
}

// leaveLog marks the records as those of a service that is alone.
func (w *world) leaveLog() {
	if were, err := w.store.LeaveLog(); err != nil {
		w.config.Log.Warn("the records could not be marked as those of a service that is alone", "error", err)
	} else if were {
		w.config.Log.Warn("the records are those of a cluster, and go on alone from here: this node can join it again with an empty data directory only")
	}
}

// others returns the other nodes; nil if the service is alone.
func (w *world) others() *peers.Peers {
	if w.node == nil {
		return nil
	}
	return w.node.peers
}

// api returns what the HTTP interface is made of.
func (w *world) api() httpapi.Options {
	c := &w.config
	o := httpapi.Options{Gateway: w.gateway, Realms: w.realms, Keys: w.keys, Guard: w.guard, SignIns: w.signIns, Hooks: w.hooks, Measures: w.measures, World: w, Peers: w.others(),
		Proxies: c.Proxies, HideDocs: c.HideDocs, RequestsPerSecond: c.RequestsPerSecond, Log: c.Log}
	if c.Practice {
		o.PracticeSecret = c.TokenSecret
	}
	return o
}

// startRealms starts every realm. A node waits for the others until waits is done. Key sets are fetched until ctx is done.
func (w *world) startRealms(waits, ctx context.Context) error {
	if w.node != nil {
		return w.awaitAll(waits, ctx)
	}
	return w.beginAll(ctx)
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
		if err := w.begin(name, realm.Options{Last: last}); err != nil {
			return err
		}
		if err := w.useKeys(ctx, name); err != nil {
			return err
		}
	}
	w.tellStart(last)
	return nil
}

// awaitAll waits for the realms of the cluster, until waits is done, and makes those of the configuration.
// Key sets are fetched until ctx is done.
func (w *world) awaitAll(waits, ctx context.Context) error {
	waits, cancel := context.WithTimeout(waits, joinIn)
	defer cancel()
	if err := w.node.await(waits, access.Main); err != nil {
		return err
	}
	if err := w.agree(waits); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(w.current().Realms)) {
		if _, err := w.realms.Get(name); err != nil {
			if err := w.node.makeRealm(waits, name); err != nil && !errors.Is(err, records.ErrExists) {
				return err
			}
		}
		if err := w.useKeys(ctx, name); err != nil {
			return err
		}
	}
	return nil
}

// useKeys takes over the keys of a realm that are in the configuration.
func (w *world) useKeys(ctx context.Context, name string) error {
	settings := w.current().Realms[name]
	for _, key := range settings.TokenKeys {
		key.Realm = name
		if err := w.keys.UseTokenKey(&key); err != nil {
			return err
		}
	}
	for _, set := range settings.KeySets {
		set.Realm = name
		if err := w.keys.UseKeySet(ctx, set, func(err error) { w.config.Log.Warn("a key set could not be fetched", "realm", name, "error", err) }); err != nil {
			return err
		}
	}
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
func (w *world) begin(name string, o realm.Options) error {
	settings := w.current().Realms[name]
	o.Name, o.Policy, o.Links, o.Store, o.Writer, o.Admission, o.Origins = name, w.policy(name), w.gateway, w.store, w.writer, settings.Admission, settings.Origins
	o.Held, o.Late, o.FanOut, o.Log = w.measures.Held, w.measures.Late, w.measures.FanOut, w.config.Log
	r, err := realm.Open(o)
	if err != nil {
		return err
	}
	w.realms.Add(r)
	return nil
}

// beginAt starts a realm of the cluster, whose core is at its owner.
func (w *world) beginAt(id cluster.Realm, name string) error {
	return w.begin(name, realm.Options{Core: func(sink engine.Sink, links engine.Links) realm.Elsewhere { return w.node.runner.Core(id, sink, links) }})
}

// current returns the configuration as it is now.
func (w *world) current() Config {
	w.settings.Lock()
	defer w.settings.Unlock()
	return w.config
}

// policy returns the policy of a realm that is in force.
func (w *world) policy(name string) *presence.Policy {
	w.settings.Lock()
	defer w.settings.Unlock()
	if w.common != nil {
		return w.common.policy(name)
	}
	return w.config.policy(name)
}

// retention returns how long records are kept.
func (w *world) retention() records.Retention {
	w.settings.Lock()
	defer w.settings.Unlock()
	if w.common != nil {
		return w.common.Retention
	}
	return w.config.Retention
}

// forget closes a realm that was removed.
func (w *world) forget(name string) {
	r, err := w.realms.Get(name)
	if err != nil {
		return
	}
	w.keys.Forget(name)
	w.hooks.Forget(name)
	w.realms.Remove(name)
	w.gateway.CloseRealm(name)
	r.Close()
}

// AddRealm makes a realm, durably.
func (w *world) AddRealm(name string) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if room, err := presence.ParseRoom(name); err != nil || len(room) > 64 {
		return &wire.Problem{Code: wire.CodeBadField, Field: "name", Value: wire.Shorten(name), Detail: "invalid name of a realm",
			Allowed: "1 to 64 bytes: words of letters, digits, - and _, joined by single dots"}
	}
	err := w.keepRealm(name)
	if errors.Is(err, records.ErrExists) || name == access.Main {
		return &wire.Problem{Code: wire.CodeExists, Field: "name", Value: name, Detail: "a realm of this name exists", Allowed: "another name"}
	}
	if err != nil {
		return err
	}
	if w.node != nil {
		return nil // the log has begun it
	}
	return w.begin(name, realm.Options{})
}

// keepRealm puts a realm on record.
func (w *world) keepRealm(name string) error {
	if w.node != nil {
		ctx, cancel := context.WithTimeout(context.Background(), orderIn)
		defer cancel()
		return w.node.makeRealm(ctx, name)
	}
	_, err := w.store.AddRealm(name)
	return err
}

// RemoveRealm removes a realm and everything in it.
func (w *world) RemoveRealm(name string) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if name == access.Main {
		return &wire.Problem{Code: wire.CodeBadField, Field: "realm", Value: name, Detail: "the main realm cannot be removed", Allowed: "a realm that was added"}
	}
	if _, err := w.realms.Get(name); err != nil {
		return err
	}
	if w.node != nil {
		if err := w.node.endRealm(name); err != nil && !errors.Is(err, records.ErrNotFound) {
			return err
		}
		return nil
	}
	w.forget(name)
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
