package timing

import (
	"math"
	"time"
)

const (
	// Soon is the time within which a return makes a leave a flicker.
	Soon = time.Minute
	// Target is how many flickers the advice allows, of all gaps that ended with a return.
	Target = 1.0 / 1000
	// Enough is how many returns an advice takes. About twenty of them then come later than the
	// advised grace. With as many, the next week has half to twice the target in 95 of 100 cases.
	Enough = 20_000
	// step is the precision of an advised grace.
	step = 100 * time.Millisecond
	// points is how many points a curve has.
	points = 60
)

// Advice is what the gaps of one cause say about the grace for it.
type Advice struct {
	Returns int64    // gaps that ended with a return
	Grace   Interval // the smallest that keeps flickers at [Target]; zero with fewer than [Enough] returns
	Now     Cost     // of the grace in force
	Then    Cost     // of the advised grace
	Next    Cost     // of the advised grace and a second
	Curve   []Cost
}

// Cost is what a grace costs.
type Cost struct {
	Grace    time.Duration
	Flickers float64       // in 1,000 returns: leaves that are followed by a return within [Soon]
	Ghosts   time.Duration // time for which people were still listed who were not back within [Soon] after that
}

// Advise returns the advice for gaps, under a grace in force.
func Advise(g *Gaps, inForce time.Duration) Advice {
	a := Advice{Returns: g.Returns.N, Now: g.cost(inForce)}
	longest := max(2*inForce, 10*time.Second)
	if a.Returns >= Enough {
		a.Grace = g.Returns.Interval(smallestGrace)
		a.Then, a.Next = g.cost(a.Grace.Value), g.cost(a.Grace.Value+time.Second)
		longest = max(longest, 2*a.Grace.Value)
	}
	if a.Returns > 0 {
		for i := range points {
			a.Curve = append(a.Curve, g.cost((longest * time.Duration(i+1) / points).Round(step)))
		}
	}
	return a
}

// smallestGrace returns the smallest grace with which at most [Target] of the returns are
// flickers.
func smallestGrace(returns *Histogram) time.Duration {
	allowed := int64(Target * float64(returns.N))
	soon := float64(Soon.Milliseconds())
	last, within := 0, int64(0) // of the returns up to Soon after the grace
	before := int64(0)
	for b := range returns.buckets {
		before += returns.buckets[b]
		for ; last < len(returns.buckets) && edge(last) <= edge(b)+soon; last++ {
			within += returns.buckets[last]
		}
		if within-before <= allowed {
			return time.Duration(math.Ceil(edge(b)/float64(step.Milliseconds()))) * step
		}
	}
	return 0
}

// cost returns what a grace would have cost.
func (g *Gaps) cost(grace time.Duration) Cost {
	c := Cost{Grace: grace}
	ms, soon := float64(grace.Milliseconds()), float64(Soon.Milliseconds())
	var flickers, gone int64
	for b, n := range g.Returns.buckets {
		at := edge(b)
		if at > ms && at <= ms+soon {
			flickers += n
		}
		if at > ms+soon {
			gone += n
		}
	}
	if g.Returns.N > 0 {
		c.Flickers = 1000 * float64(flickers) / float64(g.Returns.N)
	}
	c.Ghosts = grace * time.Duration(gone+g.Never)
	return c
}
