package records

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"gorm.io/gorm"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/headcount"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/timing"
)

// How the writer writes behind.
const (
	// FlushEvery is how long at most something waits to be written.
	FlushEvery = 100 * time.Millisecond
	// settleEvery is how often what was written is made safe against a loss of power. While
	// the disk does that, what is written may have to wait for it.
	settleEvery = 10 * time.Second
	countEvery  = 5 * time.Second // how old the headcount of the present minute may be
	retryEvery  = time.Second     // after a failure
)

// Outbox makes deliveries out of announcements. Its methods are called by the writer alone, and
// do not block.
type Outbox interface {
	Deliverer
	// Committed takes deliveries that have been written, in order.
	Committed([]Delivery)
}

// Health is the state of the records.
type Health struct {
	// Failing is why nothing can be written, or nil, and Since is since when.
	Failing error
	Since   time.Time
	Waiting int   // entries and people that are to be written
	Lost    int64 // entries of the journal since the start, for want of room
	// LostDeliveries is how many deliveries were lost since the start.
	LostDeliveries int64
	Lag            time.Duration // how long the oldest that waits has waited
}

// Writer writes behind what recorders have been told. Run it, and Close it after everything that
// it records has come to rest.
type Writer struct {
	store     *Store
	log       *slog.Logger
	retention atomic.Pointer[Retention]
	outbox    Outbox
	run       Run

	kick chan struct{}   // holds one: there is something; a second says nothing more
	sync chan chan error // holds 64 who wait until all is written; more wait to wait
	over chan struct{}   // closed when Run has returned

	mu        sync.Mutex
	recorders []*Recorder
	results   []Delivery    // of deliveries, that are to be written
	counted   time.Time     // when entries of kinds were counted; of the tidying alone
	written   chan struct{} // closed when something has been written, and then made anew
	health    Health

	// What follows is Run's.
	most         int // entries that wait
	batch        *batch
	nextEntry    int64
	nextDelivery int64
}

// WriterOptions are what a Writer is made of. Store is required.
type WriterOptions struct {
	Store     *Store
	Log       *slog.Logger // nil stands for none
	Retention Retention    // a zero field stands for its default
	// Outbox makes the outbox, which may report results to the writer. If it is nil, hooks are
	// told nothing.
	Outbox func(*Writer) (Outbox, error)
	// Gaps is told, in seconds, how long resumed sessions were without a link. It may be nil.
	Gaps engine.Observer
}

// NewWriter begins a run of the service.
func NewWriter(o WriterOptions) (*Writer, error) {
	s := o.Store
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	w := &Writer{store: s, log: o.Log, most: maxEntries,
		kick: make(chan struct{}, 1), sync: make(chan chan error, 64), over: make(chan struct{}), written: make(chan struct{})}
	s.totals.gaps = o.Gaps
	w.SetRetention(o.Retention)
	w.batch = w.newBatch()
	var ends struct{ Entry, Delivery, Run int64 }
	err := s.db().Raw("SELECT (SELECT coalesce(max(id), 0) FROM journal) AS entry, (SELECT coalesce(max(id), 0) FROM deliveries) AS delivery, (SELECT coalesce(max(id), 0) FROM runs) AS run").Scan(&ends).Error
	if err != nil {
		return nil, err
	}
	w.nextEntry, w.nextDelivery = ends.Entry+1, ends.Delivery+1
	at := time.Now().UnixMilli()
	w.run = Run{ID: ends.Run + 1, Started: at, Mark: at}
	if o.Outbox != nil {
		w.outbox, err = o.Outbox(w)
	}
	return w, err
}

// SetRetention changes how long records are kept, also those written before. A zero field stands
// for its default.
func (w *Writer) SetRetention(keep Retention) {
	keep = keep.withDefaults()
	w.retention.Store(&keep)
}

func (w *Writer) newBatch() *batch {
	b := newBatch(w.store.Totals())
	b.writer = w
	return b
}

func newBatch(totals *Totals) *batch {
	return &batch{totals: totals, people: map[personID]*Person{}, counts: map[countID]headcount.Row{}, typings: map[timing.Typing]int64{}, results: map[int64]Delivery{}, lost: map[string]gap{}}
}

// Record records a realm from its start on. Start makes the realm's engine with the recorder
// that it is given, and restores what is on record.
func (w *Writer) Record(realm string, start func(engine.Recorder) (*engine.Engine, error)) error {
	r := newRecorder(realm, w, time.Now())
	var err error
	if r.engine, err = start(r); err != nil {
		return err
	}
	if err := r.recall(); err != nil {
		return fmt.Errorf("the headcounts: %w", err)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.recorders = append(w.recorders, r)
	return nil
}

// recall reads what the previous run counted in the present minute.
func (r *Recorder) recall() error {
	var rows []headcount.Row
	if err := r.writer.store.db().Where("realm = ? AND step = ? AND at = ?", r.realm, headcount.Minute, r.counter.Minute()).Find(&rows).Error; err != nil {
		return err
	}
	r.counter.Continue(rows)
	return nil
}

// End stops recording a realm. After it nothing of the realm is written, and its rows may be
// deleted.
func (w *Writer) End(ctx context.Context, realm string) error {
	w.mu.Lock()
	w.recorders = slices.DeleteFunc(w.recorders, func(r *Recorder) bool { return r.realm == realm })
	w.mu.Unlock()
	return w.Sync(ctx)
}

// Health returns the state of the records.
func (w *Writer) Health() Health {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.health
}

// Written returns a channel that closes at the next write.
func (w *Writer) Written() <-chan struct{} {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.written
}

// Sync returns when everything that has happened is written. Its error says why it cannot be
// written; it then waits to be written.
func (w *Writer) Sync(ctx context.Context) error {
	done := make(chan error, 1)
	select {
	case w.sync <- done:
	case <-w.over:
		return errStopped
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case err := <-done:
		return err
	case <-w.over:
		return errStopped
	case <-ctx.Done():
		return ctx.Err()
	}
}

var errStopped = errors.New("the service is stopping")

func (w *Writer) wake() {
	select {
	case w.kick <- struct{}{}:
	default:
	}
}

// Run writes until ctx is done.
func (w *Writer) Run(ctx context.Context) {
	defer close(w.over)
	var tidying sync.WaitGroup
	defer tidying.Wait()
	if w.store.through == nil { // otherwise an owner does
		tidying.Go(func() { w.tidy(ctx) })
	}
	tidying.Go(func() { w.settle(ctx) })
	tick := time.NewTicker(markEvery)
	defer tick.Stop()
	var flush <-chan time.Time // when there is something to write
	counted := time.Now()
	for {
		select {
		case <-ctx.Done():
			return
		case <-w.kick:
			if flush == nil {
				flush = time.After(w.pause())
			}
		case <-flush:
			flush = nil
			if w.write(false) != nil {
				flush = time.After(retryEvery)
			}
		case done := <-w.sync:
			waiting := []chan error{done}
			for len(w.sync) > 0 {
				waiting = append(waiting, <-w.sync)
			}
			err := w.write(false)
			if err == nil {
				err = w.store.settle(ctx) // who asks wants it to outlast everything
			}
			for _, done := range waiting {
				done <- err
			}
		case now := <-tick.C:
			count := now.Sub(counted) >= countEvery
			if count {
				counted = now
			}
			w.pass(now, count)
		}
	}
}

// settle makes the latest writes safe.
func (w *Writer) settle(ctx context.Context) {
	ticker := time.NewTicker(settleEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
			if err := w.store.settle(ctx); err != nil && ctx.Err() == nil {
				w.log.Warn("syncing the records to the disk failed", "error", hint(err))
			}
		}
	}
}

// pause returns for how long events are gathered.
func (w *Writer) pause() time.Duration {
	if w.Health().Failing != nil {
		return retryEvery
	}
	return FlushEvery / 2 // the rest is for the writing
}

// pass does what is due each second.
func (w *Writer) pass(now time.Time, count bool) {
	w.run.Mark = now.UnixMilli()
	for _, r := range w.all() {
		r.gather(w.batch)
		r.counter.Roll(now.UnixMilli(), w.batch.headcount)
		if count {
			r.counter.SoFar(now.UnixMilli(), w.batch.headcount)
		}
	}
	_ = w.write(true) // says itself what is wrong
}

func (w *Writer) all() []*Recorder {
	w.mu.Lock()
	defer w.mu.Unlock()
	return slices.Clone(w.recorders)
}

// write gathers and writes everything; with marked, also that the service is running.
func (w *Writer) write(marked bool) error {
	for _, r := range w.all() {
		r.gather(w.batch)
	}
	b := w.batch
	w.mu.Lock()
	for _, d := range w.results {
		b.begins()
		b.results[d.ID] = d
	}
	w.results = nil
	w.mu.Unlock()
	b.bound()
	if w.store.through != nil || !marked && b.empty() { // owners write, through their log
		return nil
	}
	err := w.commit(b)
	w.note(b, err)
	if err != nil {
		return err
	}
	if w.outbox != nil && len(b.deliveries) > 0 {
		w.outbox.Committed(b.deliveries)
	}
	w.batch = w.newBatch()
	if cap(b.entries) <= 8*maxSaved {
		clear(b.entries)
		w.batch.entries = b.entries[:0]
	}
	return nil
}

// commit writes a batch, whole or not at all.
func (w *Writer) commit(b *batch) error {
	if err := w.store.mend(); err != nil {
		return err
	}
	entries := b.numbered(w.nextEntry)
	err := w.store.behind(func(tx *gorm.DB) error {
		if err := tx.Save(&w.run).Error; err != nil {
			return err
		}
		if len(entries) > 0 {
			if err := putEntries(tx, entries); err != nil {
				return err
			}
			if err := addMinutes(tx, entries); err != nil {
				return err
			}
		}
		if len(b.people) > 0 {
			if err := putPeople(tx, slices.Collect(maps.Values(b.people))); err != nil {
				return err
			}
		}
		if err := putHeadcounts(tx, slices.Collect(maps.Values(b.counts))); err != nil {
			return err
		}
		if err := putTypings(tx, b.typings); err != nil {
			return err
		}
		if len(b.deliveries) > 0 {
			if err := tx.CreateInBatches(b.deliveries, 200).Error; err != nil {
				return err
			}
		}
		for _, d := range b.results {
			if err := updateDelivery(tx, &d); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil {
		w.nextEntry += int64(len(entries))
	}
	return err
}

// note notes the outcome of a write.
func (w *Writer) note(b *batch, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	h := &w.health
	h.Waiting, h.Lag = 0, 0
	if err != nil {
		h.Waiting, h.Lag = len(b.entries)+len(b.people)+len(b.deliveries), time.Since(b.since)
		if h.Failing == nil {
			h.Since = time.Now()
			w.log.Error("the records cannot be written; presence continues and entries wait", "error", hint(err))
		}
		h.Failing = hint(err)
		return
	}
	if h.Failing != nil {
		w.log.Info("the records can be written again", "after", time.Since(h.Since).Round(time.Millisecond), "lost", h.Lost)
	}
	h.Failing, h.Since = nil, time.Time{}
	w.store.totals.wrote(len(b.entries) + len(b.people) + len(b.counts) + len(b.deliveries))
	if !b.empty() {
		close(w.written)
		w.written = make(chan struct{})
	}
}

// Note adds an entry to the journals of all realms that no engine reports.
func (w *Writer) Note(kind journal.Kind, reason string, length time.Duration) {
	at := time.Now().UnixMilli()
	for _, r := range w.all() {
		w.batch.entry(journal.Entry{At: at, Realm: r.realm, Kind: kind, Reason: reason, Length: length.Milliseconds(), Open: true})
	}
}

// Act adds an entry about what an operator did to the journal of its realm; to all journals if it
// names none.
func (w *Writer) Act(e journal.Entry) {
	e.At = time.Now().UnixMilli()
	for _, r := range w.all() {
		if e.Realm == "" || e.Realm == r.realm {
			r.act(e)
		}
	}
}

// Close writes what is left, and that the service has stopped. Call it after Run has returned.
func (w *Writer) Close() error {
	for _, r := range w.all() { // as exact as it can be: nothing is to be said for it later
		for _, user := range r.engine.Known() {
			r.touched[user] = struct{}{}
		}
		r.gather(w.batch)
		r.counter.Roll(time.Now().UnixMilli(), w.batch.headcount)
		r.counter.SoFar(time.Now().UnixMilli(), w.batch.headcount)
	}
	w.Note(journal.ServiceStopped, "", 0)
	w.run.Mark = time.Now().UnixMilli()
	w.run.Stopped = w.run.Mark
	if err := w.write(true); err != nil {
		return fmt.Errorf("what happened last could not be written: %w", hint(err))
	}
	return nil
}

// Result keeps the outcome of a delivery, of any realm.
func (w *Writer) Result(_ string, d Delivery) {
	w.mu.Lock()
	w.results = append(w.results, d)
	w.mu.Unlock()
	w.wake()
}

// Redeliver keeps that a delivery waits again. When it returns, that is written.
func (w *Writer) Redeliver(ctx context.Context, realm string, d Delivery) error {
	w.Result(realm, d)
	return w.Sync(ctx)
}
