package test

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/test/chrome"
	"tovik.example/tovik/wire"
)

// examples are the examples of docs/protocol.md by their first comment, with the expected
// output.
var examples = map[string][]string{
	"A client in thirty lines: it keeps the list of a room.":                {`^1 in basin.upper-weir at \w+\.\d+`},
	"Comes back after a lost connection, and has missed nothing.":           {`^resumed: true, link 2, sluice.mill-lane: current`},
	"An event stream, and a request beside it.":                             {`^w-1 is typing in desk.night`},
	"Follow the counts of two rooms, without being there, for two seconds.": {`"type":"answer"`, `"type":"count","room":"basin.upper-weir"`, `"type":"count","room":"desk.night"`},
	"Open a session, beat once more, and end it.":                           {`"resumed":true`, `"lease":150000`, `{"applied":true}`},
	"A cue, and somebody who is watched.":                                   {`^w-2 is offline`, `\nw-2 is online`, `\nw-1 gave the cue wave`, `\nw-2 is offline`},
}

// TestTheExamplesOfTheProtocolRunAsWritten runs the examples with the npm packages ws and
// eventsource, and curl.
func TestTheExamplesOfTheProtocolRunAsWritten(t *testing.T) {
	address := freeAddress(t)
	secret := strings.Repeat("s", 32)
	background(t, "listens at", "serve", "--listen", address, "--token-secret", secret, "--operator-key", "k")
	examplesRun(t, "http://"+address, secret, examples)
}

// examplesRun runs the examples at a service, which should print what is wanted.
func examplesRun(t *testing.T, server, secret string, wanted map[string][]string) {
	token := func(user string) string {
		all := []string{"**"}
		text, err := client.Token{User: user, Grants: wire.Grants{Rooms: all, Cue: all, People: []string{"*"}}}.Sign(secret)
		require.NoError(t, err)
		return text
	}
	env := append(os.Environ(), "SERVER="+server, "TOKEN="+token("w-1"), "OTHER="+token("w-2"))

	page, err := os.ReadFile("../docs/protocol.md")
	require.NoError(t, err)
	modules, err := filepath.Abs("../web/node_modules")
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.Symlink(modules, filepath.Join(dir, "node_modules")))

	found := 0
	for _, block := range regexp.MustCompile("(?ms)^```(js|sh)\n(?://|#) ([^\n]+)\n(.*?)^```$").FindAllStringSubmatch(string(page), -1) {
		language, title, code := block[1], block[2], block[3]
		found++
		t.Run(title, func(t *testing.T) {
			ctx, cancel := context.WithTimeout(t.Context(), patience)
			defer cancel()
			cmd := exec.CommandContext(ctx, "sh", "-c", code)
			if language == "js" {
				file := filepath.Join(dir, "example.mjs")
				require.NoError(t, os.WriteFile(file, []byte(code), 0o600))
				cmd = exec.CommandContext(ctx, "node", file)
			}
			cmd.Env = env
			out, err := cmd.CombinedOutput()
			if language == "js" {
				require.NoError(t, err, "%s", out)
			}
			require.NotEmpty(t, wanted[title], "an example that nothing is known of")
			for _, want := range wanted[title] {
				require.Regexp(t, want, string(out))
			}
		})
	}
	require.Len(t, wanted, found)
}

func TestTheDescriptionOfTheFramesIsAsyncAPI(t *testing.T) {
	t.Parallel()
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	defer cancel()
	out, err := exec.CommandContext(ctx, "node", "asyncapi.mjs", "../wire/asyncapi.yaml").CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Contains(t, string(out), "43 messages")
}

// TestThePageOfTheProtocolKeepsItsSession reloads the page without the library: its session
// continues. When the page is left, its beacon says so.
func TestThePageOfTheProtocolKeepsItsSession(t *testing.T) {
	t.Parallel()
	s := startWith(t, func(p *presence.Policy) { p.GraceClosing = 20 * time.Second })
	third := lookOn(t, s)
	text, err := os.ReadFile("../docs/protocol.md")
	require.NoError(t, err)
	html := regexp.MustCompile("(?s)```html\n(.*?)```").FindSubmatch(text)
	require.NotNil(t, html)
	token, err := client.Token{User: "w-17", Name: "Merrin Withywind", Grants: wire.Grants{Rooms: []string{weir}}}.Sign(secret)
	require.NoError(t, err)
	content := strings.NewReplacer("127.0.0.1:8420", strings.TrimPrefix(s.URL(), "http://"), "TOKEN", strconv.Quote(token)).Replace(string(html[1]))
	app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/" { // /favicon.ico
			w.WriteHeader(http.StatusNoContent)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = io.WriteString(w, content)
	}))
	t.Cleanup(app.Close)
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)

	page := open(t, browser, app.URL, "/")
	const listed = `document.querySelector("ul").textContent === "Merrin Withywind"`
	page.until(listed)
	for range 3 {
		page.do(chromedp.Reload())
		page.until(listed)
	}
	sessions(t, s, wire.Tally{People: 1, Sessions: 1})
	joins, lefts := third.joins()
	require.Len(t, joins, 1)
	require.Empty(t, lefts)
	require.Empty(t, page.complaints.List())

	page.do(chromedp.Navigate("about:blank"))
	require.Eventually(t, func() bool {
		all, err := client.API{Server: s.URL(), Key: key}.Sessions(t.Context(), "", "", 10)
		return err == nil && len(all.Sessions) == 1 && all.Sessions[0].State == "grace" && all.Sessions[0].Reason == "closing"
	}, patience, 50*time.Millisecond)
}
