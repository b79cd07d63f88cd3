// Package wire has the shapes that Tovik and its clients exchange: the frames of
// a link, the JSON documents of the HTTP API, and the words for what can go
// wrong. docs/protocol.md describes them for readers who write their own client.
//
// It holds no logic and imports the standard library only. Times are RFC 3339 in
// UTC with milliseconds.
package wire
