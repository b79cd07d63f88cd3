// Package presence is the core of Tovik: the rules that say who is in which
// room, through how many sessions, since when, and when somebody has left.
//
// A [Core] is a deterministic machine. It is given an input together with the
// current [Instant], changes its state, and appends what follows from that to
// an [Effects] list, in order. The same inputs at the same instants always give
// the same effects, so a day of presence can be replayed in a test.
//
// The package does no I/O, starts no goroutine, reads no clock, logs nothing,
// and imports the standard library only. A Core is not safe for concurrent use;
// the engine package owns one and gives it a lock and a clock. One Core serves
// one realm.
//
// Three calls are the whole life of a Core: [Core.Apply] for what happens,
// [Core.Advance] for the passing of time, and the readers ([Core.Members],
// [Core.Count], [Core.Rooms]) for what is so now.
package presence
