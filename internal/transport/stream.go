package transport

import (
	"io"
	"net"
	"slices"
	"sync"
	"time"
)

// lingerTime lets a client read why it was closed before the connection goes.
const lingerTime = time.Second

// Handler gives the bytes of one stream their meaning. Receive, Control, Broken,
// Overdue and Ended are called one at a time; Fetch and Wrote are called one at a
// time too, but beside those.
type Handler interface {
	// Receive handles a message, which is valid during the call only. It does not
	// wait for anything, unless MayWait says so.
	Receive(message []byte, text bool)
	// MayWait tells that the next Receive may take long: it gets a goroutine of its
	// own then, so that it holds no worker up.
	MayWait() bool
	// Control is told of each frame that is no message, as a ping.
	Control()
	// Broken is told that what came cannot be understood, with a close code of RFC
	// 6455. It is to call Finish; nothing more is received.
	Broken(code int, reason string)
	// Overdue is told that nothing came within the time of ExpectWithin. It is to call
	// Finish.
	Overdue()

	// Fetch appends frames that are to be written now, and tells whether there are
	// more. After Finish only what has to come before the end.
	Fetch(frames [][]byte) (_ [][]byte, more bool)
	// Wrote is told when all that was fetched has been written.
	Wrote()

	// Ended is told once, after everything else but Fetch and Wrote, that the
	// connection is closed, and why.
	Ended(err error)
}

// Codec is how messages lie on a connection.
type Codec interface {
	// read takes what has come and gives the handler whole messages. Its error ends
	// the stream.
	read(s *Stream, data []byte) error
	appendFrame(to, payload []byte) []byte
	appendGoodbye(to []byte, code int, reason string) []byte
}

// Stream is one connection. Wake, Finish, ExpectWithin and Abort are safe for
// concurrent use and never wait.
type Stream struct {
	pool    *Pool
	conn    conn
	codec   Codec
	handler Handler

	in   *[]byte // what was read and is to be processed
	n    int
	fail error // why reading ended

	mu       sync.Mutex
	err      error // why the stream was given up; the first counts
	control  []byte
	goodbye  *goodbye
	writing  writing
	bidden   bool // the goodbye has been written
	answered bool // the client has said goodbye
}

type goodbye struct {
	code   int
	reason string
}

// writing is what is known of the writing of a stream.
type writing uint8

const (
	resting writing = iota // nothing to write
	queued                 // a worker will look
	busy                   // a worker looks, or a stalled write is under way
	again                  // the same, and it was woken meanwhile
)

// NewStream returns a stream that does nothing until Start.
func NewStream(p *Pool, c net.Conn, codec Codec, h Handler) *Stream {
	return &Stream{pool: p, conn: newConn(c), codec: codec, handler: h}
}

// TurnAway says goodbye on a connection that is to become no stream, and closes it.
func TurnAway(c net.Conn, codec Codec, code int, reason string) {
	_ = c.SetWriteDeadline(time.Now().Add(lingerTime))
	_, _ = c.Write(codec.appendGoodbye(nil, code, reason))
	_ = c.Close()
}

// Start begins to read. Early is what came before, with the handshake.
func (s *Stream) Start(early []byte) {
	if len(early) > 0 {
		go s.begin(early)
		return
	}
	go s.wait()
}

func (s *Stream) begin(early []byte) {
	if err := s.codec.read(s, early); err != nil {
		s.end(err)
		return
	}
	go s.wait()
}

// ExpectWithin calls the handler's Overdue unless something comes within the time;
// 0 stands for no bound.
func (s *Stream) ExpectWithin(d time.Duration) {
	var at time.Time
	if d > 0 {
		at = time.Now().Add(d)
	}
	_ = s.conn.net().SetReadDeadline(at)
}

// wait waits for something to read, and hands it over. It is a goroutine that ends
// then, so that its stack stays small.
func (s *Stream) wait() {
	s.in, s.n, s.fail = s.conn.read(&s.pool.buffers)
	if s.handler.MayWait() {
		s.pool.await(s)
		return
	}
	s.pool.add(task{stream: s, read: true})
}

// process handles what was read, and waits for more.
func (s *Stream) process() {
	in, n, err := s.in, s.n, s.fail
	s.in = nil
	if err == nil && n == 0 {
		err = io.EOF
	}
	if err == nil {
		err = s.codec.read(s, (*in)[:n])
	} else if IsTimeout(err) && s.overdue() {
		err = nil
	}
	if in != nil && cap(*in) == readSize {
		s.pool.buffers.Put(in)
	}
	if err != nil {
		s.end(err)
		return
	}
	go s.wait()
}

// overdue is false when the stream was ending anyway.
func (s *Stream) overdue() bool {
	s.mu.Lock()
	ending := s.goodbye != nil || s.err != nil
	s.mu.Unlock()
	if ending {
		return false
	}
	s.ExpectWithin(0) // before the goodbye, which sets it anew
	s.handler.Overdue()
	return true
}

// end is the end of reading, and so of everything.
func (s *Stream) end(err error) {
	_ = s.conn.net().Close()
	s.mu.Lock()
	if s.err == nil {
		s.err = err
	}
	err = s.err
	s.mu.Unlock()
	s.handler.Ended(err)
}

// Abort closes the connection now. The handler's Ended comes later.
func (s *Stream) Abort(err error) {
	s.mu.Lock()
	if s.err == nil {
		s.err = err
	}
	s.mu.Unlock()
	_ = s.conn.net().Close()
}

// Finish lets the stream end after what the handler's Fetch still gives. Only the
// first call counts.
func (s *Stream) Finish(code int, reason string) {
	s.mu.Lock()
	if s.goodbye == nil {
		s.goodbye = &goodbye{code, reason}
	}
	s.mu.Unlock()
	s.Wake()
}

// Finishing tells whether Finish was called.
func (s *Stream) Finishing() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.goodbye != nil
}

// say puts a control frame before what is written next. Only the last counts, so
// that a client that asks and does not read costs nothing.
func (s *Stream) say(frame []byte) {
	s.mu.Lock()
	s.control = frame
	s.mu.Unlock()
	s.Wake()
}

// Wake has the handler's Fetch called soon.
func (s *Stream) Wake() {
	s.mu.Lock()
	add := s.writing == resting
	switch s.writing {
	case resting:
		s.writing = queued
	case busy:
		s.writing = again
	}
	s.mu.Unlock()
	if add {
		s.pool.add(task{stream: s})
	}
}

// flush writes what there is, all that fits into one write at a time.
func (s *Stream) flush(w *writer) {
	s.mu.Lock()
	s.writing = busy
	bye := s.goodbye
	joined := append(w.joined[:0], s.control...)
	s.control = nil
	s.mu.Unlock()

	frames, more := s.handler.Fetch(w.frames[:0])
	defer func() {
		clear(frames)
		w.frames = frames[:0]
	}()
	if bye != nil && len(frames) == 0 && len(joined) == 0 {
		s.sayGoodbye(w, bye)
		return
	}
	for i, frame := range frames {
		joined = s.codec.appendFrame(joined, frame)
		if len(joined) < joinSize && i < len(frames)-1 {
			continue
		}
		if !s.write(w, joined, frames[i+1:], more) {
			return
		}
		joined = joined[:0]
	}
	if len(joined) > 0 && !s.write(w, joined, nil, more) {
		return
	}
	s.wrote(more)
	if w.joined = joined[:0]; cap(joined) > keepSize {
		w.joined = nil
	}
}

func (s *Stream) wrote(more bool) {
	s.handler.Wrote()
	s.mu.Lock()
	add := more || s.writing == again || s.goodbye != nil || s.control != nil
	s.writing = resting
	if add {
		s.writing = queued
	}
	s.mu.Unlock()
	if add {
		s.pool.add(task{stream: s})
	}
}

// write writes without waiting. When the client does not take it all, the rest is
// left to a goroutine of its own, and it is false.
func (s *Stream) write(w *writer, data []byte, frames [][]byte, more bool) bool {
	n, err := s.conn.write(w, data)
	if err != nil {
		s.Abort(err)
		return false
	}
	if n == len(data) {
		return true
	}
	go s.stalled(slices.Clone(data[n:]), slices.Clone(frames), more)
	return false
}

// stalled writes what the client did not take at once. What it holds is bounded by
// one write and one Fetch.
func (s *Stream) stalled(data []byte, frames [][]byte, more bool) {
	for {
		if err := s.conn.writeSlowly(data, s.pool.slow); err != nil {
			s.Abort(err)
			return
		}
		if len(frames) == 0 {
			break
		}
		data = s.codec.appendFrame(data[:0], frames[0])
		frames = frames[1:]
	}
	s.wrote(more)
}

// sayGoodbye is the last that is written. The client has a moment to read it: a
// connection that is closed with something unread takes back what was sent.
func (s *Stream) sayGoodbye(w *writer, bye *goodbye) {
	data := s.codec.appendGoodbye(nil, bye.code, bye.reason)
	if n, err := s.conn.write(w, data); err == nil && n < len(data) {
		go func() {
			_ = s.conn.writeSlowly(data[n:], s.pool.slow)
			s.linger()
		}()
		return
	}
	s.linger()
}

func (s *Stream) linger() {
	s.mu.Lock()
	s.bidden = true
	over := s.answered
	s.mu.Unlock()
	if over {
		s.Abort(io.EOF)
		return
	}
	s.ExpectWithin(lingerTime)
}

// answer notes that the client says goodbye, and tells whether it answers ours.
func (s *Stream) answer() (ours bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.answered = true
	return s.bidden
}

// Preface puts bytes before the first frame. Call it before Start.
func (s *Stream) Preface(data []byte) { s.control = data }

// Still says that an event stream is alive, before what is written next. A WebSocket,
// whose client is asked for beats, is left alone.
func (s *Stream) Still() {
	if events, ok := s.codec.(*eventStream); ok {
		s.say(events.still())
	}
}
