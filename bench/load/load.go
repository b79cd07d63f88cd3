//go:build linux

// Package load holds many links to a service at little cost, so that the service is measured and
// not the load: one loop reads all links, and looks only at the revision of a frame. It checks
// that no revision is missing.
package load

import (
	"bytes"
	"crypto/rand"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// Plan describes a crowd.
type Plan struct {
	Address string // of the service, HOST:PORT
	Source  string // the address to connect from
	Path    string // of the WebSocket
	Links   int
	Hellos  []string // the first frame of each link; empty: none is sent, and nothing waited for
	Deaf    int      // of the links, the first so many never read
	At      int      // how many connect at once
}

// Crowd is many links.
type Crowd struct {
	plan  Plan
	links []*link
	epoll int
	done  chan struct{}

	mu     sync.Mutex
	result Result

	frames  atomic.Int64
	bytes   atomic.Int64
	resumed atomic.Int64
}

// Result is what a crowd has received.
type Result struct {
	Connected time.Duration // from the first to the last hello that was answered
	Frames    int64         // whole frames read
	Bytes     int64
	Resumed   int    // hellos whose session was resumed
	Closed    int    // links that the service has closed
	Holes     int    // changes that did not follow what the link had
	Errors    int    // error frames
	Snapshots int    // snapshots after the first of each link
	Sample    string // an error frame, if there was one
	// Last is when the last link had each revision, in Unix nanoseconds. Had is the number of
	// links that had it, and Whole the number of those by a snapshot.
	Last  map[uint64]int64
	Had   map[uint64]int
	Whole map[uint64]int
	// Revisions is the number of links by their last revision.
	Revisions map[uint64]int
}

type link struct {
	fd      int
	deaf    bool
	closed  bool
	begun   bool
	rev     uint64
	skip    int
	pending []byte
	answer  []byte // to the hello
}

// Connect opens the links.
func Connect(plan Plan) (*Crowd, error) {
	epoll, err := syscall.EpollCreate1(0)
	if err != nil {
		return nil, err
	}
	c := &Crowd{plan: plan, epoll: epoll, done: make(chan struct{}), links: make([]*link, plan.Links)}
	c.result = Result{Last: map[uint64]int64{}, Had: map[uint64]int{}, Whole: map[uint64]int{}, Revisions: map[uint64]int{}}
	var next atomic.Int64
	var all sync.WaitGroup
	var failed atomic.Pointer[error]
	begun := time.Now()
	for range plan.At {
		all.Go(func() {
			for failed.Load() == nil {
				i := int(next.Add(1)) - 1
				if i >= plan.Links {
					return
				}
				l, err := c.open(i)
				if err != nil {
					err = fmt.Errorf("link %d: %w", i, err)
					failed.Store(&err)
					return
				}
				c.links[i] = l
			}
		})
	}
	all.Wait()
	if err := failed.Load(); err != nil {
		return nil, *err
	}
	c.result.Connected, c.result.Resumed = time.Since(begun), int(c.resumed.Load())
	for i, l := range c.links {
		l.deaf = i < plan.Deaf
		if l.deaf {
			continue
		}
		event := syscall.EpollEvent{Events: syscall.EPOLLIN, Fd: int32(i)}
		if err := syscall.EpollCtl(epoll, syscall.EPOLL_CTL_ADD, l.fd, &event); err != nil {
			return nil, err
		}
	}
	go c.read()
	return c, nil
}

// open connects one link and waits for the answer to its hello. The socket blocks until then.
func (c *Crowd) open(i int) (*link, error) {
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	l := &link{fd: fd}
	patience := syscall.Timeval{Sec: 20}
	_ = syscall.SetsockoptTimeval(fd, syscall.SOL_SOCKET, syscall.SO_RCVTIMEO, &patience)
	_ = syscall.SetsockoptInt(fd, syscall.IPPROTO_TCP, syscall.TCP_NODELAY, 1)
	if i < c.plan.Deaf {
		_ = syscall.SetsockoptInt(fd, syscall.SOL_SOCKET, syscall.SO_RCVBUF, 4096)
	}
	if c.plan.Source != "" {
		// The port is chosen when connecting, so that each pair of addresses can use all ports.
		const bindNoPort = 24 // IP_BIND_ADDRESS_NO_PORT
		_ = syscall.SetsockoptInt(fd, syscall.IPPROTO_IP, bindNoPort, 1)
		if err := syscall.Bind(fd, sockaddr(c.plan.Source, 0)); err != nil {
			return nil, err
		}
	}
	host, port, err := net.SplitHostPort(c.plan.Address)
	if err != nil {
		return nil, err
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return nil, err
	}
	if err := syscall.Connect(fd, sockaddr(host, number)); err != nil {
		return nil, fmt.Errorf("connect: %w", err)
	}
	if err := l.handshake(c.plan); err != nil {
		return nil, err
	}
	if len(c.plan.Hellos) > 0 {
		if err := l.hello(c.plan.Hellos[i%len(c.plan.Hellos)]); err != nil {
			return nil, err
		}
		if bytes.Contains(l.answer, []byte(`"resumed":true`)) {
			c.resumed.Add(1)
		}
	}
	return l, syscall.SetNonblock(fd, true)
}

// Return closes all links, opens as many to another address, and resumes the sessions.
func (c *Crowd) Return(address string) (*Crowd, error) {
	plan := c.plan
	plan.Address, plan.Hellos = address, make([]string, len(c.links))
	for i, l := range c.links {
		var session struct {
			Session   string `json:"session"`
			ResumeKey string `json:"resume_key"`
		}
		if err := json.Unmarshal(l.answer, &session); err != nil {
			return nil, fmt.Errorf("a hello was answered with %s: %w", l.answer, err)
		}
		field, err := json.Marshal(session)
		if err != nil {
			return nil, err
		}
		plan.Hellos[i] = hello + `"resume":` + string(field) + "," + strings.TrimPrefix(c.plan.Hellos[i%len(c.plan.Hellos)], hello)
	}
	c.Close()
	return Connect(plan)
}

func sockaddr(host string, port int) syscall.Sockaddr {
	a := &syscall.SockaddrInet4{Port: port}
	copy(a.Addr[:], net.ParseIP(host).To4())
	return a
}

func (l *link) handshake(plan Plan) error {
	var nonce [16]byte
	_, _ = rand.Read(nonce[:])
	request := "GET " + plan.Path + " HTTP/1.1\r\nHost: " + plan.Address + "\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n" +
		"Sec-WebSocket-Version: 13\r\nSec-WebSocket-Key: " + base64.StdEncoding.EncodeToString(nonce[:]) + "\r\n\r\n"
	if err := l.write([]byte(request)); err != nil {
		return err
	}
	var head []byte
	buffer := make([]byte, 1024)
	for !bytes.Contains(head, []byte("\r\n\r\n")) {
		n, err := l.read(buffer)
		if err != nil || n <= 0 {
			return fmt.Errorf("the handshake got no answer: %w", errors.Join(err, net.ErrClosed))
		}
		head = append(head, buffer[:n]...)
	}
	if !bytes.HasPrefix(head, []byte("HTTP/1.1 101")) {
		line, _, _ := bytes.Cut(head, []byte("\r\n"))
		return fmt.Errorf("the handshake was answered with %s", line)
	}
	_, rest, _ := bytes.Cut(head, []byte("\r\n\r\n"))
	l.pending = append(l.pending, rest...)
	return nil
}

// hello is how the first frame begins.
const hello = `{"type":"hello",`

// hello sends the first frame and waits for the answer. It keeps other frames for the loop.
func (l *link) hello(frame string) error {
	if err := l.write(Frame(frame)); err != nil {
		return err
	}
	buffer := make([]byte, 8192)
	for {
		if head, length, ok := frameHead(l.pending); ok && len(l.pending) >= head+length {
			payload := l.pending[head : head+length]
			if bytes.HasPrefix(payload, []byte(`{"type":"error"`)) {
				return fmt.Errorf("hello was refused: %s", payload)
			}
			l.answer = bytes.Clone(payload)
			l.pending = append([]byte(nil), l.pending[head+length:]...)
			return nil
		}
		n, err := l.read(buffer)
		if err != nil || n <= 0 {
			return fmt.Errorf("hello got no answer: %w", errors.Join(err, net.ErrClosed))
		}
		l.pending = append(l.pending, buffer[:n]...)
	}
}

func (l *link) read(buffer []byte) (int, error) {
	for {
		n, err := syscall.Read(l.fd, buffer)
		if err != syscall.EINTR {
			return n, err
		}
	}
}

func (l *link) write(data []byte) error {
	for len(data) > 0 {
		n, err := syscall.Write(l.fd, data)
		if err == syscall.EINTR {
			continue
		}
		if err != nil {
			return fmt.Errorf("write: %w", err)
		}
		data = data[n:]
	}
	return nil
}

// Frame is a text frame of a client (RFC 6455 §5.2), masked with zeros.
func Frame(text string) []byte {
	frame := []byte{0x81}
	if len(text) < 126 {
		frame = append(frame, 0x80|byte(len(text)))
	} else {
		frame = binary.BigEndian.AppendUint16(append(frame, 0x80|126), uint16(len(text)))
	}
	return append(append(frame, 0, 0, 0, 0), text...)
}

// frameHead reads the length of a frame's head and payload.
func frameHead(data []byte) (head, length int, ok bool) {
	if len(data) < 2 {
		return 0, 0, false
	}
	switch n := int(data[1] & 0x7f); {
	case n < 126:
		return 2, n, true
	case n == 126 && len(data) >= 4:
		return 4, int(binary.BigEndian.Uint16(data[2:])), true
	case n == 127 && len(data) >= 10:
		return 10, int(binary.BigEndian.Uint64(data[2:])), true
	}
	return 0, 0, false
}

var beat = Frame(`{"type":"beat"}`)

// read is the loop.
func (c *Crowd) read() {
	defer close(c.done)
	events := make([]syscall.EpollEvent, 1024)
	buffer := make([]byte, 256<<10)
	for _, l := range c.links { // what came along with the answer to hello
		if !l.deaf && len(l.pending) > 0 {
			pending := l.pending
			l.pending = nil
			c.mu.Lock()
			c.take(l, pending, time.Now().UnixNano())
			c.mu.Unlock()
		}
	}
	for {
		n, err := syscall.EpollWait(c.epoll, events, 1000)
		if err == syscall.EINTR {
			continue
		}
		if err != nil {
			return // closed
		}
		c.mu.Lock()
		for _, event := range events[:n] {
			l := c.links[event.Fd]
			got, err := syscall.Read(l.fd, buffer)
			switch {
			case err == syscall.EAGAIN || err == syscall.EINTR:
			case err != nil || got == 0:
				if !l.closed {
					l.closed = true
					c.result.Closed++
				}
				_ = syscall.EpollCtl(c.epoll, syscall.EPOLL_CTL_DEL, l.fd, nil)
			default:
				c.bytes.Add(int64(got))
				c.take(l, buffer[:got], time.Now().UnixNano())
			}
		}
		c.mu.Unlock()
	}
}

// looked is the number of bytes of a payload that are examined.
const looked = 112

func (c *Crowd) take(l *link, data []byte, now int64) {
	if len(l.pending) > 0 {
		data = append(l.pending, data...)
		l.pending = nil
	}
	for len(data) > 0 {
		if l.skip > 0 {
			n := min(l.skip, len(data))
			l.skip -= n
			data = data[n:]
			continue
		}
		head, length, ok := frameHead(data)
		if !ok || len(data) < head+min(length, looked) {
			l.pending = append([]byte(nil), data...)
			return
		}
		c.frames.Add(1)
		c.look(l, data[0], data[head:head+min(length, looked)], now)
		data = data[head:]
		l.skip = length
	}
}

var revField = []byte(`"rev":"`)

func (c *Crowd) look(l *link, first byte, payload []byte, now int64) {
	if first&0x0f != 1 || len(payload) < 12 {
		return
	}
	switch kind := payload[9]; {
	case kind == 'b': // beat
		_ = l.write(beat)
	case kind == 'e' && payload[10] == 'r':
		c.result.Errors++
		c.result.Sample = string(payload)
	case kind == 's' || (kind == 'c' && payload[10] == 'h'):
		i := bytes.Index(payload, revField)
		if i < 0 {
			return
		}
		rev := digits(payload[i+len(revField):])
		if kind == 's' {
			if l.begun {
				c.result.Snapshots++
			}
			for n := l.rev + 1; l.begun && n <= rev; n++ {
				c.had(n, now)
				c.result.Whole[n]++
			}
		} else {
			if !l.begun || rev != l.rev+1 {
				c.result.Holes++
			}
			c.had(rev, now)
		}
		l.rev, l.begun = rev, true
	}
}

func (c *Crowd) had(rev uint64, now int64) {
	c.result.Had[rev]++
	c.result.Last[rev] = now
}

// digits reads the number after the point of a revision.
func digits(text []byte) (n uint64) {
	i := bytes.IndexByte(text, '.')
	for _, d := range text[i+1:] {
		if d < '0' || d > '9' {
			break
		}
		n = 10*n + uint64(d-'0')
	}
	return n
}

// Send writes a frame on every link.
func (c *Crowd) Send(text string) error {
	frame := Frame(text)
	for _, l := range c.links {
		if err := l.write(frame); err != nil {
			return err
		}
	}
	return nil
}

// Forget resets the counts.
func (c *Crowd) Forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.result = Result{Connected: c.result.Connected, Closed: c.result.Closed,
		Last: map[uint64]int64{}, Had: map[uint64]int{}, Whole: map[uint64]int{}, Revisions: map[uint64]int{}}
	c.frames.Store(0)
	c.bytes.Store(0)
}

// Result returns the counts since the last Forget.
func (c *Crowd) Result() Result {
	c.mu.Lock()
	defer c.mu.Unlock()
	r := c.result
	r.Frames, r.Bytes = c.frames.Load(), c.bytes.Load()
	r.Last, r.Had, r.Whole = maps.Clone(r.Last), maps.Clone(r.Had), maps.Clone(r.Whole) // more frames may come
	r.Revisions = map[uint64]int{}
	for _, l := range c.links {
		if !l.deaf && !l.closed {
			r.Revisions[l.rev]++
		}
	}
	return r
}

// Close drops all links.
func (c *Crowd) Close() {
	_ = syscall.Close(c.epoll)
	<-c.done
	for _, l := range c.links {
		_ = syscall.Close(l.fd)
	}
}
