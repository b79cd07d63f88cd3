package timing

import (
	"math"
	"math/rand/v2"
	"slices"
	"time"
)

// ratio is how much wider each bucket of a histogram is than the one before.
const ratio = 1.01

var widths = math.Log(ratio)

// Histogram counts durations in milliseconds, in buckets that are 1 % wide. The zero value is
// empty.
type Histogram struct {
	N       int64
	buckets []int64
}

// bucketOf returns the bucket of a number of milliseconds.
func bucketOf(ms int64) int {
	if ms <= 0 {
		return 0
	}
	return 1 + int(math.Log(float64(ms))/widths)
}

// edge returns the upper edge of a bucket in milliseconds.
func edge(bucket int) float64 {
	if bucket == 0 {
		return 0
	}
	return math.Exp(float64(bucket) * widths)
}

// Add counts a duration.
func (h *Histogram) Add(d time.Duration) { h.AddTimes(d, 1) }

// AddTimes counts a duration several times.
func (h *Histogram) AddTimes(d time.Duration, times int64) {
	b := bucketOf(d.Milliseconds())
	if b >= len(h.buckets) {
		h.buckets = append(h.buckets, make([]int64, b+1-len(h.buckets))...)
	}
	h.buckets[b] += times
	h.N += times
}

// Quantile returns the duration that a share of all durations does not exceed; 0 if there are
// none.
func (h *Histogram) Quantile(share float64) time.Duration {
	wanted := int64(math.Ceil(share * float64(h.N)))
	for b, n := range h.buckets {
		if wanted -= n; wanted <= 0 && h.N > 0 {
			return milliseconds(edge(b))
		}
	}
	return 0
}

func milliseconds(ms float64) time.Duration { return time.Duration(math.Round(ms * 1e6)) }

// Interval is an estimate with the bounds between which the true value is expected in 95 of 100
// cases.
type Interval struct{ Value, Low, High time.Duration }

// resamples is how often a bootstrap draws its sample again.
const resamples = 400

// Interval estimates a statistic, with bounds from a bootstrap: the sample is drawn again and
// again from itself (B. Efron, Bootstrap Methods, 1979), each bucket with a Poisson number of
// draws. The same histogram always gives the same bounds.
func (h *Histogram) Interval(statistic func(*Histogram) time.Duration) Interval {
	return h.intervals(func(h *Histogram) []time.Duration { return []time.Duration{statistic(h)} })[0]
}

// Quantiles estimates several quantiles with one bootstrap.
func (h *Histogram) Quantiles(shares ...float64) []Interval {
	return h.intervals(func(h *Histogram) []time.Duration {
		values := make([]time.Duration, len(shares))
		for i, share := range shares {
			values[i] = h.Quantile(share)
		}
		return values
	})
}

func (h *Histogram) intervals(statistics func(*Histogram) []time.Duration) []Interval {
	value := statistics(h)
	random := rand.New(rand.NewPCG(uint64(h.N), 18))
	drawn := Histogram{buckets: make([]int64, len(h.buckets))}
	values := make([][]time.Duration, len(value))
	for range resamples {
		drawn.N = 0
		for b, n := range h.buckets {
			if n > 0 {
				drawn.buckets[b] = poisson(random, float64(n))
				drawn.N += drawn.buckets[b]
			}
		}
		for i, v := range statistics(&drawn) {
			values[i] = append(values[i], v)
		}
	}
	estimates := make([]Interval, len(value))
	for i := range estimates {
		slices.Sort(values[i])
		estimates[i] = Interval{value[i], values[i][resamples*25/1000], values[i][resamples*975/1000-1]}
	}
	return estimates
}

// Merge adds the durations of another histogram.
func (h *Histogram) Merge(other *Histogram) {
	if more := len(other.buckets) - len(h.buckets); more > 0 {
		h.buckets = append(h.buckets, make([]int64, more)...)
	}
	for b, n := range other.buckets {
		h.buckets[b] += n
	}
	h.N += other.N
}

// poisson draws from a Poisson distribution: by Knuth's product of uniforms for a small mean, by
// the normal distribution for a large one.
func poisson(random *rand.Rand, mean float64) int64 {
	if mean > 50 {
		return max(0, int64(math.Round(mean+math.Sqrt(mean)*random.NormFloat64())))
	}
	limit, product, n := math.Exp(-mean), random.Float64(), int64(0)
	for product > limit {
		product *= random.Float64()
		n++
	}
	return n
}
