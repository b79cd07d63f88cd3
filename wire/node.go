package wire

// Nodes are the nodes of a cluster and what they own, as the asked node knows it.
type Nodes struct {
	Cluster string        `json:"cluster"`
	Asked   string        `json:"asked"` // the node that answers
	Nodes   []Node        `json:"nodes"`
	Realms  []RealmOwner  `json:"realms"`
	Log     LogState      `json:"log"`
	Changes []OwnerChange `json:"changes"` // of owners, newest first, since the asked node started; at most 50
}

// Node is a node of a cluster.
type Node struct {
	Node  string `json:"node"`
	State string `json:"state" jsonschema:"enum=ready,enum=not-ready,enum=leaving,enum=away"`
	// Because says why it is not ready, or what is known of it if it is away.
	Because string   `json:"because,omitempty"`
	Owns    []string `json:"owns"`              // realms
	Links   int      `json:"links"`             // that it carries
	Read    uint64   `json:"read"`              // the last record of the log that it has applied
	Behind  uint64   `json:"behind"`            // records of the log after that
	Unheard []string `json:"unheard,omitempty"` // other nodes that it does not hear
	Clock   int64    `json:"clock"`             // milliseconds by which its clock is ahead of that of the asked node
	Keeps   bool     `json:"keeps_log"`
	Leads   []string `json:"leads,omitempty"` // of the broker: log, table
	Version string   `json:"version,omitempty"`
	Since   *Time    `json:"since,omitempty"` // its start
}

// States of a node.
const (
	NodeReady    = "ready"
	NodeNotReady = "not-ready"
	NodeLeaving  = "leaving"
	NodeAway     = "away"
)

// RealmOwner says which node owns a realm.
type RealmOwner struct {
	Realm string `json:"realm"`
	Owner string `json:"owner,omitempty"` // empty: none has begun yet
	Epoch uint64 `json:"epoch"`
	// Answers says whether the owner answers for the realm now.
	Answers bool `json:"answers"`
}

// OwnerChange says that a node has begun to own a realm.
type OwnerChange struct {
	Time  Time   `json:"time"` // by the clock of the new owner
	Realm string `json:"realm"`
	Owner string `json:"owner"`
	Epoch uint64 `json:"epoch"`
	// Handed says that the owner before handed the realm over.
	Handed bool `json:"handed"`
}

// LogState is the state of the log that all nodes follow.
type LogState struct {
	First   uint64 `json:"first"` // the number of the oldest record that it keeps
	Last    uint64 `json:"last"`
	Bytes   uint64 `json:"bytes"`
	Most    uint64 `json:"most"`    // bytes that it keeps at most
	Copies  int    `json:"copies"`  // nodes that keep it
	Current int    `json:"current"` // how many of them have all of it, and of the table of owners
}

// Drained is the answer to a drain.
type Drained struct {
	Node string `json:"node"`
}
