package transport

import (
	"bytes"
	"compress/flate"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/gobwas/ws"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/deflate"
	"tovik.example/tovik/internal/transport/transporttest"
)

// bound is how long a test waits for what must happen.
const bound = time.Minute

// TestMessagesArriveWholeAndInOrder sends messages over many connections at once, in pieces of any
// length and in fragments, some compressed, and reads back what the service has received.
func TestMessagesArriveWholeAndInOrder(t *testing.T) {
	eachWay(t, func(t *testing.T, p *Pool, pair func() (near, far net.Conn)) {
		var clients sync.WaitGroup
		for seed := range uint64(15) {
			near, far := pair()
			deflates := seed%2 == 1
			h := serveBy(p, near, WebSocket(1<<14, deflates), nil)
			clients.Go(func() {
				random := rand.New(rand.NewPCG(seed, 1))
				var sent []string
				var stream []byte
				for range 30 {
					message := bytes.Repeat([]byte{'a' + byte(random.IntN(26))}, random.IntN(9000))
					sent = append(sent, string(message))
					stream = append(stream, inFragments(random, message, deflates && random.IntN(2) == 0)...)
				}
				reading := make(chan []string, 1)
				go func() { reading <- readFrames(far, len(sent)) }()
				for len(stream) > 0 {
					n := min(1+random.IntN(3000), len(stream))
					if _, err := far.Write(stream[:n]); !assert.NoError(t, err) {
						return
					}
					stream = stream[n:]
				}
				assert.Equal(t, sent, <-reading, "seed %d", seed)
				assert.NoError(t, far.Close())
				within(t, h.over) // an error, if a pong was under way
			})
		}
		clients.Wait()
	})
}

// TestAStreamEndsOnceHoweverItEnds ends streams while they receive: from both sides, by both sides
// at once, and by time limits.
func TestAStreamEndsOnceHoweverItEnds(t *testing.T) {
	refused := errors.New("refused")
	ends := map[string]func(h *echo, far net.Conn){
		"client closes": func(_ *echo, far net.Conn) { _ = far.Close() },
		"client resets": func(_ *echo, far net.Conn) {
			if tcp, ok := far.(*net.TCPConn); ok {
				_ = tcp.SetLinger(0)
			}
			_ = far.Close()
		},
		"service aborts":  func(h *echo, _ net.Conn) { h.stream.Abort(refused) },
		"service ends":    func(h *echo, _ net.Conn) { h.stream.Finish(CloseGoingAway, "moved") },
		"client is quiet": func(h *echo, _ net.Conn) { h.stream.ExpectWithin(time.Millisecond) },
		"both at once": func(h *echo, far net.Conn) {
			go h.stream.Abort(refused)
			_ = far.Close()
		},
	}
	eachWay(t, func(t *testing.T, p *Pool, pair func() (near, far net.Conn)) {
		var clients sync.WaitGroup
		for seed := range uint64(8) {
			for name, end := range ends {
				near, far := pair()
				h := serve(p, near, nil)
				clients.Go(func() {
					random := rand.New(rand.NewPCG(seed, 2))
					go func() { _, _ = io.Copy(io.Discard, far) }()
					for range random.IntN(4) {
						_, _ = far.Write(masked(ws.OpText, true, []byte("level 2.10")))
					}
					end(h, far)
					for h.ended.Load() == 0 { // until it is closed, as a client does that has much to say
						if _, err := far.Write(masked(ws.OpText, true, []byte("level 2.11"))); err != nil {
							break
						}
						runtime.Gosched()
						if name == "client is quiet" {
							break
						}
					}
					err := within(t, h.over)
					if name == "service aborts" {
						assert.ErrorIs(t, err, refused)
					}
					_ = far.Close()
					h.stream.Abort(refused) // too late: Ended is not called again
				})
			}
		}
		clients.Wait()
		if p.watcher != nil {
			assert.Len(t, p.watcher.free, len(p.watcher.streams), "all places are free again")
		}
	})
}

// TestAStreamThatIsAboutToBeWatched is given up at that moment, or its time limit passes.
func TestAStreamThatIsAboutToBeWatched(t *testing.T) {
	p := NewPool(1, time.Minute)
	defer p.Close()
	if !p.watches() {
		t.Skip("nothing is watched on this system")
	}
	begin := func(overdue func(*echo), meddle func(*echo)) (h *echo, far net.Conn) {
		near, far := sockets(t)()
		h = &echo{over: make(chan error, 1), overdue: overdue}
		h.stream = NewStream(p, near, WebSocket(1<<14, false), h)
		h.stream.conn = &meddled{conn: h.stream.conn, meddle: func() { meddle(h) }}
		h.stream.Start(nil)
		return h, far
	}
	_, far := begin(nil, func(h *echo) {
		h.stream.Abort(io.ErrUnexpectedEOF)
		assert.ErrorIs(t, within(t, h.over), io.ErrUnexpectedEOF)
	})
	_ = far.Close()
	require.Len(t, p.watcher.free, len(p.watcher.streams), "it leaves its place")

	overdue := make(chan struct{})
	h, far := begin(func(*echo) { close(overdue) }, func(h *echo) {
		h.stream.ExpectWithin(time.Nanosecond)
		within(t, overdue)
		assert.Eventually(t, h.stream.waits.Load, bound, time.Millisecond, "another worker watches it")
		time.Sleep(10 * time.Millisecond) // that worker should be the first; otherwise this tests nothing
	})
	_, err := far.Write(masked(ws.OpText, true, []byte("level 2.10")))
	require.NoError(t, err)
	require.Equal(t, []string{"level 2.10"}, readFrames(far, 1))
	_ = far.Close()
	within(t, h.over)
}

// meddled does something when its socket is about to be watched for the first time.
type meddled struct {
	conn
	meddle func()
	done   atomic.Bool
}

func (m *meddled) raw() syscall.RawConn {
	if m.done.CompareAndSwap(false, true) {
		m.meddle()
	}
	return m.conn.raw()
}

// TestAQuietClientIsOverdue plays the limits of ExpectWithin on a fake clock.
func TestAQuietClientIsOverdue(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := NewPool(1, time.Second)
		near, far := net.Pipe()
		begun := time.Now()
		var after time.Duration
		h := serve(p, near, func(h *echo) {
			after = time.Since(begun)
			h.stream.Finish(CloseGoingAway, "quiet")
		})
		h.stream.ExpectWithin(5 * time.Second)
		go func() { _, _ = io.Copy(io.Discard, far) }()
		time.Sleep(3 * time.Second)
		h.stream.ExpectWithin(0)
		time.Sleep(time.Hour)
		h.stream.ExpectWithin(4 * time.Second)
		err := <-h.over
		assert.Equal(t, time.Hour+7*time.Second, after)
		assert.ErrorIs(t, err, os.ErrDeadlineExceeded, "the client does not answer the goodbye")
		assert.Equal(t, time.Hour+7*time.Second+lingerTime, time.Since(begun))
		p.Close()
	})
}

// TestALimitHoldsWhileTheStreamIsBusy lets the time pass between two waits for data.
func TestALimitHoldsWhileTheStreamIsBusy(t *testing.T) {
	p := NewPool(1, time.Minute)
	near, far := sockets(t)()
	overdue := make(chan struct{})
	h := &echo{over: make(chan error, 1), overdue: func(h *echo) { close(overdue); h.stream.Finish(CloseNormal, "") }}
	h.stream = NewStream(p, near, WebSocket(1<<14, false), h)
	h.stream.ExpectWithin(time.Nanosecond)
	if h.stream.watched {
		require.Eventually(t, func() bool {
			h.stream.mu.Lock()
			defer h.stream.mu.Unlock()
			return h.stream.overtime
		}, bound, time.Millisecond)
	}
	h.stream.wait(newWorker())
	within(t, overdue)
	_ = far.Close()
	within(t, h.over)
	p.Close()
}

// TestWhatIsThereAtTheLimitIsReceived lets a limit pass before the service reads a message. A client that goes on
// sending does not postpone it.
func TestWhatIsThereAtTheLimitIsReceived(t *testing.T) {
	const sent = 64
	message := masked(ws.OpText, true, bytes.Repeat([]byte("a"), readSize-100))
	timer := func(s *Stream) {
		s.waits.Store(true)
		s.ready(os.ErrDeadlineExceeded)
	}
	for _, pair := range []func() (near, far net.Conn){sockets(t), secured(t)} {
		for _, comes := range []func(*Stream){timer, (*Stream).readMore} {
			p := NewPool(1, time.Minute)
			near, far := pair()
			h := &counter{echo: echo{over: make(chan error, 1)}, atLimit: make(chan int, 1)}
			h.stream = NewStream(p, near, WebSocket(1<<14, false), h)
			if !h.stream.watched {
				t.Skip("a deadline of the socket is the limit")
			}
			_, err := far.Write(bytes.Repeat(message, sent))
			require.NoError(t, err)
			h.stream.overtime = true
			comes(h.stream)
			received := within(t, h.atLimit)
			require.Positive(t, received)
			require.Less(t, received, sent)
			_ = far.Close()
			within(t, h.over)
			p.Close()
		}
	}
}

// counter counts messages, and says how many there were when it was overdue.
type counter struct {
	echo
	received int
	atLimit  chan int
}

func (c *counter) Receive([]byte, bool) { c.received++ }

func (c *counter) Overdue() {
	c.atLimit <- c.received
	c.echo.Overdue()
}

// TestALimitThatWasLiftedIsOver has the timer of a limit come late, when the limit is no more.
func TestALimitThatWasLiftedIsOver(t *testing.T) {
	p := NewPool(1, time.Minute)
	near, far := sockets(t)()
	h := serve(p, near, func(*echo) { t.Error("it is overdue without a limit") })
	if h.stream.watched {
		h.stream.ready(os.ErrDeadlineExceeded)
		require.Eventually(t, h.stream.waits.Load, bound, time.Millisecond)
	}
	_, err := far.Write(masked(ws.OpText, true, []byte("level 2.10")))
	require.NoError(t, err)
	require.Equal(t, []string{"level 2.10"}, readFrames(far, 1))
	_ = far.Close()
	within(t, h.over)
	p.Close()
}

// TestAStreamIsClosedForWrongCompression sends what RFC 7692 forbids, or what is not to be decompressed.
func TestAStreamIsClosedForWrongCompression(t *testing.T) {
	p := NewPool(1, time.Minute)
	random := make([]byte, 5000)
	_, _ = rand.NewChaCha8([32]byte{}).Read(random)
	level := packed([]byte("level 2.10"))
	for name, wrong := range map[string]struct {
		stream []byte
		code   ws.StatusCode
	}{
		"a bomb":             {maskedAs(ws.OpText, true, true, packed(make([]byte, 10<<20))), CloseTooLarge},
		"not compressed":     {maskedAs(ws.OpText, true, true, random), CloseNotUTF8},
		"not UTF-8":          {maskedAs(ws.OpText, true, true, packed(random)), CloseNotUTF8},
		"a compressed ping":  {maskedAs(ws.OpPing, true, true, level), CloseProtocolError},
		"a later fragment":   {append(masked(ws.OpText, false, level), maskedAs(ws.OpContinuation, true, true, level)...), CloseProtocolError},
		"another extension":  {ws.MustCompileFrame(ws.MaskFrame(ws.Frame{Header: ws.Header{Fin: true, Rsv: ws.Rsv(false, true, false), OpCode: ws.OpText}})), CloseProtocolError},
		"it was not offered": {maskedAs(ws.OpText, true, true, level), CloseProtocolError},
	} {
		near, far := sockets(t)()
		h := serveBy(p, near, WebSocket(1<<14, name != "it was not offered"), nil)
		_, err := far.Write(wrong.stream)
		require.NoError(t, err)
		head, err := ws.ReadHeader(far)
		require.NoError(t, err, name)
		goodbye := make([]byte, head.Length)
		_, err = io.ReadFull(far, goodbye)
		require.NoError(t, err, name)
		code, _ := ws.ParseCloseFrameData(goodbye)
		assert.Equal(t, wrong.code, code, name)
		assert.Empty(t, h.out, name)
		_ = far.Close()
		within(t, h.over)
	}
	p.Close()
}

// TestAnIdleStreamHasNoGoroutine holds many streams, each of which has received something.
func TestAnIdleStreamHasNoGoroutine(t *testing.T) {
	p := NewPool(2, time.Minute)
	if !p.watches() {
		t.Skip("this system has no watcher")
	}
	plain, secure := sockets(t), secured(t)
	before := runtime.NumGoroutine()
	var streams []*echo
	var clients []net.Conn
	for i := range 200 {
		pair := plain
		if i%2 == 1 {
			pair = secure
		}
		near, far := pair()
		streams = append(streams, serve(p, near, nil))
		clients = append(clients, far)
		_, err := far.Write(masked(ws.OpText, true, []byte("level 2.10")))
		require.NoError(t, err)
		require.Equal(t, []string{"level 2.10"}, readFrames(far, 1))
	}
	assert.Eventually(t, func() bool { return runtime.NumGoroutine() < before+20 }, bound, time.Millisecond)
	for i, h := range streams {
		_ = clients[i].Close()
		within(t, h.over)
	}
	p.Close()
}

// TestReadingTLSTakesNoWorker receives a message without any worker: a client that makes reading wait must not keep one.
func TestReadingTLSTakesNoWorker(t *testing.T) {
	p := NewPool(0, time.Minute)
	near, far := secured(t)()
	h := serve(p, near, nil)
	_, err := far.Write(masked(ws.OpText, true, []byte("level 2.10")))
	require.NoError(t, err)
	assert.Eventually(t, func() bool {
		h.mu.Lock()
		defer h.mu.Unlock()
		return len(h.out) == 1
	}, bound, time.Millisecond)
	h.stream.Abort(io.EOF)
	within(t, h.over)
	p.Close()
}

// TestGivingUpDoesNotWaitForTheClient aborts a stream over TLS whose client reads nothing, not even a goodbye.
func TestGivingUpDoesNotWaitForTheClient(t *testing.T) {
	cert, key, err := transporttest.Certificate(t.TempDir())
	require.NoError(t, err)
	pair, err := tls.LoadX509KeyPair(cert, key)
	require.NoError(t, err)
	synctest.Test(t, func(t *testing.T) {
		below, far := net.Pipe()
		near, client := tls.Server(below, &tls.Config{Certificates: []tls.Certificate{pair}, SessionTicketsDisabled: true}), tls.Client(far, &tls.Config{InsecureSkipVerify: true})
		go func() { _ = client.Handshake() }()
		require.NoError(t, near.Handshake())
		synctest.Wait()
		p := NewPool(1, time.Minute)
		h := serve(p, near, nil)
		begun := time.Now()
		h.stream.Abort(io.EOF)
		assert.ErrorIs(t, <-h.over, io.EOF)
		assert.Zero(t, time.Since(begun))
		p.Close()
		_ = far.Close()
	})
}

// TestWhatIsReportedLateIsNotTakenForAnother gives the place of a stream to the next one.
func TestWhatIsReportedLateIsNotTakenForAnother(t *testing.T) {
	var m marks
	first, second := &Stream{}, &Stream{}
	m.put(first)
	old := first.mark
	assert.Same(t, first, m.find(old))
	m.drop(first)
	assert.Nil(t, m.find(old))
	m.put(second)
	assert.Equal(t, uint32(old), uint32(second.mark), "it has the same place")
	assert.Nil(t, m.find(old))
	assert.Same(t, second, m.find(second.mark))
	m.serial = 1<<32 - 1
	m.put(first)
	assert.Equal(t, mark(1)<<32|1, first.mark, "no mark is zero")
}

// eachWay runs a test on raw sockets with and without a watcher, and on connections without a raw
// socket.
func eachWay(t *testing.T, test func(t *testing.T, p *Pool, pair func() (near, far net.Conn))) {
	for _, way := range []struct {
		name    string
		watched bool
		pair    func(t *testing.T) func() (near, far net.Conn)
	}{{"watched", true, sockets}, {"socket", false, sockets}, {"TLS, watched", true, secured}, {"TLS", false, secured},
		{"pipe", false, func(*testing.T) func() (near, far net.Conn) { return net.Pipe }}} {
		t.Run(way.name, func(t *testing.T) {
			p := NewPool(4, time.Minute)
			if !way.watched {
				p.watching.Do(func() {})
			} else if !p.watches() {
				t.Skip("this system has no watcher")
			}
			test(t, p, way.pair(t))
			p.Close()
		})
	}
}

// sockets returns a function that connects two sockets on loopback.
func sockets(t *testing.T) func() (near, far net.Conn) {
	return through(t, func(l net.Listener) net.Listener { return l }, func(far net.Conn) net.Conn { return far })
}

// secured returns a function that connects two sockets on loopback with TLS.
func secured(t *testing.T) func() (near, far net.Conn) {
	cert, key, err := transporttest.Certificate(t.TempDir())
	require.NoError(t, err)
	pair, err := tls.LoadX509KeyPair(cert, key)
	require.NoError(t, err)
	config := &tls.Config{Certificates: []tls.Certificate{pair}}
	return through(t, func(l net.Listener) net.Listener { return TLS(l, config) }, func(far net.Conn) net.Conn {
		return tls.Client(cutting{far}, &tls.Config{InsecureSkipVerify: true}) // it speaks to its own test
	})
}

// cutting writes in pieces that end anywhere in a record of TLS.
type cutting struct{ net.Conn }

func (c cutting) Write(data []byte) (n int, err error) {
	for n < len(data) && err == nil {
		var wrote int
		wrote, err = c.Conn.Write(data[n:min(n+701, len(data))])
		n += wrote
		runtime.Gosched()
	}
	return n, err
}

func through(t *testing.T, serving func(net.Listener) net.Listener, dialed func(net.Conn) net.Conn) func() (near, far net.Conn) {
	plain, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	listener := serving(plain)
	t.Cleanup(func() { _ = listener.Close() })
	return func() (near, far net.Conn) {
		far, err := net.Dial("tcp", listener.Addr().String())
		require.NoError(t, err)
		far = dialed(far)
		near, err = listener.Accept()
		require.NoError(t, err)
		if near, secure := near.(*tls.Conn); secure {
			done := make(chan error, 1)
			go func() { done <- near.Handshake() }()
			require.NoError(t, far.(*tls.Conn).Handshake())
			require.NoError(t, <-done)
		}
		return near, far
	}
}

// echo is a handler that sends back what it receives. It checks what [Handler] promises.
type echo struct {
	stream  *Stream
	overdue func(*echo)
	over    chan error
	inside  atomic.Int32
	ended   atomic.Int32

	mu  sync.Mutex
	out []deflate.Text
}

func serve(p *Pool, c net.Conn, overdue func(*echo)) *echo {
	return serveBy(p, c, WebSocket(1<<14, false), overdue)
}

func serveBy(p *Pool, c net.Conn, codec Codec, overdue func(*echo)) *echo {
	h := &echo{over: make(chan error, 1), overdue: overdue}
	h.stream = NewStream(p, c, codec, h)
	h.stream.Start(nil)
	return h
}

// alone panics if it is called while another call of it runs, or after the end.
func (h *echo) alone() (leave func()) {
	if h.inside.Add(1) != 1 || h.ended.Load() != 0 {
		panic(fmt.Sprint("called at once, or after the end: ", h.ended.Load()))
	}
	return func() { h.inside.Add(-1) }
}

func (h *echo) Receive(message []byte, _ bool) {
	defer h.alone()()
	h.mu.Lock()
	h.out = append(h.out, deflate.Shared(bytes.Clone(message)))
	h.mu.Unlock()
	h.stream.Wake()
}

func (h *echo) MayWait() bool { return false }
func (h *echo) Control()      { h.alone()() }

func (h *echo) Broken(code int, reason string) {
	defer h.alone()()
	h.stream.Finish(code, reason)
}

func (h *echo) Overdue() {
	defer h.alone()()
	if h.overdue != nil {
		h.overdue(h)
		return
	}
	h.stream.Finish(CloseGoingAway, "quiet")
}

func (h *echo) Fetch(frames []deflate.Text) ([]deflate.Text, bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	frames = append(frames, h.out...)
	h.out = nil
	return frames, false
}

func (*echo) Wrote() {}

func (h *echo) Ended(err error) {
	leave := h.alone()
	h.ended.Add(1)
	leave()
	h.over <- err
}

// masked returns a frame of a client.
func masked(op ws.OpCode, fin bool, payload []byte) []byte { return maskedAs(op, fin, false, payload) }

// maskedAs returns a frame of a client, which may be marked as compressed.
func maskedAs(op ws.OpCode, fin, compressed bool, payload []byte) []byte {
	frame := ws.NewFrame(op, fin, payload)
	frame.Header.Rsv = ws.Rsv(compressed, false, false)
	return ws.MustCompileFrame(ws.MaskFrameWith(frame, [4]byte{1, 2, 3, 4}))
}

// inFragments returns a message in one to three frames, with a ping between them.
func inFragments(random *rand.Rand, message []byte, compressed bool) (stream []byte) {
	if compressed {
		message = packed(message)
	}
	op := ws.OpText
	for range random.IntN(3) {
		n := random.IntN(len(message) + 1)
		stream = append(stream, maskedAs(op, false, compressed, message[:n])...)
		stream = append(stream, masked(ws.OpPing, true, nil)...)
		message, op, compressed = message[n:], ws.OpContinuation, false
	}
	return append(stream, maskedAs(op, true, compressed, message)...)
}

// packed compresses a message as RFC 7692 §7.2.1 says, by the standard library.
func packed(message []byte) []byte {
	var to bytes.Buffer
	w, _ := flate.NewWriter(&to, flate.DefaultCompression)
	_, _ = w.Write(message)
	_ = w.Flush()
	return bytes.TrimSuffix(to.Bytes(), []byte("\x00\x00\xff\xff"))
}

// unpacked does the reverse (§7.2.2).
func unpacked(message []byte) []byte {
	r := flate.NewReader(io.MultiReader(bytes.NewReader(message), strings.NewReader("\x00\x00\xff\xff\x01\x00\x00\xff\xff")))
	text, err := io.ReadAll(r)
	if err != nil {
		panic(err)
	}
	return text
}

// readFrames reads so many text frames, or as many as come.
func readFrames(c net.Conn, count int) (texts []string) {
	for len(texts) < count {
		h, err := ws.ReadHeader(c)
		if err != nil {
			return texts
		}
		payload := make([]byte, h.Length)
		if _, err := io.ReadFull(c, payload); err != nil {
			return texts
		}
		if h.Rsv1() {
			payload = unpacked(payload)
		}
		if h.OpCode == ws.OpText {
			texts = append(texts, string(payload))
		}
	}
	return texts
}

// within returns what comes from a channel in time.
func within[T any](t *testing.T, from <-chan T) (v T) {
	select {
	case v = <-from:
	case <-time.After(bound):
		assert.Fail(t, "nothing came in time")
	}
	return v
}
