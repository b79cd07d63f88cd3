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

// Serve gives a node its messages and the records of the log, each after its rows were put, until ctx is done
// or the log cannot be followed.
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
	fold, position := rows.Fold(), rows.Read()
	noted := time.Now()
	patience := silentFor
	var stream chan *nats.Msg
	var sub *nats.Subscription
	defer func() {
		if sub != nil {
			_ = sub.Unsubscribe()
		}
	}()
	for {
		if sub == nil {
			var err error
			stream = make(chan *nats.Msg, atOnce)
			if sub, err = b.subscribe(ctx, stream, position); err != nil {
				return err
			}
		}
		var batch []*nats.Msg
		silent := time.NewTimer(patience)
		select {
		case <-ctx.Done():
			silent.Stop()
			return nil
		case <-silent.C: // every node appends a mark each second, so the server that read for us must be gone
			_ = sub.Unsubscribe()
			sub, patience = nil, min(2*patience, silentMost)
			continue
		case m := <-stream:
			silent.Stop()
			patience = silentFor
			batch = append(batch, m)
		}
		for len(batch) < atOnce && len(stream) > 0 {
			batch = append(batch, <-stream)
		}
		type step struct {
			at cluster.Position
			r  cluster.Record
		}
		var steps []step
		var put []cluster.Record
		unreadable := false
		for _, m := range batch {
			meta, err := m.Metadata()
			if err != nil {
				return err
			}
			at := cluster.Position(meta.Sequence.Stream)
			if at <= position {
				continue
			}
			r, err := coding.ReadRecord(m.Data, cluster.Newest)
			if err != nil {
				return err
			}
			verdict := fold.Take(at, r, cluster.Newest)
			steps = append(steps, step{at, r})
			if unreadable = verdict == cluster.Unreadable; unreadable {
				break
			}
			position = at
			if verdict == cluster.Applies && r.HasRows() {
				put = append(put, r)
			}
		}
		if len(put) > 0 || time.Since(noted) > noteEvery {
			if err := rows.Put(position, fold, put); err != nil {
				return fmt.Errorf("the records cannot be written: %w", err)
			}
			noted = time.Now()
		}
		for _, s := range steps {
			node.Applied(s.at, s.r)
		}
		if unreadable {
			return errUnreadable
		}
	}
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
