package broker

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"testing/synctest"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/coding"
	"tovik.example/tovik/internal/records"
)

// diary notes what a reader does, and when.
type diary struct {
	began time.Time
	lines []string
	full  error // why nothing can be put
}

func (d *diary) note(format string, args ...any) {
	d.lines = append(d.lines, fmt.Sprintf("%s: ", time.Since(d.began))+fmt.Sprintf(format, args...))
}

func (d *diary) Fold() cluster.Fold       { return cluster.NewFold("main", "drill") }
func (d *diary) Read() cluster.Position   { return 0 }
func (d *diary) Receive(cluster.Envelope) {}

func (d *diary) Put(after cluster.Position, _ cluster.Fold, list []cluster.Record) error {
	if d.full != nil {
		return d.full
	}
	d.note("put %d up to %d", len(list), after)
	return nil
}

func (d *diary) Applied(at cluster.Position, _ cluster.Record) { d.note("applied %d", at) }

func (d *diary) Awaits(r *cluster.Record) bool {
	return r.Kind == cluster.KindBegins || r.ID == "awaited"
}

func TestRowsThatNobodyAwaitsArePutTogether(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := &diary{began: time.Now()}
		r := &reader{node: d, rows: d, fold: d.Fold(), noted: time.Now(), patience: time.Hour, sub: new(nats.Subscription), stream: make(chan *nats.Msg, 10)}
		ctx, stop := context.WithCancel(t.Context())
		over := make(chan error)
		go func() { over <- r.run(ctx) }()
		sequence, last, epoch := 0, time.Duration(0), cluster.Epoch(0)
		says := func(after time.Duration, id string, kind cluster.Kind) {
			time.Sleep(after - last)
			last = after
			sequence++
			if kind == cluster.KindBegins {
				epoch++
			}
			record := cluster.Record{ID: id, Kind: kind, Realm: 1, Epoch: epoch, Node: "dipper"}
			if kind == cluster.KindBatch {
				record.Rows = &records.Rows{Realm: "main"}
			}
			text, err := coding.Record(record)
			require.NoError(t, err)
			r.stream <- &nats.Msg{Sub: r.sub, Data: text, Reply: fmt.Sprintf("$JS.ACK.log.reader.1.%d.%d.0.0", sequence, sequence)}
		}
		says(0, "begins", cluster.KindBegins)
		says(time.Millisecond, "a", cluster.KindBatch)
		says(26*time.Millisecond, "b", cluster.KindBatch)
		says(80*time.Millisecond, "c", cluster.KindBatch)
		says(90*time.Millisecond, "awaited", cluster.KindBatch)
		says(95*time.Millisecond, "mark", cluster.KindMark)
		says(96*time.Millisecond, "d", cluster.KindBatch)
		says(97*time.Millisecond, "begins again", cluster.KindBegins)
		says(98*time.Millisecond, "e", cluster.KindBatch)
		time.Sleep(time.Millisecond)
		stop()
		require.NoError(t, <-over)
		require.Equal(t, []string{
			"0s: applied 1", "1ms: applied 2", "26ms: applied 3", "76ms: put 2 up to 3", "80ms: applied 4", "90ms: put 2 up to 5", "90ms: applied 5",
			"95ms: applied 6", "96ms: applied 7", "97ms: put 1 up to 8", "97ms: applied 8", "98ms: applied 9", "99ms: put 1 up to 9",
		}, d.lines)
	})
}

func TestAFullDiskIsSaidOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := &diary{began: time.Now(), full: errors.New("no space is left")}
		r := &reader{node: d, rows: d, fold: d.Fold(), noted: time.Now(), patience: time.Hour, sub: new(nats.Subscription), stream: make(chan *nats.Msg, 10)}
		r.waiting, r.putBy = []cluster.Record{{ID: "a"}}, time.Now().Add(time.Millisecond)
		require.EqualError(t, r.run(t.Context()), "the records cannot be written: no space is left")
	})
}
