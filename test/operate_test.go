package test

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestReloadAndPlaces reloads a service by a signal, and by a command that finds it by the name
// of a place.
func TestReloadAndPlaces(t *testing.T) {
	t.Parallel()
	dir, address := t.TempDir(), freeAddress(t)
	path := filepath.Join(dir, "tovik.toml")
	write := func(text string) { require.NoError(t, os.WriteFile(path, []byte(text), 0o600)) }
	write("grace.lost = \"12s\"\n")
	cmd, _ := background(t, "listens at", "serve", "--listen", address, "--data", dir, "--operator-key", "own", "--config", path)
	home := []string{"TOVIK_CONFIG_DIR=" + filepath.Join(dir, "places")}
	does := func(want int, args ...string) string {
		t.Helper()
		out, errs, code := run(t, home, args...)
		require.Equal(t, want, code, "%v: %s%s", args, out, errs)
		return out + errs
	}
	does(4, "place", "add", "moor", "--server", "http://"+address, "--key", "guess")
	require.Contains(t, does(0, "place", "list"), "PLACE", "a key that is refused is not remembered")
	does(0, "place", "add", "moor", "--server", "http://"+address, "--key", "own")
	does(0, "place", "add", "elsewhere", "--server", "http://"+address, "--key", "own")
	does(0, "place", "choose", "moor")
	require.Contains(t, does(0, "place", "list"), "yes")
	require.NotContains(t, does(0, "place", "list", "--format", "json"), "own")
	info, err := os.Stat(filepath.Join(dir, "places", "places.toml"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.Contains(t, does(2, "rooms", "--at", "nowhere"), "there is no place")
	policy := func() string { return does(0, "policy", weir, "--format", "csv") }
	require.Contains(t, policy(), "12000")

	write("grace.lost = \"21s\"\n")
	require.NoError(t, cmd.Process.Signal(syscall.SIGHUP))
	require.Eventually(t, func() bool { return strings.Contains(policy(), "21000") }, patience, 50*time.Millisecond)
	write("grace.lost = 7\n")
	require.Contains(t, does(1, "reload"), "tovik.toml:1: grace.lost is 7; allowed: a time in quotes")
	write("grace.lost = \"22s\"\nmax_connections = 300\n")
	require.Contains(t, does(1, "reload"), "a restart is needed for max_connections")
	require.Contains(t, policy(), "21000")
	write("grace.lost = \"22s\"\n")
	require.Equal(t, "Taken over: policies.\n", does(0, "reload"))
	require.Contains(t, policy(), "22000")
	does(0, "place", "forget", "moor")
	require.Contains(t, does(3, "rooms", "--server", "http://"+freeAddress(t)), "nobody listens")
}

// TestALoadFailsWhenItsBoundIsBroken also checks that doctor reports what is wrong.
func TestALoadFailsWhenItsBoundIsBroken(t *testing.T) {
	t.Parallel()
	dir, address := t.TempDir(), freeAddress(t)
	background(t, "listens at", "serve", "--listen", address, "--data", dir, "--operator-key", "own")
	env := []string{"TOVIK_SERVER=http://" + address, "TOVIK_KEY=own"}
	_, errs, code := run(t, env, "load", "--people", "20", "--rooms", "2", "--rate", "50", "--for", "1s", "--data", dir, "--p50", "1us")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "the bound is 1µs")
	out, errs, code := run(t, env, "load", "--people", "2", "--rooms", "1", "--rate", "10", "--for", "300ms", "--data", dir, "--format", "json")
	require.Zero(t, code, errs)
	require.True(t, json.Valid([]byte(out)), out)
	out, errs, code = run(t, append(env, "TOVIK_KEY=guess"), "doctor", "--data", filepath.Join(dir, "none"))
	require.Equal(t, 1, code)
	require.Contains(t, out, "bad-key")
	require.Contains(t, out, "The directory of the records cannot be written")
	require.Contains(t, errs, "2 problems found")
	require.False(t, bytes.ContainsRune([]byte(out), '\x1b'), "no colours where there is no terminal")
}
