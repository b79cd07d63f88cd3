// Package delivery knows who follows what, and finds for each receiver the
// frames that it lacks.
//
// There are two kinds of things to follow. The members of a room are a log: a short
// ring of sealed batches that all followers share, each follower holding
// only the revision that it has; it gets the batches since then, or a snapshot when
// the ring no longer has them or the snapshot is smaller. A count, a set of typists
// and a person's status are registers: only the newest matters. So a receiver's
// memory is bounded by what it follows, never by how slowly it reads; each frame is
// encoded once, by the first who needs it and outside all locks; and finding what a
// receiver lacks costs what has changed.
//
// A room with more people than its policy tells one by one is followed by its count
// and by pages of members at a pinned revision.
//
// Each receiver, topic and subject has a lock. They are taken in this order: a receiver's, one
// topic's or subject's, and last, alone and for a moment, one of the hub's, of its postponed
// counts or of a receiver's inbox. So rooms do not wait for each other, and the source never
// waits for a receiver that is being served.
//
// The package holds no rule of presence and no connection. It may import engine
// and presence.
package delivery
