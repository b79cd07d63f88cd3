package test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/test/chrome"
)

// accessible checks a page with axe in light and dark, and fails for serious findings.
func (p *page) accessible() {
	p.t.Helper()
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	require.NoError(p.t, err)
	p.run(string(axe) + ";undefined")
	for _, scheme := range []string{"dark", "light"} {
		p.do(chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
			_, err := cdp.Call(ctx, target, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
				Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}, {Name: "prefers-reduced-motion", Value: "reduce"}},
			})
			return err
		}))
		p.run(`window.found = undefined; axe.run().then((result) => { window.found = JSON.stringify(result.violations
			.filter((v) => v.impact === "serious" || v.impact === "critical")
			.map((v) => [v.id, v.help, v.nodes.map((n) => n.html + " " + n.failureSummary)])) }); undefined`)
		p.until("window.found !== undefined")
		found, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("window.found"))
		require.NoError(p.t, err)
		var violations []any
		require.NoError(p.t, json.Unmarshal([]byte(found), &violations))
		require.Empty(p.t, violations, "in %s", scheme)
	}
}

func TestElementsAndPagesAreAccessible(t *testing.T) {
	t.Parallel()
	s := startWith(t, func(*presence.Policy) {})
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	elements := open(t, browser, application(t, s.URL()).URL, "/")
	elements.until(shown("tovik-count") + ` === "1 person"`)
	elements.run(`document.documentElement.lang = "en"; document.title = "The weir"; document.querySelector("textarea").ariaLabel = "Entry"; undefined`)
	elements.run(`document.documentElement.style.colorScheme = "light dark"; document.body.style.background = "Canvas"; undefined`)
	elements.accessible()
	for path, ready := range map[string]string{"/rooms/" + weir + "#key=" + key: present(row("w-0")), "/#key=" + key: present("[data-rooms]")} {
		page := open(t, browser, s.URL(), path)
		page.until(ready)
		page.accessible()
	}
}

// openPractice opens the practice room of a service of its own.
func openPractice(t *testing.T, policy presence.Policy) *page {
	s, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, Policy: &policy, Practice: true})
	require.NoError(t, err)
	s.Ready()
	t.Cleanup(func() { _ = s.Stop() })
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	return open(t, browser, s.URL(), "/practice")
}

// card selects something on the card of a device.
func card(device, within string) string { return fmt.Sprintf("[data-page=%q] %s", device, within) }

// TestPeopleMeetInThePracticeRoom: one lets the other in, and two call each other; each with a
// reload in the middle.
func TestPeopleMeetInThePracticeRoom(t *testing.T) {
	t.Parallel()
	policy := presence.DefaultPolicy()
	policy.GraceClosing, policy.InvitationWaits, policy.AskWaits = 30*time.Second, 5*time.Minute, 5*time.Minute // a busy machine is in time, too
	page := openPractice(t, policy)
	const wystan, isbel = "Wystan Leat, tab 1", "Isbel Osierbed, tab 1"
	button := func(device, label string) string {
		return fmt.Sprintf("[...document.querySelectorAll(%q)].find((b) => b.textContent === %q)", card(device, "button"), label)
	}
	press := func(device, label string) {
		t.Helper()
		page.until(button(device, label) + " !== undefined")
		page.run(button(device, label) + ".click()")
	}
	reload := func(device string) {
		t.Helper()
		press(device, "Reload")
		page.until(says("[data-story] [data-kind=silent]", device+" is back in time"))
	}

	press(wystan, "Enter the gate") // he may admit, and so need not ask
	page.until(says(card(wystan, "[data-meeting]"), "In the gate room"))
	press(isbel, "Enter the gate")
	page.until(present(card(wystan, `[data-asks="Isbel Osierbed"]`)))
	reload(isbel)
	page.until(says(card(isbel, "[data-meeting]"), "Waiting to be let in…"))
	page.until(present(card(wystan, `[data-asks="Isbel Osierbed"]`)))
	page.accessible()
	press(wystan, "Admit")
	page.until(says(card(isbel, "[data-meeting]"), "In the gate room"))

	press(isbel, "Call Wystan Leat")
	page.until(present(card(wystan, `[data-invites="Isbel Osierbed"]`)))
	reload(wystan)
	page.until(present(card(wystan, `[data-invites="Isbel Osierbed"]`)))
	press(wystan, "Accept")
	page.until(says(card(isbel, "[data-call]"), "In a call with Wystan Leat"))
	page.until(says(card(isbel, "[data-sees]"), "engaged"))
	press(wystan, "Crash") // his phone is still there, but not in the call
	page.until(says(card(isbel, "[data-call]"), "In a call, alone"))
	page.until(says(card(isbel, "[data-sees]"), "online"))
	press(isbel, "Hang up")
	page.until("!" + says(card(isbel, "p"), "engaged"))
}

// TestThePracticeRoomShowsWhatOthersSee plays two people on three pages.
func TestThePracticeRoomShowsWhatOthersSee(t *testing.T) {
	t.Parallel()
	policy := presence.DefaultPolicy()
	policy.GraceClosing, policy.GraceLost = 20*time.Second, 20*time.Second // a busy machine is back in time, too
	page := openPractice(t, policy)

	const tab, phone, other = "Wystan Leat, tab 1", "Wystan Leat, phone 1", "Isbel Osierbed, tab 1"
	knows := func(device, state string) { t.Helper(); page.until(present(card(device, "[data-known="+state+"]"))) }
	press := func(device, button string) {
		t.Helper()
		page.run(fmt.Sprintf("[...document.querySelectorAll(%q)].find((b) => b.textContent === %q).click()", card(device, "button"), button))
	}
	sees := func(device, text string) { t.Helper(); page.until(says(card(device, "[data-sees]"), text)) }
	last := func(kind, text string) {
		t.Helper()
		page.until(says(fmt.Sprintf("[data-story] [data-kind=%s]", kind), text))
	}
	for _, device := range []string{tab, phone, other} {
		knows(device, "live")
	}
	sees(other, "2 sessions")
	page.accessible()

	press(other, "Pull the cable")
	knows(other, "grace")
	press(other, "Plug in")
	last("silent", other+" is back in time")
	press(tab, "Reload")
	last("silent", tab+" is back in time")
	page.write(card(other, "input"), "rising")
	page.until(says(card(tab, "[data-typing]"), "Isbel Osierbed is typing"))
	press(phone, "Lock")
	page.until(present(card(phone, "[data-screen=frozen]")))
	press(tab, "Walk away")
	sees(other, "away") // both of her sessions are idle
	press(tab, "Come back")
	sees(other, "online")
	press(phone, "Unlock")
	press(tab, "Duplicate")
	sees(other, "3 sessions")
	press("Wystan Leat, tab 2", "Close")
	knows("Wystan Leat, tab 2", "grace")
	sees(other, "2 sessions")
	knows("Wystan Leat, tab 2", "ended")
	press(other, "Crash")
	knows(other, "grace")
	press(tab, "Sign out")
	last("told", "Wystan Leat left")
	knows(phone, "ended")
	page.until(says(card(phone, ""), "Sign in again"))
	last("told", "Isbel Osierbed left: lost the link")
	require.Empty(t, page.complaints.List())
}
