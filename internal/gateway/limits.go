package gateway

import (
	"time"

	"tovik.example/tovik/internal/pace"
	"tovik.example/tovik/wire"
)

const (
	helloTimeout  = 5 * time.Second
	maxOutbox     = 256 // answers that a client has not read; more, and it is closed
	maxEarly      = 64  // frames that wait for one that takes long
	maxUnreadCues = 64  // with so much unread, cues are dropped
)

// Limits bound what clients may use. A zero field stands for its default.
type Limits struct {
	PerAddress  int           // links from one network address; 4096
	PerPerson   int           // links of one person; 128
	BeforeHello int           // links that have not said hello yet; 2048
	SlowAfter   time.Duration // without progress in writing to it, a link is closed; 10 s
}

func (l Limits) withDefaults() Limits {
	set := func(value *int, standard int) {
		if *value == 0 {
			*value = standard
		}
	}
	set(&l.PerAddress, 4096)
	set(&l.PerPerson, 128)
	set(&l.BeforeHello, 2048)
	if l.SlowAfter == 0 {
		l.SlowAfter = 10 * time.Second
	}
	return l
}

var (
	frameRate  = pace.Rate{Each: 20 * time.Millisecond, Burst: 200}
	excessRate = pace.Rate{Each: 100 * time.Millisecond, Burst: 200} // of frames refused for their rate
	tellRate   = pace.Rate{Each: time.Second, Burst: 1}              // of telling so
)

var errTooFast = &wire.Problem{Code: wire.CodeTooFast, Detail: "too many frames came in a short time; this one was not carried out",
	Allowed: frameRate.Text("frames")}
