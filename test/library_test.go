package test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/test/chrome"
	"tovik.example/tovik/wire"
)

// TestTheTenLinesOfTheGuideShowWhoIsHere opens the page of docs/integrate.md as it is
// written, from an application's own server, in two tabs of two people.
func TestTheTenLinesOfTheGuideShowWhoIsHere(t *testing.T) {
	s, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key})
	require.NoError(t, err)
	s.Ready()
	t.Cleanup(func() { _ = s.Stop() })
	text, err := os.ReadFile("../docs/integrate.md")
	require.NoError(t, err)
	html := regexp.MustCompile("(?s)```html\n(.*?)```").FindSubmatch(text)
	require.NotNil(t, html)
	require.LessOrEqual(t, strings.Count(string(html[1]), "\n"), 11)
	tokens, err := access.NewTokens([]byte(secret))
	require.NoError(t, err)
	var visits atomic.Int64
	names := []string{"Ilse Marrow", "Corin <Alderby>"}
	application := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/":
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			_, _ = w.Write([]byte(strings.ReplaceAll(string(html[1]), "http://127.0.0.1:8420", s.URL())))
		case "/presence-token":
			n := visits.Add(1) - 1
			token, err := tokens.Mint(access.Person{User: presence.UserID(fmt.Sprint("w-", n)), Profile: presence.Profile{Name: names[n%2]},
				Rooms: []presence.Pattern{"basin.*"}}, time.Now(), time.Hour)
			if err == nil {
				_, _ = w.Write([]byte(token))
			}
		default: // /favicon.ico
			w.WriteHeader(http.StatusNoContent)
		}
	}))
	t.Cleanup(application.Close)

	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	one := open(t, browser, application.URL, "/")
	one.until(shown("tovik-count") + ` === "1 person"`)
	two := open(t, browser, application.URL, "/")
	for _, page := range []*page{one, two} {
		page.until(shown("tovik-count") + ` === "2 people"`)
		page.until(shown("tovik-members") + `.includes("Ilse Marrow") && ` + shown("tovik-members") + `.includes("Corin <Alderby>")`)
	}
	two.do(chromedp.SendKeys(chromedp.CSS("textarea"), "The water is rising"))
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

// shown is the text of an element in JavaScript, without its style.
func shown(element string) string {
	return `[...document.querySelector("` + element + `").shadowRoot.children].filter((e) => e.localName !== "style").map((e) => e.textContent).join("")`
}
