package access

import (
	"errors"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"tovik.example/tovik/wire"
)

// How often keys from one address may be refused: so many at once, then one each time.
// Who has used that up is not listened to.
const (
	refusals     = 30
	refusalEvery = 2 * time.Second
	maxGuarded   = 10_000 // addresses that are kept in mind
)

// Guard limits guessing from a network address. The zero value is ready.
type Guard struct {
	mu     sync.Mutex
	failed map[string]*rate.Limiter
}

// Check is [Keyring.Check] for a key from an address, unless too many keys from there were
// refused. Tokens are not guarded: nobody guesses a signature, and one broken page would lock
// out everybody behind the same address.
func (g *Guard) Check(keys *Keyring, address, key string, need Role) (Operator, error) {
	now := time.Now()
	if err := g.admits(address, now); err != nil {
		return Operator{}, err
	}
	operator, err := keys.Check(key, need)
	var problem *wire.Problem
	if errors.As(err, &problem) && problem.Code == wire.CodeBadKey {
		g.refused(address, now)
	}
	return operator, err
}

func (g *Guard) admits(address string, now time.Time) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.failed) == 0 {
		return nil
	}
	if l := g.failed[network(address)]; l != nil && l.TokensAt(now) < 1 {
		return &wire.Problem{Code: wire.CodeLockedOut, Field: "address", Value: address,
			Detail: "too many keys of this network address were refused", Allowed: "another try in a minute"}
	}
	return nil
}

// network returns what is guarded: the address, or for IPv6 the 64 bits of a subscriber.
func network(address string) string {
	if a, err := netip.ParseAddr(address); err == nil && a.Unmap().Is6() {
		if prefix, err := a.Prefix(64); err == nil {
			return prefix.String()
		}
	}
	return address
}

func (g *Guard) refused(address string, now time.Time) {
	address = network(address)
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

// sweep forgets addresses without recent refusals, or else half of all addresses: a full guard
// must not use unlimited memory.
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
