package test

import (
	"context"
	"fmt"
	"regexp"
	"strings"
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

const (
	secret = "the secret of a service that lives for one test"
	key    = "the-operators-key"
	weir   = "basin.upper-weir"
	// patience bounds every wait. It is exceeded only if something is broken.
	patience = 60 * time.Second
)

// page is a tab of a browser.
type page struct {
	t          *testing.T
	ctx        context.Context
	complaints *chrome.Complaints
}

func open(t *testing.T, browser context.Context, service, path string) *page {
	t.Helper()
	ctx, cancel := chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
	t.Cleanup(cancel)
	require.NoError(t, chromedp.Do(ctx))
	complaints, err := chrome.Listen(ctx, service)
	require.NoError(t, err)
	p := &page{t: t, ctx: ctx, complaints: complaints}
	p.do(chromedp.Navigate(service + path))
	return p
}

func (p *page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	require.NoError(p.t, chromedp.Do(ctx, steps...))
}

// replaced is the browser's error when a page is replaced during a call, as by a reload.
var replaced = regexp.MustCompile("context with specified id|target navigated or closed")

// until waits for a JavaScript condition.
func (p *page) until(condition string) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	ask := func() error {
		_, err := chromedp.Run(ctx, chromedp.Poll[bool](condition, chromedp.WithPollingInterval(20*time.Millisecond)))
		return err
	}
	err := ask()
	for err != nil && replaced.MatchString(err.Error()) && ctx.Err() == nil {
		err = ask() // the next page
	}
	if err != nil {
		var lacks []string
		for part := range strings.SplitSeq(condition, " && ") { // a part of a function's body says nothing
			if is, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](part)); err == nil && !is {
				lacks = append(lacks, part)
			}
		}
		text, _ := chromedp.Run(p.ctx, chromedp.Text(chromedp.CSS("body")))
		require.NoError(p.t, err, "%s never came, because of %q; the page says:\n%s", condition, lacks, text)
	}
}

func (p *page) text(selector string) string {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	text, err := chromedp.Run(ctx, chromedp.TextContent(chromedp.CSS(selector)))
	require.NoError(p.t, err)
	return text
}

// write types into a field with key events. chromedp's own function reads nodes while they
// change.
func (p *page) write(css, text string) {
	p.t.Helper()
	p.until(present(css))
	p.do(discard(chromedp.Evaluate[any](fmt.Sprintf("document.querySelector(%q).focus()", css))), discard(chromedp.KeyEvent(text)))
}

func row(user string) string    { return fmt.Sprintf(`[data-user=%q]`, user) }
func present(css string) string { return fmt.Sprintf("document.querySelector(%q) !== null", css) }
func absent(css string) string  { return "!(" + present(css) + ")" }
func says(css, want string) string {
	return fmt.Sprintf("document.querySelector(%q)?.textContent.includes(%q) === true", css, want)
}

func serve(t *testing.T) *server.Server {
	t.Helper()
	s, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key})
	require.NoError(t, err)
	s.Ready()
	t.Cleanup(func() { require.NoError(t, s.Stop()) })
	return s
}

func mint(t *testing.T, user, name string) string {
	t.Helper()
	token, err := client.Token{User: user, Name: name, Grants: wire.Grants{Rooms: []string{"basin.*"}}}.Sign(secret)
	require.NoError(t, err)
	return token
}

func visit(t *testing.T, user, name string) string {
	return "/visit#room=" + weir + "&token=" + mint(t, user, name)
}

// TestTwoTabsSeeEachOther goes the whole way in a browser: one tab sees the other come, reload
// without a flicker, be duplicated, close and go; and so does the console.
func TestTwoTabsSeeEachOther(t *testing.T) {
	t.Parallel()
	s := startWith(t, func(p *presence.Policy) { p.GraceClosing = 12 * time.Second }) // a busy machine reloads slowly
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	defer stop()

	var told []client.Event
	third, err := client.Dial(t.Context(), client.Options{Server: s.URL(), Key: key,
		Watch: []wire.Watch{{Room: weir}}, OnEvent: func(e client.Event) { told = append(told, e) }})
	require.NoError(t, err)

	console := open(t, browser, s.URL(), "/rooms/"+weir+"#key="+key)
	console.until(says("main, #root", "Nobody is here"))
	one := open(t, browser, s.URL(), visit(t, "ilse", "Ilse Marrow"))
	one.until(present(row("ilse")))
	two := open(t, browser, s.URL(), visit(t, "tobin", "Tobin Saltmarch"))
	one.until(present(row("tobin")))
	console.until(says("[data-count]", "2 people · 2 sessions"))
	const session = "document.querySelector('[data-session]').dataset.session"
	before, err := chromedp.Run(two.ctx, chromedp.Evaluate[string](session))
	require.NoError(t, err)

	// A mark on the row would show if the row were removed and added again.
	one.do(discard(chromedp.Evaluate[any](fmt.Sprintf("document.querySelector(%q).dataset.marked = 'yes'", row("tobin")))))
	for range 5 {
		two.do(chromedp.Reload())
		two.until(says("[data-session]", "The session you had before"))
	}
	after, err := chromedp.Run(two.ctx, chromedp.Evaluate[string](session))
	require.NoError(t, err)
	require.Equal(t, before, after, "a session keeps its id over reloads")
	require.NotContains(t, one.text("main, #root"), "left", "nobody saw a leave")

	// A duplicated tab has the same storage, and is a second session of the person.
	two.do(discard(chromedp.Evaluate[any]("void window.open(location.href)")))
	one.until(says(row("tobin")+" td:last-child", "2"))
	require.Contains(t, one.text("[data-count]"), "2 people · 3 sessions")
	one.until(present(row("tobin") + "[data-marked]"))

	require.NoError(t, chromedp.Cancel(two.ctx)) // closes the browser context, with both tabs
	one.until(absent(row("tobin")))
	require.Contains(t, one.text("[data-feed]"), "closed the page and did not return in time")
	console.until(says("[data-count]", "1 person · 1 session"))
	require.Contains(t, console.text("[data-feed]"), "Tobin Saltmarch left")

	for name, p := range map[string]*page{"console": console, "one": one} {
		require.Empty(t, p.complaints.List(), name)
	}
	third.Close()
	var lefts, joins int
	for _, e := range told {
		lefts += len(e.Left)
		joins += len(e.Joined)
	}
	require.Equal(t, 1, lefts, "a third party was told of one leave")
	require.Equal(t, 2, joins, "and of two joins")
}

func TestConsoleIsForWhoHasTheKey(t *testing.T) {
	t.Parallel()
	s := serve(t)
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	defer stop()
	link, err := client.Dial(t.Context(), client.Options{Server: s.URL(), Token: mint(t, "ilse", ""), Rooms: []string{weir}})
	require.NoError(t, err)
	defer link.Close()

	p := open(t, browser, s.URL(), "/")
	p.write("input[name=key]", "guess\r")
	p.until(says("[role=alert]", "not an operator key of this service"))
	p.do(chromedp.Reload())
	p.write("input[name=key]", key)
	p.do(chromedp.Click(chromedp.CSS("button[type=submit]")))
	p.until(says("[data-room='"+weir+"']", "1 person"))

	p.do(chromedp.Click(chromedp.CSS("[data-room='" + weir + "'] a")))
	p.until(present(row("ilse")))
	p.do(chromedp.Reload())
	p.until(present(row("ilse")))

	stale := open(t, browser, s.URL(), "/#key=stale")
	stale.until(says("[role=alert]", "not an operator key of this service"))
	hash, err := chromedp.Run(stale.ctx, chromedp.Location())
	require.NoError(t, err)
	require.False(t, strings.Contains(hash, "stale"), "no key stays in the address bar")
}

// discard ignores the value of an action.
func discard[T any](a chromedp.Action[T]) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		_, err := chromedp.Run(ctx, a)
		return err
	})
}
