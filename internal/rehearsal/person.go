package rehearsal

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"time"

	"tovik.example/tovik/internal/presence"
)

// Other scores than ghosts by their cause.
const (
	falseLeaves = "false leaves within grace"
	lateLeaves  = "ghosts beyond their bound"
	flickers    = "flickers: left and came again"
	stuckTyping = "typing after the last key"
	earlyAway   = "away shown too early"
	lateAway    = "away shown too late"
)

// activityEvery is the shortest interval in which a page reports input.
const activityEvery = 20 * time.Second

// person is a simulated person: the truth about them, and what others see.
type person struct {
	w      *world
	random *rand.Rand
	user   presence.UserID
	room   presence.RoomName
	device bool
	tabs   []*tab // also closed ones, until others have seen that

	lastInput   time.Duration
	quietUntil  time.Duration // nobody is at the page
	lastKey     time.Duration
	report      uint64
	stalls      time.Duration // pauses of the service since the last input
	keyStalls   time.Duration // the same since the last key
	shown       bool
	falselyLeft bool
	status      presence.Status // as shown
	out         bool            // is away for a while
}

func newPerson(w *world, i int) *person {
	p := &person{
		w: w, random: rand.New(rand.NewPCG(w.score.Seed, uint64(i)+2)),
		user: presence.UserID(fmt.Sprintf("w-%05d", i)), room: presence.RoomName(fmt.Sprintf("basin.b%d", i/perRoom)),
		device: i%20 == 19,
	}
	w.people[p.user] = p
	return p
}

func sortedUsers(people map[presence.UserID]*person) []presence.UserID {
	return slices.Sorted(maps.Keys(people))
}

func (p *person) between(least, most time.Duration) time.Duration {
	return least + time.Duration(p.random.Int64N(int64(most-least)))
}

// arrive starts a stay.
func (p *person) arrive() {
	p.checkGone()
	p.out = false
	p.touch()
	p.openTab(nil)
	if p.device {
		p.w.after(p.between(2*time.Hour, 6*time.Hour), func() { p.here(func(t *tab) { t.die() }) })
		return
	}
	p.w.after(p.between(30*time.Second, time.Minute), p.input)
	p.w.after(p.between(time.Minute, 4*time.Minute), p.act)
}

// depart ends a stay: the pages are closed, or the machine just goes away.
func (p *person) depart() {
	p.out = true
	for _, t := range slices.Clone(p.tabs) {
		if t.state != open {
			continue
		}
		switch p.random.IntN(4) {
		case 0:
			t.bye()
		case 1:
			t.die()
		default:
			t.close()
		}
	}
	p.w.after(p.between(2*time.Hour, 10*time.Hour), p.arrive)
}

// here makes something happen to one of the person's open tabs.
func (p *person) here(do func(*tab)) {
	var tabs []*tab
	for _, t := range p.tabs {
		if t.state == open && t.reachable() {
			tabs = append(tabs, t)
		}
	}
	if len(tabs) > 0 {
		do(tabs[p.random.IntN(len(tabs))])
	}
}

// act does one of the things that happen while people are here.
func (p *person) act() {
	if p.out {
		return
	}
	p.w.score.Acts++
	switch dice := p.random.IntN(100); {
	case dice < 24:
		p.here((*tab).reload)
	case dice < 32:
		p.here((*tab).switchNetwork)
	case dice < 40:
		p.here(func(t *tab) { t.cutCable(p.between(time.Second, 90*time.Second)) })
	case dice < 52:
		p.here((*tab).togglePageHidden)
	case dice < 57:
		p.openTab(nil)
	case dice < 60:
		p.here(func(t *tab) { p.openTab(t) }) // a duplicated tab has a copy of the storage
	case dice < 78:
		p.here(p.startTyping)
	case dice < 84:
		p.quietUntil = p.w.now + p.between(4*time.Minute, 20*time.Minute)
	case dice < 88:
		p.here(func(t *tab) { t.freeze(p.between(10*time.Second, 5*time.Minute)) })
	case dice < 91:
		for _, t := range slices.Clone(p.tabs) { // the laptop sleeps, with all its tabs
			if t.state == open && t.reachable() {
				t.freeze(p.between(time.Minute, 30*time.Minute))
			}
		}
	case dice < 92:
		p.here((*tab).die)
	default:
		p.depart()
		return
	}
	if !slices.ContainsFunc(p.tabs, func(t *tab) bool { return t.state == open }) {
		p.openTab(nil)
	}
	p.w.after(p.between(time.Minute, 5*time.Minute), p.act)
}

func (p *person) openTab(copied *tab) {
	p.forgetTabs()
	t := &tab{p: p, state: open}
	if copied != nil {
		t.session, t.key = copied.session, copied.key
	}
	p.tabs = append(p.tabs, t)
	t.load()
}

// unclaimed handles a hello that was answered after its page had gone or reloaded: the service
// finds the connection closed, and the session gets its grace.
func (p *person) unclaimed(link presence.LinkID) {
	p.w.tell(presence.LinkLost{Link: link}, nil)
	gone := &tab{p: p, pageHidden: true}
	gone.goes(0, gone.grace())
	p.tabs = append(p.tabs, gone)
}

// input is human input, now and then, if somebody is there.
func (p *person) input() {
	if p.out {
		return
	}
	if p.w.now >= p.quietUntil && slices.ContainsFunc(p.tabs, (*tab).answers) {
		p.touch()
		for _, t := range slices.Clone(p.tabs) { // the tabs of a browser tell one another
			t.say(func(from presence.LinkID) presence.Input { return presence.Activity{From: from} })
		}
	}
	p.w.after(p.between(activityEvery, 90*time.Second), p.input)
}

func (p *person) touch() { p.lastInput, p.stalls = p.w.now, p.w.stall() }

// startTyping types for a while: a report every three seconds, and then a stop, or nothing more.
func (p *person) startTyping(t *tab) {
	if p.w.now < p.quietUntil {
		return
	}
	keys := 1 + p.random.IntN(8)
	for i := range keys {
		p.w.after(time.Duration(i)*3*time.Second, func() { p.key(t, true) })
	}
	if p.random.IntN(3) > 0 {
		p.w.after(time.Duration(keys)*3*time.Second, func() { p.key(t, false) })
	}
}

func (p *person) key(t *tab, on bool) {
	if t.state != open || !t.reachable() {
		return
	}
	p.lastKey, p.keyStalls = p.w.now, p.w.stall()
	p.report++
	number := p.report
	t.say(func(from presence.LinkID) presence.Input {
		return presence.Typing{From: from, Room: p.room, Number: number, On: on}
	})
}

// seen is called with what others see of the person in the room, and judges it.
func (p *person) seen(m presence.MemberChanged) {
	switch {
	case m.Before.Sessions == 0:
		if p.falselyLeft {
			p.w.score.never(flickers)
		}
		p.shown, p.falselyLeft = true, false
	case m.After.Sessions == 0:
		p.shown = false
		p.judgeLeave(m.Reason)
		p.forgetTabs()
	}
}

// judgeLeave compares a leave with the truth: it must not be too early for any tab, nor too late
// for the last one.
func (p *person) judgeLeave(reason presence.Reason) {
	now := p.w.now
	last, gone := &tab{}, time.Duration(0)
	for _, t := range p.tabs {
		if t.outageAt == 0 || now < t.earliest-slack {
			p.falselyLeft = true
			p.w.score.never(falseLeaves)
			return
		}
		if t.latest > last.latest {
			last = t
		}
		gone = max(gone, t.outageAt)
	}
	what := "ghost: " + reason.String()
	switch {
	case last.outageAt < gone: // another tab went earlier, and may have a longer grace
		what = "ghost: several tabs"
	case last.pageHidden && reason != presence.ReasonBye && reason != presence.ReasonClosing:
		what += ", hidden page"
	case p.device:
		what = "ghost: device"
	}
	p.w.score.took(what, now-last.outageAt, last.promised, last.latest-last.outageAt-last.promised)
	if now > last.latest+slack {
		p.w.score.never(lateLeaves)
	}
}

// checkGone checks, before a new stay, that the person's departure has been seen.
func (p *person) checkGone() {
	if !p.shown {
		return
	}
	for _, t := range p.tabs {
		if t.outageAt == 0 || p.w.now <= t.latest+slack {
			return
		}
	}
	p.w.score.never(lateLeaves)
}

// forgetTabs forgets tabs that no longer matter.
func (p *person) forgetTabs() {
	p.tabs = slices.DeleteFunc(p.tabs, func(t *tab) bool {
		gone := t.state == closed && (p.w.now > t.latest+slack || !p.shown)
		if gone && p.w.tabs[t.session] == t {
			delete(p.w.tabs, t.session)
		}
		return gone
	})
}

func (p *person) typingSeen(on bool) {
	if !on {
		p.w.score.took(stuckTyping, p.w.now-p.lastKey, p.w.policy.For(p.room).TypingExpires, p.keyStalls)
	}
}

// statusSeen compares away with the last input. A page reports input only every so often, so
// away may be early by that much; and a page that cannot be heard cannot report.
func (p *person) statusSeen(status presence.Status) {
	if status == presence.Away && p.status == presence.Online && slices.ContainsFunc(p.tabs, (*tab).answers) {
		idle := p.w.now - p.lastInput
		after := p.w.policy.IdleAfter
		p.w.score.took(earlyAway, max(0, after-idle), activityEvery, 0)
		p.w.score.took(lateAway, max(0, idle-after), 0, p.stalls)
	}
	p.status = status
}

// serviceStalled extends all that the service promised by its own pause. A restart also starts
// every grace again, and forgets who is typing.
func (p *person) serviceStalled(restart bool) {
	d := p.w.stall()
	p.stalls += d
	p.keyStalls += d
	for _, t := range p.tabs {
		if t.outageAt != 0 && p.w.now <= t.latest+slack {
			t.latest += d
			if restart {
				t.latest = max(t.latest, p.w.stalled+t.waits())
			}
		}
	}
}
