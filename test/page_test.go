package test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	cdppage "github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/test/chrome"
	"tovik.example/tovik/wire"
)

// onlooker keeps all events of a room.
type onlooker struct {
	mu     sync.Mutex
	events []client.Event
	typing []wire.TypingFrame
}

func lookOn(t *testing.T, s *server.Server) *onlooker {
	t.Helper()
	o := &onlooker{}
	link, err := client.Dial(t.Context(), client.Options{Server: s.URL(), Key: key, Watch: []wire.Watch{{Room: weir}},
		OnEvent: func(e client.Event) {
			o.mu.Lock()
			defer o.mu.Unlock()
			o.events = append(o.events, e)
		},
		OnTyping: func(f wire.TypingFrame) {
			o.mu.Lock()
			defer o.mu.Unlock()
			o.typing = append(o.typing, f)
		}})
	require.NoError(t, err)
	t.Cleanup(link.Close)
	return o
}

// joins and lefts are all that there were.
func (o *onlooker) joins() (joins []wire.Member, lefts []client.Departed) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, e := range o.events {
		joins, lefts = append(joins, e.Joined...), append(lefts, e.Left...)
	}
	return joins, lefts
}

// status waits until somebody gets a status in the events after seen, and returns the number of
// events.
func (o *onlooker) status(t *testing.T, user, status string, seen int) int {
	t.Helper()
	at := -1
	require.Eventually(t, func() bool {
		o.mu.Lock()
		defer o.mu.Unlock()
		for i := seen; i < len(o.events); i++ {
			for _, m := range append(o.events[i].Joined, o.events[i].Changed...) {
				if m.User == user && m.Status == status {
					at = i + 1
				}
			}
		}
		return at >= 0
	}, patience, 10*time.Millisecond, "%s never was %s", user, status)
	return at
}

// left waits for somebody to leave.
func (o *onlooker) left(t *testing.T) client.Event {
	t.Helper()
	var event client.Event
	require.Eventually(t, func() bool {
		o.mu.Lock()
		defer o.mu.Unlock()
		for _, e := range o.events {
			if len(e.Left) > 0 {
				event = e
			}
		}
		return len(event.Left) > 0
	}, patience, 10*time.Millisecond)
	return event
}

func (o *onlooker) typists() []string {
	o.mu.Lock()
	defer o.mu.Unlock()
	var sets []string
	for _, f := range o.typing {
		sets = append(sets, fmt.Sprint(f.Users))
	}
	return sets
}

func startWith(t *testing.T, change func(*presence.Policy)) *server.Server {
	t.Helper()
	policy := presence.DefaultPolicy()
	change(&policy)
	s, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, Policy: &policy})
	require.NoError(t, err)
	s.Ready()
	t.Cleanup(func() { _ = s.Stop() })
	return s
}

func (p *page) run(script string) {
	p.t.Helper()
	p.do(discard(chromedp.Evaluate[any](script)))
}

func sessions(t *testing.T, s *server.Server, want wire.Tally) {
	t.Helper()
	require.EventuallyWithT(t, func(t *assert.CollectT) {
		count, err := client.API{Server: s.URL(), Key: key}.Count(context.Background(), weir)
		require.NoError(t, err)
		require.Equal(t, want, wire.Tally{People: count.People, Sessions: count.Sessions})
	}, patience, 50*time.Millisecond)
}

// TestWhoReturnsWithinGraceIsNotSeenToLeave reloads the page of the quickstart, changes its
// network, duplicates its tab, navigates away and back, and freezes it. A third party sees the
// person come, and no leave.
func TestWhoReturnsWithinGraceIsNotSeenToLeave(t *testing.T) {
	t.Parallel()
	s := startWith(t, func(p *presence.Policy) {
		p.BeatEvery = time.Second
		p.GraceClosing, p.GraceLost, p.GraceBackground = 5*time.Minute, 5*time.Minute, 5*time.Minute // a busy machine is no leave
	})
	network := layCable(t, s.URL())
	third := lookOn(t, s)
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	app := application(t, network.url())
	page := open(t, browser, app.URL, "/")
	here := shown("tovik-count") + ` === "1 person"`
	page.until(here)

	t.Run("200 reloads", func(t *testing.T) {
		for i := range 200 {
			page.do(chromedp.Reload())
			if i%2 == 0 { // else it is reloaded again before it has said hello
				page.until(here)
			}
		}
		page.until(here)
		sessions(t, s, wire.Tally{People: 1, Sessions: 1})
	})
	t.Run("50 changes of the network", func(t *testing.T) {
		for range 50 {
			network.cut()
			time.Sleep(50 * time.Millisecond)
			page.until(here)
		}
		sessions(t, s, wire.Tally{People: 1, Sessions: 1})
	})
	t.Run("the back/forward cache", func(t *testing.T) {
		// A page that returns from the cache has lost its debugger, so the page itself reports
		// its return and navigates on.
		returns := make(chan string, 100)
		hears := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { returns <- r.URL.RawQuery }))
		t.Cleanup(hears.Close)
		page.run(`let returned = 0; addEventListener("pageshow", (event) => {
			navigator.sendBeacon("` + hears.URL + `?cached=" + event.persisted);
			if (++returned < 10) setTimeout(() => { location.href = "/other" }, 300);
		}); location.href = "/other"; undefined`)
		for range 10 {
			select {
			case how := <-returns:
				require.Equal(t, "cached=true", how)
			case <-time.After(patience):
				t.Fatal("the page never came back")
			}
		}
		page.do(chromedp.Navigate(app.URL + "/"))
		page.until(here)
		sessions(t, s, wire.Tally{People: 1, Sessions: 1})
	})
	t.Run("a frozen page", func(t *testing.T) {
		freeze := func(state cdppage.SetWebLifecycleStateState) {
			page.do(chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
				_, err := cdp.Call(ctx, target, cdppage.SetWebLifecycleState, cdppage.SetWebLifecycleStateParams{State: state})
				return err
			}))
		}
		freeze("frozen")
		time.Sleep(5 * time.Second) // its link is declared lost after 3.5
		freeze("active")
		page.until(here)
		sessions(t, s, wire.Tally{People: 1, Sessions: 1})
	})
	t.Run("50 duplicated tabs", func(t *testing.T) {
		page.run(`window.tabs = Array.from({ length: 50 }, () => window.open(location.href)); undefined`)
		sessions(t, s, wire.Tally{People: 1, Sessions: 51})
		page.run(`for (const tab of window.tabs) tab.close()`)
		require.EventuallyWithT(t, func(t *assert.CollectT) {
			all, err := client.API{Server: s.URL(), Key: key}.Sessions(context.Background(), weir, "", 100)
			require.NoError(t, err)
			require.Len(t, slices.DeleteFunc(all.Sessions, func(s wire.Session) bool { return s.State != "live" }), 1)
		}, patience, 50*time.Millisecond)
	})
	joins, lefts := third.joins()
	require.Len(t, joins, 1, "they came once")
	require.Empty(t, lefts, "somebody was seen to leave")
}

// TestWhoIsGoneIsSeenToLeave closes a tab, and kills a browser.
func TestWhoIsGoneIsSeenToLeave(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		end    func(t *testing.T, page *page)
		reason string
		grace  time.Duration
	}{
		"a closed tab": {func(t *testing.T, page *page) { require.NoError(t, chromedp.Cancel(page.ctx)) }, "closing", 3 * time.Second},
		"a killed browser": {func(t *testing.T, page *page) {
			require.NoError(t, chromedp.FromContext(page.ctx).Browser.Process().Kill())
		}, "lost", 10 * time.Second},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := startService(t)
			third := lookOn(t, s)
			browser, stop, err := chrome.Start(t.Context())
			require.NoError(t, err)
			t.Cleanup(stop)
			page := open(t, browser, application(t, s.URL()).URL, "/")
			page.until(shown("tovik-count") + ` === "1 person"`)
			ended := time.Now()
			c.end(t, page)
			event := third.left(t)
			require.Equal(t, c.reason, event.Left[0].Reason)
			t.Logf("seen to leave %s after the grace of %s", (event.At.Sub(ended) - c.grace).Round(time.Millisecond), c.grace)
		})
	}
}

// TestIdlenessInABrowser advances the clock, uses the keyboard only, and has one idle tab of
// two.
func TestIdlenessInABrowser(t *testing.T) {
	t.Parallel()
	const idleAfter = 10 * time.Second
	s := startWith(t, func(p *presence.Policy) { p.IdleAfter = idleAfter })
	third := lookOn(t, s)
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	app := application(t, s.URL())
	loaded := time.Now()
	page := open(t, browser, app.URL, "/")
	page.until(shown("tovik-count") + ` === "1 person"`)
	seen := third.status(t, "w-0", "away", 0)
	t.Logf("away %s after the page was opened, with idle.after %s", time.Since(loaded).Round(time.Millisecond), idleAfter)

	page.do(discard(chromedp.KeyEvent("a")))
	seen = third.status(t, "w-0", "online", seen)
	touch := func() { // for longer than it takes to be idle
		for start := time.Now(); time.Since(start) < idleAfter*3/2; time.Sleep(idleAfter / 20) {
			page.do(discard(chromedp.KeyEvent(kb.Shift)))
		}
	}
	touch()
	third.mu.Lock()
	require.Len(t, third.events, seen, "keys alone keep somebody online")
	third.mu.Unlock()

	// Another browser of the same person, which does not know of the input in the first.
	other := open(t, browser, app.URL, "/?as=0")
	require.Eventually(t, func() bool {
		third.mu.Lock()
		defer third.mu.Unlock()
		newest := third.events[len(third.events)-1]
		seen = len(third.events)
		return newest.Count.Sessions == 2
	}, patience, 10*time.Millisecond)
	touch()
	third.mu.Lock()
	require.Len(t, third.events, seen, "one idle tab of two changes nothing")
	third.mu.Unlock()
	require.Empty(t, other.complaints.List()[1:], "but that the library comes from the service")
}

// TestTypingInABrowser types longer than typing lasts by itself, abandons a draft, types in two
// tabs at once, and cuts off a typist.
func TestTypingInABrowser(t *testing.T) {
	t.Parallel()
	const expires = 12 * time.Second
	s := startWith(t, func(p *presence.Policy) { p.TypingExpires, p.GraceLost = expires, time.Minute })
	third := lookOn(t, s)
	network := layCable(t, s.URL())
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	reader := open(t, browser, application(t, s.URL()).URL, "/?as=2")
	ilse := open(t, browser, application(t, s.URL()).URL, "/?as=0")
	corin := open(t, browser, application(t, network.url()).URL, "/?as=1")
	for _, page := range []*page{reader, ilse, corin} {
		page.until(shown("tovik-count") + ` === "3 people"`)
	}

	for start := time.Now(); time.Since(start) < 2*expires; {
		ilse.write("textarea", "drip ")
		time.Sleep(300 * time.Millisecond)
	}
	require.Equal(t, []string{"[w-0]"}, third.typists(), "all of it is one start")
	reader.until(shown("tovik-typing") + ` === "Ilse Marrow is typing"`)
	corin.write("textarea", "the gauge ")
	ilse.write("textarea", "and drip")
	reader.until(shown("tovik-typing") + ` === "Ilse Marrow and Corin <Alderby> are typing"`)
	network.pull()
	reader.until(shown("tovik-typing") + ` === ""`) // both: one draft is abandoned, one typist is cut off
	reader.until(shown("tovik-count") + ` === "3 people"`)
	_, lefts := third.joins()
	require.Empty(t, lefts, "typing has expired, and nobody has left yet")
}
