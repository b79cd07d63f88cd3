package test

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/demo"
	"tovik.example/tovik/internal/hooks"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/test/chrome"
	"tovik.example/tovik/wire"
)

// click clicks the first element that matches a selector, once there is one.
func (p *page) click(selector string) {
	p.t.Helper()
	p.until(present(selector))
	p.run("document.querySelector(" + strconv.Quote(selector) + ").click(); undefined")
}

// press clicks the first button with a text.
func (p *page) press(text string) {
	p.t.Helper()
	find := `[...document.querySelectorAll("button")].find((b) => b.textContent === ` + strconv.Quote(text) + `)`
	p.until(find + " !== undefined")
	p.run(find + ".click(); undefined")
}

// keys types.
func (p *page) keys(keys ...string) {
	p.t.Helper()
	for _, k := range keys {
		p.do(chromedp.KeyEvent(k))
	}
}

// watchNight plays the demo on a service until the test ends.
func watchNight(t *testing.T) (*server.Server, client.API) {
	t.Helper()
	policy := demo.Policy()
	s, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, Data: t.TempDir(), PrivateHooks: true, Policy: &policy})
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	arrived, over := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(over)
		demo.Play(ctx, demo.Options{Server: s.URL(), Secret: secret, Key: key, People: 30, Seed: 7}, func() { s.Ready(); close(arrived) })
	}()
	t.Cleanup(func() {
		stop()
		<-over
		require.NoError(t, s.Stop())
	})
	<-arrived
	return s, client.API{Server: s.URL(), Key: key}
}

// fits reports whether a page needs no horizontal scrolling.
const fits = `[...document.querySelectorAll("main *, #root *")].every((e) =>
	e.closest("svg, .overflow-x-auto, .truncate, .sr-only, pre") || e.getBoundingClientRect().right <= innerWidth)`

// TestThePagesOfTheConsole opens each page on the demo, makes a visible change, and checks
// accessibility, browser errors, and requests to other hosts.
func TestThePagesOfTheConsole(t *testing.T) {
	t.Parallel()
	s, api := watchNight(t)
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	var hook string
	require.Eventually(t, func() bool {
		list, err := api.Hooks(t.Context())
		require.NoError(t, err)
		if len(list.Hooks) > 0 {
			hook = list.Hooks[0].ID
		}
		return hook != ""
	}, patience, 50*time.Millisecond)
	_, err = api.PutPerson(t.Context(), wire.Profile{User: "100% a/b", Name: "Per Cent"})
	require.NoError(t, err)
	const user = "a-first"
	comes := func(rooms ...string) *client.Link {
		token, err := client.Token{User: user, Name: "Aalin Firstwater", Grants: wire.Grants{Rooms: []string{"**"}}}.Sign(secret)
		require.NoError(t, err)
		link, err := client.Dial(t.Context(), client.Options{Server: s.URL(), Token: token, Rooms: rooms})
		require.NoError(t, err)
		t.Cleanup(link.Close)
		return link
	}
	bye := func(link *client.Link) { require.NoError(t, link.Bye(t.Context())) }
	// types reports that somebody types, again and again, until they say bye: one report lasts for
	// a few seconds, and a page on a busy machine may show nothing for longer.
	types := func(room string) func() {
		link, stop, stopped := comes(room), make(chan struct{}), make(chan struct{})
		go func() {
			defer close(stopped)
			for {
				if err := link.Typing(t.Context(), room, true); err != nil {
					return
				}
				select {
				case <-stop:
					return
				case <-time.After(2 * time.Second):
				}
			}
		}()
		return func() { close(stop); <-stopped; bye(link) }
	}
	// The number of deliveries on the page of hooks, including those that wait.
	const deliveries = `[...document.querySelectorAll("[data-hook] td")].slice(3).reduce((sum, td) => sum + Number(td.textContent), 0)`
	for _, c := range []struct {
		path, ready string
		cause       func(p *page) (shows string, undo func())
	}{
		{"/", present("[data-room='desk.night']") + " && " + says("[data-health]", "The service is well"), func(*page) (string, func()) {
			link := comes("desk.drill")
			return says("[data-room='desk.drill']", "1 online"), func() { bye(link) }
		}},
		{"/", present("[data-room='desk.night']"), func(*page) (string, func()) {
			stops := types("desk.drill") // in a room of the demo others may type, too, and hide the name
			return says("[data-room='desk.drill'] [data-typing]", "Aalin Firstwater"), stops
		}},
		{"/rooms/" + weir, present("[data-lane] [data-mark=live]") + " && " + present("[data-policy]"), func(*page) (string, func()) {
			stops := types(weir)
			lane := "[data-lane='" + user + "'] "
			return present("[data-before]") + " && " + present(row(user)+" [data-typing]") + " && " + present(lane+"[data-elsewhere]") + " && " + present(lane+"[data-mark=joined]") + " && " + present(lane+"[data-mark=live]") + " && " + present(lane+"[data-mark=typing]"), stops
		}},
		{"/rooms/desk.night", `Number(document.querySelector("[data-missing]")?.dataset.missing) >= 1`, nil},
		{"/people", present(row("e-01")), func(*page) (string, func()) {
			link := comes(weir)
			return says(row(user), "online"), func() { bye(link) }
		}},
		{"/people/e-01", present("[data-decides]") + " && " + present("[data-mark=live]"), func(*page) (string, func()) {
			link, err := client.Dial(t.Context(), client.Options{Server: s.URL(), Token: mint(t, "e-01", "Ilse Marrow"), Rooms: []string{"basin.drill"}})
			require.NoError(t, err)
			require.NoError(t, link.Idle(t.Context()))
			return present("[data-lane='basin.drill'] [data-mark=joined]") + " && " + present("[data-lane='e-01'] [data-mark=idle]"), func() { bye(link) }
		}},
		{"/people/100%25%20a%2Fb", says("h1", "Per Cent"), nil},
		{"/journal?user=" + user, present("[data-lines]"), func(p *page) (string, func()) {
			bye(comes("basin.journal"))
			p.until(`[...document.querySelectorAll("[data-line]")].some((li) => li.textContent.includes("Aalin Firstwater") && li.textContent.includes("left basin.journal and went offline: signed off"))`)
			p.click("input[type=checkbox]")
			return `[...document.querySelectorAll("[data-kind='member.left']")].some((li) => li.textContent.includes("basin.journal") && li.textContent.includes("Aalin Firstwater"))`, nil
		}},
		{"/timing", present("[data-studied]") + " && document.querySelectorAll('[data-advice]').length === 3", func(p *page) (string, func()) {
			p.run(`document.querySelector("[role=slider]").focus(); undefined`)
			p.keys(kb.ArrowRight, kb.ArrowRight)
			p.press("Replay")
			return `[...document.querySelectorAll("table th")].some((th) => th.textContent === "Tried")`, nil
		}},
		{"/usage", present("[data-list=usage] td"), nil},
		{"/headcount?room=" + weir + "&room=desk.night", `document.querySelector("[data-headcount]")?.dataset.headcount.split(" ").every((n) => n > 0)`, nil},
		{"/policies", says("[data-policy=realm]", "leaves after 10 s") + " && " + says("[data-policy='levee.*']", "leaves after 25 s"), nil},
		{"/hooks", present("[data-hook]"), func(p *page) (string, func()) {
			before, err := chromedp.Run(p.ctx, chromedp.Evaluate[int](deliveries))
			require.NoError(t, err)
			bye(comes("desk.night"))
			return fmt.Sprintf("%s >= %d", deliveries, before+2), nil
		}},
		{"/hooks/" + hook, present("[data-deliveries]"), func(*page) (string, func()) {
			bye(comes("desk.late"))
			return `document.querySelectorAll("[data-delivery]").length >= 3`, nil
		}},
		{"/keys", says("main, #root", "which is not listed"), nil},
	} {
		p := open(t, browser, s.URL(), c.path+"#key="+key)
		p.until(c.ready)
		if c.cause != nil {
			caused := time.Now()
			shows, undo := c.cause(p)
			p.until(shows)
			t.Logf("%s showed it after %s", c.path, time.Since(caused).Round(time.Millisecond))
			if undo != nil {
				undo()
			}
		}
		p.accessible()
		// On a phone nothing scrolls sideways except wide tables.
		p.do(chromedp.EmulateViewport(390, 844))
		p.until("document.documentElement.scrollWidth <= 390 && " + fits)
		require.Empty(t, p.complaints.List(), c.path)
		require.NoError(t, chromedp.Cancel(p.ctx))
	}
}

// TestTheConsoleIsSmall measures what a browser loads before it shows anything.
func TestTheConsoleIsSmall(t *testing.T) {
	t.Parallel()
	s := startService(t)
	get := func(path string) []byte {
		response, err := http.Get(s.URL() + path)
		require.NoError(t, err)
		defer func() { _ = response.Body.Close() }()
		require.Equal(t, http.StatusOK, response.StatusCode, path)
		body, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		return body
	}
	var packed bytes.Buffer
	weight := gzip.NewWriter(&packed)
	for _, asset := range regexp.MustCompile(`/assets/[^"]+`).FindAll(get("/"), -1) {
		_, err := weight.Write(get(string(asset)))
		require.NoError(t, err)
	}
	require.NoError(t, weight.Close())
	require.Greater(t, packed.Len(), 50_000, "nothing was weighed")
	require.Less(t, packed.Len(), 200_000)
}

// TestLanesTellWhatHappened cuts a cable: the lanes, the explanation and the journal agree, and
// link to each other.
func TestLanesTellWhatHappened(t *testing.T) {
	t.Parallel()
	s := startWith(t, func(p *presence.Policy) { p.GraceLost = 15 * time.Second }) // a busy browser shows it, too
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	network := layCable(t, s.URL())
	_, err = client.Dial(t.Context(), client.Options{Server: network.url(), Token: mint(t, "ilse", "Ilse Marrow"), Rooms: []string{weir}})
	require.NoError(t, err)
	console := open(t, browser, s.URL(), "/rooms/"+weir+"#key="+key)
	const lane = "[data-lane=ilse] "
	console.until(present(lane + "[data-mark=live]"))
	network.pull()
	console.until(present(lane + "[data-mark=grace][data-reason=lost]"))
	console.until(present(row("ilse"))) // others still see them
	console.until(present(lane+"[data-mark=ended][data-reason=lost]") + " && " + present(lane+"[data-mark=left][data-reason=lost]"))
	console.until(absent(row("ilse")))

	why, err := client.API{Server: s.URL(), Key: key}.Explain(t.Context(), "ilse", weir)
	require.NoError(t, err)
	require.Contains(t, strings.Join(why.Words, " "), "its link was lost without a word")

	// The evidence by keyboard, then the journal, and back to the lanes of that time.
	console.run(`document.querySelector("[aria-label^=Lanes]").focus(); undefined`)
	console.keys(kb.ArrowDown)
	for range 6 {
		console.keys(kb.ArrowLeft)
	}
	said := map[string]bool{}
	for range 8 {
		text := console.text("[data-evidence]")
		for _, words := range []string{"in its grace, as its link was lost", "Others still saw them", "Others saw them leave " + weir, "lost the link and did not return in time", "live over a WebSocket"} {
			said[words] = said[words] || strings.Contains(text, words)
		}
		console.keys(kb.ArrowRight)
	}
	require.Len(t, said, 5)
	for words, was := range said {
		require.True(t, was, words)
	}
	console.click("[data-evidence] a")
	// The journal tells how long it took, which on a busy machine is a little more than the grace.
	console.until(`/left basin\.upper-weir and went offline: the link was lost and did not return within \d/.test(document.querySelector("[data-line]")?.textContent)`)
	console.click("[data-line] button")
	console.until(`/member.left|session.ended|status.changed|session.lost/.test(document.querySelector("[data-entries] li")?.dataset.kind)`)
	console.click("[data-entries] [data-kind='member.left'] a[aria-label$='at that moment']")
	console.until(`location.search.startsWith("?at=") && ` + present(lane+"[data-mark=left][data-reason=lost]") + " && " + says("[data-lanes]", "past"))
	console.press("Back to now")
	console.until(says("[data-lanes]", "live"))
	require.Empty(t, console.complaints.List())
}

// TestTheConsoleOutlivesAnOutage stops the service for half a minute. The pages say so, keep
// their content, and recover by themselves; so does a page that has nothing to show yet.
func TestTheConsoleOutlivesAnOutage(t *testing.T) {
	t.Parallel()
	dir, address := t.TempDir(), "127.0.0.1:0"
	run := func() *server.Server {
		s, err := server.Start(server.Config{Listen: address, TokenSecret: secret, OperatorKey: key, Data: dir})
		require.NoError(t, err)
		s.Ready()
		return s
	}
	s := run()
	service := s.URL()
	address = strings.TrimPrefix(service, "http://")
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	comes := func(user string) *client.Link {
		link, err := client.Dial(t.Context(), client.Options{Server: service, Token: mint(t, user, ""), Rooms: []string{weir}})
		require.NoError(t, err)
		t.Cleanup(link.Close)
		return link
	}
	comes("ilse")
	shows := map[string]func(user string) string{
		"/":              func(string) string { return present("[data-room='" + weir + "']") },
		"/rooms/" + weir: func(user string) string { return present(row(user)) },
		"/people":        func(user string) string { return says(row(user), "online") },
		"/people/ilse":   func(string) string { return says("[data-decides]", "online") },
		"/journal":       func(user string) string { return says("[data-lines]", user) },
	}
	pages := map[string]*page{}
	for path, shown := range shows {
		pages[path] = open(t, browser, service, path+"#key="+key)
		pages[path].until(shown("ilse"))
	}
	started := open(t, browser, service, "/#key="+key) // goes where it has not been while the service is away
	started.until(present("[data-room='" + weir + "']"))
	require.NoError(t, s.Stop())
	gone := time.Now()
	started.click("a[href='/headcount']")
	started.until(present("[data-fault]"))
	for path, p := range pages {
		p.until(present("[data-old]"))
		p.until(shows[path]("ilse"))
	}
	time.Sleep(time.Until(gone.Add(30 * time.Second)))
	s = run()
	t.Cleanup(func() { require.NoError(t, s.Stop()) })
	back := time.Now()
	comes("ilse")
	comes("tobin")
	for path, p := range pages {
		p.until(absent("[data-old]") + " && " + shows[path]("tobin"))
		t.Logf("%s was right %s after the service was back", path, time.Since(back).Round(time.Millisecond))
	}
	started.press("Load it again")
	started.until(present("[data-headcount]"))
}

// TestTheConsoleAsksNothingWhileNothingHappens opens each page on a calm service, and counts its
// requests for 30 seconds, with the end of a minute among them.
func TestTheConsoleAsksNothingWhileNothingHappens(t *testing.T) {
	t.Parallel()
	s := startService(t)
	link, err := client.Dial(t.Context(), client.Options{Server: s.URL(), Token: mint(t, "ilse", "Ilse Marrow"), Rooms: []string{weir}})
	require.NoError(t, err)
	t.Cleanup(link.Close)
	api := client.API{Server: s.URL(), Key: key}
	hook, err := api.AddHook(t.Context(), wire.NewHook{URL: "https://siren.example/", Kinds: []string{"room.empty"}})
	require.NoError(t, err)
	require.Eventually(t, func() bool { // later, the page Headcount would hear of the join
		doc, err := api.Headcounts(t.Context(), "", "minute", time.Time{}, time.Time{}, 0)
		return err == nil && slices.ContainsFunc(doc.Steps, func(step wire.Headcount) bool { return step.Joins == 1 })
	}, patience, 100*time.Millisecond)
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	var mu sync.Mutex
	asked := map[string][]string{}
	counting := false
	for path, ready := range map[string]string{
		"/": present("[data-room='" + weir + "'] [data-churn]"), "/rooms/" + weir: present(row("ilse")), "/people": present(row("ilse")), "/people/ilse": present("[data-decides]"), "/journal": present("[data-line]"),
		"/headcount": present("[data-headcount]"), "/usage": present("[data-list=usage] td"), "/timing": present("[data-studied]"), "/policies": present("[data-policy=realm]"), "/hooks": present("[data-hook]"), "/hooks/" + hook.ID: present("[data-deliveries]"), "/keys": says("h1", "Keys"),
	} {
		p := open(t, browser, s.URL(), path+"#key="+key)
		p.until(ready)
		require.NoError(t, chromedp.Listen(p.ctx, func(event any) {
			if sent, ok := event.(*network.EventRequestWillBeSent); ok {
				mu.Lock()
				defer mu.Unlock()
				if counting {
					asked[path] = append(asked[path], sent.Request.URL)
				}
			}
		}))
	}
	calm := time.Now().Add(5 * time.Second) // in which what is loaded late is loaded
	time.Sleep(time.Until(calm.Truncate(time.Minute).Add(45 * time.Second)))
	time.Sleep(time.Until(calm))
	mu.Lock()
	counting = true
	mu.Unlock()
	time.Sleep(30 * time.Second)
	mu.Lock()
	defer mu.Unlock()
	require.Empty(t, asked)
}

// TestTheConsoleByKeysAlone signs in, opens a room, reads the lanes, and cancels a destructive
// action, all by keyboard.
func TestTheConsoleByKeysAlone(t *testing.T) {
	t.Parallel()
	s := startService(t)
	link, err := client.Dial(t.Context(), client.Options{Server: s.URL(), Token: mint(t, "ilse", "Ilse Marrow"), Rooms: []string{weir}})
	require.NoError(t, err)
	t.Cleanup(link.Close)
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	p := open(t, browser, s.URL(), "/")
	p.until(present("input"))
	tabTo := func(what string) {
		t.Helper()
		for range 60 {
			found, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool]("document.activeElement?.matches("+strconv.Quote(what)+") === true"))
			require.NoError(t, err)
			if found {
				return
			}
			p.keys(kb.Tab)
		}
		require.Fail(t, "never came to "+what)
	}
	tabTo("input")
	p.keys(key, kb.Enter)
	p.until(present("[data-room='" + weir + "']"))
	tabTo("[data-room='" + weir + "'] button")
	p.keys(" ")
	p.until(present("[data-room='" + weir + "'] button[aria-pressed=true]"))
	p.keys(kb.Tab, kb.Enter)
	p.until(present(row("ilse")) + " && " + present("[data-mark=live]"))
	tabTo("[aria-label^=Lanes]")
	p.keys(kb.ArrowDown)
	p.until(says("[data-evidence]", "Ilse Marrow"))
	p.keys("+")
	p.until(absent("[data-lanes] button[aria-pressed=true]")) // another time than those of the buttons
	tabTo("[aria-label='Remove Ilse Marrow']")
	p.keys(kb.Enter)
	p.until(present("dialog[open]"))
	p.keys(kb.Escape)
	p.until(absent("dialog[open]") + " && " + present(row("ilse")))
	tabTo("[aria-keyshortcuts]")
	p.keys(kb.Enter)
	p.until(present("[cmdk-input]"))
	p.keys("ilse")
	p.until(says("[cmdk-item][aria-selected=true]", "Ilse Marrow"))
	p.keys(kb.Enter)
	p.until(says("[data-decides]", "online"))
	require.Empty(t, p.complaints.List())
}

// TestHooksAndKeysAreKeptInTheConsole makes a hook and keys, uses them, and removes them.
func TestHooksAndKeysAreKeptInTheConsole(t *testing.T) {
	t.Parallel()
	s, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, PrivateHooks: true, HookRetries: []time.Duration{10 * time.Millisecond}})
	require.NoError(t, err)
	s.Ready()
	t.Cleanup(func() { require.NoError(t, s.Stop()) })
	well := make(chan bool, 1)
	well <- false
	siren := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		now := <-well
		well <- now
		if !now {
			http.Error(w, "the siren is being tested", http.StatusServiceUnavailable)
		}
	}))
	t.Cleanup(siren.Close)
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	p := open(t, browser, s.URL(), "/hooks#key="+key)
	fill := func(name, value string) {
		p.until(present("[name='" + name + "']"))
		p.run(fmt.Sprintf("document.querySelector(%q).value = %q; undefined", "[name='"+name+"']", value))
	}
	p.offers("[name=kinds]", hooks.Kinds)
	fill("url", "ftp://nowhere")
	p.press("Make it")
	p.until(says("[role=alert]", "allowed:")) // what is wrong, in words
	fill("name", "siren")
	fill("url", siren.URL)
	p.run(`document.querySelector("[value='room.empty']").click(); undefined`)
	p.press("Make it")
	p.until(says("[role=status] code", "whsec_"))
	p.press("Send a test")
	p.until(present("[data-tested=parked], [data-tested=waiting]"))
	link, err := client.Dial(t.Context(), client.Options{Server: s.URL(), Token: mint(t, "ilse", ""), Rooms: []string{weir}})
	require.NoError(t, err)
	require.NoError(t, link.Bye(t.Context()))
	p.until(says("[data-delivery=parked]", "503"))
	<-well
	well <- true
	p.click("[data-delivery=parked] button")
	p.until(says("[data-delivery=parked] pre", `"type": "tovik.room.empty"`) + " && " + says("[data-delivery=parked]", "the siren is being tested"))
	p.press("Deliver it once more")
	p.until(present("[data-delivery=delivered]"))
	p.press("Rotate the secret")
	p.until(present("dialog[open]"))
	p.keys(kb.Tab, kb.Enter) // from Cancel to what confirms
	p.until(absent("dialog[open]"))
	api := client.API{Server: s.URL(), Key: key}
	require.Eventually(t, func() bool {
		list, err := api.Hooks(t.Context())
		return err == nil && list.Hooks[0].OldSecretUntil != nil
	}, patience, 20*time.Millisecond)
	p.accessible()

	p.click("a[href='/keys']")
	p.press("Mint it")
	p.until(says("[data-trial] pre", "openTab"))
	visit := open(t, browser, s.URL(), "/")
	where, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](`document.querySelector("[data-trial] a").getAttribute("href")`))
	require.NoError(t, err)
	visit.do(chromedp.Navigate(s.URL() + where))
	visit.until(present(row("w-99")))
	p.press("Make a key")
	p.until(present("[data-made] code"))
	made := p.text("[data-made] code")
	_, err = client.API{Server: s.URL(), Key: made}.Rooms(t.Context(), "**", "", 10)
	require.NoError(t, err)
	p.accessible()
	p.click("[data-list=keys] button[aria-label^=Revoke]")
	p.until(present("dialog[open]"))
	p.keys(kb.Tab, kb.Enter)
	p.until(says("[data-list=keys]", "revoked"))
	_, err = client.API{Server: s.URL(), Key: made}.Rooms(t.Context(), "**", "", 10)
	require.Error(t, err)
	require.Empty(t, visit.complaints.List())

	p.click("a[href='/journal']")
	var entries []string
	for _, kind := range journal.Kinds {
		entries = append(entries, string(kind))
	}
	p.offers("option:not([value=''])", entries)
}

// offers checks the values of a choice.
func (p *page) offers(selector string, values []string) {
	p.t.Helper()
	p.until(present(selector))
	offered, err := chromedp.Run(p.ctx, chromedp.Evaluate[[]string]("[...document.querySelectorAll("+strconv.Quote(selector)+")].map((e) => e.value)"))
	require.NoError(p.t, err)
	require.ElementsMatch(p.t, values, offered)
}
