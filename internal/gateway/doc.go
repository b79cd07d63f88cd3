// Package gateway carries links: it turns the frames of a connection into requests of a
// conversation, and answers and deliveries into frames.
//
// There is a type for each kind of link: a [webSocket], an [eventStream], whose requests
// come as posts, and HTTP beats, which are calls without a connection. Package transport
// moves the bytes; what is written goes through the link's outbox, in order, and what the
// conversation follows is fetched when the outbox is empty.
//
// The package decides nothing: who may do what is up to package realm. It may import realm,
// transport, presence, problem, pace, strictjson and wire.
package gateway
