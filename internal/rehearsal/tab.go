package rehearsal

import (
	"fmt"
	"time"

	"tovik.example/tovik/internal/presence"
)

// state is whether the page of a tab is there.
type state uint8

const (
	closed state = iota
	open
)

// tab is a page or a device: its truth, and what it has kept.
type tab struct {
	p     *person
	state state

	connected  bool // has a link, as far as it knows
	cut        bool // its cable is cut: nothing comes through, and nobody knows
	frozen     bool // its script stands still
	pageHidden bool
	told       bool // that it is hidden, in its last hello

	session presence.SessionID
	key     string
	nonce   string
	link    presence.LinkID
	attempt uint64

	// Since when the service cannot hear it, 0 when it can; and when others may see
	// it gone at the earliest and at the latest.
	outageAt, earliest, latest time.Duration
	promised                   time.Duration // what latest is after outageAt, but for the service's pauses
}

func (t *tab) reachable() bool { return !t.cut && !t.frozen }

// answers tells whether a beat request on its link would be answered.
func (t *tab) answers() bool { return t.state == open && t.connected && t.reachable() }

func (t *tab) policy() *presence.RoomPolicy { return t.p.w.policy.For(t.p.room) }

// grace is how long the service waits for it after a loss without a word.
func (t *tab) grace() time.Duration {
	if t.pageHidden {
		return max(t.policy().GraceBackground, t.policy().GraceLost)
	}
	return t.policy().GraceLost
}

// waits is how long a service that has just started waits for it.
func (t *tab) waits() time.Duration {
	if t.p.device {
		return t.p.w.policy.Lease
	}
	return t.grace()
}

// goes notes that the service cannot hear the tab from now on. A second sign may
// let it be seen gone earlier, never later.
func (t *tab) goes(earliest, latest time.Duration) {
	w := t.p.w
	if t.outageAt != 0 {
		t.earliest = min(t.earliest, w.now+earliest)
		return
	}
	t.outageAt, t.earliest, t.latest, t.promised = w.now, w.now+earliest, w.now+latest+w.stall(), latest
}

// goesSilent is an outage that the service has to find out by itself.
func (t *tab) goesSilent() {
	p := &t.p.w.policy
	if t.p.device {
		t.goes(p.Lease-leaseBeat, p.Lease)
		return
	}
	t.goes(t.policy().GraceLost, p.BeatEvery+p.Silence()+t.grace())
}

// leaseBeat is how often a device comes by itself.
const leaseBeat = time.Minute

// load is a load of the page.
func (t *tab) load() {
	t.p.w.ids++
	t.nonce = fmt.Sprintf("load %d", t.p.w.ids)
	t.hello()
}

func (t *tab) hello() {
	w := t.p.w
	w.ids++
	t.attempt = w.ids
	idle, hidden := w.now-t.p.lastInput, t.pageHidden
	in := presence.Hello{
		Attempt: t.attempt, User: t.p.user, Session: t.session, Key: t.key, Nonce: t.nonce,
		NewSession: presence.SessionID(fmt.Sprintf("s-%d", w.ids)), NewKey: fmt.Sprintf("k-%d", w.ids),
		Rooms: []presence.RoomName{t.p.room}, Leased: t.p.device, NoInput: t.p.device, PageHidden: hidden, IdleFor: &idle,
	}
	t.told = hidden
	attempt := t.attempt
	w.tell(in, func(reply presence.Reply, err error) {
		switch {
		case reply.Pending:
			w.asking[attempt] = t.p
		case t.attempt == attempt:
			t.welcomed(reply, err)
		default:
			t.p.unclaimed(reply.Link)
		}
	})
}

// welcomed is the answer to a hello. The page may have gone meanwhile; then the
// service learns that its link is lost.
func (t *tab) welcomed(reply presence.Reply, err error) {
	if err != nil {
		panic(fmt.Sprintf("rehearsal: a hello was refused: %v", err))
	}
	w := t.p.w
	if t.state != open || !t.reachable() {
		t.p.unclaimed(reply.Link)
		return
	}
	if w.tabs[t.session] == t {
		delete(w.tabs, t.session)
	}
	t.session, t.key, t.link, t.connected = reply.Link.Session, reply.Key, reply.Link, true
	w.tabs[t.session] = t
	t.outageAt, t.earliest, t.latest = 0, 0, 0
	if t.pageHidden != t.told { // it was shown or hidden while the hello was under way
		t.tellPageHidden()
	}
	if t.p.device {
		link := t.link
		w.after(leaseBeat, func() { t.comeAgain(link) })
	}
}

// comeAgain is a device's beat over HTTP.
func (t *tab) comeAgain(link presence.LinkID) {
	if t.state != open || t.link != link {
		return
	}
	t.p.w.tell(presence.Beat{From: link}, func(_ presence.Reply, err error) {
		if err != nil { // its lease ran out meanwhile
			t.load()
			return
		}
		t.p.w.after(leaseBeat, func() { t.comeAgain(link) })
	})
}

// say sends something, if the page can.
func (t *tab) say(in func(presence.LinkID) presence.Input) {
	if t.answers() {
		t.p.w.tell(in(t.link), nil)
	}
}

// wasCut is the service closing the link. The session waits for the tab, unless
// another page has it now.
func (t *tab) wasCut(reason presence.Reason) {
	if t.state != open || !t.connected {
		return
	}
	t.connected = false
	if t.reachable() {
		earliest := t.policy().GraceLost
		if reason == presence.ReasonReplaced {
			earliest = 0
		}
		t.goes(earliest, t.grace())
		t.p.w.after(t.p.between(50*time.Millisecond, time.Second), t.reconnect)
	}
}

// reconnect is the same page on a new link.
func (t *tab) reconnect() {
	if t.state == open && !t.connected && t.reachable() {
		t.hello()
	}
}

// reload is the beacon, the close, and then the next page. In one of a few the
// beacon comes late, or the renderer crashed and there is none.
func (t *tab) reload() {
	w, link := t.p.w, t.link
	t.goes(t.policy().GraceClosing, t.grace())
	note := presence.ClosingBeacon{Session: t.session, Key: t.key, Nonce: t.nonce}
	t.connected = false
	switch t.p.random.IntN(6) {
	case 0: // no beacon
	case 1:
		w.after(t.p.between(0, 2*time.Second), func() { w.tell(note, nil) })
	default:
		w.tell(note, nil)
	}
	w.tell(presence.LinkLost{Link: link}, nil)
	nonce := t.nonce
	w.after(t.p.between(100*time.Millisecond, 1500*time.Millisecond), func() {
		if t.state == open && t.nonce == nonce && t.reachable() {
			t.load()
		}
	})
}

// switchNetwork is the same page over another network; the old link stands dead.
func (t *tab) switchNetwork() {
	t.goesSilent()
	t.connected = false
	t.p.w.after(t.p.between(100*time.Millisecond, 3*time.Second), t.reconnect)
}

// cutCable lets nothing through for a while. The client finds out by the silence
// of the service, or by the service having closed the link meanwhile.
func (t *tab) cutCable(d time.Duration) {
	t.goesSilent()
	t.cut = true
	t.p.w.after(d, func() {
		t.cut = false
		t.thaw()
	})
}

// freeze stops the page's script, or the whole machine.
func (t *tab) freeze(d time.Duration) {
	t.goesSilent()
	t.frozen = true
	t.p.w.after(d, func() {
		t.frozen = false
		t.thaw()
	})
}

// thaw is the end of a cut or a freeze: a page whose link still stands is heard
// again, else it makes a new one.
func (t *tab) thaw() {
	if t.state != open || !t.reachable() {
		return
	}
	if !t.connected {
		t.reconnect()
		return
	}
	link := t.link
	t.p.w.tell(presence.Beat{From: link}, func(_ presence.Reply, err error) {
		if t.link != link || t.state != open {
			return
		}
		if err != nil {
			t.connected = false
			t.hello()
			return
		}
		t.outageAt, t.earliest, t.latest = 0, 0, 0
		if !t.reachable() { // it has frozen again since it sent that
			t.goesSilent()
		}
	})
}

func (t *tab) togglePageHidden() {
	t.pageHidden = !t.pageHidden
	t.tellPageHidden()
}

func (t *tab) tellPageHidden() {
	hidden := t.pageHidden
	t.say(func(from presence.LinkID) presence.Input { return presence.PageHidden{From: from, Hidden: hidden} })
}

// close is the user closing the page.
func (t *tab) close() {
	w, link := t.p.w, t.link
	t.state, t.connected = closed, false
	if t.reachable() {
		late := t.p.between(0, 200*time.Millisecond)
		t.goes(t.policy().GraceClosing, t.policy().GraceClosing+late)
		note := presence.ClosingBeacon{Session: t.session, Key: t.key, Nonce: t.nonce}
		w.after(late, func() { w.tell(note, nil) })
		w.tell(presence.LinkLost{Link: link}, nil)
	} else {
		t.goesSilent()
	}
}

// bye is a sign-out of this page.
func (t *tab) bye() {
	if !t.answers() {
		t.close()
		return
	}
	link := t.link
	t.goes(0, 0)
	t.state, t.connected = closed, false
	t.p.w.tell(presence.Bye{From: link}, nil)
}

// die is a process that is killed: its connection ends without a word.
func (t *tab) die() {
	t.state, t.connected = closed, false
	if t.p.device || !t.reachable() {
		t.goesSilent()
	} else {
		t.goes(t.policy().GraceLost, t.grace())
		t.p.w.tell(presence.LinkLost{Link: t.link}, nil)
	}
	if t.p.device {
		t.p.w.after(t.p.between(time.Minute, 3*time.Hour), t.p.arrive)
	}
}
