package gateway

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestLinksComeBackAtTheRateAtWhichTheyAreLetIn plays a storm second by second.
func TestLinksComeBackAtTheRateAtWhichTheyAreLetIn(t *testing.T) {
	var r returning
	at := time.Now()
	second := func(letIn, turnedAway int) (waits []time.Duration) {
		for range turnedAway {
			waits = append(waits, r.after(at))
		}
		for range letIn {
			r.letIn(at)
		}
		at = at.Add(time.Second)
		return waits
	}
	second(5, 0)
	waits := second(400, 3000)
	require.Equal(t, shortestReturn+time.Second/comingBack, waits[0], "the rate is not known: few came because few wanted to")
	require.Equal(t, shortestReturn+3000*time.Second/comingBack, waits[2999])
	waits = second(400, 100)
	require.Equal(t, shortestReturn+500*time.Millisecond+time.Second/400, waits[0], "after those who were told before, at the rate of the last second")
	second(400, 1)
	waits = second(0, 200)
	require.Equal(t, 199*time.Second/400, waits[199]-waits[0], "the same rate")
	waits = second(400, 100_000)
	for _, wait := range waits {
		require.LessOrEqual(t, wait, longestReturn)
	}
	require.NotEqual(t, waits[99_998], waits[99_999], "not all at once")
	at = at.Add(time.Minute)
	second(1, 0)
	require.Equal(t, shortestReturn+time.Second/comingBack, second(1, 1)[0], "nobody is waited for")
}
