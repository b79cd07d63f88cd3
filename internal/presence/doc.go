// Package presence is the core of Tovik: the rules that decide who is in which room, through how
// many sessions, with which status and since when, and when somebody has left.
//
// A [Core] is a deterministic state machine. It is given an input and the current [Instant],
// changes its state, and appends the effects to an [Effects] list, in order. The same inputs at
// the same instants always have the same effects, so that a day of presence can be replayed in a
// test.
//
// The package does no I/O, starts no goroutine, reads no clock, logs nothing, and imports only
// the standard library. A Core is not safe for concurrent use; package engine gives it a lock
// and a clock. One Core serves one realm.
//
// The driver of a Core must
//   - give it all inputs with [Core.Apply], at instants that never go back, with names
//     that [ParseRoom] has accepted;
//   - call [Core.Advance] no later than [Core.Due] says;
//   - carry out the effects about links: write a beat request for [AskBeat] and apply
//     [BeatWritten] when it has been written; close a link for [Cut]; pass on
//     [WarnExpiry]; answer a pending hello at [Settled];
//   - show the effects [MemberChanged], [TypingChanged] and [PersonChanged] to those who
//     have one of the views that the effect names.
//
// The current state is read with [Core.Members], [Core.Count], [Core.Typing], [Core.Person] and
// [Core.Rooms], and the reasons for it with [Core.Explain]. [Core.Save] and [Core.Restore] carry
// a core over a restart.
package presence
