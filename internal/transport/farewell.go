package transport

import (
	"net"

	"tovik.example/tovik/internal/deflate"
)

// Farewell is what a connection is told that is turned away.
type Farewell struct {
	Head   []byte         // before the first frame
	Frames []deflate.Text // before the goodbye
	Code   int
	Reason string
}

// TurnAway tells a connection that it does not become a stream of the caller, and ends it like one: what the client
// has sent meanwhile must not keep it from reading why. Over is called when the connection is closed.
func TurnAway(p *Pool, c net.Conn, codec Codec, f Farewell, over func()) {
	h := &farewell{frames: f.Frames, over: over}
	h.stream = NewStream(p, c, codec, h)
	h.stream.Preface(f.Head)
	h.stream.Finish(f.Code, f.Reason)
	h.stream.Start(nil)
}

// farewell is the handler of a stream that only ends. It ignores what it receives.
type farewell struct {
	stream *Stream
	frames []deflate.Text // of Fetch
	over   func()
}

func (*farewell) Receive([]byte, bool) {}
func (*farewell) MayWait() bool        { return false }
func (*farewell) Control()             {}
func (*farewell) Broken(int, string)   {} // it is ending
func (*farewell) Overdue()             {} // the same
func (*farewell) Wrote()               {}
func (h *farewell) Ended(error)        { h.over() }

func (h *farewell) Fetch(frames []deflate.Text) ([]deflate.Text, bool) {
	frames, h.frames = append(frames, h.frames...), nil
	return frames, false
}
