// Command console measures how long live updates keep the pages of the console busy: the board
// with 5,000 rooms, and a room of 10,000 people, followed whole and in pages, while people come
// and go. It prints the tasks of the page's main thread from a trace of Chromium.
//
// Run it with make bench-console.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/tracing"
	"github.com/chromedp/chromedp"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/gateway"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/test/chrome"
	"tovik.example/tovik/wire"
)

const (
	secret = "the secret of a service that lives for one bench"
	key    = "bench"

	rooms    = 5000
	members  = 10_000
	large    = "basin.large"
	perLink  = 64 // rooms that one session may be in
	changing = 20 // people who come and go
	every    = 50 * time.Millisecond
	traced   = 20 * time.Second
	// aim is the longest acceptable task of an update.
	aim = 50 * time.Millisecond
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run() error {
	browser, stop, err := chrome.Start(context.Background())
	if err != nil {
		return err
	}
	defer stop()
	fmt.Printf("%-46s %8s %8s %8s %8s %8s\n", "", "tasks", "p50 ms", "p99 ms", "max ms", "over aim")
	for _, c := range []struct {
		name, path, ready string
		membersMax        int
		fill              func(service string) (func(), error)
		where             func() string
	}{
		{"the board with 5,000 rooms", "/", `document.querySelector("h1")?.textContent.startsWith("50")`, 1000, fillRooms, func() string { return fmt.Sprint("basin.b", rand.IntN(rooms)) }},
		{"a room of 10,000 people, in pages", "/rooms/" + large, `document.querySelectorAll("[data-members] tr").length > 5`, 1000, fillRoom, func() string { return large }},
		{"a room of 10,000 people, followed whole", "/rooms/" + large, `document.querySelectorAll("[data-members] tr").length > 5`, 20_000, fillRoom, func() string { return large }},
	} {
		tasks, err := measure(browser, c.path, c.ready, c.membersMax, c.fill, c.where)
		if err != nil {
			return fmt.Errorf("%s: %w", c.name, err)
		}
		slices.Sort(tasks)
		at := func(part float64) float64 {
			return float64(tasks[int(part*float64(len(tasks)-1))].Microseconds()) / 1000
		}
		over := len(tasks) - slices.IndexFunc(append(tasks, 1<<62), func(d time.Duration) bool { return d > aim })
		fmt.Printf("%-46s %8d %8.1f %8.1f %8.1f %8d\n", c.name, len(tasks), at(0.5), at(0.99), at(1), over)
	}
	return nil
}

// measure traces a page while people come and go, and returns the durations of its tasks of a
// millisecond or more.
func measure(browser context.Context, path, ready string, membersMax int, fill func(string) (func(), error), where func() string) ([]time.Duration, error) {
	policy := presence.DefaultPolicy()
	policy.MembersMax = membersMax
	s, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, Policy: &policy,
		Limits: gateway.Limits{PerAddress: 20_000, PerPerson: 10, BeforeHello: 1000}})
	if err != nil {
		return nil, err
	}
	defer func() { _ = s.Stop() }()
	s.Ready()
	empty, err := fill(s.URL())
	if err != nil {
		return nil, err
	}
	defer empty()
	tab, cancel := chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
	defer cancel()
	if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.URL()+path+"#key="+key)); err != nil {
		return nil, err
	}
	if _, err := chromedp.Run(tab, chromedp.Poll[bool](ready, chromedp.WithPollingTimeout(time.Minute))); err != nil {
		return nil, err
	}
	time.Sleep(5 * time.Second) // until the page has settled
	ctx, done := context.WithCancel(tab)
	var coming sync.WaitGroup
	defer coming.Wait()
	defer done()
	for i := range changing {
		coming.Go(func() { comeAndGo(ctx, s.URL(), fmt.Sprint("z-", i), where) })
	}
	time.Sleep(2 * time.Second)
	return trace(tab)
}

// comeAndGo makes somebody join and leave rooms until ctx ends.
func comeAndGo(ctx context.Context, service, user string, where func() string) {
	link, err := client.Dial(ctx, client.Options{Server: service, Token: token(user)})
	if err != nil {
		return
	}
	defer link.Close()
	for {
		room := where()
		for _, do := range []func(context.Context, string) error{link.Join, link.Leave} {
			if do(ctx, room) != nil {
				return
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(every*changing/2 + rand.N(every*changing)):
			}
		}
	}
}

func token(user string) string {
	text, err := client.Token{User: user, Name: "Name of " + user, Grants: wire.Grants{Rooms: []string{"**"}}}.Sign(secret)
	if err != nil {
		panic(err) // the secret is long enough
	}
	return text
}

// fillRooms creates rooms with people in them.
func fillRooms(service string) (func(), error) {
	var links []*client.Link
	for first := 0; first < rooms; first += perLink {
		var names []string
		for i := first; i < min(rooms, first+perLink); i++ {
			names = append(names, fmt.Sprint("basin.b", i))
		}
		link, err := client.Dial(context.Background(), client.Options{Server: service, Token: token(fmt.Sprint("w-", first)), Rooms: names})
		if err != nil {
			return nil, err
		}
		links = append(links, link)
	}
	return func() {
		for _, link := range links {
			link.Close()
		}
	}, nil
}

// fillRoom puts people who beat over HTTP into one room.
func fillRoom(service string) (func(), error) {
	work := make(chan int)
	failed := make(chan error, 1)
	var workers sync.WaitGroup
	for range 8 {
		workers.Go(func() {
			for i := range work {
				if err := beat(service, fmt.Sprintf("w-%05d", i)); err != nil {
					select {
					case failed <- err:
					default:
					}
				}
			}
		})
	}
	for i := range members {
		work <- i
	}
	close(work)
	workers.Wait()
	select {
	case err := <-failed:
		return nil, err
	default:
		return func() {}, nil
	}
}

func beat(service, user string) error {
	request, err := http.NewRequest(http.MethodPut, service+"/v1/sessions/new", strings.NewReader(`{"rooms":["`+large+`"]}`))
	if err != nil {
		return err
	}
	request.Header.Set("Authorization", "Bearer "+token(user))
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer func() { _ = response.Body.Close() }()
	if response.StatusCode != http.StatusOK {
		return fmt.Errorf("a beat was answered with %s", response.Status)
	}
	return nil
}

// event is an event of a trace (the Trace Event Format, as Chromium writes it).
type event struct {
	Name     string  `json:"name"`
	Phase    string  `json:"ph"`
	Process  int     `json:"pid"`
	Thread   int     `json:"tid"`
	Duration float64 `json:"dur"` // microseconds
	Args     struct {
		Name string `json:"name"`
	} `json:"args"`
}

func trace(tab context.Context) ([]time.Duration, error) {
	var mu sync.Mutex
	var events []event
	complete := make(chan struct{})
	err := chromedp.Listen(tab, func(what any) {
		switch what := what.(type) {
		case *tracing.EventDataCollected:
			mu.Lock()
			defer mu.Unlock()
			for _, value := range what.Value {
				var e event
				if json.NewDecoder(bytes.NewReader(value)).Decode(&e) == nil {
					events = append(events, e)
				}
			}
		case *tracing.EventTracingComplete:
			close(complete)
		}
	})
	if err != nil {
		return nil, err
	}
	err = chromedp.Do(tab, chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		config := &tracing.TraceConfig{IncludedCategories: []string{"toplevel", "devtools.timeline", "disabled-by-default-devtools.timeline"}}
		if _, err := cdp.Call(ctx, target, tracing.Start, tracing.StartParams{TraceConfig: config}); err != nil {
			return err
		}
		time.Sleep(traced)
		_, err := cdp.Call(ctx, target, tracing.End, cdp.Empty{})
		return err
	}))
	if err != nil {
		return nil, err
	}
	<-complete
	mu.Lock()
	defer mu.Unlock()
	type thread struct{ process, thread int }
	main := map[thread]bool{}
	for _, e := range events {
		if e.Phase == "M" && e.Name == "thread_name" && e.Args.Name == "CrRendererMain" {
			main[thread{e.Process, e.Thread}] = true
		}
	}
	var tasks []time.Duration
	for _, e := range events {
		took := time.Duration(e.Duration * float64(time.Microsecond))
		if e.Name == "RunTask" && main[thread{e.Process, e.Thread}] && took >= time.Millisecond {
			tasks = append(tasks, took)
		}
	}
	if len(tasks) == 0 {
		return nil, fmt.Errorf("the trace has no task of a page among %d events", len(events))
	}
	return tasks, nil
}
