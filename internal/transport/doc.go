// Package transport carries many long-lived connections at little cost each.
//
// A [Stream] is one connection. While nothing happens it has neither a goroutine nor a buffer: one
// goroutine waits for data on the sockets of all streams. (Where the system offers no epoll, each
// has a goroutine with a minimal stack.) Data is read into the buffer of a worker of the [Pool],
// which handles it. To write, a stream is woken and a worker fetches everything that is ready into
// one write, which never waits. If the client does not read, the stream gets a goroutine until it
// does, or until it has made no progress for too long.
//
// The stream's [Handler] gives the bytes their meaning. The package implements the framing of
// WebSocket (RFC 6455) and of event streams (Server-Sent Events), and knows nothing of presence.
// Of other packages of Tovik it imports deflate only.
package transport
