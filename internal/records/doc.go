// Package records keeps what must outlive the service, in one SQLite file of the data
// directory: realms, keys and removals; the directory of people, with what a restart needs to
// know of those who are present; declared rooms; the journal; headcounts; hooks and their
// deliveries.
//
// There are two ways to write. What must be durable before an answer is written by a method of
// [Store], and is durable when the method returns. What happens all the time goes from the
// engine, under its lock, to the [Recorder] of the realm, and from there to the [Writer], which
// writes it behind, at least every [FlushEvery]. The writer never holds presence up: what cannot be
// written waits in memory, people in their newest state and the journal up to a limit. Beyond
// that limit entries are dropped, and counted in the journal itself.
//
// The package may import presence, engine, journal, headcount and timing, and nothing else of the
// house.
package records
