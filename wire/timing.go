package wire

// Timing is what a recorded stretch of time says about the timings of the policy: what happened,
// what others would have seen under another policy, and advice. Times are in milliseconds.
type Timing struct {
	From     Time   `json:"from"`
	To       Time   `json:"to"`
	Room     string `json:"room,omitempty"` // the pattern of the rooms studied; absent: all
	Sessions int    `json:"sessions"`
	People   int    `json:"people"`
	Entries  int64  `json:"entries"`
	// Missing are entries that the journal lost.
	Missing int64    `json:"missing"`
	Losses  []Losses `json:"losses"` // by cause
	// Idle are the times without activity of sessions that had become idle and were active again.
	Idle   Lengths       `json:"idle"`
	Typing TypingTimes   `json:"typing"`
	Advice []GraceAdvice `json:"advice"`           // by key
	Config string        `json:"config,omitempty"` // the lines of tovik.toml that follow the advice
	// InForce is the replay under the policy in force, and Tried under another one.
	InForce Replayed  `json:"in_force"`
	Tried   *Replayed `json:"tried,omitempty"`
	Tries   []string  `json:"tries,omitempty"` // as asked for: grace.lost=20s
	// Leaves are on record. Those that a replay under the policy in force does not have, or has
	// besides, are the exceptions.
	Leaves     int              `json:"leaves"`
	Exceptions TimingExceptions `json:"exceptions"`
	Unknown    []string         `json:"unknown"` // what the journal cannot know, in sentences
	Took       int64            `json:"took"`
}

// Losses are times without a link, of one cause.
type Losses struct {
	Cause string `json:"cause" jsonschema:"enum=closing,enum=lost,enum=background,enum=silent,enum=restarted"`
	LossCounts
	Parts []LossPart `json:"parts"`
}

// LossCounts says how times without a link ended.
type LossCounts struct {
	InTime int64   `json:"in_time"` // the session returned within its grace
	Late   int64   `json:"late"`    // its client returned too late, within 10 minutes
	Never  int64   `json:"never"`   // it did not return within 10 minutes
	Gaps   Lengths `json:"gaps"`    // of those that returned
}

// LossPart is a part of the losses of a cause.
type LossPart struct {
	By   string `json:"by" jsonschema:"enum=room,enum=link,enum=hour"`
	Name string `json:"name"` // a pattern of the policy, a kind of link, or an hour of the day (UTC)
	LossCounts
}

// Lengths are durations.
type Lengths struct {
	Times     int64      `json:"times"`     // how many
	Quantiles []Quantile `json:"quantiles"` // those with at least one duration beyond them
}

// Quantile is the duration that a share of all durations does not exceed, with the bounds
// between which it is expected in 95 of 100 cases (a bootstrap).
type Quantile struct {
	Share float64 `json:"share"`
	Value int64   `json:"value"`
	Low   int64   `json:"low"`
	High  int64   `json:"high"`
}

// TypingTimes are how long people typed.
type TypingTimes struct {
	Lengths
	Expired int64 `json:"expired"` // how often typing ended because no report came any more
}

// GraceAdvice is advice for one grace: the smallest with which at most one of 1,000 returns comes
// too late to go unnoticed.
type GraceAdvice struct {
	Key     string `json:"key"` // as in tovik.toml
	Returns int64  `json:"returns"`
	Needed  int64  `json:"needed"` // returns that it takes
	// Grace is absent if there are too few returns.
	Grace   *Quantile   `json:"grace,omitempty"`
	InForce GraceCost   `json:"in_force"`
	Advised *GraceCost  `json:"advised,omitempty"`
	Next    *GraceCost  `json:"next,omitempty"` // with one second more
	Curve   []GraceCost `json:"curve"`
}

// GraceCost is what a grace costs.
type GraceCost struct {
	Grace    int64   `json:"grace"`
	Flickers float64 `json:"flickers"` // of 1,000 returns: leaves followed by a return within a minute
	Ghosts   int64   `json:"ghosts"`   // time for which people were still listed who were not back a minute later either
}

// Replayed is what others saw in a replay.
type Replayed struct {
	Leaves   int   `json:"leaves"`
	Losses   int   `json:"losses"`   // leaves because somebody did not return in time
	Flickers int   `json:"flickers"` // of those, followed by a return within a minute
	Ghosts   int64 `json:"ghosts"`   // time for which people were listed who had gone, and were not back within a minute
	Missing  int64 `json:"missing"`  // time for which people were not listed in a flicker
	Away     int64 `json:"away"`     // time for which people were shown away
	// CountError is by how many people headcounts were wrong on average: ghosts, and people
	// missing in a flicker.
	CountError float64 `json:"count_error"`
}

// TimingExceptions are leaves that are only on record, or only in the replay, with the first few.
type TimingExceptions struct {
	Recorded int           `json:"recorded"`
	Replayed int           `json:"replayed"`
	First    []TimingLeave `json:"first"`
}

// TimingLeave is a leave.
type TimingLeave struct {
	At   Time   `json:"at"`
	User string `json:"user"`
	Room string `json:"room"`
	Only string `json:"only" jsonschema:"enum=recorded,enum=replayed"`
}

// TimingProgress says how much of a study is done, from 0 to 1.
type TimingProgress struct {
	Done float64 `json:"done"`
}
