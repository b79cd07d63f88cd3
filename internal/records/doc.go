// Package records keeps what has to outlive the service in one SQLite file of the
// data directory: realms, keys and removals; the directory of people, with what a
// restart needs of those who are here; declared rooms; the journal; headcounts; hooks
// and what is to be delivered to them.
//
// There are two ways in. What must be durable before an answer is written by a method of
// [Store], and is when it returns. What happens all the time goes through a [Recorder]
// of each realm, which the engine tells under its lock, to the [Writer], which writes it
// behind, at least each [FlushEvery]. The writer never holds presence up: what cannot be
// written waits in memory, people as they are now and of the journal as much as there is
// room for. Beyond that entries are dropped, and counted in the journal itself.
//
// The package may import engine and presence, and nothing else of the house.
package records
