package gateway

import (
	"time"

	"tovik.example/tovik/internal/pace"
	"tovik.example/tovik/wire"
)

const (
	helloTimeout  = 5 * time.Second
	maxOutbox     = 256 // unread answers; with more the link is closed
	maxEarly      = 64  // frames that wait while another is carried out
	maxUnreadCues = 64  // unread frames; with more, cues are dropped
)

// Limits limit what clients may use. Zero fields mean the defaults.
type Limits struct {
	PerAddress  int           // links from one network address; default 4096
	PerPerson   int           // links of one person; default 128
	BeforeHello int           // links without a hello; default 2048
	SlowAfter   time.Duration // a link that reads nothing for so long is closed; default 10 s
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
	tellRate   = pace.Rate{Each: time.Second, Burst: 1}              // of saying that frames were refused
)

var errTooFast = &wire.Problem{Code: wire.CodeTooFast, Detail: "too many frames came in a short time; this one was not carried out",
	Allowed: frameRate.Text("frames")}
