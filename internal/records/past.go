package records

import (
	"context"
	"time"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
)

// Past writes what a core did in a simulated time into records, as if the service had run then.
// The service can go on from it. It is not safe for concurrent use.
type Past struct {
	recorder *Recorder
	writer   *Writer
	err      error
}

// atOnce is how many entries a past gathers before it writes them.
const atOnce = 5000

// NewPast begins the past of a realm, in records in which nothing has happened. The outbox may be
// nil, as in [WriterOptions].
func NewPast(store *Store, realm string, from time.Time, outbox func(*Writer) (Outbox, error)) (*Past, error) {
	w, err := NewWriter(WriterOptions{Store: store, Outbox: outbox})
	if err != nil {
		return nil, err
	}
	w.run.Started, w.run.Mark = from.UnixMilli(), from.UnixMilli()
	p := &Past{recorder: newRecorder(realm, w, from), writer: w}
	p.note(journal.ServiceStarted, "first", from)
	return p, nil
}

func (p *Past) note(kind journal.Kind, reason string, at time.Time) {
	p.writer.batch.entry(journal.Entry{At: at.UnixMilli(), Realm: p.recorder.realm, Kind: kind, Reason: reason, Open: true})
}

// Record takes effects of the core. An error is returned by Close.
func (p *Past) Record(at time.Time, effects []presence.Effect, touched []presence.UserID) {
	b := p.writer.batch
	for _, user := range touched {
		if id := (personID{p.recorder.realm, user}); b.people[id] == nil {
			b.person(&Person{Realm: p.recorder.realm, User: user}, user)
		}
	}
	for _, effect := range effects {
		p.recorder.digest(&happening{at: at.UnixMilli(), effect: effect}, b)
	}
	if len(b.entries) >= atOnce {
		p.flush(at)
	}
}

// Restarted notes a restart of the service, after which it had been away for a while.
func (p *Past) Restarted(at time.Time, away time.Duration) {
	p.note(journal.ServiceStopped, "", at.Add(-away))
	p.writer.batch.entry(journal.Entry{At: at.UnixMilli(), Realm: p.recorder.realm, Kind: journal.ServiceStarted, Reason: "restart", Length: away.Milliseconds(), Open: true})
}

// Act takes an entry that no effect makes: what an operator did.
func (p *Past) Act(e journal.Entry) {
	e.Realm, e.Open = p.recorder.realm, true
	p.writer.batch.entry(e)
}

func (p *Past) flush(at time.Time) {
	w := p.writer
	w.run.Mark = at.UnixMilli()
	if p.err != nil {
		return
	}
	if p.err = w.commit(w.batch); p.err == nil {
		p.err = w.store.boundLog() // no writer runs that would
	}
	w.batch = w.newBatch()
}

// Close ends the past at a time, with what the core has saved then, and sums up its headcounts.
func (p *Past) Close(ctx context.Context, at time.Time, saved presence.Saved) error {
	w, b := p.writer, p.writer.batch
	for i := range saved.People {
		b.person(p.recorder.person(saved.People[i]), saved.People[i].User)
	}
	p.recorder.counter.Roll(at.UnixMilli(), b.headcount)
	p.recorder.counter.SoFar(at.UnixMilli(), b.headcount)
	p.note(journal.ServiceStopped, "", at)
	w.run.Stopped = at.UnixMilli()
	if p.flush(at); p.err != nil {
		return p.err
	}
	if err := w.rollUp(ctx, at); err != nil {
		return err
	}
	return w.store.boundLog()
}
