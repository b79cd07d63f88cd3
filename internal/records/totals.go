package records

import (
	"maps"
	"sync"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/journal"
)

// Total is something of a realm that is counted since the start.
type Total struct {
	Realm string
	Kind  journal.Kind
	Which string // the reason, or over what
}

// Totals count what the service has recorded since its start. In a cluster, the owner of a realm counts its entries, and
// each node the rows that it has written.
type Totals struct {
	mu      sync.Mutex
	entries map[Total]int64
	rows    int64
	gaps    engine.Observer // of seconds without a link, of who came back; nil: nobody
}

// Entries returns how many entries of each kind there were, kept or not.
func (t *Totals) Entries() map[Total]int64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	return maps.Clone(t.entries)
}

// Rows returns how many rows were written.
func (t *Totals) Rows() int64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.rows
}

func (t *Totals) entry(e *journal.Entry) {
	which := e.Reason
	if e.Kind == journal.SessionOpened {
		which = e.Over
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if e.Kind == journal.SessionResumed && t.gaps != nil {
		t.gaps.Observe(float64(e.Length) / 1000)
	}
	t.entries[Total{e.Realm, e.Kind, which}]++
}

func (t *Totals) wrote(rows int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.rows += int64(rows)
}
