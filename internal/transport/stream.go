package transport

import (
	"io"
	"net"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"tovik.example/tovik/internal/deflate"
)

// lingerTime is how long a client has to read why it was closed.
const lingerTime = time.Second

// Handler gives the bytes of a stream their meaning. Receive, Control, Broken, Overdue and Ended
// are called one at a time. Fetch and Wrote are called one at a time, too, but concurrently with
// those.
type Handler interface {
	// Receive handles a message, which is valid during the call. It must not wait for anything,
	// unless MayWait returned true.
	Receive(message []byte, text bool)
	// MayWait reports whether the next Receive may take long. It then runs in another goroutine,
	// so that it does not block a worker.
	MayWait() bool
	// Control is called for each frame that is not a message, such as a ping.
	Control()
	// Broken is called when the input is invalid, with a close code of RFC 6455. It must call
	// Finish; nothing more is received.
	Broken(code int, reason string)
	// Overdue is called when nothing was received within the time of ExpectWithin. It must call
	// Finish.
	Overdue()

	// Fetch appends the frames to write now, and reports whether there are more. After Finish it
	// appends only what must precede the end.
	Fetch(frames []deflate.Text) (_ []deflate.Text, more bool)
	// Wrote is called when everything that was fetched has been written.
	Wrote()

	// Ended is called once, when the connection is closed, with the reason. Only Fetch and Wrote
	// may still be called after it.
	Ended(err error)
}

// Codec is the framing of messages on a connection.
type Codec interface {
	// read passes the messages in the received data to the handler. Its error ends the stream.
	read(s *Stream, data []byte) error
	appendFrame(to []byte, t deflate.Text) []byte
	appendGoodbye(to []byte, code int, reason string) []byte
}

// Stream is one connection. Wake, Finish, ExpectWithin and Abort are safe for concurrent use and
// never wait.
type Stream struct {
	pool    *Pool
	conn    conn
	codec   Codec
	handler Handler

	mark mark // of the watcher; zero before the first wait, or without one; then it never changes

	waits    atomic.Bool // for something to read; who ends that sets fail, and hands the stream to a worker
	watched  bool        // the pool's watcher waits for data, and not a goroutine
	overtime bool        // the time of ExpectWithin has passed; guarded by mu, as the next three
	writing  writing
	bidden   bool // the goodbye has been written
	answered bool // the client has sent its goodbye

	fail error // why there is nothing to read, or nil

	mu      sync.Mutex
	limit   *time.Timer // of ExpectWithin; nil without one, and without a watcher
	err     error       // the first reason why the stream was given up
	control []byte
	goodbye *goodbye
}

type goodbye struct {
	code   int
	reason string
}

// writing is the state of writing of a stream.
type writing uint8

const (
	resting writing = iota // nothing to write
	queued                 // waits for a worker
	busy                   // a worker, or a stalled write, is busy with it
	again                  // the same, and it was woken since
)

// NewStream returns a stream that is not started.
func NewStream(p *Pool, c net.Conn, codec Codec, h Handler) *Stream {
	s := &Stream{pool: p, codec: codec, handler: h}
	s.conn, s.watched = p.connect(c)
	return s
}

// Start begins to read. Early is data that arrived before, with the handshake.
func (s *Stream) Start(early []byte) {
	if s.watched {
		_ = s.conn.net().SetReadDeadline(time.Time{}) // that of the handshake
	}
	if len(early) > 0 {
		go s.begin(early)
		return
	}
	s.look()
}

func (s *Stream) begin(early []byte) {
	if err := s.codec.read(s, early); err != nil {
		s.end(err)
		return
	}
	s.look()
}

// look begins with what may have come with the handshake, but is not on the socket any more.
func (s *Stream) look() {
	if _, secure := s.conn.(*secureConn); secure {
		s.readMore()
		return
	}
	s.wait(newWorker())
}

// readMore hands the stream to a worker at once.
func (s *Stream) readMore() {
	s.waits.Store(true)
	if s.isOvertime() {
		s.ready(os.ErrDeadlineExceeded)
		return
	}
	s.ready(nil)
}

// ExpectWithin calls the handler's Overdue if nothing is received within the time; 0 means no
// limit.
func (s *Stream) ExpectWithin(d time.Duration) {
	if !s.watched {
		var at time.Time
		if d > 0 {
			at = time.Now().Add(d)
		}
		_ = s.conn.net().SetReadDeadline(at)
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.limit != nil {
		s.limit.Stop()
	}
	s.limit, s.overtime = nil, false
	if d > 0 {
		var limit *time.Timer
		limit = time.AfterFunc(d, func() {
			s.mu.Lock()
			valid := s.limit == limit
			if valid {
				s.limit, s.overtime = nil, true
			}
			s.mu.Unlock()
			if valid {
				s.ready(os.ErrDeadlineExceeded)
			}
		})
		s.limit = limit
	}
}

// wait waits for data, and hands it to a worker.
func (s *Stream) wait(w *worker) {
	first := s.watched && s.mark == 0
	if first {
		s.pool.watcher.put(s) // from here on another worker may end the stream, and must find the mark
	}
	s.waits.Store(true)
	if !s.watched {
		go func() { s.ready(s.conn.await()) }() // small, because it does nothing else
		return
	}
	if err := s.pool.watcher.watch(w.watching, s.mark, first, s.conn.raw()); err != nil {
		s.ready(err)
	}
	if s.isOvertime() {
		s.ready(os.ErrDeadlineExceeded)
	}
}

// ready hands the stream to a worker, if it waits: there is something to read, or an error.
func (s *Stream) ready(err error) {
	if !s.waits.CompareAndSwap(true, false) {
		return
	}
	s.fail = err
	if s.conn.mayWait() || s.handler.MayWait() {
		s.pool.await(s)
		return
	}
	s.pool.add(task{stream: s, read: true})
}

// process handles the received data, and waits for more.
func (s *Stream) process(w *worker) {
	err, more := s.fail, false
	s.fail = nil
	switch {
	case err == nil:
		_, more, err = s.receive(w)
	case IsTimeout(err) && s.watched:
		more, err = s.receiveLast(w)
	}
	if IsTimeout(err) && s.overdue() {
		err = nil
	}
	if err != nil {
		s.end(err)
		return
	}
	if more {
		s.readMore()
		return
	}
	s.wait(w)
}

// receive handles what one read returns. It returns the number of bytes.
func (s *Stream) receive(w *worker) (n int, more bool, err error) {
	data, more, err := s.conn.read(w)
	if err == nil && len(data) > 0 {
		err = s.codec.read(s, data)
	}
	return len(data), more, err
}

// lastReads is enough for the longest frame. A client that goes on sending does not postpone the limit.
const lastReads = 16

// receiveLast handles what is there when the time of ExpectWithin has passed. A busy machine may notice the timer before
// data that came in time.
func (s *Stream) receiveLast(w *worker) (more bool, err error) {
	for range lastReads {
		var n int
		if n, more, err = s.receive(w); err != nil || n == 0 {
			break
		}
	}
	if err == nil && s.isOvertime() { // otherwise the limit was lifted
		err = os.ErrDeadlineExceeded
	}
	return more, err
}

func (s *Stream) isOvertime() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.overtime
}

// overdue returns false if the stream was ending anyway.
func (s *Stream) overdue() bool {
	s.mu.Lock()
	ending := s.goodbye != nil || s.err != nil
	s.mu.Unlock()
	if ending {
		return false
	}
	s.ExpectWithin(0) // the goodbye sets a new limit
	s.handler.Overdue()
	return true
}

// end ends reading, and with it the stream.
func (s *Stream) end(err error) {
	s.ExpectWithin(0)
	_ = s.conn.net().Close()
	if s.mark != 0 {
		s.pool.watcher.drop(s)
	}
	s.mu.Lock()
	if s.err == nil {
		s.err = err
	}
	err = s.err
	s.mu.Unlock()
	s.handler.Ended(err)
}

// Abort closes the connection now. The handler's Ended follows.
func (s *Stream) Abort(err error) {
	s.mu.Lock()
	if s.err == nil {
		s.err = err
	}
	s.mu.Unlock()
	s.conn.abort()
	s.ready(net.ErrClosed)
}

// Finish ends the stream after what the handler's Fetch still returns. Only the first call has
// an effect.
func (s *Stream) Finish(code int, reason string) {
	s.mu.Lock()
	if s.goodbye == nil {
		s.goodbye = &goodbye{code, reason}
	}
	s.mu.Unlock()
	s.Wake()
}

// Finishing reports whether Finish was called.
func (s *Stream) Finishing() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.goodbye != nil
}

// say sends a control frame before the next data. Only the last one is kept, so that a client
// that sends requests and does not read costs nothing.
func (s *Stream) say(frame []byte) {
	s.mu.Lock()
	s.control = frame
	s.mu.Unlock()
	s.Wake()
}

// Wake makes a worker call the handler's Fetch soon.
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

// flush writes what there is, as much as fits into one write at a time.
func (s *Stream) flush(w *worker) {
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

// write writes without waiting. If the client does not take everything, it leaves the rest to
// another goroutine and returns false.
func (s *Stream) write(w *worker, data []byte, frames []deflate.Text, more bool) bool {
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

// stalled writes what the client did not take at once. Its memory is limited to one write and
// one Fetch.
func (s *Stream) stalled(data []byte, frames []deflate.Text, more bool) {
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

// sayGoodbye writes the goodbye. Then it waits a moment for the client to read it, because
// closing a connection with unread input discards what was sent.
func (s *Stream) sayGoodbye(w *worker, bye *goodbye) {
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

// answer notes the client's goodbye, and reports whether it is the answer to ours.
func (s *Stream) answer() (ours bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.answered = true
	return s.bidden
}

// Preface writes bytes before the first frame. Call it before Start.
func (s *Stream) Preface(data []byte) { s.control = data }

// Still sends a sign of life on an event stream, before the next data. On a WebSocket, whose
// client is asked for beats, it does nothing.
func (s *Stream) Still() {
	if events, ok := s.codec.(*eventStream); ok {
		s.say(events.still())
	}
}
