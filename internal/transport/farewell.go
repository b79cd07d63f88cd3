package transport

import (
	"net"

	"tovik.example/tovik/internal/deflate"
)

// Farewell is what a connection that is turned away is told.
type Farewell struct {
	Head   []byte         // before the first frame
	Frames []deflate.Text // before the goodbye
	Code   int
	Reason string
}

// TurnAway says goodbye to a connection that is not to be served, and closes it. It does so as a stream, which lingers:
// closing a connection with unread input would discard the goodbye. Over is called when the connection is closed.
func TurnAway(p *Pool, c net.Conn, codec Codec, f Farewell, over func()) {
	h := &farewell{frames: f.Frames, over: over}
	h.stream = NewStream(p, c, codec, h)
	h.stream.Preface(f.Head)
	h.stream.Finish(f.Code, f.Reason)
	h.stream.Start(nil)
}

// farewell is the handler of a stream that only says goodbye. It ignores what it receives.
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
