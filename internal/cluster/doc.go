// Package cluster lets several nodes behave as one (docs/cluster.md). It decides which node owns
// which realm, how another node continues when an owner dies, and how carriers and owners come to
// agree again.
//
// [Node] is a deterministic state machine, like the core. It does no I/O, so a whole cluster runs in
// one process from a seed (internal/rehearsal/nodes). A broker fills three small roles: [Log],
// [Table] and [Bus].
//
// [Runner] runs a Node by the clock of the machine, and [Core] is a realm's core as a node reaches it.
//
// It imports presence, engine and the standard library only.
package cluster
