// Package hooks tells addresses of the back end what happens: it makes events of what
// the records announce, and delivers them from the outbox that the records keep.
//
// Bodies are CloudEvents 1.0 in JSON, signatures those of Standard Webhooks. An event is
// delivered at least once; those of a room, and those of a person as such, in their
// order. What is not taken is tried again for a day, with growing pauses, and then
// parked.
//
// The package may import records and what stands below it.
package hooks
