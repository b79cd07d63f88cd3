package test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/cluster/clustertest"
	"tovik.example/tovik/wire"
)

// tovik is the binary under test, built by TestMain.
var tovik string

func TestMain(m *testing.M) {
	if tovik = os.Getenv(insideVariable); tovik != "" {
		os.Exit(m.Run())
	}
	dir, err := os.MkdirTemp("", "tovik-test-")
	if err != nil {
		panic(err)
	}
	tovik = filepath.Join(dir, "tovik")
	build := exec.Command("go", "build", "-ldflags=-s -w", "-o", tovik, module+"cmd/tovik")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		panic(fmt.Sprintf("%s: %s", err, out))
	}
	code := m.Run()
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

// run runs a command and returns its output and exit code.
func run(t *testing.T, env []string, args ...string) (stdout, stderr string, code int) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, tovik, args...)
	cmd.Env = append([]string{"PATH=" + os.Getenv("PATH"), "HOME=" + t.TempDir()}, env...)
	cmd.Dir = t.TempDir()
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	if err != nil {
		require.IsType(t, &exec.ExitError{}, err)
	}
	return out.String(), errs.String(), cmd.ProcessState.ExitCode()
}

// background starts a command and waits for a line of its output.
func background(t *testing.T, line string, args ...string) (cmd *exec.Cmd, said string) {
	t.Helper()
	cmd = exec.Command(tovik, args...)
	cmd.Dir = t.TempDir()
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	cmd.Stderr = &bytes.Buffer{} // not ours: were the test to die, it would be waited for
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill() })
	lines := make(chan string)
	go func() {
		defer close(lines)
		for scanner := bufio.NewScanner(out); scanner.Scan(); {
			lines <- scanner.Text()
		}
	}()
	timeout := time.After(patience)
	for {
		select {
		case text, ok := <-lines:
			require.True(t, ok, "%v ended; it said:\n%s", args, said)
			said += text + "\n"
			if strings.Contains(text, line) {
				go func() { // so that it never blocks on its output
					for range lines {
					}
				}()
				return cmd, said
			}
		case <-timeout:
			t.Fatalf("%v never said %q, but:\n%s", args, line, said)
		}
	}
}

// ends waits for the end of a process.
func ends(t *testing.T, cmd *exec.Cmd) int {
	t.Helper()
	done := make(chan struct{})
	go func() {
		defer close(done)
		_ = cmd.Wait()
	}()
	select {
	case <-done:
		return cmd.ProcessState.ExitCode()
	case <-time.After(patience):
		t.Fatal("the process did not end")
		return -1
	}
}

func freeAddress(t *testing.T) string {
	t.Helper()
	return clustertest.FreeAddresses(t, 1)[0]
}

func TestCommandsOnTheDemo(t *testing.T) {
	address, data := freeAddress(t), filepath.Join(t.TempDir(), "data")
	demo, said := background(t, "Ctrl-C", "demo", "--operator-key", "demo", "--listen", address, "--data", data, "--seed", "3")
	server := "http://" + address
	env := []string{"TOVIK_SERVER=" + server, "TOVIK_KEY=demo"}
	require.Contains(t, said, server+"/#key=demo")
	require.Contains(t, said, server+"/visit#room=")
	require.Contains(t, said, "tovik members "+weir)

	t.Run("members and count say the same", func(t *testing.T) {
		// The demo goes on between the two calls; sometimes nothing changes.
		for deadline := time.Now().Add(patience); ; {
			require.True(t, time.Now().Before(deadline), "they never said the same")
			var count wire.Room
			var members wire.Members
			for args, document := range map[string]any{"count": &count, "members": &members} {
				out, _, code := run(t, env, args, weir, "--format", "json")
				require.Zero(t, code)
				require.NoError(t, json.Unmarshal([]byte(out), document))
			}
			seen, twoTabs, sessions := map[string]bool{}, 0, 0
			for _, m := range members.Members {
				require.False(t, seen[m.User], "a person appears once")
				seen[m.User] = true
				sessions += m.Sessions
				if m.Sessions == 2 {
					twoTabs++
				}
			}
			require.Equal(t, len(members.Members), members.Count.People)
			require.Equal(t, sessions, members.Count.Sessions)
			require.Positive(t, twoTabs)
			if count.Count == members.Count {
				return
			}
		}
	})

	t.Run("rooms", func(t *testing.T) {
		out, _, code := run(t, env, "rooms", "--format", "json")
		require.Zero(t, code)
		var rooms wire.Rooms
		require.NoError(t, json.Unmarshal([]byte(out), &rooms))
		require.GreaterOrEqual(t, len(rooms.Rooms), 6, "and those where people meet now")
		out, _, code = run(t, env, "rooms", "--match", "basin.*")
		require.Zero(t, code)
		require.Regexp(t, `(?m)^ROOM +PEOPLE +ONLINE +AWAY +BUSY +SESSIONS\nbasin.fen-end( +\d+){5}\nbasin.upper-weir( +\d+){5}\n$`, out)
	})

	t.Run("a minted token lets a person in, and a watcher sees it", func(t *testing.T) {
		out, _, code := run(t, nil, "token", "--data", data, "--user", "x-1", "--name", "Wren Alder", "--room", "basin.*")
		require.Zero(t, code)
		watch := exec.Command(tovik, "watch", weir, "--server", server, "--key", "demo")
		pipe, err := watch.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, watch.Start())
		lines := bufio.NewScanner(pipe)
		require.True(t, lines.Scan(), "who is here already")
		link, err := client.Dial(t.Context(), client.Options{Server: server, Token: strings.TrimSpace(out), Rooms: []string{weir}})
		require.NoError(t, err)
		require.Contains(t, lineWith(t, lines, "Wren Alder (x-1)"), "joined")
		require.NoError(t, link.Bye(t.Context()))
		require.Contains(t, lineWith(t, lines, "Wren Alder (x-1)"), "left")
		require.NoError(t, watch.Process.Signal(os.Interrupt))
		require.Zero(t, ends(t, watch), "Ctrl-C ends a watch in peace")
	})

	t.Run("a rehearsal under other timings", func(t *testing.T) {
		policy := policyFile(t, "beat.every = \"5s\"\ngrace.lost = \"20s\"\n[[room]]\npattern = \"basin.**\"\ngrace.closing = \"4s\"\n")
		out, _, code := run(t, nil, "rehearse", "--people", "50", "--hours", "8", "--policy", policy, "--format", "json")
		require.Zero(t, code)
		var score struct {
			Sessions int
			Lines    []struct{ What string }
		}
		require.NoError(t, json.Unmarshal([]byte(out), &score))
		require.Positive(t, score.Sessions)
		require.NotEmpty(t, score.Lines)
	})

	t.Run("mistakes are told in words", func(t *testing.T) {
		unknownKey := policyFile(t, "[grace]\nlots = \"3s\"\n")
		badValue := policyFile(t, "idle.after = \"soon\"\n")
		for _, c := range []struct {
			env  []string
			args []string
			code int
			says string
		}{
			{env, []string{"count", "desk.nowhere"}, 5, "nobody is in desk.nowhere now"},
			{env, []string{"count", "a..b"}, 1, `"a..b"`},
			{env, []string{"count"}, 2, "wants rooms, as in"},
			{env, []string{"members", "a", "b"}, 2, "wants one room"},
			{env, []string{"rooms", "basin"}, 2, "takes no arguments"},
			{env, []string{"rooms", "--format", "xml"}, 2, "allowed: table, json"},
			{env, []string{"rooms", "--nonsense"}, 2, "there is no option --nonsense; see tovik rooms --help"},
			{append(env, "TOVIK_FORMAT=xml"), []string{"rooms"}, 2, `TOVIK_FORMAT is "xml"; allowed: table, json`},
			{env, []string{"sessions", "--limit", "some"}, 2, `--limit is "some"; allowed: a whole number; see tovik sessions --help`},
			{env, []string{"sessions", "--limit"}, 2, "--limit wants a value"},
			{env, []string{"load", "--rate", "fast"}, 2, `--rate is "fast"; allowed: a number`},
			{env, []string{"demo", "--past", "1w"}, 2, `--past is "1w"; allowed: a time such as`},
			{env, []string{"roms"}, 2, `no command "roms"; see tovik --help`},
			{env, []string{"key", "make"}, 2, `no command "make"; see tovik key --help`},
			{env, []string{"key", "make", "--help"}, 2, `no command "make"`},
			{env, []string{"nodes", "drian"}, 2, "takes no arguments"},
			{env, []string{"explain"}, 2, "tovik explain wants USER"},
			{env, []string{"journal", "--from", "1h", "--to", "2h"}, 1, "ends before it begins"},
			{[]string{"TOVIK_SERVER=" + server}, []string{"rooms"}, 4, "--key or TOVIK_KEY"},
			{[]string{"TOVIK_SERVER=" + server, "TOVIK_KEY=x"}, []string{"rooms"}, 4, "the key was refused"},
			{[]string{"TOVIK_SERVER=" + server, "TOVIK_KEY=x"}, []string{"watch", weir}, 4, "the key was refused"},
			{nil, []string{"rooms", "--key", "k", "--server", "http://" + freeAddress(t)}, 3, "nobody listens at 127.0.0.1:"},
			{nil, []string{"watch", weir, "--key", "k", "--server", "http://" + freeAddress(t)}, 3, "nobody listens at 127.0.0.1:"},
			{nil, []string{"rooms", "--server", "localhost"}, 2, "http://HOST:PORT"},
			{nil, []string{"token", "--user", "x"}, 2, "--room"},
			{nil, []string{"token", "--room", "basin.*"}, 2, "--user must be given"},
			{nil, []string{"token", "--user", "x", "--room", "basin..*"}, 2, "basin..*"},
			{nil, []string{"token", "--user", "x", "--room", "**", "--ttl", "-1s"}, 2, "--ttl"},
			{nil, []string{"token", "--user", "x", "--room", "**"}, 1, "there is no token secret"},
			{nil, []string{"serve", "--listen", address}, 1, "is in use already"},
			{nil, []string{"serve", "--data", "/proc/nowhere"}, 1, "--data"},
			{nil, []string{"demo", "--people", "0"}, 2, "--people is 0"},
			{nil, []string{"rehearse", "--hours", "0"}, 2, "--hours is 0"},
			{nil, []string{"rehearse", "--policy", unknownKey}, 1, `policy.toml:2: there is no key "grace.lots"`},
			{nil, []string{"rehearse", "--policy", badValue}, 1, `policy.toml:1`},
		} {
			_, stderr, code := run(t, c.env, c.args...)
			require.Equal(t, c.code, code, "%v: %s", c.args, stderr)
			require.Contains(t, stderr, c.says, c.args)
			require.Equal(t, 1, strings.Count(stderr, "\n"), "%v: one line: %s", c.args, stderr)
		}
	})

	t.Run("a client that is not ours", func(t *testing.T) {
		service := serve(t)
		ctx, cancel := context.WithTimeout(t.Context(), patience)
		defer cancel()
		node := exec.CommandContext(ctx, "node", "independent.mjs", service.URL(), key, mint(t, "x-1", ""), mint(t, "x-2", ""))
		out, err := node.CombinedOutput()
		require.NoError(t, err, string(out))
		require.Contains(t, string(out), "milliseconds")
		t.Logf("npm ws saw another's join: %s", out)
	})

	require.NoError(t, demo.Process.Signal(syscall.SIGTERM))
	require.Zero(t, ends(t, demo), "SIGTERM ends the demo in peace")
	require.FileExists(t, filepath.Join(data, "token.secret"), "--data keeps the data")
}

func policyFile(t *testing.T, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "policy.toml")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

func lineWith(t *testing.T, lines *bufio.Scanner, want string) string {
	t.Helper()
	for lines.Scan() {
		if strings.Contains(lines.Text(), want) {
			return lines.Text()
		}
	}
	t.Fatalf("no line with %q came", want)
	return ""
}

// TestKeysRealmsAndRemovalsFromTheCommandLine uses a service whose configuration has a realm and
// a token key.
func TestKeysRealmsAndRemovalsFromTheCommandLine(t *testing.T) {
	dir := t.TempDir()
	configuration := filepath.Join(dir, "tovik.toml")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte(strings.Repeat("k", 32)+"\n"), 0o600))
	require.NoError(t, os.WriteFile(configuration, []byte("[[realm]]\nname = \"drills\"\n[[realm.key]]\nid = \"watch-house\"\nalgorithm = \"HS256\"\nfile = \"secret\"\n"), 0o600))
	address := freeAddress(t)
	cmd, _ := background(t, "listens at", "serve", "--listen", address, "--data", dir, "--operator-key", "own", "--config", configuration)
	env := []string{"TOVIK_SERVER=http://" + address, "TOVIK_KEY=own"}
	does := func(want string, args ...string) string {
		t.Helper()
		out, errs, code := run(t, env, args...)
		require.Zero(t, code, "%v: %s", args, errs)
		require.Contains(t, out, want, "%v", args)
		return out
	}
	does("drills", "realm", "list")
	made := does("not shown again", "key", "create", "--name", "flood-log", "--role", "read", "--room", "desk.*")
	key := strings.Fields(made)[0]
	id, _, _ := strings.Cut(key, ".")
	does("flood-log", "key", "list")
	_, errs, code := run(t, env, "rooms", "--key", key)
	require.Zero(t, code, errs)
	_, errs, code = run(t, env, "remove", "w-17", "--key", key)
	require.NotZero(t, code)
	require.Contains(t, errs, "a key with the role operate")
	does("is revoked", "key", "revoke", id)
	_, errs, code = run(t, env, "rooms", "--key", key)
	require.Equal(t, 4, code, errs)
	does("is removed from basin.upper-weir", "remove", "w-17", "--room", "basin.upper-weir")
	does("have ended", "sign-out", "w-17")
	does("removals    1", "erase", "w-17")
	does("first key of the realm training", "realm", "add", "training")
	does("was removed", "realm", "remove", "training")
	does("now accepts tokens", "token-key", "add", "spring", filepath.Join(dir, "secret"), "--algorithm", "HS256")
	does("in force", "token-key", "list")
	does("its tokens are refused", "token-key", "revoke", "spring")
	_, errs, code = run(t, env, "end", "s-none")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "a session that has not ended")
	_, errs, code = run(t, env, "remove")
	require.Equal(t, 2, code, errs)
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	require.Zero(t, ends(t, cmd))

	require.NoError(t, os.WriteFile(configuration, []byte("[[realm]]\nname = \"main\"\norigin = \"https://app.example\"\n"), 0o600))
	_, errs, code = run(t, nil, "serve", "--listen", address, "--config", configuration)
	require.Equal(t, 2, code)
	require.Contains(t, errs, `tovik.toml:3: there is no key "realm.origin"`)
}

func TestServeKeepsItsSecretsAndEndsInPeace(t *testing.T) {
	address, data := freeAddress(t), filepath.Join(t.TempDir(), "data")
	var keys []string
	for range 2 {
		service, said := background(t, "operator key is in", "serve", "--listen", address, "--data", data)
		require.Contains(t, said, "http://"+address)
		file := filepath.Join(data, "operator.key")
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		keys = append(keys, strings.TrimSpace(string(text)))
		info, err := os.Stat(file)
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "for its owner only")

		link, err := client.Dial(t.Context(), client.Options{Server: "http://" + address, Key: keys[0]})
		require.NoError(t, err)
		require.NoError(t, service.Process.Signal(syscall.SIGTERM))
		<-link.Ended()
		require.True(t, websocket.IsCloseError(link.Err(), websocket.CloseServiceRestart), link.Err())
		require.Zero(t, ends(t, service))
	}
	require.Equal(t, keys[0], keys[1], "the key is the same at the next start")
}
