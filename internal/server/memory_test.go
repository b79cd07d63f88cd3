package server

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestMemoryIsGivenBackAfterABurstAndInACalm plays what the runtime says, second by second.
func TestMemoryIsGivenBackAfterABurstAndInACalm(t *testing.T) {
	const mb = 1 << 20
	freed := 0
	var is heap
	c := collector{free: func() { freed++; is.garbage, is.kept = 0, 0 }}
	pass := func(seconds int, allocated uint64) int {
		freed = 0
		for range seconds {
			is.allocated += allocated
			is.garbage += allocated
			c.look(is)
		}
		return freed
	}
	is.inUse = 50 * mb
	require.Zero(t, pass(5, 40*mb), "not while the links come")
	require.Equal(t, 1, pass(1, 3*mb), "as soon as they have come")
	require.Zero(t, pass(60, 8*mb), "not under an even load")
	require.Equal(t, 1, pass(1, 1*mb), "the load is over")
	require.Zero(t, pass(15, mb/4), "little has come since")
	require.InDelta(t, 6, pass(120, mb/4), 1, "about every five megabytes while links are idle")
	is.kept = 20 * mb
	require.Equal(t, 1, pass(1, mb/10), "what others have freed is given back, too")
	require.Zero(t, pass(200, 0), "nothing comes of nothing")
}
