// Package gateway carries links: it turns the frames of a connection into inputs
// of the engine, and answers, effects and deliveries into frames.
//
// A link is a WebSocket, an event stream whose requests come as posts, or a lease
// that is renewed by HTTP calls. How bytes come and go is up to package transport;
// what is written goes through the link's outbox, in order, and what the link follows
// is fetched from delivery when the outbox is empty.
//
// No rule of presence stands here. The package may import delivery, access,
// transport, engine and presence.
package gateway
