package rehearsal

import (
	"fmt"
	"time"

	"tovik.example/tovik/internal/presence"
)

// state is the state of a tab's page.
type state uint8

const (
	closed state = iota
	open
)

// tab is a page or a device: the truth about it, and what it has stored.
type tab struct {
	p     *person
	state state

	connected  bool // believes that it has a link
	cut        bool // its cable is cut, and neither side knows yet
	frozen     bool // its script is stopped
	pageHidden bool
	told       bool // its last hello said that it is hidden

	session presence.SessionID
	key     string
	nonce   string
	link    presence.LinkID
	attempt uint64

	// Since when the service cannot hear the tab (0: it can), and the earliest and latest time
	// at which others may see it gone.
	outageAt, earliest, latest time.Duration
	promised                   time.Duration // latest minus outageAt, without the service's pauses
}

func (t *tab) reachable() bool { return !t.cut && !t.frozen }

// answers reports whether the tab would answer a beat request on its link.
func (t *tab) answers() bool { return t.state == open && t.connected && t.reachable() }

func (t *tab) policy() *presence.RoomPolicy { return t.p.w.policy.For(t.p.room) }

// grace returns how long the service waits for the tab after a loss without notice.
func (t *tab) grace() time.Duration {
	if t.pageHidden {
		return max(t.policy().GraceBackground, t.policy().GraceLost)
	}
	return t.policy().GraceLost
}

// waits returns how long a service that has just started waits for the tab.
func (t *tab) waits() time.Duration {
	if t.p.device {
		return t.p.w.policy.Lease
	}
	return t.grace()
}

// goes notes that the service cannot hear the tab from now on. A second sign may make it leave
// earlier, never later.
func (t *tab) goes(earliest, latest time.Duration) {
	w := t.p.w
	if t.outageAt != 0 {
		t.earliest = min(t.earliest, w.now+earliest)
		return
	}
	t.outageAt, t.earliest, t.latest, t.promised = w.now, w.now+earliest, w.now+latest+w.stall(), latest
}

// goesSilent is an outage that the service has to notice by itself.
func (t *tab) goesSilent() {
	p := &t.p.w.policy
	if t.p.device {
		t.goes(p.Lease-leaseBeat, p.Lease)
		return
	}
	t.goes(t.policy().GraceLost, p.BeatEvery+p.Silence()+t.grace())
}

// leaseBeat is the interval of a device's beats.
const leaseBeat = time.Minute

// load loads the page.
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

// welcomed handles the answer to a hello. If the page has gone since, the service learns that
// its link is lost.
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
	if t.pageHidden != t.told { // this changed since the hello was sent
		t.tellPageHidden()
	}
	if t.p.device {
		link := t.link
		w.after(leaseBeat, func() { t.comeAgain(link) })
	}
}

// comeAgain is a device's HTTP beat.
func (t *tab) comeAgain(link presence.LinkID) {
	if t.state != open || t.link != link {
		return
	}
	t.p.w.tell(presence.Beat{From: link}, func(_ presence.Reply, err error) {
		if err != nil { // its lease has run out since
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

// wasCut handles a link that the service closed. The session waits for the tab, unless another
// page has it now.
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

// reconnect opens a new link of the same page.
func (t *tab) reconnect() {
	if t.state == open && !t.connected && t.reachable() {
		t.hello()
	}
}

// reload is the beacon, the close, and the next page. Sometimes the beacon is late, or there is
// none because the renderer crashed.
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

// switchNetwork opens a link of the same page over another network; the old link is dead but not
// closed.
func (t *tab) switchNetwork() {
	t.goesSilent()
	t.connected = false
	t.p.w.after(t.p.between(100*time.Millisecond, 3*time.Second), t.reconnect)
}

// cutCable blocks the network for a while. The client notices it by the silence of the service,
// or because the service closed the link.
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

// thaw ends a cut or a freeze: a page whose link is still open is heard again; another one
// reconnects.
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
		if !t.reachable() { // it has frozen again since
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

// bye ends the session of this page.
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

// die kills the process: its connection ends without notice.
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
