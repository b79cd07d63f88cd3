package gateway

import (
	"net/netip"
	"net/url"
	"strings"

	"github.com/valyala/fasthttp"

	"tovik.example/tovik/internal/access"
)

// Caller is where a request comes from.
type Caller struct {
	Address string // of the client, as the last proxy that is trusted tells it
	Origin  string // of the page, as its browser says; empty: it is no page
	Own     bool   // the page is one of the service's own
	// Operator has signed in to the console with this browser; nil: nobody has.
	Operator *access.Operator
}

// Proxies are networks of proxies that are trusted to say whom they speak for.
type Proxies []netip.Prefix

// CallerOf finds out where a request comes from.
func (p Proxies) CallerOf(ctx *fasthttp.RequestCtx) Caller {
	h := &ctx.Request.Header
	c := Caller{Address: p.address(hostOf(ctx.RemoteAddr()), string(h.Peek("X-Forwarded-For"))), Origin: string(h.Peek("Origin"))}
	if c.Origin == "" {
		return c
	}
	if u, err := url.Parse(c.Origin); err == nil {
		c.Own = u.Host == string(h.Host())
	}
	return c
}

// address is the client's: from the right of the list that proxies have written, the
// first that is not one of them. What stands further left the client may have made up.
func (p Proxies) address(remote, forwarded string) string {
	if len(p) == 0 || forwarded == "" {
		return remote
	}
	list := strings.Split(forwarded, ",")
	for i := len(list) - 1; i >= 0 && p.trusts(remote); i-- {
		next, err := netip.ParseAddr(strings.TrimSpace(list[i]))
		if err != nil {
			break
		}
		remote = next.Unmap().String()
	}
	return remote
}

func (p Proxies) trusts(address string) bool {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return false
	}
	for _, prefix := range p {
		if prefix.Contains(a.Unmap()) {
			return true
		}
	}
	return false
}
