package test

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/x509"
	"encoding/csv"
	"encoding/json"
	"encoding/pem"
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
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/wire"
)

// example is the example in the help of a command.
type example struct {
	command string // as in "people list"
	words   []string
	formats bool // the command has --format
}

// TestTheExamplesOfHelpRun runs the example of each command on a demo, and reads the output in
// each form.
func TestTheExamplesOfHelpRun(t *testing.T) {
	w := newWorkplace(t)
	schemas := answerSchemas(t)
	examples := w.examples()
	require.Greater(t, len(examples), 50)
	for _, phase := range [][]string{nil, {"end"}, destructive, offline} {
		if phase != nil && phase[0] == offline[0] {
			w.stopDemo()
		}
		for _, e := range examples {
			inPhase := slices.Contains(phase, e.command)
			if phase == nil {
				inPhase = e.command != "end" && !slices.Contains(destructive, e.command) && !slices.Contains(offline, e.command)
			}
			if !inPhase {
				continue
			}
			if want := endless[e.command]; want != "" {
				w.runUntil(e, want)
				continue
			}
			if strings.HasPrefix(e.command, "ask ") {
				e.words = w.asking(e.words)
			}
			if e.command == "conform" {
				e.words = slices.Insert(e.words, 1, "--only", "list") // TestClientsConform plays all scenarios
			}
			out, errs, code := w.run(e.words...)
			if slices.Contains(ofNodes, e.command) {
				require.Equal(t, 1, code, "%v: %s%s", e.words, out, errs)
				require.Contains(t, errs, "this service is no node of a cluster")
				continue
			}
			require.Zero(t, code, "%v: %s%s", e.words, out, errs)
			for line := range strings.Lines(out) {
				if e.command != "man" && e.command != "completion" && e.command != "token" && e.command != "people export" {
					require.LessOrEqual(t, len([]rune(strings.TrimRight(line, "\r\n"))), 120, "%v: %s", e.words, line)
				}
			}
			if schema := answers[e.command]; schema != "" {
				w.readForms(e, schemas(schema))
			} else if e.formats && !slices.Contains(once, e.command) {
				w.readForms(e, nil)
			}
		}
	}
}

// What needs more than to be run.
var (
	// endless commands run until they are interrupted. The value is the beginning of their
	// output.
	endless = map[string]string{"serve": "listens at", "demo": "is on", "watch": "basin.", "board": "basin.", "join": "You are in", "hook receive": "Waiting for events"}
	// destructive commands run after all others.
	destructive = []string{"remove", "sign-out", "erase", "key revoke", "token-key revoke", "realm remove", "room undeclare", "people drop", "hook remove", "place choose", "place forget"}
	// offline commands need records that no service uses.
	offline = []string{"check", "restore", "journal import", "cluster begin", "serve"}
	// ofNodes are commands that need a cluster. TestClientsWorkBehindALoadBalancer runs them.
	ofNodes = []string{"nodes", "nodes drain"}
	// once are commands that can run only once, take long, or print nothing.
	once = []string{"ask admit", "ask refuse", "backup", "conform", "end", "erase", "hook redeliver", "hook remove", "journal import", "key revoke", "load", "pass revoke", "people drop", "people export", "realm add", "realm remove", "rehearse", "room undeclare", "sign-out", "token-key add", "token-key revoke"}
	// answers are the schemas of the JSON output of commands.
	answers = map[string]string{
		"rooms": "Rooms", "members": "Members", "count": "Counts", "sessions": "Sessions", "explain": "Explanation", "policy": "Policies", "people list": "People", "people show": "Person",
		"room expected": "DeclaredRoom", "journal": "Journal", "attendance": "Attendance", "headcount": "Headcounts", "usage": "Usage", "timing": "Timing", "hook list": "Hooks", "hook deliveries": "Deliveries", "key list": "Keys",
		"ask list": "Asks", "invite": "Invitation", "invitations": "InvitationList", "pass list": "Passes", "pass grant": "Pass",
		"token-key list": "TokenKeys", "realm list": "Realms", "status": "StatusOfPerson", "cue": "CueGiven",
	}
)

// workplace is a directory with a running demo and the files that examples name.
type workplace struct {
	*testing.T
	dir, server string
	demo        *exec.Cmd
	replace     *strings.Replacer
	asked       int // people who asked to be let in
}

func newWorkplace(t *testing.T) *workplace {
	t.Helper()
	w := &workplace{T: t, dir: t.TempDir(), server: "http://" + freeAddress(t)}
	for name, text := range map[string]string{"watch.csv": "user,name\ne-77,Ada Culvert\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(w.dir, name), []byte(text), 0o600))
	}
	program, err := filepath.Abs("conform/client.mjs")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "program.mjs"), fmt.Appendf(nil, "import %q;\n", program), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "program"), []byte("#!/bin/sh\nexec node program.mjs\n"), 0o700))
	public, _, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	der, err := x509.MarshalPKIXPublicKey(public)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "public.pem"), pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}), 0o600))
	w.replace = strings.NewReplacer()
	w.demo = w.command("demo", "--listen", strings.TrimPrefix(w.server, "http://"), "--data", "tovik-data", "--operator-key", "own")
	var out gathered
	w.demo.Stdout = &out
	require.NoError(t, w.demo.Start())
	t.Cleanup(w.stopDemo)
	require.Eventually(t, func() bool { return strings.Contains(out.String(), "is on") }, patience, 20*time.Millisecond)
	w.makeWhatExamplesName()
	return w
}

// makeWhatExamplesName makes a hook with deliveries, a key, and an exported journal.
func (w *workplace) makeWhatExamplesName() {
	told := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	w.Cleanup(told.Close)
	api := client.API{Server: w.server, Key: "own"}
	hook, err := api.AddHook(w.Context(), wire.NewHook{URL: told.URL, Kinds: []string{"person.online", "member.joined"}})
	require.NoError(w, err)
	made, err := api.AddKey(w.Context(), wire.NewKey{Role: "read"})
	require.NoError(w, err)
	token, _, code := w.run("token", "--user", "w-17", "--room", "**")
	require.Zero(w, code)
	link, err := client.Dial(w.Context(), client.Options{Server: w.server, Token: strings.TrimSpace(token), Rooms: []string{"basin.upper-weir"}})
	require.NoError(w, err)
	w.Cleanup(link.Close)
	var delivery string
	require.Eventually(w, func() bool {
		page, err := api.Deliveries(w.Context(), hook.ID, "delivered", 0, 1)
		if err != nil || len(page.Deliveries) == 0 {
			return false
		}
		delivery = fmt.Sprint(page.Deliveries[0].ID)
		return true
	}, patience, 50*time.Millisecond)
	night, errs, code := w.run("journal", "--format", "ndjson")
	require.Zero(w, code, errs)
	// Imported ids must be free.
	night = strings.ReplaceAll(strings.SplitAfter(night, "\n")[0], `"id":`, `"id":9000000`)
	require.NoError(w, os.WriteFile(filepath.Join(w.dir, "night.ndjson"), []byte(night), 0o600))
	w.replace = strings.NewReplacer("hook-abc", hook.ID, "key-abc", made.ID, "session-abc", link.Opened().Session, "redeliver 12", "redeliver "+delivery, "whsec_...", hook.Secret,
		"https://app.example/presence", told.URL, "127.0.0.1:8420", freeAddress(w.T), "127.0.0.1:8421", freeAddress(w.T), "127.0.0.1:8500", freeAddress(w.T))
}

// asking lets somebody ask to be let into the handover, and puts their ask in the place of the
// example's.
func (w *workplace) asking(words []string) []string {
	w.Helper()
	w.asked++
	token, _, code := w.run("token", "--user", fmt.Sprint("w-9", w.asked), "--room", "desk.handover")
	require.Zero(w, code)
	link, err := client.Dial(w.Context(), client.Options{Server: w.server, Token: strings.TrimSpace(token)})
	require.NoError(w, err)
	w.Cleanup(link.Close)
	ask, err := link.JoinOrAsk(w.Context(), "desk.handover")
	require.NoError(w, err)
	words = slices.Clone(words)
	for i, word := range words {
		if word == "ask-2c9e" {
			words[i] = ask.Ask
		}
	}
	return words
}

func (w *workplace) stopDemo() {
	if w.demo.ProcessState == nil {
		require.NoError(w, w.demo.Process.Signal(os.Interrupt))
		require.NoError(w, w.demo.Wait())
	}
}

func (w *workplace) command(words ...string) *exec.Cmd {
	cmd := exec.Command(tovik, words...)
	cmd.Dir = w.dir
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + w.dir, "TOVIK_CONFIG_DIR=" + filepath.Join(w.dir, "contexts"), "TOVIK_SERVER=" + w.server, "TOVIK_KEY=own", "TERM=xterm-256color"}
	return cmd
}

func (w *workplace) run(words ...string) (stdout, stderr string, code int) {
	w.Helper()
	cmd := w.command(words...)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	ctx, cancel := context.WithTimeout(w.Context(), 2*patience)
	defer cancel()
	require.NoError(w, cmd.Start())
	defer context.AfterFunc(ctx, func() { _ = cmd.Process.Kill() })()
	_ = cmd.Wait() // the exit code says it
	return out.String(), errs.String(), cmd.ProcessState.ExitCode()
}

// examples returns the examples of all commands without subcommands, as help prints them.
func (w *workplace) examples() (all []example) {
	var look func(path []string)
	look = func(path []string) {
		help, errs, code := w.run(append(slices.Clone(path), "--help")...)
		require.Zero(w, code, errs)
		_, list, hasCommands := strings.Cut(help, "\nCOMMANDS:\n")
		if _, line, ok := strings.Cut(help, "Example: tovik "); ok {
			line, _, _ = strings.Cut(line, "\n")
			command := strings.Join(path, " ")
			all = append(all, example{command: command, words: shellWords(w.replace.Replace(strings.TrimSpace(line))), formats: strings.Contains(help, "--format")})
		}
		for line := range strings.Lines(list) {
			name, _, _ := strings.Cut(strings.Fields(line + " x")[0], ",")
			if !hasCommands || !strings.HasPrefix(line, "   ") || strings.HasPrefix(line, "    ") || name == "help" {
				if strings.TrimSpace(line) == "" {
					break
				}
				continue
			}
			look(append(slices.Clone(path), name))
		}
	}
	look(nil)
	return all
}

// shellWords splits a line like a shell that knows only quotes.
func shellWords(line string) (words []string) {
	var word strings.Builder
	quote, open := rune(0), false
	for _, r := range line + " " {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			word.WriteRune(r)
		case r == '\'' || r == '"':
			quote, open = r, true
		case r == ' ':
			if word.Len() > 0 || open {
				words = append(words, word.String())
			}
			word.Reset()
			open = false
		default:
			word.WriteRune(r)
		}
	}
	return words
}

// gathered collects the output of a process.
type gathered struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (g *gathered) Write(p []byte) (int, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.text.Write(p)
}

func (g *gathered) String() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.text.String()
}

// runUntil runs an endless command on a terminal until it has printed something, and interrupts
// it.
func (w *workplace) runUntil(e example, want string) {
	w.Helper()
	cmd := w.command(e.words...)
	screen, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 30, Cols: 120})
	require.NoError(w, err)
	var out gathered
	read := make(chan struct{})
	go func() {
		defer close(read)
		_, _ = io.Copy(&out, screen) // ends with the process, in an error of its own on Linux
	}()
	require.Eventually(w, func() bool { return strings.Contains(out.String(), want) }, patience, 20*time.Millisecond, "%v: %s", e.words, &out)
	require.NoError(w, cmd.Process.Signal(syscall.SIGINT))
	require.NoError(w, cmd.Wait(), "%v: %s", e.words, &out)
	require.NoError(w, screen.Close())
	<-read
}

// readForms reads the output of a command as JSON, with a schema if there is one, as NDJSON, and
// as CSV.
func (w *workplace) readForms(e example, schema *jsonschema.Schema) {
	w.Helper()
	words := slices.DeleteFunc(slices.Clone(e.words), func(word string) bool { return word == "--plot" })
	out, errs, code := w.run(append(words, "--format", "json")...)
	require.Zero(w, code, "%v: %s", words, errs)
	document, err := jsonschema.UnmarshalJSON(strings.NewReader(out))
	require.NoError(w, err, "%v: %s", words, out)
	if schema != nil {
		require.NoError(w, schema.Validate(document), "%v: %s", words, out)
	}
	for deadline := time.Now().Add(patience); ; {
		lines, rows := w.readLines(words), w.readTable(words)
		if lines == rows || e.command == "journal" || e.command == "headcount" {
			return
		}
		require.Less(w, time.Now(), deadline, "%v: %d lines, %d rows", words, lines, rows) // people come and go meanwhile
	}
}

func (w *workplace) readLines(words []string) (lines int) {
	w.Helper()
	out, errs, code := w.run(append(words, "--format", "ndjson")...)
	require.Zero(w, code, "%v: %s", words, errs)
	for line := range strings.Lines(out) {
		require.True(w, json.Valid([]byte(line)), "%v: %s", words, line)
		lines++
	}
	return lines
}

func (w *workplace) readTable(words []string) int {
	w.Helper()
	out, errs, code := w.run(append(words, "--format", "csv")...)
	require.Zero(w, code, "%v: %s", words, errs)
	rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
	require.NoError(w, err, "%v: %s", words, out)
	require.NotEmpty(w, rows, "%v", words)
	return len(rows) - 1
}

// answerSchemas returns the schemas of the OpenAPI document by name.
func answerSchemas(t *testing.T) func(name string) *jsonschema.Schema {
	compiler := jsonschema.NewCompiler()
	compiler.DefaultDraft(jsonschema.Draft2020)
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(wire.OpenAPI))
	require.NoError(t, err)
	require.NoError(t, compiler.AddResource("openapi.json", document))
	return func(name string) *jsonschema.Schema {
		schema, err := compiler.Compile("openapi.json#/components/schemas/" + name)
		require.NoError(t, err)
		return schema
	}
}
