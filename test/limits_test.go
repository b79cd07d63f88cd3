package test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/wire"
)

// serveWith starts the service with a limit of descriptors.
func serveWith(t *testing.T, descriptors, address string, args ...string) *exec.Cmd {
	t.Helper()
	line := "ulimit -n " + descriptors + "; exec " + tovik + " serve --listen " + address + " --operator-key k --token-secret " +
		strings.Repeat("s", 32) + " " + strings.Join(args, " ")
	cmd := exec.Command("sh", "-c", line)
	cmd.Dir = t.TempDir()
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	ready(t, address)
	return cmd
}

func ready(t *testing.T, address string) {
	t.Helper()
	require.Eventually(t, func() bool {
		response, err := http.Get("http://" + address + "/readyz")
		if err != nil {
			return false
		}
		_ = response.Body.Close()
		return response.StatusCode == 200
	}, patience, 20*time.Millisecond)
}

func tokenOf(t *testing.T, user string) string {
	t.Helper()
	token, err := client.Token{User: user, Grants: wire.Grants{Rooms: []string{"**"}}}.Sign(strings.Repeat("s", 32))
	require.NoError(t, err)
	return token
}

// TestTheServiceLivesThroughARunOnItsDescriptors opens 400 connections to a service with 200
// descriptors, once with its own limit, and once with a limit so high that accepting fails.
func TestTheServiceLivesThroughARunOnItsDescriptors(t *testing.T) {
	for name, args := range map[string][]string{
		"with the limit it finds itself": {"--max-connections", "0"},
		"with accepting that fails":      {"--max-connections", "100000"},
	} {
		t.Run(name, func(t *testing.T) {
			address := freeAddress(t)
			service := serveWith(t, "200", address, args...)
			conns := make([]net.Conn, 400)
			for i := range conns {
				conn, err := net.DialTimeout("tcp", address, patience)
				require.NoError(t, err)
				conns[i] = conn
				_, _ = io.WriteString(conn, "GET /v1/link HTTP/1.1\r\nHost: "+address+"\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n"+
					"Sec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n")
			}
			answered := patience
			if name == "with accepting that fails" {
				answered = 5 * time.Second // most wait for longer than anybody would
			}
			var open, turnedAway, closed, waiting atomic.Int64
			var all sync.WaitGroup
			for _, conn := range conns {
				all.Go(func() {
					_ = conn.SetReadDeadline(time.Now().Add(answered))
					answer := make([]byte, 4096)
					n, err := conn.Read(answer)
					switch text := string(answer[:n]); {
					case strings.HasPrefix(text, "HTTP/1.1 101"):
						open.Add(1)
					case strings.HasPrefix(text, "HTTP/1.1 503") && strings.Contains(text, "Retry-After: 1"):
						turnedAway.Add(1)
					case os.IsTimeout(err):
						waiting.Add(1) // to be accepted
					case n == 0:
						closed.Add(1)
					default:
						t.Errorf("a connection was answered with %q", text)
					}
				})
			}
			all.Wait()
			t.Logf("%d links, %d answered with 503, %d closed, %d wait", open.Load(), turnedAway.Load(), closed.Load(), waiting.Load())
			require.Positive(t, open.Load())
			require.Less(t, open.Load(), int64(200))
			if name == "with the limit it finds itself" {
				require.Positive(t, turnedAway.Load())
				require.Zero(t, waiting.Load(), "nobody is left without an answer")
				used, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", service.Process.Pid))
				require.NoError(t, err)
				require.Less(t, len(used), 190, "the records need descriptors, too")
			}
			for _, conn := range conns {
				_ = conn.Close()
			}
			var link *client.Link
			require.Eventually(t, func() bool { // new ones are welcome again
				var err error
				link, err = client.Dial(t.Context(), client.Options{Server: "http://" + address, Token: tokenOf(t, "ilse"), Rooms: []string{"desk.night"}})
				return err == nil
			}, patience, 50*time.Millisecond)
			require.NoError(t, link.Bye(t.Context()))
		})
	}
}

// TestARestartUnderLinksIsSeenByNobody stops a service with SIGTERM under 5,000 links and
// restarts it. All return when they were told to, within their grace, and a watcher sees no
// leave.
func TestARestartUnderLinksIsSeenByNobody(t *testing.T) {
	const people, room = 5000, "basin.upper-weir"
	address := freeAddress(t)
	data := t.TempDir()
	config := filepath.Join(t.TempDir(), "tovik.toml")
	require.NoError(t, os.WriteFile(config, []byte("grace.lost = \"60s\"\n"), 0o600)) // for a busy machine
	args := []string{"--data", data, "--links-per-address", "20000", "--config", config}
	service := serveWith(t, "16000", address, args...)

	watcher := make(chan client.Event, 10*people) // more than can come, so that it never waits
	watching := client.Options{Server: "http://" + address, Key: "k", Watch: []wire.Watch{{Room: "basin.**"}}, OnEvent: func(e client.Event) { watcher <- e }}
	link, err := client.Dial(t.Context(), watching)
	require.NoError(t, err)

	tabs := make([]*returning, people)
	each(people, func(i int) {
		tabs[i] = &returning{options: client.Options{Server: "http://" + address, Token: tokenOf(t, fmt.Sprint("w-", i)), Nonce: "n",
			Rooms: []string{fmt.Sprintf("%s.%d", room, i%50)}, Detail: wire.DetailNone}}
		if err := tabs[i].connect(t.Context()); err != nil {
			t.Error(err)
		}
	})
	require.False(t, t.Failed())
	present := map[string]int{}
	total := func() (sum int) {
		for _, people := range present {
			sum += people
		}
		return sum
	}
	take := func(e client.Event) {
		present[e.Room] = e.Count.People
	}
	for total() < people {
		take(<-watcher)
	}

	stopped := time.Now()
	require.NoError(t, service.Process.Signal(syscall.SIGTERM))
	_ = service.Wait()
	require.Equal(t, 0, service.ProcessState.ExitCode())
	<-link.Ended()
	serveWith(t, "16000", address, args...)

	watching.After = link
	var again *client.Link
	require.Eventually(t, func() bool {
		again, err = client.Dial(t.Context(), watching)
		return err == nil
	}, patience, 10*time.Millisecond)
	defer again.Close()
	var resumed atomic.Int64
	each(people, func(i int) {
		if err := tabs[i].comeBack(t.Context(), stopped); err != nil {
			t.Error(err)
		} else if tabs[i].link.Opened().Resumed {
			resumed.Add(1)
		}
	})
	took := time.Since(stopped)
	require.EqualValues(t, people, resumed.Load(), "all sessions were resumed")
	time.Sleep(time.Second)
	for drained := false; !drained; {
		select {
		case e := <-watcher:
			require.Empty(t, e.Left, "somebody was seen to leave %s", e.Room)
			take(e)
		default:
			drained = true
		}
	}
	require.Equal(t, people, total())
	t.Logf("all %d were back after %s", people, took)
	each(people, func(i int) { tabs[i].link.Close() })
}

// returning is a tab that returns when it is told to.
type returning struct {
	options client.Options
	link    *client.Link
	after   atomic.Int64 // nanoseconds
}

func (r *returning) connect(ctx context.Context) (err error) {
	r.options.OnMoving = func(after time.Duration) { r.after.Store(int64(after)) }
	r.link, err = client.Dial(ctx, r.options)
	return err
}

func (r *returning) comeBack(ctx context.Context, stopped time.Time) (err error) {
	<-r.link.Ended()
	if !websocket.IsCloseError(r.link.Err(), websocket.CloseServiceRestart) {
		return fmt.Errorf("the link ended with %w", r.link.Err())
	}
	time.Sleep(time.Until(stopped.Add(time.Duration(r.after.Load()))))
	r.options.Resume, r.options.Rooms = r.link.Resume(), nil
	for range 200 {
		if err = r.connect(ctx); err == nil {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return err
}

// each calls a function for every number below n, concurrently.
func each(n int, do func(i int)) {
	var all sync.WaitGroup
	var next atomic.Int64
	for range 32 {
		all.Go(func() {
			for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
				do(i)
			}
		})
	}
	all.Wait()
}
