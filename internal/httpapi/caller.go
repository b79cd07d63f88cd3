package httpapi

import (
	"net"
	"net/netip"
	"net/url"
	"strings"

	"github.com/valyala/fasthttp"

	"tovik.example/tovik/internal/realm"
)

// Proxies are the networks of trusted proxies.
type Proxies []netip.Prefix

// callerOf finds out where a request comes from.
func (p Proxies) callerOf(ctx *fasthttp.RequestCtx) realm.Caller {
	h := &ctx.Request.Header
	c := realm.Caller{Address: p.addressOf(ctx), Origin: string(h.Peek("Origin"))}
	if c.Origin == "" {
		return c
	}
	if u, err := url.Parse(c.Origin); err == nil {
		c.Own = u.Host == string(h.Host())
	}
	return c
}

// addressOf returns the network address that a request comes from.
func (p Proxies) addressOf(ctx *fasthttp.RequestCtx) string {
	return p.address(hostOf(ctx.RemoteAddr()), string(ctx.Request.Header.Peek("X-Forwarded-For")))
}

// address returns the client's address: in X-Forwarded-For, the rightmost address that is not a
// trusted proxy. Addresses to the left of it may be made up by the client; Fiber would take the
// leftmost.
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

func hostOf(address net.Addr) string {
	if tcp, ok := address.(*net.TCPAddr); ok {
		return tcp.IP.String()
	}
	return address.String()
}
