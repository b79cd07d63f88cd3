package cli

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestNoLineBreaksATime wraps a line at all widths.
func TestNoLineBreaksATime(t *testing.T) {
	const line = "  It stays listed for 1 min 2 s, or for 2 min 22 s if its page was hidden, in 3 days."
	for width := 20; width < 100; width++ {
		wrapped := hang(line, width)
		for _, time := range []string{"1 min 2 s", "2 min 22 s", "3 days"} {
			require.Contains(t, wrapped, time, width)
		}
		require.NotContains(t, wrapped, "\u00a0")
	}
	require.Equal(t, line, hang(line, 100))
}
