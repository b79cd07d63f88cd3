package conform

import (
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/gobwas/ws"
	"github.com/gobwas/ws/wsutil"
)

// frame is a frame of the protocol.
type frame = map[string]any

// link is a link of the client, from the side of the service.
type link struct {
	stage  *stage
	conn   net.Conn
	frames chan frame
	ended  chan struct{} // closed when the client has closed it, or it was cut

	writing sync.Mutex
}

const longestFrame = 16 << 10

func newLink(s *stage, w http.ResponseWriter, r *http.Request) (*link, error) {
	conn, _, _, err := ws.UpgradeHTTP(r, w)
	if err != nil {
		return nil, err
	}
	return &link{stage: s, conn: conn, frames: make(chan frame, 1024), ended: make(chan struct{})}, nil
}

// read reads the frames of the client, and checks what holds for each.
func (l *link) read() {
	defer close(l.ended)
	for {
		data, op, err := wsutil.ReadClientData(l.conn)
		if err != nil {
			var closed wsutil.ClosedError
			if errors.As(err, &closed) {
				l.stage.note("the client closes the link with %d", closed.Code)
			}
			return
		}
		is, wrong := read(op, data)
		if wrong != "" {
			l.stage.mu.Lock()
			if l.stage.fault == "" {
				l.stage.fault = wrong
			}
			l.stage.mu.Unlock()
			continue
		}
		if is["type"] != "beat" {
			l.stage.note("→ %s", data)
		}
		l.frames <- is
	}
}

// read reads a frame; wrong says what is wrong with it.
func read(op ws.OpCode, data []byte) (is frame, wrong string) {
	switch {
	case op != ws.OpText:
		return nil, "each message is a text frame; it sent a binary one"
	case len(data) > longestFrame:
		return nil, "a frame has at most 16 KB"
	case !utf8.Valid(data) || json.Unmarshal(data, &is) != nil || is == nil:
		return nil, "each message is one JSON object; it sent " + string(data[:min(len(data), 100)])
	}
	if kind, ok := is["type"].(string); !ok || kind == "" {
		return nil, "every object has a type; it sent " + string(data[:min(len(data), 100)])
	}
	switch id := is["id"].(type) {
	case nil:
	case string:
		if len(id) > 64 {
			return nil, "an id has at most 64 bytes"
		}
	case float64:
		if id != float64(int64(id)) {
			return nil, "an id is a string or a whole number"
		}
	default:
		return nil, "an id is a string or a whole number"
	}
	return is, ""
}

// say sends a frame to the client.
func (l *link) say(f frame) {
	text, err := json.Marshal(f)
	if err != nil {
		panic("conform: a frame of ours is JSON: " + err.Error())
	}
	if f["type"] != "beat" {
		l.stage.note("← %.200s", text)
	}
	l.writing.Lock()
	defer l.writing.Unlock()
	_ = wsutil.WriteServerMessage(l.conn, ws.OpText, text) // a link that has ended is noticed by what comes next
}

// close closes the link with a code.
func (l *link) close(code int, reason string) {
	l.stage.note("the service closes the link with %d %s", code, reason)
	l.writing.Lock()
	_ = ws.WriteFrame(l.conn, ws.NewCloseFrame(ws.NewCloseFrameBody(ws.StatusCode(code), reason)))
	l.writing.Unlock()
	select { // the client answers; the rest of the connection says nothing
	case <-l.ended:
	case <-time.After(time.Second):
	}
	_ = l.conn.Close()
}

// cut ends the connection without a word.
func (l *link) cut() {
	if tcp, ok := l.conn.(*net.TCPConn); ok {
		_ = tcp.SetLinger(0)
	}
	_ = l.conn.Close()
}

// expect waits for a frame of one of some types, and passes over others.
func (l *link) expect(kinds ...string) frame {
	s := l.stage
	deadline := time.After(s.options.Patience)
	for {
		select {
		case f := <-l.frames:
			for _, kind := range kinds {
				if f["type"] == kind {
					return f
				}
			}
		case <-l.ended:
			if len(l.frames) > 0 {
				continue
			}
			s.fail("it should send %q; it closed the link", kinds)
		case <-deadline:
			s.fail("it should send %q; it did not within %v", kinds, s.options.Patience)
		case <-s.ctx.Done():
			s.fail("stopped")
		}
	}
}

// hello waits for the hello of the link, which must be its first frame.
func (l *link) hello() frame {
	s := l.stage
	select {
	case f := <-l.frames:
		if f["type"] != "hello" {
			s.fail("the first frame is a hello; it sent %v", f["type"])
		}
		return f
	case <-l.ended:
		s.fail("it should send a hello; it closed the link")
	case <-time.After(s.options.Patience):
		s.fail("it should send a hello; it did not within %v", s.options.Patience)
	}
	return nil
}

// answer answers a hello. More has other fields.
func (l *link) answer(hello, more frame) {
	f := frame{"type": "answer", "re": hello["id"], "session": "session-1", "resume_key": "key-1", "link": 1, "resumed": hello["resume"] != nil, "user": "w-17", "rooms": []string{room}, "timings": timings(37_500)}
	for name, value := range more {
		f[name] = value
	}
	l.say(f)
}

func timings(silence int) frame {
	return frame{"beat_every": 15_000, "silence": silence, "grace_closing": 3000, "grace_lost": 10_000, "grace_background": 90_000, "idle_after": 300_000, "activity_every": 20_000, "longest_ghost": 62_500, "typing_expires": 6000}
}
