// Package timing turns a recorded journal into evidence for the timings of a policy: for how long
// links were gone and people were quiet ([Study]), what others would have seen under another
// policy ([Replay]), and the smallest grace that keeps flickers rare ([Advise]).
//
// It is pure: entries go in, in order, and numbers come out. It may import presence, journal
// and agenda.
package timing
