package realm

import "tovik.example/tovik/internal/access"

// Caller is where a request comes from.
type Caller struct {
	Address string // of the client, as the trusted proxies report it
	Origin  string // of the page, as its browser reports it; empty: not a page
	Own     bool   // the page belongs to this service
	// Operator has signed in to the console with this browser; nil: nobody has.
	Operator *access.Operator
}
