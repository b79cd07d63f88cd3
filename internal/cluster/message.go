package cluster

import (
	"time"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// Message is a message between two nodes.
type Message interface{ message() }

// Heartbeat goes from every node to every other, which answer with an [Echo] at once.
type Heartbeat struct {
	Sent    time.Duration // by the sender's clock
	Knows   Format        // the newest that the sender knows
	Leaving bool          // the sender is about to stop, and hands its realms over
	Listed  Position      // up to where the sender knows which realms there are
	Unheard []Name        // the nodes that the sender does not hear
	Owners  map[Realm]Known
}

// Known is the newest owner of a realm that a node has heard of.
type Known struct {
	Epoch Epoch
	Owner Name
}

// Echo answers a heartbeat.
type Echo struct{ Sent time.Duration }

// TableChanged says that the table has changed.
type TableChanged struct{}

// ToOwner goes from a carrier to the owner of a realm.
type ToOwner struct {
	Realm Realm
	What  Up
}

// Up is a message of a carrier to an owner.
type Up interface{ up() }

type (
	// Request is answered. Attempt names it in the whole cluster. It has an input, a question, or a
	// change: what it changes in the records, beside the consequences of its input if it has one.
	Request struct {
		Attempt  uint64
		Input    presence.Input
		Change   any
		Question *Question
	}
	// Say is an input without an answer.
	Say struct{ Input presence.Input }
	// GiveUp withdraws a request whose client no longer waits, if it has not been carried out. Session is that
	// of a hello.
	GiveUp struct {
		Attempt uint64
		Session presence.SessionID // named by the hello
	}
	// Report lists links of the realm that the carrier carries, or has lost a moment ago. Several
	// of them make one report: from the First to the Last, all links.
	Report struct {
		Facts       []presence.Fact
		Read        uint64 // the number of the owner's last message that the carrier had read when it began the report
		First, Last bool
	}
	// Follow asks for lists and people, and then for all their changes. Each wish is answered by
	// [Rooms] and a [State] for each of them, each person by [News].
	Follow struct {
		Wishes []Wish
		People []engine.Subject
	}
	// Unfollow ends that.
	Unfollow struct {
		Wishes []Wish
		People []engine.Subject
	}
	// Pass passes a frame to the clients of links, once at most.
	Pass struct {
		Links []presence.LinkID
		Frame []byte
	}
	// Want asks for the [State] of one list.
	Want struct{ Topic engine.Topic }
	// Prepared says that the owner of the next epoch has read its records ahead. The present one may hand over.
	Prepared struct{ Epoch Epoch }
)

// Question is a call of a method of the owner's engine that changes nothing, by its name.
type Question struct {
	Method string
	Args   []any
}

// FromOwner goes from the owner of a realm to a carrier.
type FromOwner struct {
	Realm Realm
	Epoch Epoch
	What  Down
}

// Down is a message of an owner to a carrier.
type Down interface{ down() }

type (
	// Answer answers a [Request].
	Answer struct {
		Attempt uint64
		Reply   presence.Reply
		Method  string // of a question
		Values  []any  // that it returned
		Err     error
	}
	// WantReport asks for a [Report].
	WantReport struct{}
	// Order is an effect of the core about links that the carrier has: one that package engine
	// passes to its Links.
	Order struct{ Effect presence.Effect }
	// Deliver passes a frame to the clients of links that the carrier has.
	Deliver struct {
		Links []presence.LinkID
		Frame []byte
	}
	// Rooms are all rooms of a wish, by name.
	Rooms struct {
		Wish  Wish
		Names []presence.RoomName
	}
	// State is a whole list, with who is typing there and who asks to be let in.
	State struct {
		Snapshot engine.Snapshot
		Typists  []presence.UserID
		Asks     []presence.OpenAsk
	}
	// News is what an engine tells its Sink: a [*engine.Batch], [engine.Typists], [engine.Asks] or
	// [engine.Sight].
	News struct{ What any }
)

func (Heartbeat) message()    {}
func (Echo) message()         {}
func (TableChanged) message() {}
func (ToOwner) message()      {}
func (FromOwner) message()    {}

func (Request) up()  {}
func (Say) up()      {}
func (GiveUp) up()   {}
func (Report) up()   {}
func (Follow) up()   {}
func (Unfollow) up() {}
func (Want) up()     {}
func (Pass) up()     {}
func (Prepared) up() {}

func (Answer) down()     {}
func (WantReport) down() {}
func (Order) down()      {}
func (Rooms) down()      {}
func (Deliver) down()    {}
func (State) down()      {}
func (News) down()       {}

// Act is something that the node's driver must do.
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
	// Prepare has the node's [Records] read ahead, for [Node.Prepared].
	Prepare struct {
		Realm Realm
		Epoch Epoch
	}
	// ReadSaved reads the state of a realm from the node's [Records], for [Node.Saved].
	ReadSaved struct {
		Realm Realm
		Epoch Epoch
	}
	// Continue has an engine continue a realm, for [Node.Continued]. With many people this takes a tenth of a second,
	// in which the node must not stand still.
	Continue struct {
		Realm  Realm
		Epoch  Epoch
		Engine *engine.Engine
		Saved  presence.Saved
		From   presence.Takeover
	}
	// ReadTable reads the [Table], for [Node.Table].
	ReadTable struct{}
	// SwapTable changes the [Table]. The outcome goes to [Node.Swapped].
	SwapTable struct {
		Version uint64
		To      Owners
	}
	// PassAnswer gives a client the answer to its request.
	PassAnswer struct {
		Conn   ConnID
		Answer Answer
	}
	// WriteBeat writes a beat request to a client.
	WriteBeat struct {
		Conn  ConnID
		Probe bool
	}
	// Close ends a connection. Cut is the core's order, if it is one.
	Close struct {
		Conn ConnID
		Why  CloseReason
		Cut  presence.Cut
	}
	// Show gives changes of lists to the receivers at this node: a [*engine.Batch], an
	// [engine.Topic] whose list is known now and has not changed, or another register as in [News].
	Show struct {
		Realm Realm
		Epoch Epoch
		What  any
	}
	// Offer gives a client a frame.
	Offer struct {
		Conn  ConnID
		Frame []byte
	}
	// StopFollowing ends what a removed person follows over links of this node, with a session or without.
	StopFollowing struct {
		Realm   Realm
		Removed presence.PersonRemoved
	}
	// RealmMade says that a realm has been made, and RealmGone that one has ended. The connections of
	// an ended realm have been closed.
	RealmMade struct {
		Realm Realm
		Name  string
	}
	RealmGone struct{ Realm Realm }
	// Owns says that this node delivers for a realm from now on, or no longer.
	Owns struct {
		Realm Realm
		Name  string
		Is    bool
	}
	// Halt says that the node cannot go on, and why. Its driver ends it.
	Halt struct{ Why string }
	// Tell tells a client an effect of the core about its link.
	Tell struct {
		Conn   ConnID
		Effect presence.Effect
	}
)

// ConnID names a connection at its node.
type ConnID uint64

// CloseReason is the reason why a node ends a connection.
type CloseReason string

// The reasons.
const (
	CloseMoving   CloseReason = "moving"    // the client should come to another node
	CloseNotReady CloseReason = "not-ready" // no owner answered in time
	CloseRefused  CloseReason = "refused"   // the hello was refused
	CloseCut      CloseReason = "cut"       // the session goes on without this link
	CloseEnded    CloseReason = "ended"     // the session has ended
	CloseGone     CloseReason = "gone"      // the realm has ended
)

func (Send) act()          {}
func (Append) act()        {}
func (Prepare) act()       {}
func (ReadSaved) act()     {}
func (Continue) act()      {}
func (ReadTable) act()     {}
func (SwapTable) act()     {}
func (PassAnswer) act()    {}
func (WriteBeat) act()     {}
func (Close) act()         {}
func (Show) act()          {}
func (Tell) act()          {}
func (StopFollowing) act() {}
func (Offer) act()         {}
func (RealmMade) act()     {}
func (RealmGone) act()     {}
func (Halt) act()          {}
func (Owns) act()          {}
