package test

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/test/chrome"
)

// TestTheFirstHourGoesAsThePageSays follows docs/quickstart.md in a fresh directory: a key pair,
// a back end in Node, two pages that list each other, and a restart of the service that neither
// shows.
func TestTheFirstHourGoesAsThePageSays(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../docs/quickstart.md")
	require.NoError(t, err)
	begin, _, found := strings.Cut(string(text), "\n## 4. ")
	require.True(t, found)
	service, app := freeAddress(t), freeAddress(t)
	_, appPort, err := net.SplitHostPort(app)
	require.NoError(t, err)
	begin = strings.NewReplacer("http://127.0.0.1:8420", "http://"+service, "listen(3000", "listen("+appPort).Replace(begin)
	blocks := map[string][]string{}
	for _, block := range regexp.MustCompile("(?ms)^```(\\w+)\n(.*?)^```$").FindAllStringSubmatch(begin, -1) {
		blocks[block[1]] = append(blocks[block[1]], block[2])
	}
	require.Equal(t, "tovik serve\n", blocks["sh"][0])

	dir := t.TempDir()
	modules, err := filepath.Abs("../web/node_modules")
	require.NoError(t, err)
	require.NoError(t, os.Symlink(modules, filepath.Join(dir, "node_modules"))) // npm install jose
	for name, content := range map[string]string{
		"app.mjs": blocks["js"][0], "page.html": blocks["html"][0],
		"tovik.toml": "grace.lost = \"60s\"\n", // so that a slow machine is as silent as a fast one
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content), 0o600))
	}
	serve := func() *exec.Cmd {
		cmd, _ := background(t, "listens at", "serve", "--listen", service, "--data", filepath.Join(dir, "tovik-data"), "--config", filepath.Join(dir, "tovik.toml"))
		return cmd
	}
	running := serve()
	script := exec.CommandContext(t.Context(), "sh", "-ec", strings.Join(blocks["sh"][1:], ""))
	script.Dir = dir
	script.Env = append(os.Environ(), "PATH="+filepath.Dir(tovik)+":"+os.Getenv("PATH"), "TOVIK_SERVER=http://"+service)
	out, err := script.CombinedOutput()
	require.NoError(t, err, "%s", out)
	node := exec.Command("node", "app.mjs")
	node.Dir, node.Stderr = dir, os.Stderr
	require.NoError(t, node.Start())
	t.Cleanup(func() { _, _ = node.Process.Kill(), node.Wait() })
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", app)
		return err == nil && conn.Close() == nil
	}, patience, 50*time.Millisecond)

	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	merrin, corin := open(t, browser, "http://"+app, "/?as=w-17"), open(t, browser, "http://"+app, "/?as=w-04")
	listed := func(p *page) {
		p.until(shown("tovik-members") + `.includes("Merrin Withywind") && ` + shown("tovik-members") + `.includes("Corin Alderby")`)
	}
	listed(merrin)
	listed(corin)

	require.NoError(t, running.Process.Signal(syscall.SIGTERM))
	require.Zero(t, ends(t, running))
	serve()
	key, err := os.ReadFile(filepath.Join(dir, "tovik-data", "operator.key"))
	require.NoError(t, err)
	api := client.API{Server: "http://" + service, Key: strings.TrimSpace(string(key))}
	require.Eventually(t, func() bool { // both have a link again
		all, err := api.Sessions(t.Context(), "", "", 10)
		if err != nil || len(all.Sessions) != 2 {
			return false
		}
		return all.Sessions[0].State == "live" && all.Sessions[1].State == "live"
	}, patience, 50*time.Millisecond)
	listed(merrin)
	listed(corin)
	journal, err := api.Journal(t.Context(), client.JournalQuery{Kinds: []string{"member.left"}})
	require.NoError(t, err)
	require.Empty(t, journal.Entries)
}
