// Package gateway carries links: it turns frames from a connection into requests of a
// conversation, and answers and deliveries into frames.
//
// Each kind of link has its own code: [webSocket], [eventStream] with requests as posts, and
// HTTP beats, which have no connection. Package transport moves the bytes. Answers are written
// in order from the link's outbox; what the conversation follows is fetched when the outbox is
// empty.
//
// The package makes no decisions: package realm knows who may do what. It may import realm,
// transport, presence, problem, pace, strictjson and wire.
package gateway
