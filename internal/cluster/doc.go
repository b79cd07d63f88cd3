// Package cluster lets several nodes behave as one (docs/cluster.md): which node owns which
// realm, how another one continues when an owner is gone, and how carriers and owners come to
// agree again.
//
// [Node] is a deterministic machine like the core: it is given the instant and what has come in,
// and says what to do. It does no I/O, so a whole cluster and its worst days run in one process
// from a seed (internal/rehearsal/nodes). What it needs of a broker are three small roles: [Log],
// [Table] and [Bus].
package cluster
