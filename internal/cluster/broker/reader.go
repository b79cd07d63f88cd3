package broker

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/nats-io/nats.go"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/coding"
)

// Node receives messages and records, in order. A [cluster.Runner] is a Node.
type Node interface {
	Receive(cluster.Envelope)
	Applied(cluster.Position, cluster.Record)
	// Awaits reports whether a record must have its rows put before the node gets it (see [cluster.Node.Awaits]).
	Awaits(*cluster.Record) bool
}

// Rows are a node's rows, as in stored.Records.
type Rows interface {
	// Fold returns what the log says up to where the rows are, and Read up to which record that is.
	Fold() cluster.Fold
	Read() cluster.Position
	// Put puts the rows of records that apply, and notes up to where the log was read and what it says there.
	Put(after cluster.Position, fold cluster.Fold, records []cluster.Record) error
}

// How records are read.
const (
	atOnce     = 2000             // records are put together at most
	noteEvery  = 10 * time.Second // the position is noted if no rows are put; after a restart the node reads from there
	silentFor  = 2 * time.Second  // after so long without a record, another reader is made
	silentMost = 16 * time.Second // the longest such time; it doubles with each reader that gets none
	completeIn = time.Minute      // servers that have all been killed need some time until they have the whole log again
	busBuffer  = 4096
	tooOldText = "the log begins at record %d, and the records here end at %d: start the node again, and it takes a copy of those of another node"
)

// Serve gives a node its messages and the records of the log until ctx is done or the log cannot be followed. The rows
// of a record are put before the node gets it or, if it does not await them, within a moment after it.
func (b *Broker) Serve(ctx context.Context, node Node, rows Rows) error {
	messages := make(chan *nats.Msg, busBuffer)
	bus, err := b.Conn.ChanSubscribe(b.bus(b.Node), messages)
	if err != nil {
		return err
	}
	defer func() { _ = bus.Unsubscribe() }()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	over := make(chan struct{})
	go func() {
		defer close(over)
		for {
			select {
			case <-ctx.Done():
				return
			case m := <-messages:
				if e, err := coding.ReadEnvelope(m.Data); err != nil {
					b.Log.Warn("a message cannot be read", "error", err) // it counts as lost
				} else {
					node.Receive(e)
				}
			}
		}
	}()
	defer func() { <-over }()
	defer stop()
	return b.follow(ctx, node, rows)
}

// follow reads the log from where the rows end.
func (b *Broker) follow(ctx context.Context, node Node, rows Rows) error {
	r := &reader{broker: b, node: node, rows: rows, fold: rows.Fold(), read: rows.Read(), noted: time.Now(), patience: silentFor}
	defer r.unsubscribe()
	return r.run(ctx)
}

// reader reads the log.
type reader struct {
	broker *Broker
	node   Node
	rows   Rows
	fold   cluster.Fold
	read   cluster.Position
	noted  time.Time // when the position was put last

	waiting []cluster.Record // whose rows are to be put
	putBy   time.Time        // when that must be done, if there are any

	sub      *nats.Subscription // nil: none
	stream   chan *nats.Msg     // holds atOnce; the server sends again what did not fit
	patience time.Duration      // with a silent stream
}

func (r *reader) unsubscribe() {
	if r.sub != nil {
		_ = r.sub.Unsubscribe()
		r.sub = nil
	}
}

func (r *reader) run(ctx context.Context) error {
	for {
		batch, err := r.next(ctx)
		switch {
		case err != nil:
			return err
		case len(batch) == 0:
			return r.putWaiting()
		}
		if err := r.take(batch); err != nil {
			return err
		}
	}
}

// next waits for records, and puts rows when they must be put. It returns none once ctx is done.
func (r *reader) next(ctx context.Context) (batch []*nats.Msg, err error) {
	for {
		if r.sub == nil {
			r.stream = make(chan *nats.Msg, atOnce)
			if r.sub, err = r.broker.subscribe(ctx, r.stream, r.read); err != nil {
				return nil, err
			}
		}
		silent := time.NewTimer(r.patience)
		var due <-chan time.Time
		if len(r.waiting) > 0 {
			due = time.After(time.Until(r.putBy))
		}
		select {
		case <-ctx.Done():
			silent.Stop()
			return nil, nil
		case <-due:
			silent.Stop()
			if err := r.putWaiting(); err != nil {
				return nil, err
			}
			continue
		case <-silent.C: // every node appends a mark each second, so the server that read for us must be gone
			r.unsubscribe()
			r.patience = min(2*r.patience, silentMost)
			continue
		case m := <-r.stream:
			silent.Stop()
			r.patience = silentFor
			batch = append(batch, m)
		}
		for len(batch) < atOnce && len(r.stream) > 0 {
			batch = append(batch, <-r.stream)
		}
		return batch, nil
	}
}

// take gives records to the node. It puts what is waiting before, unless all of it may wait longer.
func (r *reader) take(batch []*nats.Msg) error {
	type step struct {
		at     cluster.Position
		record cluster.Record
	}
	var steps []step
	now, unreadable := false, false
	for _, m := range batch {
		meta, err := m.Metadata()
		if err != nil {
			return err
		}
		at := cluster.Position(meta.Sequence.Stream)
		if at <= r.read {
			continue
		}
		record, err := coding.ReadRecord(m.Data, cluster.Newest)
		if err != nil {
			return err
		}
		verdict := r.fold.Take(at, record, cluster.Newest)
		steps = append(steps, step{at, record})
		if unreadable = verdict == cluster.Unreadable; unreadable {
			break
		}
		r.read = at
		if verdict == cluster.Applies && record.HasRows() {
			if len(r.waiting) == 0 {
				r.putBy = time.Now().Add(cluster.GatherFor)
			}
			r.waiting = append(r.waiting, record)
		}
		now = now || r.node.Awaits(&record)
	}
	late := len(r.waiting) >= atOnce || len(r.waiting) > 0 && !time.Now().Before(r.putBy)
	switch {
	case time.Since(r.noted) > noteEvery:
		if err := r.put(); err != nil {
			return err
		}
	case now || late || unreadable:
		if err := r.putWaiting(); err != nil {
			return err
		}
	}
	for _, s := range steps {
		r.node.Applied(s.at, s.record)
	}
	if unreadable {
		return errUnreadable
	}
	return nil
}

func (r *reader) putWaiting() error {
	if len(r.waiting) == 0 {
		return nil
	}
	return r.put()
}

// put puts the rows that are waiting, and notes the position.
func (r *reader) put() error {
	if err := r.rows.Put(r.read, r.fold, r.waiting); err != nil {
		return fmt.Errorf("the records cannot be written: %w", err)
	}
	r.waiting, r.noted = nil, time.Now()
	return nil
}

// errUnreadable says that the node has halted.
var errUnreadable = errors.New("the log has records of a later version")

// subscribe follows the stream after a position.
func (b *Broker) subscribe(ctx context.Context, to chan *nats.Msg, after cluster.Position) (*nats.Subscription, error) {
	began := time.Now()
	var said error
	for {
		info, err := b.js.StreamInfo(b.name("log"))
		if err == nil {
			b.mu.Lock()
			b.first = cluster.Position(info.State.FirstSeq)
			b.mu.Unlock()
			switch short := info.State.LastSeq < uint64(after); {
			case short && time.Since(began) < completeIn:
				err = fmt.Errorf("the log ends at record %d, and the records here at %d", info.State.LastSeq, after)
			case short:
				return nil, fmt.Errorf("the log ends at record %d, and the records here at %d: it has lost some", info.State.LastSeq, after)
			case info.State.FirstSeq > uint64(after)+1:
				return nil, fmt.Errorf(tooOldText, info.State.FirstSeq, after)
			}
			if err == nil {
				var sub *nats.Subscription
				sub, err = b.js.ChanSubscribe(b.Cluster+".log.>", to, nats.OrderedConsumer(), nats.StartSequence(uint64(after)+1), nats.BindStream(b.name("log")))
				if err == nil {
					return sub, nil
				}
			}
		}
		if said == nil || said.Error() != err.Error() {
			b.Log.Info("the log cannot be followed yet", "error", err)
			said = err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(answerIn / 4):
		}
	}
}
