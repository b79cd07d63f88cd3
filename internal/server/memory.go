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

// reclaim returns memory to the system after a burst, as when many links have come at once.
// Otherwise the process would long keep twice the memory that it needs. Under an even load it
// does nothing.
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
