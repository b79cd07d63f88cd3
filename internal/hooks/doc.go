// Package hooks sends events to addresses of the back end. It makes events from what the records
// announce, and delivers them from the outbox in the records.
//
// Bodies are CloudEvents 1.0 in JSON; signatures follow Standard Webhooks. An event is delivered
// at least once. The events of a room are delivered in order, and so are those of a person. A
// delivery that is not accepted is retried for about a day, with growing pauses, and then
// parked.
//
// The package may import records and the packages below it.
package hooks
