package cluster

import (
	"time"

	"tovik.example/tovik/internal/presence"
)

// Name is the name of a node, kept with its data.
type Name string

// Incarnation numbers the starts of a node: a later start has a higher one. 0 is unknown.
type Incarnation uint64

// Realm is the number of a realm. It is never reused: a realm that is ended and made again is another one.
type Realm uint64

// Epoch numbers the owners of a realm, from 1.
type Epoch uint32

// Position is the place of a record in the log, from 1. 0 is before the first.
type Position uint64

// Kind is the kind of a record.
type Kind string

// The kinds of records.
const (
	KindBegins Kind = "begins" // a node begins to own a realm
	KindEnds   Kind = "ends"   // an owner has handed over: its records are complete
	KindBatch  Kind = "batch"  // changes in a realm
	KindMark   Kind = "mark"   // a sign of life of a node, with the times of its realms
	KindMade   Kind = "made"   // a realm is made, and gets the next number
	KindGone   Kind = "gone"   // a realm is ended, with everything in it
	KindFormat Kind = "format" // brings the format of the record into force
)

// Record is one entry of the log.
type Record struct {
	ID     string // unique; a record applies once
	Format Format
	Kind   Kind
	Realm  Realm  // 0: none
	Name   string // of a realm that is made
	Epoch  Epoch
	Node   Name
	Wall   int64 // Unix milliseconds

	// Time is the time of the realm, in records of kind begins, ends and batch.
	Time time.Duration
	// Times, of a mark, are the times of the realms that the node owns.
	Times []RealmTime
	// Rows are what a [Maker] made, and Changes what commands brought; nil: none.
	Rows    any
	Changes []any
	// Removed are the people who were removed by then: what they follow over links of any node ends.
	Removed []presence.PersonRemoved

	// Text is the record as the log has it, if it was read from there. It must not be changed.
	Text []byte
}

// HasRows reports whether the record changes rows, if it applies.
func (r *Record) HasRows() bool { return r.Rows != nil || len(r.Changes) > 0 || r.Kind == KindGone }

// RealmTime is the time of a realm under an owner.
type RealmTime struct {
	Realm Realm
	Epoch Epoch
	Time  time.Duration
}

// Outcome is the outcome of an append or a swap.
type Outcome uint8

// The outcomes. Unknown may turn out either way later: read again before deciding.
const (
	Done Outcome = iota
	Refused
	Unknown
)

// Unfenced is the expectation of a record that may follow any other.
const Unfenced = ^Position(0)

// Log is the ordered, replicated record of all realms.
//
// Append adds a record, and calls done once. With after, it is refused unless the last record of its
// realm is at that position. The outcome of an append without an answer in time is Unknown.
//
// Every node is given every record, in order, by [Node.Applied]. The driver puts the rows first, of the
// records that apply by its own [Fold], so that questions about records see what the node knows. Package
// clustertest checks these contracts.
type Log interface {
	Append(r Record, after Position, done func(Outcome))
}

// Table keeps one value for the cluster, read from its leader.
//
// Read calls done once; with false if no majority answered in time. Swap replaces the value if it
// has the given version. The new value has a higher version.
type Table interface {
	Read(done func(Owners, bool))
	Swap(version uint64, to Owners, done func(Outcome))
}

// Bus carries messages between nodes at most once. Messages from one node to another keep their
// order, and may be lost. Send never blocks.
type Bus interface {
	Send(to Name, e Envelope)
}

// Envelope is a parcel of messages on its way. Last numbers the newest of them, of all that one
// incarnation has sent to another; heartbeats, echoes and acknowledgements (which have no message)
// repeat the number. Read is the number of the newest message that its sender has read.
type Envelope struct {
	From       Name
	Sender     Incarnation
	To         Incarnation // as its sender knows it; 0: unknown
	Last, Read uint64
	Messages   []Message
}
