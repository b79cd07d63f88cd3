package test

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/wire"
)

// process is a node in a process of its own.
type process struct {
	*exec.Cmd
	url string
}

// processes starts a cluster of three nodes, and waits until all are ready.
func processes(t *testing.T) map[string]*process {
	names := []string{"dipper", "heron", "kestrel"}
	quoted := func(list []string) string { return `["` + strings.Join(list, `", "`) + `"]` }
	var addresses []string
	for range names {
		addresses = append(addresses, freeAddress(t))
	}
	nodes := map[string]*process{}
	for i, name := range names {
		dir, listen := t.TempDir(), freeAddress(t)
		file := filepath.Join(dir, "tovik.toml")
		require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, `
listen = %q
data = %q
[cluster]
node = %q
listen = %q
peers = %s
nodes = %s
log_nodes = %s
password = "the sluices are open at night"
`, listen, filepath.Join(dir, "data"), name, addresses[i], quoted(addresses), quoted(names), quoted(names)), 0o600))
		if i == 0 {
			require.NoError(t, exec.Command(tovik, "cluster", "begin", "--data", filepath.Join(dir, "data")).Run())
		}
		cmd := exec.Command(tovik, "serve", "--config", file, "--token-secret", secret, "--operator-key", key)
		cmd.Stdout, cmd.Stderr = &bytes.Buffer{}, &bytes.Buffer{}
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
		nodes[name] = &process{cmd, "http://" + listen}
	}
	for _, node := range nodes {
		require.Eventually(t, func() bool {
			response, err := http.Get(node.url + "/readyz")
			if err != nil {
				return false
			}
			_ = response.Body.Close()
			return response.StatusCode == http.StatusOK
		}, patience, 20*time.Millisecond)
	}
	return nodes
}

// TestAKilledNodeIsSeenByNobody kills a node, its links and its part of the broker with it. People of the
// others stay; the one who was linked to it comes to another node; nobody is shown to leave.
func TestAKilledNodeIsSeenByNobody(t *testing.T) {
	t.Parallel()
	nodes := processes(t)
	var mu sync.Mutex
	left := []string{}
	dial := func(o client.Options) (link *client.Link) {
		require.Eventually(t, func() bool { // while there is no owner, a hello is not answered
			var err error
			link, err = client.Dial(t.Context(), o)
			return err == nil
		}, patience, 50*time.Millisecond)
		t.Cleanup(link.Close)
		return link
	}
	dial(client.Options{Server: nodes["kestrel"].url, Key: key, Watch: []wire.Watch{{Room: weir}}, OnEvent: func(e client.Event) {
		mu.Lock()
		defer mu.Unlock()
		for _, d := range e.Left {
			left = append(left, d.User)
		}
	}})
	dial(client.Options{Server: nodes["heron"].url, Token: mint(t, "ilse", "Ilse Marrow"), Rooms: []string{weir}})
	bram := dial(client.Options{Server: nodes["dipper"].url, Token: mint(t, "bram", "Bram Alder"), Rooms: []string{weir}})
	api := client.API{Server: nodes["heron"].url, Key: key}
	var err error
	for _, user := range []string{"bram", "ilse"} { // what is answered is on record, and so are their sessions
		require.Eventually(t, func() bool {
			_, err = api.SetStatus(t.Context(), user, wire.StatusWanted{Status: "busy", Note: "at the pumps"})
			return err == nil
		}, patience, 50*time.Millisecond)
	}

	require.NoError(t, nodes["dipper"].Process.Kill())
	returned := dial(client.Options{Server: nodes["heron"].url, Token: mint(t, "bram", "Bram Alder"), Rooms: []string{weir}, Resume: bram.Resume()})
	require.True(t, returned.Opened().Resumed)
	var list wire.Members
	require.Eventually(t, func() bool {
		list, err = api.Members(t.Context(), weir)
		return err == nil && len(list.Members) == 2
	}, patience, 50*time.Millisecond)
	require.True(t, slices.ContainsFunc(list.Members, func(m wire.Member) bool { return m.User == "ilse" && m.Note == "at the pumps" }))
	mu.Lock()
	defer mu.Unlock()
	require.Empty(t, left)
}
