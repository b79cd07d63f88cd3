// Package transport carries many long-lived connections at little cost each.
//
// A [Stream] is one connection. While nothing happens it has one goroutine with a minimal stack,
// which waits without a read buffer. Data is read into a pooled buffer and handled on a worker
// of the [Pool], so that the stack of the waiting goroutine does not grow. To write, a stream is
// woken and a worker fetches everything that is ready into one write, which never waits. If the
// client does not read, the stream gets a goroutine until it does, or until it has made no
// progress for too long.
//
// The stream's [Handler] gives the bytes their meaning. The package implements the framing of
// WebSocket (RFC 6455) and of event streams (Server-Sent Events), and knows nothing of presence.
// It imports no other package of Tovik.
package transport
