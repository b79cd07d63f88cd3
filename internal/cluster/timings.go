package cluster

import "time"

// Timings are the times and limits of the rules in docs/cluster.md.
type Timings struct {
	Heartbeat time.Duration // between two heartbeats
	Dead      time.Duration // a node is dead when no reachable node has heard it for this long
	Doubt     time.Duration // an owner goes silent when no majority has answered it for this long
	Away      time.Duration // a carrier and an owner that do not hear each other part after this time
	Stuck     time.Duration // an owner is replaced when it has appended no mark for this long
	Steady    time.Duration // a node may take realms from living owners when all have heard it for this long
	Mark      time.Duration // between two marks
	Barrier   time.Duration // a new owner waits for reports at most this long
	Prepare   time.Duration // in a handover, the next owner reads ahead for at most this long
	Late      time.Duration // a node that did not run for longer stood still
	Wait      time.Duration // a request waits for its answer at most this long
	Flush     time.Duration // between two seals or batches of an owner
	Remember  time.Duration // reports include links that ended at most this long ago
	Parcel    time.Duration // between two parcels to a node
}

// DefaultTimings returns the timings of docs/cluster.md.
func DefaultTimings() Timings {
	return Timings{
		Heartbeat: 500 * time.Millisecond, Dead: 2 * time.Second, Doubt: 1500 * time.Millisecond, Away: 4 * time.Second,
		Stuck: 10 * time.Second, Steady: 30 * time.Second, Mark: time.Second, Barrier: 2 * time.Second, Prepare: time.Second, Late: time.Second,
		Wait: 3 * time.Second, Flush: 25 * time.Millisecond, Remember: time.Minute, Parcel: 2 * time.Millisecond,
	}
}

// ExternalTimings returns the timings with an external broker, whose majority only marks can show.
func ExternalTimings() Timings {
	t := DefaultTimings()
	t.Mark = t.Heartbeat
	return t
}
