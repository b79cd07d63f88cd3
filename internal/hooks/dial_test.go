package hooks

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestOnlyPublicAddressesAreDialled(t *testing.T) {
	for _, address := range []string{
		"127.0.0.1", "10.1.2.3", "172.16.0.1", "192.168.1.1", "169.254.169.254", "100.64.0.1", "0.0.0.0", "255.255.255.255", "224.0.0.1",
		"192.0.2.1", "198.51.100.1", "203.0.113.1", "198.18.0.1", "192.88.99.1", "240.0.0.1",
		"::1", "::", "::ffff:127.0.0.1", "::ffff:8.8.8.8", "::127.0.0.1", "::8.8.8.8", "64:ff9b::7f00:1", "2002:7f00:1::", "2002:808:808::",
		"2001:db8::1", "3fff::1", "5f00::1", "2001:20::1", "fe80::1", "fec0::1", "fc00::1", "ff02::1", "100::1", "4000::1",
	} {
		require.False(t, isPublic(netip.MustParseAddr(address)), address)
	}
	for _, address := range []string{"8.8.8.8", "1.1.1.1", "2606:4700::1111", "2a00:1450::1"} {
		require.True(t, isPublic(netip.MustParseAddr(address)), address)
	}
}
