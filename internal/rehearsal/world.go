package rehearsal

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"tovik.example/tovik/internal/agenda"
	"tovik.example/tovik/internal/presence"
)

// Options are the settings of a rehearsal. Begin, Tell and Restarted are optional.
type Options struct {
	Policy presence.Policy
	People int
	Length time.Duration
	Seed   uint64
	Begin  time.Time // zero: a dusk in November
	Tell   Teller    // may be nil
	// Restarted is told of each restart of the service; it may be nil.
	Restarted func(at time.Time, away time.Duration)
}

// Teller is told the effects of each input of a core, in order. It must not keep them.
type Teller func(at time.Time, effects []presence.Effect, touched []presence.UserID)

// perRoom is how many people share a room.
const perRoom = 40

// Run plays the world and returns its score.
func Run(o Options) Score {
	begun := time.Now()
	if o.Begin.IsZero() {
		o.Begin = dusk
	}
	w := newWorld(o)
	for _, line := range []string{falseLeaves, lateLeaves, flickers} {
		w.score.line(line)
	}
	for i := range o.People {
		p := newPerson(w, i)
		w.after(p.between(0, 4*time.Hour), func() { p.arrive() })
	}
	w.after(w.between(20*time.Minute, 40*time.Minute), w.pause)
	w.after(w.between(90*time.Minute, 3*time.Hour), w.restart)
	w.play(o.Length)
	w.score.Saved = w.core.Save(w.instant())
	slices.SortStableFunc(w.score.Lines, func(a, b Line) int { return strings.Compare(a.group(), b.group()) })
	w.score.Took = time.Since(begun)
	return w.score
}

// world is the service's core, everybody who uses it, and what will happen.
type world struct {
	policy   presence.Policy
	options  Options
	core     *presence.Core
	random   *rand.Rand
	now      time.Duration // since dusk, by the world's clock
	stalled  time.Duration // until when the service's machine is suspended
	down     bool          // the service is restarting, and there is no core
	agenda   agenda.Agenda
	ids      uint64
	effects  presence.Effects
	carrying bool // effects out
	tabs     map[presence.SessionID]*tab
	people   map[presence.UserID]*person
	asking   map[uint64]*person // people whose hello is pending
	score    Score
	origin   time.Duration // of the core's monotonic clock
}

var dusk = time.Date(2026, 11, 23, 18, 0, 0, 0, time.UTC)

func newWorld(o Options) *world {
	return &world{
		policy: o.Policy, options: o, core: presence.NewCore(o.Policy), random: rand.New(rand.NewPCG(o.Seed, 1)),
		tabs: map[presence.SessionID]*tab{}, people: map[presence.UserID]*person{}, asking: map[uint64]*person{},
		score: Score{People: o.People, Hours: o.Length.Hours(), Seed: o.Seed},
	}
}

func (w *world) instant() presence.Instant {
	return presence.Instant{Mono: w.now - w.origin, Wall: w.options.Begin.Add(w.now)}
}

// after makes something happen after a while.
func (w *world) after(d time.Duration, do func()) { w.agenda.Add(int64(w.now+d), do) }

func (w *world) between(least, most time.Duration) time.Duration {
	return least + time.Duration(w.random.Int64N(int64(most-least)))
}

// play makes everything happen in order, including the core's own deadlines.
func (w *world) play(until time.Duration) {
	for {
		next := until
		if at, ok := w.agenda.Due(); ok {
			next = min(next, time.Duration(at))
		}
		if due, ok := w.core.Due(); ok && !w.down {
			if due = max(due+w.origin, w.stalled); due <= next {
				w.now = max(w.now, due)
				w.advance()
				continue
			}
		}
		if next >= until {
			return
		}
		w.now = next
		w.agenda.Next()()
	}
}

func (w *world) advance() {
	for more := true; more; {
		_, more = w.core.Advance(w.instant(), 1000, &w.effects)
		w.carryOut()
	}
}

// tell gives the core an input, when its machine is running.
func (w *world) tell(in presence.Input, then func(presence.Reply, error)) {
	if w.now < w.stalled {
		w.after(w.stalled-w.now, func() { w.tell(in, then) })
		return
	}
	reply, err := w.core.Apply(w.instant(), in, &w.effects)
	if then != nil {
		then(reply, err)
	}
	w.carryOut()
}

// carryOut does what the gateway does with the effects, and checks what others see.
func (w *world) carryOut() {
	if w.carrying {
		return // what is under way comes to it
	}
	w.carrying = true
	defer func() { w.carrying = false }()
	for i := 0; i < len(w.effects.List); i++ { // an answered beat adds to them
		switch effect := w.effects.List[i].(type) {
		case presence.AskBeat:
			w.asked(effect)
		case presence.Cut:
			if t := w.tabs[effect.Link.Session]; t != nil && t.link == effect.Link {
				t.wasCut(effect.Reason)
			}
		case presence.Settled:
			w.settled(effect)
		case presence.MemberChanged:
			if effect.Views.Has(presence.Open) {
				w.people[effect.After.User].seen(effect)
			}
		case presence.TypingChanged:
			w.people[effect.User].typingSeen(effect.On)
		case presence.PersonChanged:
			if effect.Views.Has(presence.Open) {
				w.people[effect.User].statusSeen(effect.After.Status)
			}
		case presence.SessionOpened:
			w.score.Sessions++
		}
	}
	if w.options.Tell != nil && len(w.effects.List)+len(w.effects.Touched) > 0 {
		w.options.Tell(w.options.Begin.Add(w.now), w.effects.List, w.effects.Touched)
	}
	w.effects.Reset()
}

// asked writes a beat request to a link, and lets the page answer if it can.
func (w *world) asked(ask presence.AskBeat) {
	w.score.Beats++
	link := ask.Link
	_, _ = w.core.Apply(w.instant(), presence.BeatWritten{To: link, Probe: ask.Probe}, &w.effects)
	if t := w.tabs[link.Session]; t != nil && t.link == link && t.answers() {
		_, _ = w.core.Apply(w.instant(), presence.Beat{From: link}, &w.effects)
	}
}

func (w *world) settled(effect presence.Settled) {
	p := w.asking[effect.Attempt]
	delete(w.asking, effect.Attempt)
	for _, t := range p.tabs {
		if t.attempt == effect.Attempt {
			t.welcomed(effect.Reply, effect.Err)
			return
		}
	}
	p.unclaimed(effect.Reply.Link)
}

// pause suspends the service's machine for a while.
func (w *world) pause() {
	w.score.Pauses++
	w.stalled = w.now + w.between(2*time.Second, 2*time.Minute)
	for _, p := range w.people {
		p.serviceStalled(false)
	}
	w.after(w.between(time.Hour, 2*time.Hour), w.pause)
}

// stall returns how long the service's machine stays suspended, which is how late it may be. The
// time since the core's last call counts as a pause, too; it is shorter than the time between
// two beats.
func (w *world) stall() time.Duration {
	if w.now >= w.stalled {
		return 0
	}
	return w.stalled - w.now + w.policy.BeatEvery
}

// restart stops the service, and starts it again from what it saved.
func (w *world) restart() {
	if w.now < w.stalled {
		w.after(w.stalled-w.now, w.restart)
		return
	}
	w.score.Restarts++
	saved := w.core.Save(w.instant())
	away := w.between(time.Second, 5*time.Second)
	w.stalled, w.down = w.now+away, true
	for _, p := range w.people {
		p.serviceStalled(true)
		for _, t := range p.tabs {
			if t.connected && !t.p.device {
				t.goes(away+t.policy().GraceLost, away+t.grace())
				t.connected = false
			}
		}
	}
	w.after(away, func() {
		w.core, w.origin, w.down = presence.NewCore(w.policy), w.now, false
		if err := w.core.Restore(w.instant(), saved, &presence.Effects{}); err != nil {
			panic(fmt.Sprintf("rehearsal: a core cannot read what a core has saved: %v", err))
		}
		if w.options.Restarted != nil {
			w.options.Restarted(w.instant().Wall, away)
		}
		w.advance()
	})
	for _, user := range sortedUsers(w.people) {
		for _, t := range w.people[user].tabs {
			if t.state == open && !t.connected {
				w.after(away+w.between(0, 3*time.Second), t.reconnect)
			}
		}
	}
	w.after(w.between(3*time.Hour, 6*time.Hour), w.restart)
}
