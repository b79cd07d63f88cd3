package httpapi

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTheLastTrustedProxySaysWhoAsks(t *testing.T) {
	p := Proxies{netip.MustParsePrefix("10.0.0.0/8")}
	require.Equal(t, "192.0.2.7", p.address("10.0.0.1", "198.51.100.1, 192.0.2.7, 10.0.0.2"))
	require.Equal(t, "203.0.113.1", p.address("203.0.113.1", "198.51.100.1"))
}
