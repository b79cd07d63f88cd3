package hooks

import (
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"syscall"
	"time"

	"code.dny.dev/ssrf"
)

// answerTimeout is how long a receiver may take.
const answerTimeout = 10 * time.Second

// public knows the ranges for special purposes that IANA registers (RFC 6890), as a
// library keeps them up to date. Of IPv6 only global unicast addresses pass, so no form in
// which an IPv4 address hides does.
var public = ssrf.New(ssrf.WithAnyNetwork(), ssrf.WithAnyPort())

// isPublic tells whether an address is one that anybody can reach.
func isPublic(a netip.Addr) bool { return a.IsValid() && a.Zone() == "" && public.SafeAddr(a) == nil }

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
