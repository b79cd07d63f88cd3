package realm

import "tovik.example/tovik/internal/access"

// Caller is where a request comes from.
type Caller struct {
	Address string // of the client, as the last trusted proxy tells it
	Origin  string // of the page, as its browser says; empty: it is no page
	Own     bool   // the page is one of the service's own
	// Operator has signed in to the console with this browser; nil: nobody has.
	Operator *access.Operator
}
