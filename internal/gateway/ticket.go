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

// tickets are hellos that wait for the stream that they are for. A ticket stands in
// an address, so it opens one stream within a short time and is worth nothing then.
type tickets struct {
	mu      sync.Mutex
	waiting map[[sha256.Size]byte]ticket
	byOwner map[realm.PersonID]int // how many of them; operators are nobody's
}

type ticket struct {
	greeting *realm.Greeting
	expires  time.Time
}

func newTickets() *tickets {
	return &tickets{waiting: map[[sha256.Size]byte]ticket{}, byOwner: map[realm.PersonID]int{}}
}

// Ticket takes a hello, checked as on a link, for an event stream that cannot say it
// itself. Bearer, when not empty, is the token or key that the hello does not have.
func (g *Gateway) Ticket(h wire.Hello, bearer string, caller realm.Caller) (wire.Ticket, error) {
	if h.Version != 0 && h.Version != wire.Version {
		return wire.Ticket{}, wrongVersion(h.Version)
	}
	c, err := g.realms.Greet(context.Background(), realm.WithBearer(h, bearer), caller)
	if err != nil {
		return wire.Ticket{}, err
	}
	name, expires := rand.Text(), time.Now().Add(ticketLife)
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
	t.waiting[sha256.Sum256([]byte(name))] = ticket{c, expires}
	t.byOwner[owner]++
	return wire.Ticket{Ticket: name, Expires: wire.Time{Time: expires}, Feed: "/v1/feed?ticket=" + name}, nil
}

// use takes a ticket, once.
func (t *tickets) use(name string, now time.Time) (*realm.Greeting, error) {
	key := sha256.Sum256([]byte(name))
	t.mu.Lock()
	defer t.mu.Unlock()
	found, ok := t.waiting[key]
	if ok {
		t.remove(key, found)
	}
	if !ok || now.After(found.expires) {
		return nil, &wire.Problem{Code: wire.CodeBadTicket, Field: "ticket", Detail: "the ticket is unknown, used or expired",
			Allowed: "a fresh one from POST /v1/tickets"}
	}
	return found.greeting, nil
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
