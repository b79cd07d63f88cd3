package hooks

import (
	"time"

	"tovik.example/tovik/internal/records"
)

// lane is a sequence of deliveries that are sent one after another.
type lane struct {
	name  string
	queue []records.Delivery
	last  int64       // the highest id in it
	more  bool        // there are more on record after last
	came  bool        // one has come that is not in it, since the records were asked
	timer *time.Timer // of the pause before the next attempt
	taken bool        // ready, sending, or pausing
}

// queue adds a delivery to its lane.
func (d *Dispatcher) queue(h *hook, one records.Delivery) {
	l := h.lanes[one.Lane]
	if l == nil {
		l = &lane{name: one.Lane}
		h.lanes[one.Lane] = l
	}
	switch {
	case l.more: // it will be read from the records
		l.came = true
	case len(l.queue) >= inLane:
		l.more = true
	default:
		l.queue = append(l.queue, one)
		l.last = max(l.last, one.ID)
	}
	d.makeReady(h, l)
}

// makeReady makes a lane ready to send, unless it already is.
func (d *Dispatcher) makeReady(h *hook, l *lane) {
	if l.taken {
		return
	}
	l.taken = true
	h.ready = append(h.ready, l)
	select {
	case d.wake <- struct{}{}:
	default:
	}
}

// load begins to deliver what waits on record for a hook that has no lanes yet.
func (d *Dispatcher) load(h *hook, lanes []string) {
	for _, name := range lanes {
		h.lanes[name] = &lane{name: name, more: true}
		d.makeReady(h, h.lanes[name])
	}
}

// asks reports whether the lane needs those on record, and after which.
func (l *lane) asks() (needs bool, after int64) {
	l.came = false
	return len(l.queue) == 0 && l.more, l.last
}

// reads takes what the records had when they were asked. What has come since may not be among it.
func (l *lane) reads(list []records.Delivery) {
	l.queue = append(l.queue, list...)
	l.more = l.came || len(list) == inLane
	if len(list) > 0 {
		l.last = list[len(list)-1].ID
	}
}

// first returns the next delivery of a lane that the caller has taken.
func (d *Dispatcher) first(h *hook, l *lane) (records.Delivery, bool) {
	d.mu.Lock()
	asks, last := l.asks()
	d.mu.Unlock()
	if asks {
		list, err := d.store.WaitingIn(h.ID, l.name, last, inLane)
		if err != nil {
			d.log.Warn("the outbox cannot be read", "hook", h.ID, "error", err)
			d.mu.Lock()
			defer d.mu.Unlock()
			l.timer = time.AfterFunc(time.Second, func() { d.tryAgain(h, l) })
			return records.Delivery{}, false
		}
		d.mu.Lock()
		l.reads(list)
		d.mu.Unlock()
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(l.queue) == 0 {
		return records.Delivery{}, false
	}
	return l.queue[0], true
}

// release makes a lane available again, or removes it if it is empty.
func (d *Dispatcher) release(h *hook, l *lane) {
	if l.timer != nil {
		return
	}
	l.taken = false
	if len(l.queue) > 0 || l.more {
		d.makeReady(h, l)
	} else if h.lanes[l.name] == l {
		delete(h.lanes, l.name)
	}
}

// tryAgain makes a lane ready after its pause.
func (d *Dispatcher) tryAgain(h *hook, l *lane) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.ended || l.timer == nil {
		return
	}
	l.timer, l.taken = nil, false
	d.makeReady(h, l)
}
