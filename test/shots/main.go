// Command shots makes the pictures in docs/screenshots from the demo: pages in headless
// Chromium, commands in a terminal window under Xvfb. It needs bin/tovik, Chromium, Xvfb, xterm
// and ImageMagick.
package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"

	"tovik.example/tovik/test/chrome"
)

const (
	address = "127.0.0.1:8420"
	room    = "basin.upper-weir"
	dir     = "docs/screenshots"
	display = ":93"
)

func main() {
	if err := shoot(); err != nil {
		log.Fatal(err)
	}
}

func shoot() error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	screen := exec.Command("Xvfb", display, "-screen", "0", "1280x800x24")
	if err := screen.Start(); err != nil {
		return fmt.Errorf("start Xvfb: %w", err)
	}
	defer stop(screen)
	if err := os.RemoveAll(data); err != nil { // an interrupted run may have left it
		return err
	}
	defer func() { _ = os.RemoveAll(data) }()
	demo, visit, err := startDemo()
	if err != nil {
		return err
	}
	defer stop(demo)
	// Pages and commands that follow events are opened first, and photographed later.
	for _, step := range []func() error{
		func() error { return pages(visit) },
		func() error {
			return terminal("lists", 1, command("rooms --sort people")+"; echo; "+command("members "+room))
		},
		func() error {
			return terminal("meetings", 2, command("ask list")+"; echo; "+command("pass grant desk.handover w-07")+"; "+command("pass list w-07")+"; echo; "+
				command("invite e-16 w-24 desk.night")+"; echo; "+command("invitations"))
		},
		func() error { return terminal("terminal-board", 20, command("board")) },
		func() error {
			return terminal("doctor", 9, command("doctor")+"; echo; "+command("load --people 300 --rate 50 --for 5s --p99 250ms --data "+data)+"; echo; "+command("cue drill --room "+room))
		},
		func() error {
			return terminal("why", 2, command("explain e-01 --room "+room)+"; echo; "+command("sessions --room "+room+" --limit 8")+"; echo; "+command("policy "+room))
		},
		func() error {
			return terminal("keys", 2, command("key create --name flood-log --role read --room 'desk.*'")+"; echo; "+command("key create --name gauge-alerts --role write --ttl 720h")+
				"; echo; "+command("key list")+"; echo; "+command("remove w-07 --room "+room))
		},
		func() error {
			return terminal("journal", 2, command("journal --limit 14")+"; echo; "+command("attendance sluice.mill-lane --from 2m")+"; echo; "+command("people list --limit 5"))
		},
		func() error {
			return terminal("hook", 25, command("hook add --url http://127.0.0.1:8500/ --kind member.joined --kind member.left --kind status.changed --format json")+
				" > "+scratch+"; export TOVIK_HOOK_SECRET=$(grep -o 'whsec_[^\"]*' "+scratch+"); "+command("hook receive"))
		},
		func() error { return terminal("rehearse", 8, command("rehearse --people 1000")) },
		func() error { return terminal("lab", 5, command("timing --since 36h --try grace.lost=20s")) },
		func() error { return terminal("watch", 40, command("watch '**'")) },
		func() error {
			return terminal("headcount", 2, command("headcount "+room+" --plot")+"; echo; "+command("headcount "+room+" --top 5"))
		}, // after some minutes of the night
		late,
		func() error { return stack("rooms", "lists[1280x620+0+0]", "meetings[1280x320+0+0]") },
		func() error { return stack("explain", "why", "doctor") },
		func() error { return stack("records", "journal", "headcount") },
		func() error { return stack("timing", "lab", "rehearse") },
		func() error { return stack("board-watch", "terminal-board", "watch") },
		func() error { return stack("keys-hook", "keys", "hook") },
		func() error { return stack("hooks-keys", "hooks-page", "keys-page") },
		func() error { return stack("people-policies", "sign-in", "people", "policies") },
		nodes,
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// stack joins several pictures vertically, or parts of them, as in lists[1280x600+0+0].
func stack(name string, parts ...string) error {
	var files []string
	var crops []string
	for _, part := range parts {
		part, crop, cropped := strings.Cut(part, "[")
		file := filepath.Join(dir, part+".png")
		files = append(files, file)
		if cropped {
			file += "[" + crop
		}
		crops = append(crops, file)
	}
	if out, err := exec.Command("/usr/bin/convert", append(crops, "-append", filepath.Join(dir, name+".png"))...).CombinedOutput(); err != nil {
		return fmt.Errorf("stack %s: %w: %s", name, err, out)
	}
	for _, file := range files {
		if err := os.Remove(file); err != nil {
			return err
		}
	}
	return nil
}

// late makes the pictures that need some minutes of the night.
func late() error {
	browser, end, err := chrome.Start(context.Background())
	if err != nil {
		return err
	}
	defer end()
	tab, cancel := chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
	defer cancel()
	url := "http://" + address + "/headcount?span=24+h&room=" + room + "&room=desk.night&room=levee.north-bank#key=demo"
	if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(url)); err != nil {
		return err
	}
	time.Sleep(3 * time.Second)
	picture, err := chromedp.Run(tab, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, "headcount-page.png"), picture, 0o644)
}

// nodes makes the pictures of a cluster, one of whose nodes has been killed.
func nodes() error {
	const address = "127.0.0.1:8427"
	demo := exec.Command("bin/tovik", "demo", "--nodes", "3", "--listen", address, "--operator-key", "demo")
	out, err := demo.StdoutPipe()
	if err != nil {
		return err
	}
	if err := demo.Start(); err != nil {
		return err
	}
	defer stop(demo)
	page := ""
	for lines := bufio.NewScanner(out); page == "" && lines.Scan(); {
		if _, path, ok := strings.Cut(lines.Text(), "http://"+address+"/demo/"); ok {
			page = "http://" + address + "/demo/" + path
		}
	}
	browser, end, err := chrome.Start(context.Background())
	if err != nil {
		return err
	}
	defer end()
	const kill = `[...document.querySelectorAll("button")].find((button) => button.textContent === "Kill").click(); 1`
	for _, one := range []struct{ name, url, act string }{{"demo-nodes", page, kill}, {"nodes-page", "http://" + address + "/nodes#key=demo", "1"}} {
		tab, cancel := chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
		defer cancel()
		if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(one.url)); err != nil {
			return err
		}
		time.Sleep(5 * time.Second)
		if _, err := chromedp.Run(tab, chromedp.Evaluate[any](one.act)); err != nil {
			return err
		}
		time.Sleep(15 * time.Second)
		picture, err := chromedp.Run(tab, chromedp.CaptureScreenshot())
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(dir, one.name+".png"), picture, 0o644); err != nil {
			return err
		}
	}
	return stack("nodes", "demo-nodes", "nodes-page")
}

// startDemo waits until everybody has arrived, and returns the address for a visitor.
func startDemo() (cmd *exec.Cmd, visit string, err error) {
	cmd = exec.Command("bin/tovik", "demo", "--listen", address, "--operator-key", "demo", "--data", data)
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, "", err
	}
	if err := cmd.Start(); err != nil {
		return nil, "", err
	}
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if _, path, ok := strings.Cut(lines.Text(), "http://"+address+"/visit"); ok {
			visit = "/visit" + path
		}
		if strings.Contains(lines.Text(), "Ctrl-C") {
			return cmd, visit, nil
		}
	}
	return nil, "", fmt.Errorf("the demo did not start")
}

func stop(cmd *exec.Cmd) {
	_ = cmd.Process.Signal(syscall.SIGTERM)
	_ = cmd.Wait()
}

func pages(visit string) error {
	browser, end, err := chrome.Start(context.Background())
	if err != nil {
		return err
	}
	defer end()
	application, err := tenLines(visit)
	if err != nil {
		return err
	}
	defer application.Close()
	service := "http://" + address
	tabs := map[string]context.Context{}
	for name, url := range map[string]string{
		"rooms-page": service + "/#key=demo", "hooks-page": service + "/hooks#key=demo", "keys-page": service + "/keys#key=demo", "people": service + "/people#key=demo", "policies": service + "/policies#key=demo", "room": service + "/rooms/" + room + "#key=demo", "person-dark": service + "/people/e-01#key=demo", "journal-page": service + "/journal#key=demo",
		"timing-page": service + "/timing#key=demo", "visit": service + visit, "elements": application.URL, "practice": service + "/practice",
		"sign-in": service + "/", "api": service + "/api#listMembers",
	} {
		tab, cancel := chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
		defer cancel()
		scheme := "light"
		if strings.HasSuffix(name, "-dark") {
			scheme = "dark"
		}
		media := chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
				Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}},
			})
			return err
		})
		if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800), media, chromedp.Navigate(url)); err != nil {
			return fmt.Errorf("open %s: %w", name, err)
		}
		tabs[name] = tab
	}
	time.Sleep(50 * time.Second) // of the night, for the feeds to have something
	if err := practise(tabs["practice"]); err != nil {
		return err
	}
	grace := `[...document.querySelectorAll("[data-mark=grace]")].sort((a, b) => b.getAttribute("width") - a.getAttribute("width"))[0]?.dispatchEvent(new PointerEvent("pointerover", { bubbles: true })); undefined`
	if _, err := chromedp.Run(tabs["room"], chromedp.Evaluate[any](grace)); err != nil {
		return fmt.Errorf("point at a grace: %w", err)
	}
	shorter := `[...document.querySelectorAll("button")].find((b) => b.textContent === "5 min").click()`
	if _, err := chromedp.Run(tabs["person-dark"], chromedp.Evaluate[any](shorter)); err != nil {
		return fmt.Errorf("look at less: %w", err)
	}
	mint := `[...document.querySelectorAll("button")].find((b) => b.textContent === "Mint it").click()`
	if _, err := chromedp.Run(tabs["keys-page"], chromedp.Evaluate[any](mint)); err != nil {
		return fmt.Errorf("mint a token: %w", err)
	}
	open := `document.querySelector("[data-hook] a").click(); setTimeout(() => document.querySelector("[data-delivery] button").click(), 1000)`
	if _, err := chromedp.Run(tabs["hooks-page"], chromedp.Evaluate[any](open)); err != nil {
		return fmt.Errorf("open a hook: %w", err)
	}
	cause := `[...document.querySelectorAll("[data-line]")].find((li) => li.textContent.includes("went offline"))?.querySelector("button").click()`
	if _, err := chromedp.Run(tabs["journal-page"], chromedp.Evaluate[any](cause)); err != nil {
		return fmt.Errorf("open a line: %w", err)
	}
	try := `document.querySelectorAll("[role=slider]")[1].focus(); [1, 2, 3, 4].forEach(() => document.activeElement.dispatchEvent(new KeyboardEvent("keydown", { key: "ArrowRight", bubbles: true })));
		setTimeout(() => [...document.querySelectorAll("button")].find((b) => b.textContent === "Replay").click(), 500)`
	if _, err := chromedp.Run(tabs["timing-page"], chromedp.Evaluate[any](try)); err != nil {
		return fmt.Errorf("try a policy: %w", err)
	}
	time.Sleep(2 * time.Second)
	hint := `document.querySelector("tovik-members").shadowRoot.querySelectorAll("li")[5].focus()`
	if _, err := chromedp.Run(tabs["elements"], chromedp.Evaluate[any](hint)); err != nil {
		return fmt.Errorf("focus a member: %w", err)
	}
	for name, tab := range tabs {
		picture, err := chromedp.Run(tab, chromedp.CaptureScreenshot())
		if err != nil {
			return fmt.Errorf("picture %s: %w", name, err)
		}
		if err := os.WriteFile(filepath.Join(dir, name+".png"), picture, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// practise does some things in the practice room, the last of them a moment ago.
func practise(tab context.Context) error {
	for _, deed := range [][2]string{
		{"Wystan Leat, tab 1", "Enter the gate"}, {"Isbel Osierbed, tab 1", "Enter the gate"},
		{"Wystan Leat, tab 1", "Reload"}, {"Wystan Leat, phone 1", "Lock"}, {"Wystan Leat, tab 1", "Walk away"}, {"Isbel Osierbed, tab 1", "Pull the cable"},
	} {
		button := fmt.Sprintf("[...document.querySelectorAll(%q)].find((b) => b.textContent === %q)", fmt.Sprintf("[data-page=%q] button", deed[0]), deed[1])
		press := "(() => { const button = " + button + "; button?.click(); return button !== undefined })()"
		if _, err := chromedp.Run(tab, chromedp.Poll[bool](press, chromedp.WithPollingInterval(50*time.Millisecond), chromedp.WithPollingTimeout(10*time.Second))); err != nil {
			return fmt.Errorf("practise %q: %w", deed, err)
		}
		time.Sleep(1500 * time.Millisecond)
	}
	return nil
}

// tenLines serves the page of docs/quickstart.md for the visitor of the demo.
func tenLines(visit string) (*httptest.Server, error) {
	text, err := os.ReadFile("docs/quickstart.md")
	if err != nil {
		return nil, err
	}
	_, rest, _ := strings.Cut(string(text), "```html\n")
	page, _, _ := strings.Cut(rest, "```")
	_, token, _ := strings.Cut(visit, "token=")
	return httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/presence-token" {
			_, _ = io.WriteString(w, token)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = io.WriteString(w, "<style>body { font: 16px/1.6 system-ui; margin: 2rem }</style>"+page)
	})), nil
}

// data is the directory with the demo's secret, which load needs.
var data = filepath.Join(os.TempDir(), "tovik-shots-data")

// scratch is a directory for temporary files.
var scratch = filepath.Join(os.TempDir(), "tovik-shots-hook.json")

// command shows a command line in the directory of the data, and runs it.
func command(args string) string {
	typed := strings.ReplaceAll(args, " --data "+data, "")
	return "echo '$ tovik " + strings.ReplaceAll(typed, "'", `'"'"'`) + "'; bin/tovik " + args
}

// terminal runs a command line in a terminal window for some seconds, and takes a picture.
func terminal(name string, seconds int, line string) error {
	window := exec.Command("xterm", "-u8", "-fa", "DejaVu Sans Mono", "-fs", "12", "-geometry", "128x40+0+0", "-bw", "0",
		"-bg", "#10191d", "-fg", "#e3ece9", "-e", "sh", "-c", line+"; sleep 100")
	window.Env = append(os.Environ(), "DISPLAY="+display, "LANG=C.UTF-8", "TZ=UTC",
		"TOVIK_SERVER=http://"+address, "TOVIK_KEY=demo")
	if err := window.Start(); err != nil {
		return err
	}
	defer stop(window)
	time.Sleep(time.Duration(seconds+2) * time.Second)
	picture := exec.Command("/usr/bin/import", "-display", display, "-window", "root", filepath.Join(dir, name+".png"))
	if out, err := picture.CombinedOutput(); err != nil {
		return fmt.Errorf("picture %s: %w: %s", name, err, out)
	}
	return nil
}
