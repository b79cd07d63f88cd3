package conform

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// room is the room that clients are asked to join.
const room = "basin.upper-weir"

// stage is where a scenario is played: the service, and a run of the client's program.
type stage struct {
	options Options
	ctx     context.Context
	began   time.Time
	server  *httptest.Server
	links   chan *link
	tokens  atomic.Int64
	refuses atomic.Bool // handshakes are answered with 503
	refused atomic.Int64
	state   string // the file

	mu     sync.Mutex
	story  []string
	shown  report
	fault  string // the first frame that breaks a rule of all frames
	change chan struct{}
	open   []*link

	program *program
}

// report is a line of a program.
type report struct {
	State   string   `json:"state"`
	Members []string `json:"members"`
}

// failure ends a scenario.
type failure string

func (s *stage) fail(format string, args ...any) { panic(failure(fmt.Sprintf(format, args...))) }

func (s *stage) note(format string, args ...any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.story = append(s.story, fmt.Sprintf("%6.2f s  ", time.Since(s.began).Seconds())+fmt.Sprintf(format, args...))
}

// newStage opens the service. Close it.
func newStage(ctx context.Context, o Options) (*stage, error) {
	dir, err := os.MkdirTemp("", "tovik-conform-")
	if err != nil {
		return nil, err
	}
	s := &stage{options: o, ctx: ctx, began: time.Now(), links: make(chan *link, 64), state: filepath.Join(dir, "state"), change: make(chan struct{})}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /tokens", func(w http.ResponseWriter, _ *http.Request) { _, _ = fmt.Fprintf(w, "token-%d", s.tokens.Add(1)) })
	mux.HandleFunc("POST /v1/closing", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })
	mux.HandleFunc("GET /v1/link", s.accept)
	s.server = httptest.NewServer(mux)
	return s, nil
}

func (s *stage) close() {
	s.stop()
	s.mu.Lock()
	open := s.open
	s.mu.Unlock()
	for _, l := range open {
		l.cut()
	}
	s.server.CloseClientConnections()
	s.server.Close()
	_ = os.RemoveAll(filepath.Dir(s.state))
}

// accept is the handshake of a link.
func (s *stage) accept(w http.ResponseWriter, r *http.Request) {
	if s.refuses.Load() {
		s.refused.Add(1)
		s.note("the service refuses a handshake")
		w.WriteHeader(http.StatusServiceUnavailable)
		return
	}
	l, err := newLink(s, w, r)
	if err != nil {
		s.note("a handshake failed: %v", err)
		return
	}
	s.note("the client connects")
	s.mu.Lock()
	s.open = append(s.open, l)
	s.mu.Unlock()
	s.links <- l
	l.read()
}

// program is a run of the client's program.
type program struct {
	cmd   *exec.Cmd
	input io.WriteCloser
	ended chan struct{}
}

// run starts the program.
func (s *stage) run() {
	cmd := exec.Command(s.options.Command[0], s.options.Command[1:]...)
	cmd.Env = append(os.Environ(), "SERVER="+s.server.URL, "TOKENS="+s.server.URL+"/tokens", "ROOM="+room, "STATE="+s.state)
	cmd.WaitDelay = time.Second
	input, err := cmd.StdinPipe()
	if err != nil {
		s.fail("the program cannot be started: %v", err)
	}
	output, writer := io.Pipe()
	cmd.Stdout, cmd.Stderr = writer, stderrOf{s}
	s.mu.Lock()
	s.shown = report{}
	s.mu.Unlock()
	for len(s.links) > 0 { // of the run before
		<-s.links
	}
	if err := cmd.Start(); err != nil {
		s.fail("the program cannot be started: %v", err)
	}
	s.note("the program is started")
	p := &program{cmd, input, make(chan struct{})}
	s.program = p
	go func() {
		defer close(p.ended)
		err := cmd.Wait()
		_ = writer.Close()
		s.note("the program has ended: %v", err)
	}()
	go s.listen(output)
}

// listen reads the reports of a program.
func (s *stage) listen(from io.Reader) {
	for lines := bufio.NewScanner(from); lines.Scan(); {
		var is report
		if err := json.Unmarshal(lines.Bytes(), &is); err != nil || is.State == "" {
			s.note("the program wrote a line that is not a report: %s", lines.Text())
			continue
		}
		slices.Sort(is.Members)
		s.note("the program says: %s, [%s]", is.State, strings.Join(is.Members, " "))
		s.mu.Lock()
		s.shown = is
		close(s.change)
		s.change = make(chan struct{})
		s.mu.Unlock()
	}
	_, _ = io.Copy(io.Discard, from)
}

// stderrOf puts what a program complains of into the story.
type stderrOf struct{ stage *stage }

func (e stderrOf) Write(text []byte) (int, error) {
	for line := range strings.Lines(string(text)) {
		e.stage.note("its stderr: %s", strings.TrimSpace(line))
	}
	return len(text), nil
}

// stop ends the run of the program, as when a page is closed.
func (s *stage) stop() {
	if s.program == nil {
		return
	}
	_ = s.program.cmd.Process.Kill()
	<-s.program.ended
	s.program = nil
}

// asks writes a line to the program.
func (s *stage) asks(line string) {
	s.note("the user asks for %s", line)
	if _, err := io.WriteString(s.program.input, line+"\n"); err != nil {
		s.fail("the program does not read its standard input: %v", err)
	}
}

// until waits until the program has said something.
func (s *stage) until(what string, is func(report) bool) {
	deadline := time.After(s.options.Patience)
	for {
		s.mu.Lock()
		shown, change := s.shown, s.change
		s.mu.Unlock()
		if is(shown) {
			return
		}
		select {
		case <-change:
		case <-deadline:
			s.fail("it should report %s; its last report is the state %q with [%s]", what, shown.State, strings.Join(shown.Members, " "))
		case <-s.ctx.Done():
			s.fail("stopped")
		}
	}
}

// shows waits until the program shows exactly these members.
func (s *stage) shows(members ...string) {
	slices.Sort(members)
	s.until("the members ["+strings.Join(members, " ")+"]", func(r report) bool { return slices.Equal(r.Members, members) && r.State != "" })
}

// is waits until the program reports one of some states.
func (s *stage) is(states ...string) {
	s.until("the state "+strings.Join(states, " or "), func(r report) bool { return slices.Contains(states, r.State) })
}

// link waits for the next link of the client.
func (s *stage) link() *link {
	select {
	case l := <-s.links:
		return l
	case <-time.After(s.options.Patience):
		s.fail("it should open a link; none came within %v", s.options.Patience)
	case <-s.ctx.Done():
		s.fail("stopped")
	}
	return nil
}

// stays makes sure that no link comes for a while.
func (s *stage) stays(why string) {
	select {
	case <-s.links:
		s.fail("it opened another link, although %s", why)
	case <-time.After(s.options.Quiet):
	case <-s.ctx.Done():
		s.fail("stopped")
	}
}
