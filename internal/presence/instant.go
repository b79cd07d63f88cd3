package presence

import "time"

// Instant is a moment as the core is told of it: Mono, a monotonic reading that
// deadlines are reckoned in, and Wall, the time of day that others are shown.
type Instant struct {
	Mono time.Duration
	Wall time.Time
}

// reading is an Instant inside the core. Its awake time is the monotonic time
// less every stretch in which the machine stood still: it did not listen then, so
// nobody can be blamed for their silence.
type reading struct {
	awake time.Duration
	wall  int64 // Unix milliseconds: eight bytes in each session where time.Time takes 24
}

func stamp(milliseconds int64) time.Time { return time.UnixMilli(milliseconds).UTC() }
