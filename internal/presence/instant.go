package presence

import "time"

// Instant is a moment as the core is told of it: Mono, a monotonic reading that
// deadlines are reckoned in, and Wall, the time of day that others are shown.
type Instant struct {
	Mono time.Duration
	Wall time.Time
}

// awakeTime is the monotonic time less every stretch in which the machine stood
// still: it did not listen then, so nobody can be blamed for their silence.
type awakeTime = time.Duration

// reading is an Instant inside the core.
type reading struct {
	awake awakeTime
	wall  int64 // Unix milliseconds: eight bytes in each session where time.Time takes 24
}

// until returns the awake time at which the wall clock will show a time, if
// neither stands still meanwhile. Who waits for it looks at the wall again.
func (r reading) until(wall int64) awakeTime {
	return r.awake + time.Duration(wall-r.wall)*time.Millisecond
}

func stamp(milliseconds int64) time.Time { return time.UnixMilli(milliseconds).UTC() }
