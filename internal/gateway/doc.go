// Package gateway carries links: it turns the frames of a connection into inputs
// of the engine, and answers, effects and deliveries into frames.
//
// Each link has two goroutines, one that reads and one that writes. What is
// written goes through the link's outbox, in order; what the link follows is
// fetched from delivery when the outbox is empty. Everything is let go when the
// reader ends.
//
// No rule of presence stands here. The package may import delivery, access,
// engine and presence.
package gateway
