package test

import (
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/wire"
)

// TestRecordsFromTheCommandLine reads the journal, delivers to a hook, makes a backup, and
// restores it elsewhere.
func TestRecordsFromTheCommandLine(t *testing.T) {
	dir, elsewhere := t.TempDir(), t.TempDir()
	configuration := filepath.Join(dir, "tovik.toml")
	_, errs, code := run(t, nil, "config", "init", configuration)
	require.Zero(t, code, errs)
	file, err := os.OpenFile(configuration, os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = file.WriteString("grace.closing = \"200ms\"\nprivate_hooks = true\nlog = \"json\"\n[[room]]\npattern = \"desk.*\"\ncapacity = 2\n")
	require.NoError(t, err)
	require.NoError(t, file.Close())
	out, errs, code := run(t, nil, "config", "check", configuration)
	require.Zero(t, code, errs)
	require.Contains(t, out, "is right")
	address := freeAddress(t)
	secret := strings.Repeat("k", 32)
	serve := func(data string) func() {
		cmd, _ := background(t, "listens at", "serve", "--listen", address, "--data", data, "--operator-key", "own", "--token-secret", secret, "--config", configuration)
		return func() {
			t.Helper()
			require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
			require.Zero(t, ends(t, cmd))
		}
	}
	stop := serve(dir)
	env := []string{"TOVIK_SERVER=http://" + address, "TOVIK_KEY=own"}
	does := func(want string, args ...string) string {
		t.Helper()
		out, errs, code := run(t, env, args...)
		require.Zero(t, code, "%v: %s", args, errs)
		require.Contains(t, out, want, "%v", args)
		for line := range strings.Lines(out) {
			if !strings.HasPrefix(strings.TrimSpace(line), "{") {
				require.LessOrEqual(t, len([]rune(strings.TrimRight(line, "\n"))), 200, "%v", args)
			}
		}
		return out
	}
	hook := strings.Fields(does("secret of the hook", "hook", "add", "--url", "http://"+freeAddress(t)+"/", "--kind", "member.joined", "--room", "desk.*", "--name", "desk"))[0]
	require.True(t, strings.HasPrefix(hook, "whsec_"))
	var hooks wire.Hooks
	require.NoError(t, json.Unmarshal([]byte(does("desk", "hook", "list", "--format", "json")), &hooks))
	id := hooks.Hooks[0].ID
	listen := freeAddress(t)
	does("is told member.joined", "hook", "change", id, "--url", "http://"+listen+"/")
	_, said := background(t, "Waiting for events", "hook", "receive", "--listen", listen, "--secret", hook)
	require.Contains(t, said, listen)
	does("answered 204", "hook", "test", id)
	does("The old one signs too", "hook", "rotate", id)

	token, err := client.Token{User: "e-01", Name: "Ilse Marrow", Grants: wire.Grants{Rooms: []string{"**"}}}.Sign(secret)
	require.NoError(t, err)
	link, err := client.Dial(t.Context(), client.Options{Server: "http://" + address, Token: token, Rooms: []string{"desk.night"}})
	require.NoError(t, err)
	does("expects e-01, w-02", "room", "declare", "desk.night", "--expect", "e-01", "--expect", "w-02")
	does("Missing now: w-02", "room", "expected", "desk.night")
	does("Missing: w-02", "members", "desk.night")
	does("is busy (at the sluice)", "status", "e-01", "--set", "busy", "--note", "at the sluice")
	does("← decides", "explain", "e-01", "--room", "desk.night")
	does("websocket", "sessions", "--room", "desk.night")
	does("has the policy of desk.*", "policy", "desk.night")
	does("w-99", "people", "put", "w-99", "--name", "Wren Alder", "--attribute", "phone=17")
	people := filepath.Join(dir, "watch.csv")
	require.NoError(t, os.WriteFile(people, []byte("user,name\nw-1,Tobin\n,Nobody\n"), 0o600))
	out, _, code = run(t, env, "people", "import", people)
	require.Equal(t, 1, code, "a line was refused")
	require.Contains(t, out, "line 3")
	does("Wren Alder", "people", "list", "--text", "wren")
	does("never", "people", "show", "w-99")
	does("no longer in the directory", "people", "drop", "w-99")
	require.NoError(t, link.Bye(t.Context()))
	require.Eventually(t, func() bool {
		out, _, _ := run(t, env, "journal", "--user", "e-01")
		return strings.Contains(out, "Ilse Marrow left desk.night and went offline: signed off")
	}, patience, 50*time.Millisecond)
	does("a session ended after", "journal", "--flat", "--user", "e-01", "--kind", "session.ended")
	does("left after", "journal", "--flat", "--room", "desk.*")
	does("{\"what\":\"entry\"", "people", "export", "e-01")
	does("no advice", "timing", "--since", "1h", "--room", "desk.*", "--try", "grace.lost=20s")
	does("Ilse Marrow", "attendance", "desk.night")
	does("delivered", "hook", "deliveries", id)
	does("is delivered again", "hook", "redeliver", "1")
	require.Eventually(t, func() bool {
		out, _, _ := run(t, env, "headcount", "desk.night")
		return strings.Contains(out, "▇")
	}, patience, 200*time.Millisecond)
	table, err := csv.NewReader(strings.NewReader(does("peak_at", "headcount", "desk.night", "--format", "csv"))).ReadAll()
	require.NoError(t, err)
	require.Greater(t, len(table), 1)
	_, err = csv.NewReader(strings.NewReader(does("member.left", "journal", "--format", "csv"))).ReadAll()
	require.NoError(t, err)
	_, errs, code = run(t, env, "journal", "--kind", "left")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "member.left")

	backup := filepath.Join(dir, "night.db")
	does("has the records", "backup", backup)
	exported := does("session.ended", "journal", "--format", "ndjson")
	does("no longer declared", "room", "undeclare", "desk.night")
	does("was removed", "hook", "remove", id)
	out, _, code = run(t, nil, "check", "--data", dir)
	require.Zero(t, code, out)
	_, errs, code = run(t, nil, "restore", backup, "--data", dir)
	require.Equal(t, 1, code)
	require.Contains(t, errs, "stop it first")
	stop()

	out, errs, code = run(t, nil, "restore", backup, "--data", dir)
	require.Zero(t, code, errs)
	require.Contains(t, out, "What was there is in")
	night := filepath.Join(dir, "night.ndjson")
	require.NoError(t, os.WriteFile(night, []byte(exported), 0o600))
	out, errs, code = run(t, nil, "journal", "import", night, "--data", elsewhere)
	require.Zero(t, code, errs)
	require.Contains(t, out, "entries imported")
	_, errs, code = run(t, nil, "journal", "import", night, "--data", elsewhere)
	require.Equal(t, 1, code, "their ids are taken")
	require.Contains(t, errs, "exists already")
	stop = serve(elsewhere)
	var again string
	require.Eventually(t, func() bool {
		again, _, _ = run(t, env, "journal", "--format", "ndjson")
		return strings.Contains(strings.TrimPrefix(again, exported), "service.started")
	}, patience, 50*time.Millisecond)
	require.True(t, strings.HasPrefix(again, exported), "what was exported is imported as it was")
	stop()
}
