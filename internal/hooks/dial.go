package hooks

import (
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"syscall"
	"time"
)

// answerTimeout is how long a receiver may take.
const answerTimeout = 10 * time.Second

// closedNetworks are reached from inside only, besides those that netip knows.
var closedNetworks = func() (list []netip.Prefix) {
	for _, text := range []string{
		"0.0.0.0/8", "100.64.0.0/10", "192.0.0.0/24", "192.0.2.0/24", "198.18.0.0/15", "198.51.100.0/24", "203.0.113.0/24", "240.0.0.0/4",
		"64:ff9b::/96", "64:ff9b:1::/48", "100::/64", "2001::/23", "2001:db8::/32", "2002::/16", "fec0::/10",
	} {
		list = append(list, netip.MustParsePrefix(text))
	}
	return list
}()

// isPublic tells whether an address is one that anybody can reach.
func isPublic(a netip.Addr) bool {
	a = a.Unmap()
	return a.IsGlobalUnicast() && !a.IsPrivate() && !a.IsLoopback() && !a.IsLinkLocalUnicast() &&
		!slices.ContainsFunc(closedNetworks, func(p netip.Prefix) bool { return p.Contains(a) })
}

// newClient makes a client that follows no redirects, and that unless private is true
// connects to no address of an inner network, whatever name it has: what is checked is
// what is dialled.
func newClient(private bool) *http.Client {
	dialer := &net.Dialer{Timeout: answerTimeout / 2}
	if !private {
		dialer.Control = func(_, address string, _ syscall.RawConn) error {
			at, err := netip.ParseAddrPort(address)
			if err != nil {
				return err
			}
			if !isPublic(at.Addr()) {
				return fmt.Errorf("%s is an address of an inner network; to allow it: tovik serve --private-hooks", at.Addr())
			}
			return nil
		}
	}
	return &http.Client{
		Timeout:       answerTimeout,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{
			DialContext: dialer.DialContext, MaxIdleConnsPerHost: atOnce, IdleConnTimeout: time.Minute,
			TLSHandshakeTimeout: answerTimeout / 2, MaxResponseHeaderBytes: 64 << 10,
		},
	}
}

// Allows tells whether hooks may be told at a network address.
func (d *Dispatcher) Allows(address netip.Addr) bool { return d.private || isPublic(address) }
