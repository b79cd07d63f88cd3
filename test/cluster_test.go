package test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/cluster/local"
	"tovik.example/tovik/test/chrome"
	"tovik.example/tovik/wire"
)

// TestClientsWorkBehindALoadBalancer has three nodes behind nginx with the example configuration, and behind a load
// balancer that picks a node at random for each request. Clients that are not ours, and pages in a browser, do not
// notice. Then the node that owns the realm is killed, and the pages come back to another one.
func TestClientsWorkBehindALoadBalancer(t *testing.T) {
	t.Parallel()
	nodes, err := local.Start(local.Options{Program: tovik, Dir: t.TempDir(), Names: []string{"dipper", "heron", "kestrel"}, Listen: "127.0.0.1:0", Secret: secret, Key: key, Settings: "private_hooks = true\n"}, nil)
	require.NoError(t, err)
	t.Cleanup(nodes.Stop)
	awaitNodes(t, nodes)
	example, err := os.ReadFile("../deploy/cluster/nginx.conf")
	require.NoError(t, err)
	text := string(example)
	for i, name := range nodes.Names {
		text = strings.Replace(text, fmt.Sprintf("10.0.0.%d:8420", i+1), strings.TrimPrefix(nodes.At(name), "http://"), 1)
	}
	proxy := "http://" + startNginx(t, text)
	for _, address := range []string{proxy, nodes.URL()} {
		for range 4 { // over other nodes each time
			ctx, cancel := context.WithTimeout(t.Context(), patience)
			out, err := exec.CommandContext(ctx, "node", "independent.mjs", address, key, mint(t, "x-1", ""), mint(t, "x-2", "")).CombinedOutput()
			cancel()
			require.NoError(t, err, string(out))
		}
		var out, errs string
		require.Eventually(t, func() (well bool) { // on a busy machine a node may be behind for a moment
			var code int
			out, errs, code = run(t, []string{"TOVIK_SERVER=" + address, "TOVIK_KEY=" + key}, "doctor")
			return code == 0
		}, patience, time.Second, "%s%s", out, errs)
	}
	wanted := maps.Clone(examples)
	wanted["A client in thirty lines: it keeps the list of a room."] = []string{`^\d in basin.upper-weir at \S+\.\d+`}                                // others are there, too
	wanted["Comes back after a lost connection, and has missed nothing."] = []string{`^resumed: true, link \d+, sluice.mill-lane: (current|new-run)`} // another node may not have the list yet
	examplesRun(t, nodes.URL(), secret, wanted)                                                                                                       // on ws, eventsource and curl
	independentTokensAndHooks(t, nodes.URL())
	env := []string{"TOVIK_SERVER=" + proxy, "TOVIK_KEY=" + key}
	out, errs, code := run(t, env, "nodes", "--format", "json")
	require.Zero(t, code, errs)
	var doc any
	require.NoError(t, json.Unmarshal([]byte(out), &doc))
	require.NoError(t, answerSchemas(t)("Nodes").Validate(doc))
	out, errs, code = run(t, env, "nodes", "drain", "plover")
	require.Equal(t, 1, code, out)
	require.Contains(t, errs, "the cluster has no such node")
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	app := application(t, proxy)
	one := open(t, browser, app.URL, "/")
	one.until(shown("tovik-count") + ` === "1 person"`)
	two := open(t, browser, app.URL, "/")
	for _, page := range []*page{one, two} {
		page.until(shown("tovik-count") + ` === "2 people"`)
	}
	for _, page := range []*page{one, two} {
		page.run(`globalThis.counts = []; globalThis.shown = () => ` + shown("tovik-count") + `;
			new MutationObserver(() => counts.push(shown())).observe(document.querySelector("tovik-count").shadowRoot, { childList: true, subtree: true, characterData: true });`)
	}
	list, err := client.API{Server: proxy, Key: key}.Nodes(t.Context())
	require.NoError(t, err)
	time.Sleep(2 * time.Second) // sessions come on record
	owner := list.Realms[0].Owner
	require.NoError(t, nodes.Kill(owner))
	var third *client.Link
	require.Eventually(t, func() bool {
		third, err = client.Dial(t.Context(), client.Options{Server: proxy, Token: mint(t, "w-09", "Tarn Sedge"), Rooms: []string{weir}})
		return err == nil
	}, patience, 50*time.Millisecond)
	t.Cleanup(third.Close)
	for _, page := range []*page{one, two} {
		page.until(shown("tovik-count") + ` === "3 people"`)
	}
	// And an operator drains another one, after the first is back.
	require.NoError(t, nodes.Run(owner))
	awaitNodes(t, nodes)
	var next string
	require.Eventually(t, func() bool {
		list, err := client.API{Server: proxy, Key: key}.Nodes(t.Context())
		if err == nil {
			next = list.Realms[0].Owner
		}
		return err == nil && list.Realms[0].Answers && list.Log.Current == 3
	}, patience, 50*time.Millisecond)
	out, errs, code = run(t, env, "nodes", "drain", next)
	require.Zero(t, code, errs)
	require.Contains(t, out, next+" hands over")
	require.Eventually(t, func() bool { return nodes.State(next) == local.Stopped }, patience, 20*time.Millisecond)
	for _, page := range []*page{one, two} {
		page.until(shown("tovik-count") + ` === "3 people"`)
		page.until(`counts.every((text) => text !== "1 person" && text !== "")`)
	}
}

// awaitNodes waits until all nodes are ready.
func awaitNodes(t *testing.T, nodes *local.Nodes) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 2*patience)
	defer cancel()
	require.NoError(t, nodes.Await(ctx))
}

// independentTokensAndHooks signs a token with jose, whose key one node was told of, and checks the events that this
// brings about with standardwebhooks and cloudevents.
func independentTokensAndHooks(t *testing.T, address string) {
	api := client.API{Server: address, Key: key}
	told := make(chan []byte, 100)
	receiver := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		line, _ := json.Marshal(map[string]string{"id": r.Header.Get("webhook-id"), "timestamp": r.Header.Get("webhook-timestamp"), "signature": r.Header.Get("webhook-signature"),
			"type": r.Header.Get("Content-Type"), "body": string(body)})
		if bytes.Contains(body, []byte(`"jo"`)) {
			told <- line
		}
		w.WriteHeader(http.StatusNoContent)
	}))
	t.Cleanup(receiver.Close)
	hook, err := api.AddHook(t.Context(), wire.NewHook{Name: "the flood desk", URL: receiver.URL, Kinds: []string{"member.joined", "member.left"}})
	require.NoError(t, err)
	out, err := exec.CommandContext(t.Context(), "node", "jose.mjs", "ES256", "spring").Output()
	require.NoError(t, err)
	var made struct{ Token, Key string }
	require.NoError(t, json.Unmarshal(out, &made))
	_, err = api.AddTokenKey(t.Context(), wire.NewTokenKey{ID: "spring", Algorithm: "ES256", Key: made.Key, Issuer: "https://id.example"})
	require.NoError(t, err)
	for range 3 { // at three nodes
		var link *client.Link
		require.Eventually(t, func() bool { // a node knows a key when it has read on in the log
			link, err = client.Dial(t.Context(), client.Options{Server: address, Token: made.Token, Rooms: []string{weir}})
			return err == nil
		}, patience, 20*time.Millisecond)
		require.NoError(t, link.Bye(t.Context()))
	}
	var events bytes.Buffer
	for range 6 {
		select {
		case line := <-told:
			events.Write(append(line, '\n'))
		case <-time.After(patience):
			t.Fatal("a hook was not told of somebody who came or went")
		}
	}
	check := exec.CommandContext(t.Context(), "node", "webhook.mjs", hook.Secret)
	check.Stdin = &events
	out, err = check.CombinedOutput()
	require.NoError(t, err, string(out))
	require.Equal(t, "6", strings.TrimSpace(string(out)))
}
