package test

import (
	"encoding/json"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestABackEndInNodeGoesAsThePageSays runs the programs of docs/node.md in a fresh directory, with the npm package as
// npm pack makes it, and then once with each mistake that is easily made.
func TestABackEndInNodeGoesAsThePageSays(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../docs/node.md")
	require.NoError(t, err)
	service, app := freeAddress(t), freeAddress(t)
	_, appPort, err := net.SplitHostPort(app)
	require.NoError(t, err)
	page := strings.NewReplacer("http://127.0.0.1:8420", "http://"+service, "listen(3000", "listen("+appPort, "127.0.0.1:3000", app).Replace(string(text))
	dir := t.TempDir()
	var shell []string
	for _, block := range regexp.MustCompile("(?ms)^```(\\w+)\n(.*?)^```$").FindAllStringSubmatch(page, -1) {
		if name, ok := strings.CutPrefix(strings.SplitN(block[2], "\n", 2)[0], "// "); ok && block[1] == "js" {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(block[2]), 0o600))
			continue
		}
		require.Equal(t, "sh", block[1])
		shell = append(shell, block[2])
	}
	require.Len(t, shell, 3)
	install(t, dir)
	require.Contains(t, shell[0], "tovik serve --private-hooks")
	background(t, "listens at", "serve", "--private-hooks", "--listen", service, "--data", filepath.Join(dir, "tovik-data"))

	sh := func(script string) string {
		cmd := exec.CommandContext(t.Context(), "sh", "-ec", script)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(tovik)+":"+os.Getenv("PATH"), "TOVIK_SERVER=http://"+service)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	setUp := strings.Replace(shell[1], "npm install ./tovik-0.1.0.tgz\n", "", 1)
	require.NotEqual(t, shell[1], setUp)
	sh(setUp)
	key := strings.TrimSpace(sh("cat tovik-data/operator.key"))
	var hook struct{ Secret string }
	require.NoError(t, json.Unmarshal([]byte(sh("TOVIK_KEY="+key+" "+strings.TrimSpace(shell[2])+" --format json")), &hook))

	node := func(name string, env ...string) (*exec.Cmd, *output) {
		cmd, said := exec.Command("node", name), &output{}
		cmd.Dir, cmd.Stdout, cmd.Stderr = dir, said, said
		cmd.Env = append(append(os.Environ(), "TOVIK_KEY="+key), env...)
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _, _ = cmd.Process.Kill(), cmd.Wait() })
		return cmd, said
	}
	_, watched := node("watch.mjs")
	_, received := node("hooks.mjs", "TOVIK_HOOK_SECRET="+hook.Secret)
	gauge, _ := node("gauge.mjs")
	watched.until(t, "Gauge 3 joined basin.upper-weir\n")
	received.until(t, "tovik.member.joined: gauge-3, now 1\n")
	asked, said := node("who.mjs")
	require.NoError(t, asked.Wait(), said)
	require.Equal(t, "basin.upper-weir: 1 (Gauge 3)\n1 links got the cue\n", said.String())
	require.NoError(t, gauge.Process.Signal(syscall.SIGTERM))
	watched.until(t, "Gauge 3 left basin.upper-weir: bye\n")
	received.until(t, "tovik.member.left: gauge-3, now 0\n")

	for name, c := range map[string]struct{ program, env, says string }{
		"a wrong key when following": {"watch.mjs", "TOVIK_KEY=guessed", "not an operator key"},
		"a wrong key when asking":    {"who.mjs", "TOVIK_KEY=guessed", "not an operator key"},
	} {
		cmd, said := node(c.program, c.env)
		require.Error(t, cmd.Wait(), name)
		require.Contains(t, said.String(), c.says, name)
	}
	for mistake, says := range map[string]string{
		`mintToken({ user: "", grants: { rooms: [] } }, { secret: "s" })`:                    `user is "", and must be the person's id`,
		`mintToken({ user: "w-17" }, { secret: "s" })`:                                       "grants.rooms is undefined, and must be a list of patterns",
		`mintToken({ user: "w-17", grants: { rooms: [] }, seconds: 0 }, { secret: "s" })`:    "seconds is 0, and must be more than 0",
		`mintToken({ user: "w-17", grants: { rooms: [] } }, { secret: "short" })`:            "secret has 5 bytes, and must have at least 32",
		`mintToken({ user: "w-17", grants: { rooms: [] } }, { key: "no PEM", kid: "k" })`:    "key cannot be used with EdDSA",
		`mintToken({ user: "w-17", grants: { rooms: [] } }, { key: "no PEM" })`:              "kid is missing",
		`follow({ server: "presence.example", key: "k" })`:                                   "presence.example",
		`readEvent({ "webhook-id": "event-1" }, "{}", "whsec_YWxkZXJtb29yIHJpdmVyIHdhdGNo")`: "Missing required headers",
		`readEvent(new Headers(), "{}", "whsec_YWxkZXJtb29yIHJpdmVyIHdhdGNo")`:               "Missing required headers",
	} {
		program := "import { follow, mintToken, readEvent } from \"tovik/server\";\ntry {\n  await " + mistake + ";\n} catch (error) {\n  console.log(error.message);\n}\n"
		require.NoError(t, os.WriteFile(filepath.Join(dir, "mistake.mjs"), []byte(program), 0o600))
		cmd, said := node("mistake.mjs")
		require.NoError(t, cmd.Wait(), said)
		require.Contains(t, said.String(), says, mistake)
	}
}

// install puts the npm package and its dependencies into a directory, as npm install does, without a registry.
func install(t *testing.T, dir string) {
	pack := exec.CommandContext(t.Context(), "npm", "pack", "--silent", "--pack-destination", dir)
	pack.Dir = "../web/client"
	out, err := pack.Output()
	require.NoError(t, err)
	modules := filepath.Join(dir, "node_modules")
	require.NoError(t, os.MkdirAll(filepath.Join(modules, "tovik"), 0o700))
	untar := exec.CommandContext(t.Context(), "tar", "xzf", filepath.Join(dir, strings.TrimSpace(string(out))), "-C", filepath.Join(modules, "tovik"), "--strip-components=1")
	require.NoError(t, untar.Run())
	text, err := os.ReadFile(filepath.Join(modules, "tovik", "package.json"))
	require.NoError(t, err)
	var is struct{ Dependencies map[string]string }
	require.NoError(t, json.Unmarshal(text, &is))
	for name, version := range is.Dependencies {
		from, err := filepath.Abs(filepath.Join("../web/node_modules", name))
		require.NoError(t, err)
		text, err := os.ReadFile(filepath.Join(from, "package.json"))
		require.NoError(t, err, "a dependency of web/client is missing in web/package.json")
		var found struct{ Version string }
		require.NoError(t, json.Unmarshal(text, &found))
		require.Equal(t, version, found.Version, name)
		require.NoError(t, os.Symlink(from, filepath.Join(modules, name)))
	}
}

// output is what a program has said.
type output struct {
	mu   sync.Mutex
	text strings.Builder
}

func (o *output) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.text.Write(p)
}

func (o *output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.text.String()
}

// until waits until a text was said.
func (o *output) until(t *testing.T, text string) {
	t.Helper()
	if !assert.Eventually(t, func() bool { return strings.Contains(o.String(), text) }, patience, 20*time.Millisecond) {
		require.Fail(t, "it did not say "+text, "%s", o)
	}
}
