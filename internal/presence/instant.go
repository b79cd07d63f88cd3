package presence

import "time"

// Instant is a moment in two clocks: Mono is monotonic, for deadlines; Wall is the time of day,
// for what others see.
type Instant struct {
	Mono time.Duration
	Wall time.Time
}

// awakeTime is monotonic time without the periods in which the machine was suspended. Nobody
// could be heard then, so nobody is blamed for silence.
type awakeTime = time.Duration

// reading is an Instant inside the core.
type reading struct {
	awake awakeTime
	wall  int64 // Unix milliseconds: 8 bytes per session, time.Time has 24
	// paused is for how long the machine has been suspended so far.
	paused time.Duration
}

// wallTime is the time of day at which a deadline in awake time is reached. It moves with each
// suspension of the machine.
type wallTime struct {
	milliseconds int64
	paused       time.Duration
}

func (w wallTime) at(now reading) int64 {
	return w.milliseconds + (now.paused - w.paused).Milliseconds()
}

// in returns a deadline in awake time and as the time of day.
func (r reading) in(d time.Duration) (awakeTime, wallTime) {
	return r.awake + d, wallTime{r.wall + d.Milliseconds(), r.paused}
}

// until returns the awake time at which the wall clock will show a time, if both clocks keep
// going. The waiter checks the wall clock again then.
func (r reading) until(wall int64) awakeTime {
	return r.awake + time.Duration(wall-r.wall)*time.Millisecond
}

func stamp(milliseconds int64) time.Time { return time.UnixMilli(milliseconds).UTC() }
