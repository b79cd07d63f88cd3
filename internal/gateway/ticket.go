package gateway

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"sync"
	"time"

	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/wire"
)

const (
	ticketLife      = 30 * time.Second
	maxTickets      = 20_000
	maxTicketsOfOne = 64
)

// tickets are hellos that wait for their stream. A ticket is part of an address, so it is valid
// for one stream and a short time.
type tickets struct {
	mu      sync.Mutex
	waiting map[[sha256.Size]byte]ticket
	byOwner map[realm.PersonID]int // number of tickets; without those of operators
}

type ticket struct {
	greeting *realm.Greeting
	hello    wire.Hello // with the token; empty if the service is alone
	expires  time.Time
}

func newTickets() *tickets {
	return &tickets{waiting: map[[sha256.Size]byte]ticket{}, byOwner: map[realm.PersonID]int{}}
}

// Ticket checks a hello like one on a link, and keeps it for an event stream. Bearer, if not
// empty, is the token or key, which the hello then lacks.
func (g *Gateway) Ticket(h wire.Hello, bearer string, caller realm.Caller) (wire.Ticket, error) {
	if h.Version != 0 && h.Version != wire.Version {
		return wire.Ticket{}, wrongVersion(h.Version)
	}
	h = realm.WithBearer(h, bearer)
	c, err := g.realms.Greet(context.Background(), h, caller)
	if err != nil {
		return wire.Ticket{}, err
	}
	name, expires := g.peers.Mark(rand.Text()), time.Now().Add(ticketLife)
	t := g.tickets
	t.mu.Lock()
	defer t.mu.Unlock()
	owner := c.Guest().ID()
	if owner.User != "" && t.byOwner[owner] >= maxTicketsOfOne {
		return wire.Ticket{}, &wire.Problem{Code: wire.CodeTooFast, Detail: "this person has too many tickets that wait to be used",
			Allowed: fmt.Sprintf("at most %d at once, each for half a minute", maxTicketsOfOne)}
	}
	if len(t.waiting) >= maxTickets {
		return wire.Ticket{}, &wire.Problem{Code: wire.CodeBusy, Detail: "too many tickets wait to be used", Allowed: "another try in a second"}
	}
	t.waiting[sha256.Sum256([]byte(name))] = ticket{c, g.origin(h), expires}
	t.byOwner[owner]++
	return wire.Ticket{Ticket: name, Expires: wire.Time{Time: expires}, Feed: "/v1/feed?ticket=" + name}, nil
}

// use returns a ticket, and invalidates it.
func (t *tickets) use(name string, now time.Time) (ticket, error) {
	key := sha256.Sum256([]byte(name))
	t.mu.Lock()
	defer t.mu.Unlock()
	found, ok := t.waiting[key]
	if ok {
		t.remove(key, found)
	}
	if !ok || now.After(found.expires) {
		return ticket{}, badTicket("the ticket is unknown, used or expired")
	}
	return found, nil
}

func badTicket(detail string) error {
	return &wire.Problem{Code: wire.CodeBadTicket, Field: "ticket", Detail: detail, Allowed: "a fresh one from POST /v1/tickets"}
}

func (t *tickets) expire(now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for key, ticket := range t.waiting {
		if now.After(ticket.expires) {
			t.remove(key, ticket)
		}
	}
}

func (t *tickets) remove(key [sha256.Size]byte, found ticket) {
	delete(t.waiting, key)
	decrease(t.byOwner, found.greeting.Guest().ID())
}
