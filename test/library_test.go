package test

import (
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/test/chrome"
	"tovik.example/tovik/wire"
)

// application serves the page of docs/quickstart.md for a service.
func application(t *testing.T, service string) *httptest.Server {
	text, err := os.ReadFile("../docs/quickstart.md")
	require.NoError(t, err)
	html := regexp.MustCompile("(?s)```html\n(.*?)```").FindSubmatch(text)
	require.NotNil(t, html)
	require.LessOrEqual(t, strings.Count(string(html[1]), "\n"), 11)
	var visits atomic.Int64
	names := []string{"Ilse Marrow", "Corin <Alderby>", "Hanne Leveson-Bank"}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/":
			if _, err := r.Cookie("visit"); err != nil { // somebody new, or who the address says
				as := r.URL.Query().Get("as")
				if as == "" {
					as = fmt.Sprint(visits.Add(1) - 1)
				}
				http.SetCookie(w, &http.Cookie{Name: "visit", Value: as})
			}
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			_, _ = w.Write([]byte(strings.ReplaceAll(string(html[1]), "http://127.0.0.1:8420", service)))
		case "/presence-token":
			var n int
			if visit, err := r.Cookie("visit"); err == nil {
				_, _ = fmt.Sscan(visit.Value, &n)
			}
			token, err := client.Token{User: fmt.Sprint("w-", n), Name: names[n%3], Grants: wire.Grants{Rooms: []string{"basin.*"}}}.Sign(secret)
			if err == nil {
				_, _ = w.Write([]byte(token))
			}
		case "/other":
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			_, _ = w.Write([]byte("<!doctype html><title>Elsewhere</title><script>setTimeout(() => history.back(), 100)</script>"))
		default: // /favicon.ico
			w.WriteHeader(http.StatusNoContent)
		}
	}))
	t.Cleanup(server.Close)
	return server
}

func startService(t *testing.T) *server.Server {
	return startWith(t, func(*presence.Policy) {})
}

// TestTheTenLinesOfTheGuideShowWhoIsHere opens the page in two tabs of two people.
func TestTheTenLinesOfTheGuideShowWhoIsHere(t *testing.T) {
	t.Parallel()
	s := startService(t)
	app := application(t, s.URL())
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	one := open(t, browser, app.URL, "/")
	one.until(shown("tovik-count") + ` === "1 person"`)
	two := open(t, browser, app.URL, "/")
	for _, page := range []*page{one, two} {
		page.until(shown("tovik-count") + ` === "2 people"`)
		page.until(shown("tovik-members") + `.includes("Ilse Marrow") && ` + shown("tovik-members") + `.includes("Corin <Alderby>")`)
	}
	two.write("textarea", "The water is rising")
	one.until(shown("tovik-typing") + ` === "Corin <Alderby> is typing"`)
	two.until(shown("tovik-typing") + ` === ""`) // not oneself

	api := client.API{Server: s.URL(), Key: key}
	members, err := api.Members(t.Context(), "basin.upper-weir")
	require.NoError(t, err)
	require.Equal(t, wire.Tally{People: 2, Sessions: 2}, members.Count.Online)
	two.do(chromedp.Navigate("about:blank"))
	one.until(shown("tovik-count") + ` === "1 person"`)
	for _, complaint := range one.complaints.List() {
		require.Equal(t, "asked another host: "+s.URL()+"/client/tovik.js", complaint)
	}
}

// TestWhatAProxyForbidsIsGoneAround opens the page behind a proxy that blocks WebSockets, and
// behind one that also blocks event streams.
func TestWhatAProxyForbidsIsGoneAround(t *testing.T) {
	t.Parallel()
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	for name, c := range map[string]struct {
		forbidden []string
		used      string
	}{
		"no WebSockets":             {[]string{"/v1/link"}, "GET /v1/feed"},
		"no WebSockets nor streams": {[]string{"/v1/link", "/v1/feed"}, "PUT /v1/sessions/new"},
	} {
		t.Run(name, func(t *testing.T) {
			s := startService(t)
			target, err := url.Parse(s.URL())
			require.NoError(t, err)
			pass := httputil.NewSingleHostReverseProxy(target)
			pass.FlushInterval = -1
			pass.ErrorLog = log.New(io.Discard, "", 0)
			var mu sync.Mutex
			passed := map[string]int{}
			proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if slices.Contains(c.forbidden, r.URL.Path) {
					w.WriteHeader(http.StatusForbidden)
					return
				}
				mu.Lock()
				passed[r.Method+" "+r.URL.Path]++
				mu.Unlock()
				pass.ServeHTTP(w, r)
			}))
			t.Cleanup(proxy.CloseClientConnections)
			one := open(t, browser, application(t, proxy.URL).URL, "/")
			one.until(shown("tovik-count") + ` === "1 person"`)
			one.write("textarea", "The water is rising")
			typing := make(chan wire.TypingFrame, 10)
			third, err := client.Dial(t.Context(), client.Options{Server: s.URL(), Key: key, Watch: []wire.Watch{{Room: "basin.*"}},
				OnTyping: func(f wire.TypingFrame) { typing <- f }})
			require.NoError(t, err)
			defer third.Close()
			select {
			case f := <-typing:
				require.Equal(t, []string{"w-0"}, f.Users)
			case <-time.After(patience):
				t.Fatal("nobody was seen to type")
			}
			mu.Lock()
			defer mu.Unlock()
			require.Positive(t, passed[c.used], "%v", passed)
		})
	}
}

// shown is the text of an element, in JavaScript, without its style.
func shown(element string) string {
	return `[...document.querySelector("` + element + `").shadowRoot.children].filter((e) => e.localName !== "style").map((e) => e.textContent).join("")`
}
