package gateway

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTheEndOfALinkEndsAllThatWaits begins two requests of a link, and ends them in either order.
func TestTheEndOfALinkEndsAllThatWaits(t *testing.T) {
	t.Parallel()
	for _, olderFirst := range []bool{true, false} {
		l := &link{}
		older, olderOver := l.during()
		newer, newerOver := l.during()
		remains, over := newer, newerOver
		if olderFirst {
			olderOver()
		} else {
			newerOver()
			remains, over = older, olderOver
		}
		require.NoError(t, remains.Err())
		l.letGo()
		require.Error(t, remains.Err())
		over()
		late, _ := l.during()
		require.Error(t, late.Err(), "the link has ended")
	}
}
