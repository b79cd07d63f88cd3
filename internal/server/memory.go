package server

import (
	"context"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

// The runtime collects garbage once the heap has doubled, and gives memory back slowly. That is right under load, but a
// service whose links are idle would keep up to twice the memory that it needs.
const (
	reclaimEvery = time.Second

	burstBytes = 16 << 20 // allocated since the last collection of ours: a burst, which is over when
	burstCalm  = 4        // so many times less is allocated than at its peak

	calmFor   = 10      // so many times reclaimEvery, over which allocations are counted
	calmBytes = 4 << 20 // allocated in that time, and a hundredth of what is in use, are calm

	wasteBytes = 2 << 20 // so many, and a sixteenth of what is in use, are worth a collection in a calm
)

// collector decides when the process collects garbage and gives memory back.
type collector struct {
	free func() // collects, and gives back

	last   uint64          // bytes ever allocated, at the last look
	since  uint64          // allocated since it was last collected here
	peak   uint64          // the most that was allocated from look to look since then
	lately [calmFor]uint64 // allocated from look to look
	looks  int             // how many there were
}

// heap is what the runtime says of it, in bytes.
type heap struct {
	allocated uint64 // ever
	inUse     uint64 // at the end of the last collection
	garbage   uint64 // that may have come since
	kept      uint64 // free, and not given back
}

// look is called every reclaimEvery.
func (c *collector) look(is heap) {
	now := is.allocated - c.last
	c.last = is.allocated
	c.since += now
	c.peak = max(c.peak, now)
	c.lately[c.looks%calmFor] = now
	c.looks++
	burst := c.since >= burstBytes && now <= c.peak/burstCalm
	if !burst && !c.calm(is) {
		return
	}
	c.since, c.peak = 0, 0
	c.free()
}

// calm reports whether so little is allocated that what could be given back would stay for long.
func (c *collector) calm(is heap) bool {
	var sum uint64
	for _, n := range c.lately {
		sum += n
	}
	return c.looks >= calmFor && sum <= calmBytes+is.inUse/100 && is.garbage+is.kept >= wasteBytes+is.inUse/16
}

// reclaim looks after the collector until ctx is done.
func reclaim(ctx context.Context) {
	ticker := time.NewTicker(reclaimEvery)
	defer ticker.Stop()
	c := collector{free: func() {
		runtime.GC() // twice: what lies in pools survives one collection
		debug.FreeOSMemory()
	}}
	samples := []metrics.Sample{{Name: "/gc/heap/allocs:bytes"}, {Name: "/gc/heap/live:bytes"}, {Name: "/memory/classes/heap/objects:bytes"}, {Name: "/memory/classes/heap/free:bytes"}}
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		metrics.Read(samples)
		of := func(i int) uint64 { return samples[i].Value.Uint64() }
		c.look(heap{allocated: of(0), inUse: of(1), garbage: of(2) - min(of(1), of(2)), kept: of(3)})
	}
}
