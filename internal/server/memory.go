package server

import (
	"context"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

const (
	reclaimEvery = time.Second
	reclaimFrom  = 16 << 20 // bytes allocated in a burst that are worth it
	reclaimCalm  = 4        // the burst is over when so many times less is allocated
)

// reclaim gives memory back to the system when a burst is over, as after many links
// have come at once: what a burst leaves free would otherwise stay with the process
// for long, as much again as what it needs. Under an even load it does nothing.
func reclaim(ctx context.Context) {
	ticker := time.NewTicker(reclaimEvery)
	defer ticker.Stop()
	sample := []metrics.Sample{{Name: "/gc/heap/allocs:bytes"}}
	var before, since, peak uint64
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		metrics.Read(sample)
		now := sample[0].Value.Uint64()
		allocated := now - before
		before = now
		since += allocated
		peak = max(peak, allocated)
		if since < reclaimFrom || allocated > peak/reclaimCalm {
			continue
		}
		runtime.GC() // twice: what lies in pools survives one collection
		debug.FreeOSMemory()
		since, peak = 0, 0
	}
}
