package hooks

import (
	"context"
	"crypto/rand"
	"log/slog"
	"net/http"
	"strings"
	"sync"
	"time"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
)

const (
	atOnce    = 8   // requests to one hook at once, each from another lane
	inLane    = 256 // deliveries of a lane in memory; more stay on record until their turn
	suspect   = 5   // after so many failures in a row, one request at a time
	maxAnswer = 1 << 10
	maxWait   = time.Hour // longest pause that a receiver may ask for
)

// retries are the pauses before further attempts, about a day in all.
var retries = []time.Duration{
	time.Second, 5 * time.Second, 30 * time.Second, 2 * time.Minute, 10 * time.Minute, 30 * time.Minute,
	time.Hour, 2 * time.Hour, 4 * time.Hour, 8 * time.Hour, 8 * time.Hour,
}

// Outcomes records the outcomes of deliveries. A [records.Writer] does.
type Outcomes interface {
	// Result takes the outcome of a delivery. It does not block.
	Result(realm string, d records.Delivery)
	// Redeliver records that a delivery waits again.
	Redeliver(ctx context.Context, realm string, d records.Delivery) error
}

// Options are the parts and settings of a Dispatcher. Store, Outcomes and Log are required.
type Options struct {
	Store    *records.Store
	Outcomes Outcomes
	Log      *slog.Logger
	// Shared says that other nodes have the same hooks. Then the dispatcher delivers those of the
	// realms that [Dispatcher.Own] names, and hears of what the log brings.
	Shared  bool
	Private bool            // private network addresses are allowed
	Retries []time.Duration // nil means the default
}

// Dispatcher delivers what is in the outbox. It is the [records.Outbox].
type Dispatcher struct {
	store    *records.Store
	outcomes Outcomes
	log      *slog.Logger
	shared   bool
	client   *http.Client
	private  bool
	retries  []time.Duration
	wake     chan struct{} // holds one signal: a lane is ready
	saving   sync.WaitGroup

	mu    sync.Mutex
	hooks map[string]*hook
	order []string        // ids of hooks, oldest first
	owned map[string]bool // realms, if the hooks are shared
	ended bool
}

// New returns a dispatcher with the hooks on record. Call Run.
func New(o Options) (*Dispatcher, error) {
	if o.Retries == nil {
		o.Retries = retries
	}
	d := &Dispatcher{store: o.Store, outcomes: o.Outcomes, shared: o.Shared, owned: map[string]bool{}, log: o.Log, client: newClient(o.Private), private: o.Private, retries: o.Retries,
		wake: make(chan struct{}, 1), hooks: map[string]*hook{}}
	kept, err := o.Store.Hooks()
	if err != nil {
		return nil, err
	}
	for _, h := range kept {
		if err := d.begin(h); err != nil {
			return nil, err
		}
	}
	return d, nil
}

// delivers reports whether this dispatcher delivers for a realm.
func (d *Dispatcher) delivers(realm string) bool { return !d.shared || d.owned[realm] }

// Deliveries implements [records.Outbox].
func (d *Dispatcher) Deliveries(a *journal.Announcement) (list []records.Delivery) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, id := range d.order {
		h := d.hooks[id]
		if h.Realm != a.Realm {
			continue
		}
		for _, kind := range tells(&h.Hook, a) {
			list = append(list, delivery(&h.Hook, kind, a))
		}
	}
	return list
}

// Committed implements [records.Outbox].
func (d *Dispatcher) Committed(list []records.Delivery) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, one := range list {
		if h := d.hooks[one.Hook]; h != nil && d.delivers(h.Realm) {
			d.queue(h, one)
		}
	}
}

// Run delivers until ctx ends, and returns when no request is being sent.
func (d *Dispatcher) Run(ctx context.Context) {
	var workers sync.WaitGroup
	defer d.saving.Wait()
	defer workers.Wait()
	defer d.end()
	for {
		select {
		case <-ctx.Done():
			return
		case <-d.wake:
		}
		d.mu.Lock()
		for _, h := range d.hooks {
			for len(h.ready) > 0 && h.busy < h.most() {
				l := h.ready[0]
				h.ready = h.ready[1:]
				h.busy++
				workers.Go(func() { d.work(ctx, h, l) })
			}
		}
		d.mu.Unlock()
	}
}

// end stops the timers, and closes idle connections.
func (d *Dispatcher) end() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.ended = true
	for _, h := range d.hooks {
		for _, l := range h.lanes {
			if l.timer != nil {
				l.timer.Stop()
			}
		}
	}
	d.client.CloseIdleConnections()
}

// work sends the first delivery of a lane.
func (d *Dispatcher) work(ctx context.Context, h *hook, l *lane) {
	one, ok := d.first(h, l)
	var tried records.Delivery
	var wait time.Duration
	if ok {
		tried, wait = d.attempt(ctx, h, one)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	h.busy--
	if ctx.Err() != nil || h.removed || d.ended {
		return // it stays on record
	}
	if ok {
		d.settle(h, l, tried, wait)
	} else {
		d.release(h, l)
	}
	select {
	case d.wake <- struct{}{}:
	default:
	}
}

// settle records the outcome of an attempt.
func (d *Dispatcher) settle(h *hook, l *lane, tried records.Delivery, wait time.Duration) {
	d.outcomes.Result(h.Realm, tried)
	if tried.State == records.Waiting {
		h.failures++
		l.queue[0] = tried
		l.timer = time.AfterFunc(wait, func() { d.tryAgain(h, l) })
		return
	}
	l.queue = l.queue[1:]
	if tried.State == records.Delivered {
		h.failures = 0
		for _, other := range h.lanes { // the receiver is back, so the others need not wait
			if other.timer != nil && other.timer.Stop() {
				other.timer, other.taken = nil, false
				d.makeReady(h, other)
			}
		}
	}
	if tried.Answered == http.StatusGone {
		h.Paused = true
		d.log.Warn("hook paused: its address answered 410 Gone", "hook", h.ID, "url", h.URL)
		paused := h.Hook
		d.saving.Go(func() { // the file may be slow, and the lock must not wait for it
			if err := d.store.PutHook(&paused); err != nil {
				d.log.Warn("the pause of a hook could not be written", "hook", paused.ID, "error", err)
			}
		})
	}
	d.release(h, l)
}

// Forget removes all hooks of a realm.
func (d *Dispatcher) Forget(realm string) {
	for _, h := range d.All(realm) {
		d.remove(h.ID)
	}
}

// again sends a delivery once more, after what waits in its lane.
func (d *Dispatcher) again(ctx context.Context, one records.Delivery) error {
	d.mu.Lock()
	h := d.hooks[one.Hook]
	if h == nil {
		d.mu.Unlock()
		return errNoHook
	}
	one.State, one.Attempts, one.Due = records.Waiting, 0, 0
	if !d.shared { // otherwise its owner hears of it by the log
		d.append(h, one)
	}
	realm := h.Realm
	d.mu.Unlock()
	return d.outcomes.Redeliver(ctx, realm, one)
}

// append adds a delivery at the end of its lane.
func (d *Dispatcher) append(h *hook, one records.Delivery) {
	l := h.lanes[one.Lane]
	if l == nil {
		l = &lane{name: one.Lane}
		h.lanes[one.Lane] = l
	}
	l.queue = append(l.queue, one)
	d.makeReady(h, l)
}

// try sends a hook a test event, and returns the outcome.
func (d *Dispatcher) try(ctx context.Context, realm, id string) (records.Delivery, error) {
	d.mu.Lock()
	h := d.hooks[id]
	if h == nil || h.Realm != realm {
		d.mu.Unlock()
		return records.Delivery{}, records.ErrNotFound
	}
	kept := h.Hook
	d.mu.Unlock()
	one := delivery(&kept, Test, &journal.Announcement{Realm: realm, Kind: Test, At: time.Now().UnixMilli(), Person: presence.UserID("")})
	one, _ = d.post(ctx, h, one)
	one.State = records.Delivered
	if one.Error != "" || one.Answered < 200 || one.Answered > 299 {
		one.State = records.Parked
	}
	return one, nil
}

// Waiting returns the number of deliveries that wait in memory.
func (d *Dispatcher) Waiting() (n int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, h := range d.hooks {
		for _, l := range h.lanes {
			n += len(l.queue)
		}
	}
	return n
}

// newID returns a new id for a hook.
func newID() string { return "hook-" + strings.ToLower(rand.Text()[:12]) }
