package hooks

import (
	"errors"

	"tovik.example/tovik/internal/records"
)

// Own says whether the node of this dispatcher delivers for a realm. A new owner begins with what its
// records have waiting: a delivery whose outcome the last owner could not record is sent again.
func (d *Dispatcher) Own(realm string, is bool) error {
	d.mu.Lock() // also while the records are read, so that deliveries that come meanwhile have one place
	defer d.mu.Unlock()
	if is == d.owned[realm] {
		return nil
	}
	d.owned[realm] = is
	for _, id := range d.order {
		h := d.hooks[id]
		if h.Realm != realm {
			continue
		}
		if !is {
			d.stop(h)
			continue
		}
		lanes, err := d.store.Lanes(id)
		if err != nil {
			return err
		}
		d.load(h, lanes)
	}
	return nil
}

// stop ends the deliveries to a hook. What is being sent goes on, and has no outcome. Another hook takes
// its place.
func (d *Dispatcher) stop(h *hook) {
	h.removed = true
	for _, l := range h.lanes {
		if l.timer != nil {
			l.timer.Stop()
		}
	}
	d.hooks[h.ID] = &hook{Hook: h.Hook, secrets: h.secrets, lanes: map[string]*lane{}}
}

// HasPut implements [records.Listener]: hooks and deliveries that the log brings.
func (d *Dispatcher) HasPut(list []records.Rows) {
	for i := range list {
		for j := range list[i].Changes {
			d.take(&list[i].Changes[j])
		}
		d.Committed(list[i].Hooked)
	}
}

// take takes what a command has changed.
func (d *Dispatcher) take(c *records.Change) {
	switch {
	case c.PutHook != nil:
		err := d.change(*c.PutHook)
		if errors.Is(err, records.ErrNotFound) {
			err = d.begin(*c.PutHook)
		}
		if err != nil {
			d.log.Warn("a hook of the log cannot be used", "hook", c.PutHook.ID, "error", err)
		}
	case c.DropHook != "":
		d.remove(c.DropHook)
	case c.DropRealm != "":
		d.Forget(c.DropRealm)
	case c.Redeliver != nil:
		d.mu.Lock()
		defer d.mu.Unlock()
		if h := d.hooks[c.Redeliver.Hook]; h != nil && d.delivers(h.Realm) {
			d.append(h, *c.Redeliver)
		}
	}
}
