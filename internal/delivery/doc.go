// Package delivery knows who follows what, and finds for each receiver the
// frames that it lacks.
//
// A room is a topic. At detail members it is a log: a short ring of sealed,
// encoded batches that all followers share, each follower holding only the
// revision that it has; it gets the batches since then, or a snapshot when the
// ring no longer has them. At detail count it is a register: only the newest
// matters. So a receiver's memory is bounded by what it follows, never by how
// slowly it reads, and each batch is encoded once.
//
// The package holds no rule of presence and no connection. It may import engine
// and presence.
package delivery
