package hooks

import (
	"errors"
	"fmt"

	"tovik.example/tovik/internal/records"
)

// hook is an active hook.
type hook struct {
	records.Hook
	secrets  [][]byte
	lanes    map[string]*lane // those with deliveries
	ready    []*lane
	busy     int
	failures int // in a row
	removed  bool
}

// begin starts a hook, with its waiting deliveries.
func (d *Dispatcher) begin(kept records.Hook) error {
	h := &hook{Hook: kept, lanes: map[string]*lane{}}
	if err := h.settle(); err != nil {
		return fmt.Errorf("the hook %s: %w", kept.ID, err)
	}
	names, err := d.store.Lanes(kept.ID)
	if err != nil {
		return err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.delivers(h.Realm) {
		d.load(h, names)
	}
	if d.hooks[h.ID] == nil {
		d.order = append(d.order, h.ID)
	}
	d.hooks[h.ID] = h
	return nil
}

// settle reads the hook's secrets.
func (h *hook) settle() error {
	secret, err := ParseSecret(h.Secret)
	if err != nil {
		return err
	}
	h.secrets = [][]byte{secret}
	if h.OldSecret != "" {
		if old, err := ParseSecret(h.OldSecret); err == nil {
			h.secrets = append(h.secrets, old)
		}
	}
	return nil
}

// most returns how many requests may be sent to the hook at once.
func (h *hook) most() int {
	switch {
	case h.Paused || h.removed:
		return 0
	case h.failures >= suspect:
		return 1
	}
	return atOnce
}

// errNoHook says that a delivery is of a hook that was removed.
var errNoHook = errors.New("the hook was removed")

// Get returns a hook of a realm.
func (d *Dispatcher) Get(realm, id string) (records.Hook, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if h := d.hooks[id]; h != nil && h.Realm == realm {
		return h.Hook, nil
	}
	return records.Hook{}, records.ErrNotFound
}

// All returns the hooks of a realm, oldest first.
func (d *Dispatcher) All(realm string) (list []records.Hook) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, id := range d.order {
		if h := d.hooks[id]; h.Realm == realm {
			list = append(list, h.Hook)
		}
	}
	return list
}

// change applies new settings of a hook.
func (d *Dispatcher) change(changed records.Hook) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	h := d.hooks[changed.ID]
	if h == nil {
		return records.ErrNotFound
	}
	h.Hook, h.failures = changed, 0
	for _, l := range h.lanes {
		if l.timer != nil && l.timer.Stop() {
			l.timer, l.taken = nil, false
			d.makeReady(h, l)
		}
	}
	select {
	case d.wake <- struct{}{}:
	default:
	}
	return h.settle()
}

// remove stops all deliveries to a hook.
func (d *Dispatcher) remove(id string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	h := d.hooks[id]
	if h == nil {
		return
	}
	h.removed = true
	delete(d.hooks, id)
	for i, other := range d.order {
		if other == id {
			d.order = append(d.order[:i:i], d.order[i+1:]...)
			break
		}
	}
}
