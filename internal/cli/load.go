package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"
	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/wire"
)

func loadCommand() *cli.Command {
	return &cli.Command{
		Name: "load", Usage: "load a service and measure its response",
		Description: "People join the rooms load.1, load.2 … over WebSockets, then move between them, type, and lose their links, at a fixed rate of actions, whether earlier ones are finished or not. " +
			"Measures from the time when an action was due. With bounds, the command fails when one is exceeded.\n\nExample: tovik load --people 100 --rate 20 --for 2s --p99 2s",
		Flags: append(clientFlags(),
			&cli.IntFlag{Name: "people", Value: 200, Usage: "how many people, `N` from 1 to 20000"}, &cli.IntFlag{Name: "rooms", Value: 10, Usage: "the number `N` of rooms"},
			&cli.FloatFlag{Name: "rate", Value: 20, Usage: "`N` actions per second"}, &cli.DurationFlag{Name: "for", Value: 20 * time.Second, Usage: "for this `TIME`"},
			&cli.DurationFlag{Name: "p50", Usage: "fail when half of the changes are seen later than this `TIME`"}, &cli.DurationFlag{Name: "p95", Usage: "the same for 95 %"}, &cli.DurationFlag{Name: "p99", Usage: "the same for 99 %"},
			&cli.IntFlag{Name: "errors", Usage: "fail when more than `N` acts fail"}, &cli.Uint64Flag{Name: "seed", Value: 7, Usage: "the `NUMBER` from which the acts are generated"},
			dataFlag(defaultData, ", for its secret"), secretFlag()),
		Action: load,
	}
}

// loading is a running load.
type loading struct {
	server, secret string
	people, rooms  int
	guests         []*guest
	began          sync.Map // of [happening]: when it was due
	failed, missed atomic.Int64
	sample         atomic.Pointer[string] // an example of a failure
	seen, answered *latency
}

// happening is an event that others will see.
type happening struct {
	room, user string
	joins      bool
}

type guest struct {
	user string
	mu   sync.Mutex // one action at a time
	link *client.Link
	room string
}

// latency collects times for their percentiles.
type latency struct {
	mu   sync.Mutex
	hist *hdrhistogram.Histogram // in microseconds, up to a minute, with three digits
}

func newLatency() *latency {
	return &latency{hist: hdrhistogram.New(1, int64(time.Minute/time.Microsecond), 3)}
}

func (l *latency) took(d time.Duration) {
	l.mu.Lock()
	defer l.mu.Unlock()
	_ = l.hist.RecordValue(min(max(1, d.Microseconds()), int64(time.Minute/time.Microsecond)))
}

// Borne is the result of a load. Times are in milliseconds.
type borne struct {
	People    int       `json:"people"`
	Rooms     int       `json:"rooms"`
	Acts      int64     `json:"acts"`
	Failed    int64     `json:"failed"`
	Missed    int64     `json:"missed"` // not started, because too many were in progress
	Connected float64   `json:"connected"`
	Seen      quantiles `json:"seen"`     // from the time an action was due until another link was told
	Answered  quantiles `json:"answered"` // until it was answered
	Failure   string    `json:"failure,omitempty"`
}

type quantiles struct {
	Times int64   `json:"times"`
	P50   float64 `json:"p50"`
	P95   float64 `json:"p95"`
	P99   float64 `json:"p99"`
	Max   float64 `json:"max"`
}

func (l *latency) quantiles() quantiles {
	l.mu.Lock()
	defer l.mu.Unlock()
	ms := func(us int64) float64 { return float64(us) / 1000 }
	return quantiles{l.hist.TotalCount(), ms(l.hist.ValueAtQuantile(50)), ms(l.hist.ValueAtQuantile(95)), ms(l.hist.ValueAtQuantile(99)), ms(l.hist.Max())}
}

func load(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	people, rooms, rate, length := c.Int("people"), c.Int("rooms"), c.Float("rate"), c.Duration("for")
	switch {
	case people < 1 || people > 20_000:
		return usage("--people is %d; allowed: a whole number from 1 to 20000", people)
	case rooms < 1 || rooms > people:
		return usage("--rooms is %d; allowed: a whole number from 1 to that of people", rooms)
	case rate <= 0 || rate > 100_000:
		return usage("--rate is %g; allowed: above 0, up to 100000", rate)
	case length <= 0:
		return usage("--for is %s; allowed: a time above zero, as in 20s", length)
	}
	a, err := api(c)
	if err != nil {
		return err
	}
	secret := c.String("token-secret")
	if secret == "" {
		if secret, err = access.ReadTokenSecret(c.String("data")); err != nil {
			return noSecret(c.String("data"), err)
		}
	}
	l := &loading{server: a.Server, secret: secret, people: people, rooms: rooms, seen: newLatency(), answered: newLatency()}
	defer l.end()
	bar := progress(c.Root().ErrWriter, int64(people), "people come")
	began := time.Now()
	if err := l.connect(ctx, func() { _ = bar.Add(1) }); err != nil {
		return err
	}
	result := borne{People: people, Rooms: rooms, Connected: float64(time.Since(began).Milliseconds())}
	acts := int64(rate * length.Seconds())
	bar = progress(c.Root().ErrWriter, acts, "acts")
	result.Acts = l.play(ctx, rate, acts, rand.New(rand.NewPCG(c.Uint64("seed"), 1)), func() { _ = bar.Add(1) })
	result.Failed, result.Missed, result.Seen, result.Answered = l.failed.Load(), l.missed.Load(), l.seen.quantiles(), l.answered.quantiles()
	if sample := l.sample.Load(); sample != nil {
		result.Failure = *sample
	}
	if err := showBorne(c, result); err != nil {
		return err
	}
	return result.judge(c)
}

func progress(out io.Writer, of int64, what string) *progressbar.ProgressBar {
	file, ok := out.(*os.File)
	visible := ok && term.IsTerminal(int(file.Fd()))
	return progressbar.NewOptions64(of, progressbar.OptionSetWriter(out), progressbar.OptionSetVisibility(visible), progressbar.OptionSetDescription(what),
		progressbar.OptionShowCount(), progressbar.OptionClearOnFinish(), progressbar.OptionSetWidth(40), progressbar.OptionThrottle(100*time.Millisecond))
}

func showBorne(c *cli.Command, b borne) error {
	return show(c, b, func(w io.Writer) {
		_, _ = fmt.Fprintf(w, "%s in %s, who came within %.1f s; %s, %d failed, %d not begun.\n\n", phrase.Count(b.People, "person"), phrase.Count(b.Rooms, "room"), b.Connected/1000, phrase.Count(int(b.Acts), "act"), b.Failed, b.Missed)
		_, _ = fmt.Fprintln(w, "WHAT\tTIMES\tP50\tP95\tP99\tWORST")
		for _, line := range []struct {
			what string
			q    quantiles
		}{{"until another link is told", b.Seen}, {"until it is answered", b.Answered}} {
			_, _ = fmt.Fprintf(w, "%s\t%d\t%.1f ms\t%.1f ms\t%.1f ms\t%.1f ms\n", line.what, line.q.Times, line.q.P50, line.q.P95, line.q.P99, line.q.Max)
		}
		if b.Failure != "" {
			_, _ = fmt.Fprintf(w, "\nOne that failed: %s\n", b.Failure)
		}
	})
}

// judge returns an error if a given bound is exceeded.
func (b borne) judge(c *cli.Command) error {
	for name, value := range map[string]float64{"p50": b.Seen.P50, "p95": b.Seen.P95, "p99": b.Seen.P99} {
		if bound := c.Duration(name); bound > 0 && value > float64(bound.Microseconds())/1000 {
			return &failure{exitFailed, fmt.Sprintf("%s is %.1f ms; the bound is %s", name, value, bound)}
		}
	}
	if most := int64(c.Int("errors")); b.Failed+b.Missed > most {
		return &failure{exitFailed, fmt.Sprintf("%d acts failed or were not begun; the bound is %d", b.Failed+b.Missed, most)}
	}
	return nil
}

// atOnce limits the people who connect at the same time, and the actions in progress.
const (
	atOnce     = 64
	mostActing = 10_000
	actTimeout = 20 * time.Second
)

// connect connects everybody.
func (l *loading) connect(ctx context.Context, came func()) error {
	l.guests = make([]*guest, l.people)
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	var all sync.WaitGroup
	places := make(chan struct{}, atOnce)
	for i := range l.guests {
		g := &guest{user: fmt.Sprintf("load-%d", i), room: l.room(i % l.rooms)}
		l.guests[i] = g
		places <- struct{}{}
		all.Go(func() {
			defer func() { <-places }()
			if ctx.Err() != nil {
				return
			}
			if err := l.dial(ctx, g, nil); err != nil {
				stop(err)
			}
			came()
		})
	}
	all.Wait()
	return context.Cause(ctx)
}

func (l *loading) room(n int) string { return fmt.Sprintf("load.%d", n+1) }

func (l *loading) dial(ctx context.Context, g *guest, resume *wire.Resume) error {
	token, err := client.Token{User: g.user, TTL: time.Hour, Grants: wire.Grants{Rooms: []string{"load.*"}}}.Sign(l.secret)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, actTimeout)
	defer cancel()
	link, err := client.Dial(ctx, client.Options{Server: l.server, Token: token, Rooms: []string{g.room}, Resume: resume, OnEvent: l.told})
	if err != nil {
		return err
	}
	g.link = link
	return nil
}

// told applies what a link is told about somebody.
func (l *loading) told(e client.Event) {
	if e.Whole {
		return
	}
	now := time.Now()
	for _, m := range e.Joined {
		if due, ok := l.began.Load(happening{e.Room, m.User, true}); ok {
			l.seen.took(now.Sub(due.(time.Time)))
		}
	}
	for _, d := range e.Left {
		if due, ok := l.began.Load(happening{e.Room, d.User, false}); ok {
			l.seen.took(now.Sub(due.(time.Time)))
		}
	}
}

// play performs a number of actions, each at its time, and returns how many it started.
func (l *loading) play(ctx context.Context, rate float64, acts int64, random *rand.Rand, done func()) (begun int64) {
	var all sync.WaitGroup
	var acting atomic.Int64
	start := time.Now()
	for n := range acts {
		due := start.Add(time.Duration(float64(n) / rate * float64(time.Second)))
		select {
		case <-ctx.Done():
			all.Wait()
			return begun
		case <-time.After(time.Until(due)):
		}
		g, act, to := l.guests[random.IntN(len(l.guests))], random.IntN(10), l.room(random.IntN(l.rooms))
		if acting.Load() >= mostActing {
			l.missed.Add(1)
			continue
		}
		begun++
		acting.Add(1)
		all.Go(func() {
			defer acting.Add(-1)
			if err := l.act(ctx, g, act, to, due); err != nil && ctx.Err() == nil {
				text := err.Error()
				l.sample.Store(&text)
				l.failed.Add(1)
			}
			l.answered.took(time.Since(due))
			done()
		})
	}
	all.Wait()
	select { // for the effects of the last actions
	case <-ctx.Done():
	case <-time.After(300 * time.Millisecond):
	}
	return begun
}

// act performs one action: move (6 of 10), type, or lose the link and return.
func (l *loading) act(ctx context.Context, g *guest, what int, to string, due time.Time) error {
	ctx, cancel := context.WithTimeout(ctx, actTimeout)
	defer cancel()
	g.mu.Lock()
	defer g.mu.Unlock()
	switch {
	case what < 6 && to != g.room:
		l.began.Store(happening{g.room, g.user, false}, due)
		l.began.Store(happening{to, g.user, true}, due)
		from := g.room
		g.room = to
		return errors.Join(g.link.Leave(ctx, from), g.link.Join(ctx, to))
	case what < 9:
		return errors.Join(g.link.Typing(ctx, g.room, true), g.link.Typing(ctx, g.room, false))
	}
	g.link.Close()
	return l.dial(ctx, g, g.link.Resume())
}

// end disconnects everybody.
func (l *loading) end() {
	ctx, cancel := context.WithTimeout(context.Background(), actTimeout)
	defer cancel()
	var all sync.WaitGroup
	for _, g := range l.guests {
		if g != nil && g.link != nil {
			all.Go(func() { _ = g.link.Bye(ctx) }) // otherwise their graces end them
		}
	}
	all.Wait()
}
