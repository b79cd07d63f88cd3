// Package client talks to a Tovik service: over a [Link], to take part in rooms
// or to watch them live, and over HTTP with an [API], to read who is where.
//
// A Link is one connection. It answers the service's beat requests by itself, so
// a session lives as long as its process does, and tells of what it follows
// through Options.OnEvent.
package client
