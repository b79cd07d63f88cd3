package hooks

import (
	"testing"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/records"
)

// TestWhatComesWhileTheRecordsAreReadIsDelivered has a delivery of a lane that is being read from the records, too late
// to be read. It was left out until the next start, and came after later ones then.
func TestWhatComesWhileTheRecordsAreReadIsDelivered(t *testing.T) {
	d, h, l := &Dispatcher{}, &hook{lanes: map[string]*lane{}}, &lane{name: "desk.night", more: true, taken: true}
	h.lanes[l.name] = l
	asks, after := l.asks()
	require.True(t, asks)
	require.Zero(t, after)
	d.queue(h, records.Delivery{ID: 7, Lane: l.name})
	l.reads(nil)
	asks, after = l.asks()
	require.True(t, asks, "the records are asked again")
	require.Zero(t, after)
	l.reads([]records.Delivery{{ID: 7, Lane: l.name}})
	require.Len(t, l.queue, 1)
	require.False(t, l.more)
}
