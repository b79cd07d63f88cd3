package hooks

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log/slog"
	mathrand "math/rand/v2"
	"net/http"
	"strconv"
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

// load begins to deliver what waits on record for a hook that has no lanes yet.
func (d *Dispatcher) load(h *hook, lanes []string) {
	for _, name := range lanes {
		h.lanes[name] = &lane{name: name, more: true}
		d.makeReady(h, h.lanes[name])
	}
}

// delivers reports whether this dispatcher delivers for a realm.
func (d *Dispatcher) delivers(realm string) bool { return !d.shared || d.owned[realm] }

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

// attempt sends a delivery once, and returns the outcome and the pause before the next attempt.
func (d *Dispatcher) attempt(ctx context.Context, h *hook, one records.Delivery) (records.Delivery, time.Duration) {
	asked := time.Time{}
	one, asked = d.post(ctx, h, one)
	switch {
	case one.Error == "" && one.Answered >= 200 && one.Answered < 300:
		one.State, one.Due = records.Delivered, 0
		return one, 0
	case one.Attempts > len(d.retries), one.Answered == http.StatusGone:
		one.State, one.Due = records.Parked, 0
		d.log.Warn("a delivery is parked", "hook", h.ID, "delivery", one.ID, "answered", one.Answered, "error", one.Error)
		return one, 0
	}
	wait := d.retries[one.Attempts-1]
	wait += time.Duration(mathrand.Int64N(int64(wait)/5 + 1)) // so that not all come at once
	wait = max(wait, min(time.Until(asked), maxWait))
	one.Due = time.Now().Add(wait).UnixMilli()
	return one, wait
}

// post sends a request once. Asked is when the receiver wants the next attempt, if it says so.
func (d *Dispatcher) post(ctx context.Context, h *hook, one records.Delivery) (_ records.Delivery, asked time.Time) {
	d.mu.Lock()
	url, secrets := h.URL, h.secrets
	if h.OldUntil < time.Now().UnixMilli() {
		secrets = secrets[:1]
	}
	d.mu.Unlock()
	began := time.Now()
	one.Attempts++
	one.Tried, one.Answered, one.Answer, one.Error = began.UnixMilli(), 0, "", ""
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, url, bytes.NewReader(one.Body))
	if err != nil {
		one.Error = err.Error()
		return one, asked
	}
	request.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	request.Header.Set("User-Agent", "Tovik")
	Sign(request.Header, one.Event, began, one.Body, secrets...)
	response, err := d.client.Do(request)
	if err != nil {
		one.Took, one.Error = time.Since(began).Milliseconds(), plain(err)
		return one, asked
	}
	defer func() { _ = response.Body.Close() }()
	text, err := io.ReadAll(io.LimitReader(response.Body, maxAnswer))
	one.Took, one.Answered, one.Answer = time.Since(began).Milliseconds(), response.StatusCode, string(bytes.ToValidUTF8(text, []byte("?")))
	if err != nil {
		one.Error = plain(err)
	}
	if seconds, err := strconv.Atoi(response.Header.Get("Retry-After")); err == nil && seconds > 0 {
		asked = time.Now().Add(time.Duration(min(seconds, int(maxWait/time.Second))) * time.Second)
	}
	return one, asked
}

// plain describes an error without repeating the URL.
func plain(err error) string {
	if timeout, ok := err.(interface{ Timeout() bool }); ok && timeout.Timeout() {
		return fmt.Sprintf("no answer within %s", answerTimeout)
	}
	for next := errors.Unwrap(err); next != nil; next = errors.Unwrap(err) {
		err = next
		var op interface{ Temporary() bool }
		if errors.As(err, &op) {
			break
		}
	}
	return err.Error()
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

// errNoHook says that a delivery is of a hook that was removed.
var errNoHook = errors.New("the hook was removed")

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
