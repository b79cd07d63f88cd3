package presence

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestWheelFiresLikeAPlainList compares the wheel with a map from timer to due tick: each timer
// fires once, in order of its tick, never early and never late.
func TestWheelFiresLikeAPlainList(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w, now := newWheel(), time.Duration(0)
		timers := make([]timer, 20)
		due := map[*timer]int64{}
		reach := rapid.SampledFrom([]time.Duration{time.Second, time.Minute, 20 * time.Hour, 300 * 24 * time.Hour}).Draw(t, "reach")
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			tm := &timers[rapid.IntRange(0, len(timers)-1).Draw(t, "timer")]
			switch rapid.IntRange(0, 3).Draw(t, "step") {
			case 0, 1:
				at := now + time.Duration(rapid.Int64Range(0, int64(reach)).Draw(t, "in"))
				w.set(tm, at)
				due[tm] = int64((at + tick - 1) / tick)
			case 2:
				w.clear(tm)
				delete(due, tm)
			case 3:
				now += time.Duration(rapid.Int64Range(0, int64(reach)).Draw(t, "pass"))
				var last int64
				for {
					fired, more := w.step(now)
					if !more {
						break
					}
					if fired == nil {
						continue
					}
					at, armed := due[fired]
					require.True(t, armed, "fired once, and only if set")
					require.LessOrEqual(t, at, int64(now/tick))
					require.GreaterOrEqual(t, at, last)
					last = at
					delete(due, fired)
				}
			}
			next, any := w.due()
			require.Equal(t, len(due) > 0, any)
			for _, at := range due {
				require.Greater(t, at, int64(now/tick)-1)
				require.LessOrEqual(t, next, at)
			}
		}
	})
}
