// Package transport carries many long connections at little cost each.
//
// A [Stream] is one connection. While nothing happens it has one goroutine with
// the smallest stack, which waits without a read buffer. What comes is read into a
// pooled buffer and handled on a worker of the [Pool], so the stack of the waiting
// goroutine never grows. What is to be written is fetched by a worker when the
// stream has been woken: everything that is ready is joined into one write, which
// never waits. A stream whose client does not read gets a goroutine of its own until
// it does, or until it has made no progress for too long.
//
// What the bytes mean is up to the stream's [Handler]. The package speaks the
// framing of WebSocket (RFC 6455) and of event streams (Server-Sent Events), and
// knows nothing of presence. It imports no other package of Tovik.
package transport
