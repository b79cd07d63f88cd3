package demo

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"sync"
	"time"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/rehearsal"
	"tovik.example/tovik/wire"
)

// Options are the settings of a play. All but Open and Log are required.
type Options struct {
	Server string
	Secret string // signs tokens
	Key    string // of an operator
	People int
	Seed   uint64
	Open   []rehearsal.Tab // pages that are open already, whose sessions go on
	Log    *slog.Logger    // nil stands for none
}

// arrival is the time over which the first arrivals are spread.
const arrival = 800 * time.Millisecond

// Play plays the night until ctx ends, and returns when everybody has gone. It calls arrived
// once, when everybody has arrived for the first time.
func Play(ctx context.Context, o Options, arrived func()) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	var first, all sync.WaitGroup
	people := cast(o.People)
	open := map[presence.UserID][]rehearsal.Tab{}
	for _, tab := range o.Open {
		open[tab.User] = append(open[tab.User], tab)
	}
	for i, who := range people {
		for n := range who.tabs {
			first.Add(1)
			t := &tab{
				options: o, who: who, second: n > 0, arrived: sync.OnceFunc(first.Done),
				random: rand.New(rand.NewPCG(o.Seed, uint64(i*8+n))),
			}
			t.room = who.rooms[0]
			if tabs := open[who.user]; n < len(tabs) {
				t.room, t.resume = tabs[n].Room, &wire.Resume{Session: string(tabs[n].Session), ResumeKey: tabs[n].Key}
			}
			all.Go(func() { t.live(ctx) })
		}
	}
	first.Wait()
	arrived()
	all.Go(func() { keepWatch(ctx, o, people) })
	all.Go(func() { meet(ctx, o, people) })
	all.Wait()
}

// tab is one page of a person, from its first load to the end of the night.
type tab struct {
	options Options
	who     character
	second  bool // not the first tab of its person, so it may be closed
	arrived func()
	random  *rand.Rand

	cables cables
	room   presence.RoomName
	resume *wire.Resume
	nonce  string
	link   *client.Link
}

// live plays the tab's night: it arrives, and then does one thing after another.
func (t *tab) live(ctx context.Context) {
	defer t.arrived()
	pause(ctx, t.between(0, arrival))
	t.load(ctx)
	t.arrived()
	for ctx.Err() == nil {
		t.stay(ctx, t.between(8*time.Second, 60*time.Second))
		t.work(ctx)
		if ctx.Err() == nil {
			t.act(ctx)
		}
	}
	if t.link != nil {
		t.link.Close()
	}
}

// stay leaves the page open for a while. If its link ends, as when a node stops, the page connects again by itself.
func (t *tab) stay(ctx context.Context, d time.Duration) {
	for over := time.After(d); t.link != nil; {
		select {
		case <-ctx.Done():
			return
		case <-over:
			return
		case <-t.link.Ended():
			if errors.Is(t.link.Err(), client.ErrEnded) { // an operator has signed the person out
				t.say("signs in again after a while")
				t.resume = nil
				pause(ctx, t.between(10*time.Second, 30*time.Second))
				t.load(ctx)
				continue
			}
			pause(ctx, t.between(100*time.Millisecond, 800*time.Millisecond))
			t.connect(ctx)
			if ctx.Err() != nil {
				return
			}
		}
	}
}

// work is what somebody does at a page. Errors of a lost link are ignored, because the page connects again.
func (t *tab) work(ctx context.Context) {
	if t.link == nil {
		return
	}
	switch dice := t.random.IntN(12); {
	case dice < 2: // the person looks elsewhere
	case dice < 4:
		_ = t.link.Doing(ctx, string(t.room), map[string]int{"page": 1 + t.random.IntN(9)})
	case dice < 7:
		t.write(ctx)
	case dice < 8 && !t.who.steady:
		t.say("leaves the page alone")
		_ = t.link.Idle(ctx)
	case dice < 9 && t.who.steady:
		note := []string{"at the gauge", "on the radio", "at the pumps"}[t.random.IntN(3)]
		_ = t.link.SetStatus(ctx, "busy", note, time.Now().Add(t.between(20*time.Second, 90*time.Second)))
	default:
		_ = t.link.Activity(ctx)
	}
}

// write composes a log entry.
func (t *tab) write(ctx context.Context) {
	for range 1 + t.random.IntN(4) {
		_ = t.link.Typing(ctx, string(t.room), true)
		pause(ctx, t.between(time.Second, 4*time.Second))
	}
	_ = t.link.Typing(ctx, string(t.room), false)
}

// act does one of the things that happen to a page.
func (t *tab) act(ctx context.Context) {
	dice := t.random.IntN(100)
	if t.who.steady && !t.second {
		dice %= 60 // only what others do not see
	}
	switch {
	case dice < 40:
		t.reload(ctx)
	case dice < 60:
		t.cables.pull() // a short loss: the page returns within its grace
		pause(ctx, t.between(2*time.Second, 7*time.Second))
		t.connect(ctx)
	case dice < 72:
		t.goAway(ctx)
	case dice < 82:
		t.cables.pull() // a long loss: others see a leave
		pause(ctx, t.between(15*time.Second, 40*time.Second))
		t.load(ctx)
	case dice < 87:
		t.cables.sleep(ctx, t.between(70*time.Second, 100*time.Second))
		t.load(ctx)
	case dice < 94:
		t.move(ctx)
	default:
		t.say("goes home for a while")
		_ = t.link.Bye(ctx) // the session ends in any case
		t.resume = nil
		pause(ctx, t.between(10*time.Second, 30*time.Second))
		t.load(ctx)
	}
}

// reload does what a browser does: the beacon, the close, and a new page with the session that
// the tab keeps.
func (t *tab) reload(ctx context.Context) {
	t.beacon(ctx)
	pause(ctx, t.between(100*time.Millisecond, 300*time.Millisecond))
	t.load(ctx)
}

// goAway closes the tab and opens it again, too late for a reload.
func (t *tab) goAway(ctx context.Context) {
	t.say("closes the page")
	t.beacon(ctx)
	t.resume = nil
	pause(ctx, t.between(8*time.Second, 30*time.Second))
	t.load(ctx)
}

func (t *tab) beacon(ctx context.Context) {
	note := wire.ClosingNote{Session: t.resume.Session, ResumeKey: t.resume.ResumeKey, Nonce: t.nonce}
	if _, err := (client.API{Server: t.options.Server}).Closed(ctx, note); err != nil && ctx.Err() == nil {
		t.options.Log.Warn("a closing note was refused", "user", t.who.user, "error", err)
	}
	t.link.Close()
}

// move goes to the person's next room.
func (t *tab) move(ctx context.Context) {
	old := t.room
	t.room = t.who.rooms[0]
	if old == t.room {
		t.room = t.who.rooms[1]
	}
	t.say("moves to " + string(t.room))
	if t.link.Join(ctx, string(t.room)) != nil || t.link.Leave(ctx, string(old)) != nil {
		t.load(ctx)
	}
}

// load is a new load of the page.
func (t *tab) load(ctx context.Context) {
	if t.link != nil {
		t.link.Close()
	}
	t.nonce = fmt.Sprintf("%016x", t.random.Uint64())
	t.connect(ctx)
}

// connect sends hello until it is answered or the night ends.
func (t *tab) connect(ctx context.Context) {
	for ctx.Err() == nil {
		link, err := t.dial(ctx)
		if err == nil {
			t.link, t.resume = link, link.Resume()
			return
		}
		if ctx.Err() == nil {
			t.options.Log.Warn("connecting failed", "user", t.who.user, "error", err)
		}
		pause(ctx, t.between(500*time.Millisecond, 2*time.Second))
	}
}

func (t *tab) dial(ctx context.Context) (*client.Link, error) {
	token, err := client.Token{
		User: string(t.who.user), Name: t.who.profile.Name, Grants: wire.Grants{Rooms: []string{"**"}},
	}.Sign(t.options.Secret)
	if err != nil {
		return nil, err
	}
	return client.Dial(ctx, client.Options{
		Server: t.options.Server, Token: token, Resume: t.resume, Nonce: t.nonce,
		Rooms: []string{string(t.room)}, NetDial: t.cables.dial,
	})
}

func (t *tab) say(what string) {
	t.options.Log.Debug(t.who.profile.Name+" "+what, "user", t.who.user)
}

func (t *tab) between(least, most time.Duration) time.Duration {
	return between(t.random, least, most)
}
