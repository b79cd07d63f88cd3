package access

import (
	"sync"
	"time"

	"golang.org/x/time/rate"

	"tovik.example/tovik/wire"
)

// How often tokens and keys from one address may be refused: so many at once, then one
// each time. Who has used that up is not listened to.
const (
	refusals     = 30
	refusalEvery = 2 * time.Second
	maxGuarded   = 10_000 // addresses that are kept in mind
)

// Guard keeps an address from guessing. The zero value is ready.
type Guard struct {
	mu     sync.Mutex
	failed map[string]*rate.Limiter
}

// Admits tells whether an address may show a token or key. Its error is a
// [*wire.Problem].
func (g *Guard) Admits(address string, now time.Time) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if l := g.failed[address]; l != nil && l.TokensAt(now) < 1 {
		return &wire.Problem{Code: wire.CodeLockedOut, Field: "address", Value: address,
			Detail: "too many tokens or keys of this network address were refused", Allowed: "another try in a minute"}
	}
	return nil
}

// Refused notes that a token or key of an address was refused.
func (g *Guard) Refused(address string, now time.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.failed == nil {
		g.failed = map[string]*rate.Limiter{}
	}
	l := g.failed[address]
	if l == nil {
		if len(g.failed) >= maxGuarded {
			g.sweep(now)
		}
		l = rate.NewLimiter(rate.Every(refusalEvery), refusals)
		g.failed[address] = l
	}
	l.AllowN(now, 1)
}

// sweep forgets those who have done nothing for long, or else half of all: a guard that
// is full must not be a way to memory without bound.
func (g *Guard) sweep(now time.Time) {
	for address, l := range g.failed {
		if l.TokensAt(now) >= refusals {
			delete(g.failed, address)
		}
	}
	for address := range g.failed {
		if len(g.failed) < maxGuarded/2 {
			return
		}
		delete(g.failed, address)
	}
}
