// Package presence is the core of Tovik: the rules that say who is in which
// room, through how many sessions, with what status, since when, and when
// somebody has left.
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
// Whoever drives a Core does this:
//   - tell it what happens with [Core.Apply], at instants that never go back, with
//     names that [ParseRoom] has accepted;
//   - let time pass with [Core.Advance], no later than [Core.Due] says;
//   - carry out the effects that are about links: write a beat request for
//     [AskBeat] and tell [BeatWritten] when it has been written; close a link for
//     [Cut]; pass on [WarnExpiry]; answer a pending hello when [Settled] comes;
//   - show others the effects [MemberChanged], [TypingChanged] and
//     [PersonChanged], each to those who have a [View] that it names.
//
// What is so now is read with [Core.Members], [Core.Count], [Core.Typing],
// [Core.Person] and [Core.Rooms], and why with [Core.Explain]. [Core.Save] and
// [Core.Restore] carry a core over a restart.
package presence
