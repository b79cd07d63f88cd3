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

// answerTimeout limits how long a receiver may take to answer.
const answerTimeout = 10 * time.Second

// public knows the special-purpose ranges that IANA registers (RFC 6890), kept up to date by a
// library. Of IPv6, only global unicast addresses count as public, so that no IPv4 address can
// hide in one.
var public = ssrf.New(ssrf.WithAnyNetwork(), ssrf.WithAnyPort())

// isPublic reports whether an address is public.
func isPublic(a netip.Addr) bool { return a.IsValid() && a.Zone() == "" && public.SafeAddr(a) == nil }

// newClient returns a client that follows no redirects and, unless private is true, connects
// only to public addresses. The address is checked when it is dialled, whatever its name.
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

// Allows reports whether hooks may be sent to a network address.
func (d *Dispatcher) Allows(address netip.Addr) bool { return d.private || isPublic(address) }
