package cluster

import (
	"time"

	"tovik.example/tovik/internal/presence"
)

// Message is what one node tells another.
type Message interface{ message() }

// Heartbeat goes from every node to every other, and is answered at once.
type Heartbeat struct {
	Sent    time.Duration // by the sender's clock
	Unheard []Name        // whom the sender does not hear
	Owners  map[Realm]Known
	Said    uint64 // how many messages the sender has sent to the receiver
}

// Known is the newest owner of a realm that a node has heard of.
type Known struct {
	Epoch Epoch
	Owner Name
}

// Echo answers a heartbeat.
type Echo struct{ Sent time.Duration }

// TableChanged says that it is worth reading the table.
type TableChanged struct{}

// ToOwner goes from a carrier to the owner of a realm.
type ToOwner struct {
	Realm Realm
	What  Up
}

// Up is what a carrier tells an owner.
type Up interface{ up() }

type (
	// Ask is a request that is answered. Attempt names it in the whole cluster.
	Ask struct {
		Attempt uint64
		Input   presence.Input
	}
	// Tell is an input without an answer.
	Tell struct{ Input presence.Input }
	// GiveUp withdraws a hello whose client does not wait any more.
	GiveUp struct {
		Attempt uint64
		Session presence.SessionID // named by the hello
	}
	// Report is everything that the carrier carries for the realm.
	Report struct {
		Facts []presence.Fact
		Read  uint64 // up to which message of the owner
	}
	// Follow asks for the lists of the realm and their changes.
	Follow struct{}
)

// FromOwner goes from the owner of a realm to a carrier.
type FromOwner struct {
	Realm Realm
	Epoch Epoch
	What  Down
}

// Down is what an owner tells a carrier.
type Down interface{ down() }

type (
	// Answer answers an [Ask].
	Answer struct {
		Attempt uint64
		Reply   presence.Reply
		Err     error
	}
	// AskReport asks for a [Report].
	AskReport struct{}
	// Order is an effect of the core about links.
	Order struct{ Effect presence.Effect }
	// Snapshot is every list at a revision.
	Snapshot struct {
		Revision uint64
		Lists    Lists
	}
	// Batch is what changed between two revisions.
	Batch struct {
		Revision uint64
		Changes  []Change
	}
)

// Lists are the numbers of sessions of the members of all rooms.
type Lists map[presence.RoomName]map[presence.UserID]int

// Change is a member whose number of sessions has changed; 0: they have left.
type Change struct {
	Room     presence.RoomName
	User     presence.UserID
	Sessions int
	Reason   presence.Reason
}

func (Heartbeat) message()    {}
func (Echo) message()         {}
func (TableChanged) message() {}
func (ToOwner) message()      {}
func (FromOwner) message()    {}

func (Ask) up()    {}
func (Tell) up()   {}
func (GiveUp) up() {}
func (Report) up() {}
func (Follow) up() {}

func (Answer) down()    {}
func (AskReport) down() {}
func (Order) down()     {}
func (Snapshot) down()  {}
func (Batch) down()     {}

// Act is what a node wants done.
type Act interface{ act() }

type (
	// Send gives a message to the [Bus].
	Send struct {
		To       Name
		Envelope Envelope
	}
	// Append gives a record to the [Log]. The outcome goes to [Node.Appended].
	Append struct {
		Record Record
		After  Position
	}
	// ReadTable reads the [Table], for [Node.Table].
	ReadTable struct{}
	// SwapTable changes the [Table]. The outcome goes to [Node.Swapped].
	SwapTable struct {
		Version uint64
		To      Owners
	}
	// Tells answers a client's request.
	Tells struct {
		Conn   ConnID
		Answer Answer
	}
	// Asks writes a beat request to a client.
	Asks struct {
		Conn  ConnID
		Probe bool
	}
	// Closes ends a connection.
	Closes struct {
		Conn ConnID
		Why  CloseReason
	}
	// Shows gives the receivers of this node a list, or its changes.
	Shows struct {
		Realm Realm
		Epoch Epoch
		What  Down // a Snapshot or a Batch
	}
)

// ConnID names a connection at its node.
type ConnID uint64

// CloseReason is why a node ends a connection.
type CloseReason string

// The reasons.
const (
	CloseMoving   CloseReason = "moving"    // the client should come to another node
	CloseNotReady CloseReason = "not-ready" // no owner answered in time
	CloseRefused  CloseReason = "refused"   // the hello was refused
	CloseCut      CloseReason = "cut"       // the session goes on without this link
	CloseEnded    CloseReason = "ended"     // the session has ended
)

func (Send) act()      {}
func (Append) act()    {}
func (ReadTable) act() {}
func (SwapTable) act() {}
func (Tells) act()     {}
func (Asks) act()      {}
func (Closes) act()    {}
func (Shows) act()     {}
