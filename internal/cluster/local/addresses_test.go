package local

import (
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestNobodyElseGetsAFreeAddress has processes that ask the system for ports of their own between the moment at which
// an address is found and the one at which its process listens there.
func TestNobodyElseGetsAFreeAddress(t *testing.T) {
	t.Parallel()
	system := 32768
	if text, err := os.ReadFile("/proc/sys/net/ipv4/ip_local_port_range"); err == nil {
		system, err = strconv.Atoi(strings.Fields(string(text))[0])
		require.NoError(t, err)
	}
	seen := map[string]bool{}
	for range 10 {
		list, err := FreeAddresses(20)
		require.NoError(t, err)
		for _, address := range list {
			require.False(t, seen[address], "%s was given out twice", address)
			seen[address] = true
			require.Less(t, int(netip.MustParseAddrPort(address).Port()), system, "the system may give this port to others")
		}
	}
	first, err := FreeAddresses(1)
	require.NoError(t, err)
	taken, err := net.Listen("tcp", first[0])
	require.NoError(t, err)
	defer func() { require.NoError(t, taken.Close()) }()
	for range 2 * block { // all of them, twice
		list, err := FreeAddresses(1)
		require.NoError(t, err)
		require.NotEqual(t, first, list, "somebody listens there")
	}
}
