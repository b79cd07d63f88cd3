// Package delivery knows who follows what, and finds for each receiver the
// frames that it lacks.
//
// There are two kinds of things to follow. The members of a room are a log: a short
// ring of sealed batches that all followers share, each follower holding
// only the revision that it has; it gets the batches since then, or a snapshot when
// the ring no longer has them or the snapshot is smaller. A count, a set of typists
// and a person's status are registers: only the newest matters. So a receiver's
// memory is bounded by what it follows, never by how slowly it reads. Each frame is
// encoded once, outside all locks, when the first receiver needs it. Finding what a
// receiver lacks costs what has changed.
//
// A room with more people than its policy tells one by one is followed by its count
// and by pages of members at a pinned revision.
//
// Each receiver, topic and subject has its own lock. The order is: receiver, then one topic or
// subject, then one of the leaf locks (the hub's maps, the postponed counts, a receiver's
// inbox). Leaf locks are held for a moment only.
//
// The package holds no rule of presence and no connection. It may import engine
// and presence.
package delivery
