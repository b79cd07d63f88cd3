package test

import (
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/test/chrome"
)

// TestTheConsoleSaysWhy cuts the link of a person. The pages of people, the explanation and the
// journal agree, live, and link to each other.
func TestTheConsoleSaysWhy(t *testing.T) {
	t.Parallel()
	s := startWith(t, func(p *presence.Policy) { p.GraceLost = 15 * time.Second }) // a busy browser shows it, too
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	const user = "ilse é/1" // whose id has to be escaped
	opens := func() *client.Link {
		link, err := client.Dial(t.Context(), client.Options{Server: s.URL(), Token: mint(t, user, "Ilse Marrow"), Rooms: []string{weir}})
		require.NoError(t, err)
		t.Cleanup(link.Close)
		return link
	}
	console := open(t, browser, s.URL(), "/#key="+key)
	click := func(selector string) {
		console.run("document.querySelector(" + strconv.Quote(selector) + ").click(); undefined")
	}
	console.until(present(`a[href="/people"]`))
	click(`a[href="/people"]`)
	console.until(`document.body.textContent.includes("Nobody is known")`)
	link := opens()
	console.until(says(row(user), "online")) // without a reload
	console.accessible()
	click(row(user) + " a")
	console.until(says("[data-decides]", "somebody is awake at a session"))
	console.until(says("[data-next]", "asks for a beat"))
	require.NoError(t, link.Idle(t.Context()))
	console.until(says("[data-decides]", "every session is idle"))
	require.NoError(t, link.Activity(t.Context()))
	console.until(says("[data-decides]", "somebody is awake at a session"))
	console.accessible()

	// Their status is set and cleared again.
	button := func(text string) {
		console.until(`[...document.querySelectorAll("button")].some((b) => b.textContent === ` + strconv.Quote(text) + `)`)
		console.run(`[...document.querySelectorAll("button")].find((b) => b.textContent === ` + strconv.Quote(text) + `).click(); undefined`)
	}
	button("Set busy")
	console.until(says("[data-decides]", "the person has set it"))
	button("Clear status")
	console.until(says("[data-decides]", "somebody is awake at a session"))

	// The cable is cut: loss, grace and end, with the same words everywhere.
	link.Close()
	console.until(says("[data-session=grace]", "In its grace (lost)"))
	console.until(says("[data-past]", "lost the link of a session"))
	console.until(says("[data-decides]", "there is no unended session"))
	console.until(says("[data-explanation]", "its link was lost without a word and did not come back within the grace"))
	console.until(says("[data-past] [data-kind='member.left']", "lost the link and did not return in time"))
	click(`a[href^="/journal?user="]`)
	line := func(text string) string {
		return `[...document.querySelectorAll("[data-line]")].filter((li) => li.textContent.includes("` + text + `"))`
	}
	console.until(line(user+" left basin.upper-weir and went offline: the link was lost and did not return within") + ".length === 1")
	opens()
	console.until(line("joined basin.upper-weir") + ".length === 2") // live
	console.run(line("went offline") + `[0].querySelector("button").click(); undefined`)
	console.until(says("[data-line] [data-kind='member.left']", "lost the link and did not return in time"))
	console.accessible()
	console.run(`history.pushState(null, "", "/journal?flat=yes&kind=member.left&room=` + url.QueryEscape("basin.*") + `"); undefined`)
	console.until(`[...document.querySelectorAll("[data-entries] li")].map((li) => li.dataset.kind).join() === "member.left"`)
	click("[data-entries] a[href^='/people/']")
	console.until(says("h1", "Ilse Marrow"))
	button("Sign them out")
	console.until(present("dialog[open]"))
	button("Cancel")
	console.until(absent("dialog[open]"))
	require.Empty(t, console.complaints.List())
}

// TestTheConsoleMissesNothingBeforeItsStream holds up the stream of the journal that a room's page opens when somebody
// comes, until they have left again.
func TestTheConsoleMissesNothingBeforeItsStream(t *testing.T) {
	t.Parallel()
	s := startService(t)
	service, err := url.Parse(s.URL())
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(service)
	proxy.FlushInterval = -1
	left := make(chan struct{})
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/v1/journal" && r.Header.Get("Accept") == "text/event-stream" && len(r.URL.Query()["user"]) > 1 {
			<-left
		}
		proxy.ServeHTTP(w, r)
	}))
	t.Cleanup(front.CloseClientConnections)
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	comes := func(user, name string) *client.Link {
		link, err := client.Dial(t.Context(), client.Options{Server: s.URL(), Token: mint(t, user, name), Rooms: []string{weir}})
		require.NoError(t, err)
		t.Cleanup(link.Close)
		return link
	}
	recorded := func(user, kind string) {
		require.Eventually(t, func() bool {
			page, err := client.API{Server: s.URL(), Key: key}.Journal(t.Context(), client.JournalQuery{Limit: 10, Users: []string{user}, Kinds: []string{kind}})
			return err == nil && len(page.Entries) == 1
		}, patience, 20*time.Millisecond)
	}
	comes("e-01", "Ilse Marrow")
	recorded("e-01", "member.joined")
	console := open(t, browser, front.URL, "/rooms/"+weir+"#key="+key)
	console.until(present("[data-lane='e-01'] [data-mark=live]"))
	link := comes("w-17", "Merrin Withywind")
	console.until(present("[data-lane='w-17'] [data-mark=joined]"))
	require.NoError(t, link.Bye(t.Context()))
	recorded("w-17", "member.left")
	close(left)
	console.until(present("[data-lane='w-17'] [data-mark=left]"))
}
