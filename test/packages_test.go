package test

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
)

// TestThePackagesRun makes the packages twice, which gives the same bytes. It installs the Debian package into a directory,
// starts what its unit starts, and purges it; and it runs the image as one node, and as three.
func TestThePackagesRun(t *testing.T) {
	t.Parallel()
	withImage := exec.CommandContext(t.Context(), "unshare", "--mount", "mount", "--types", "tmpfs", "none", "/mnt").Run() == nil
	made := [2]string{t.TempDir(), t.TempDir()}
	for _, dir := range made {
		cmd := exec.CommandContext(t.Context(), "../deploy/package.sh", tovik, "0.1.0", runtime.GOARCH, dir)
		if !withImage {
			cmd.Env = append(os.Environ(), "IMAGE=no")
		}
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	deb, image := "tovik_0.1.0_"+runtime.GOARCH+".deb", "tovik-0.1.0-"+runtime.GOARCH+".oci.tar"
	names := []string{deb}
	if withImage {
		names = append(names, image)
	}
	for _, name := range names {
		first, err := os.ReadFile(filepath.Join(made[0], name))
		require.NoError(t, err)
		second, err := os.ReadFile(filepath.Join(made[1], name))
		require.NoError(t, err)
		require.True(t, string(first) == string(second), "%s differs from build to build", name)
	}
	t.Run("the Debian package", func(t *testing.T) { installs(t, filepath.Join(made[0], deb)) })
	t.Run("the image", func(t *testing.T) {
		if !withImage {
			t.Skip("images need the right to mount, which is missing here")
		}
		runsContained(t, filepath.Join(made[0], image))
	})
}

func installs(t *testing.T, deb string) {
	root := t.TempDir()
	for _, dir := range []string{"info", "updates"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, "var/lib/dpkg", dir), 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(root, "var/lib/dpkg/status"), nil, 0o600))
	dpkg := func(args ...string) {
		cmd := exec.CommandContext(t.Context(), "dpkg", append([]string{"--root", root, "--log", filepath.Join(root, "log"), "--force-script-chrootless"}, args...)...)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	dpkg("--install", deb)
	unit, err := os.ReadFile(filepath.Join(root, "usr/lib/systemd/system/tovik.service"))
	require.NoError(t, err)
	_, starts, _ := strings.Cut(string(unit), "ExecStart=")
	starts, _, _ = strings.Cut(starts, "\n")
	var words []string
	for _, word := range strings.Fields(starts) {
		if strings.HasPrefix(word, "/") {
			word = root + word
		}
		words = append(words, word)
	}
	require.FileExists(t, filepath.Join(root, "etc/tovik/tovik.toml"))
	at := freeAddress(t)
	service := exec.Command(words[0], append(words[1:], "--listen", at)...)
	service.Stderr = os.Stderr
	require.NoError(t, service.Start())
	healthy(t, at)
	require.NoError(t, service.Process.Signal(syscall.SIGTERM))
	require.NoError(t, service.Wait())
	require.FileExists(t, filepath.Join(root, "var/lib/tovik/tovik.db"))
	dpkg("--remove", "tovik")
	require.NoFileExists(t, words[0])
	require.FileExists(t, filepath.Join(root, "var/lib/tovik/tovik.db"), "the records stay")
	dpkg("--purge", "tovik")
	for _, gone := range []string{"var/lib/tovik", "etc/tovik", "usr/lib/systemd/system/tovik.service", "usr/share/doc/tovik"} {
		require.NoFileExists(t, filepath.Join(root, gone))
	}
}

func runsContained(t *testing.T, image string) {
	store := t.TempDir()
	buildah := func(args ...string) *exec.Cmd {
		return exec.Command("buildah", append([]string{"--storage-driver", "vfs", "--root", filepath.Join(store, "store"), "--runroot", filepath.Join(store, "run")}, args...)...)
	}
	pulled, err := buildah("pull", "--quiet", "oci-archive:"+image).Output()
	require.NoError(t, err)
	container := func() string {
		id, err := buildah("from", "--quiet", strings.TrimSpace(string(pulled))).Output()
		require.NoError(t, err)
		return strings.TrimSpace(string(id))
	}
	in := func(id, mount string, env []string, command ...string) *exec.Cmd {
		args := []string{"run", "--isolation", "chroot"}
		for _, name := range env {
			args = append(args, "--env", name)
		}
		if mount != "" {
			args = append(args, "--volume", mount+":/etc/tovik:ro")
		}
		args = append(append(args, id, "--", "/tovik"), command...)
		cmd := buildah(args...)
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		cmd.Stderr = os.Stderr
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _, _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL), cmd.Wait() })
		return cmd
	}
	at := freeAddress(t)
	in(container(), "", nil, "serve", "--listen", at, "--data", "/data")
	healthy(t, at)

	config := t.TempDir()
	require.NoError(t, os.Chmod(config, 0o755))
	names := []string{"dipper", "heron", "kestrel"}
	listen, clients := map[string]string{}, map[string]string{}
	for _, name := range names {
		listen[name], clients[name] = freeAddress(t), freeAddress(t)
	}
	for _, name := range names {
		var peers []string
		for _, other := range names {
			if other != name {
				peers = append(peers, fmt.Sprintf("%q", listen[other]))
			}
		}
		text := fmt.Sprintf("[cluster]\nnode = %q\nlisten = %q\npeers = [%s]\nnodes = [\"dipper\", \"heron\", \"kestrel\"]\nlog_nodes = [\"dipper\", \"heron\", \"kestrel\"]\npassword = \"the routes of one test\"\n", name, listen[name], strings.Join(peers, ", "))
		require.NoError(t, os.WriteFile(filepath.Join(config, name+".toml"), []byte(text), 0o644))
	}
	env := []string{"TOVIK_TOKEN_SECRET=" + secret, "TOVIK_OPERATOR_KEY=" + key}
	for i, name := range names {
		id := container()
		if i == 0 {
			require.NoError(t, in(id, "", nil, "cluster", "begin", "--data", "/data").Wait())
		}
		in(id, config, env, "serve", "--config", "/etc/tovik/"+name+".toml", "--data", "/data", "--listen", clients[name])
	}
	for _, name := range names {
		healthy(t, clients[name])
		api := client.API{Server: "http://" + clients[name], Key: key}
		require.Eventually(t, func() bool {
			list, err := api.Nodes(t.Context())
			return err == nil && len(list.Nodes) == 3 && len(list.Realms) == 1 && list.Realms[0].Answers
		}, 2*patience, 100*time.Millisecond, name)
	}
}

// healthy waits until a service answers.
func healthy(t *testing.T, at string) {
	t.Helper()
	require.Eventually(t, func() bool {
		response, err := http.Get("http://" + at + "/healthz")
		if err != nil {
			return false
		}
		return response.Body.Close() == nil && response.StatusCode == http.StatusOK
	}, patience, 50*time.Millisecond, at)
}
