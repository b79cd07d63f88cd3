package nodes

import (
	"fmt"
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/presence"
)

// device is a gauge without a connection: its session lasts from one hello to the next, which go to any
// host.
type device struct {
	world   *world
	person  *person
	room    presence.RoomName
	session presence.SessionID
	key     string
	link    presence.LinkNumber
	beat    time.Duration // when a hello was answered last
	less    time.Duration // for how long its realm had been ownerless then
	excused time.Duration // until when it may be shown to leave, because its session before was unrecorded
}

// beatEvery is how often a device says hello: several times within a lease.
const beatEvery = 7 * time.Second

func (w *world) device(realm cluster.Realm, n int) {
	p := &person{id: presence.UserID(fmt.Sprint("gauge-", n)), realm: realm, issued: w.wall(0).UnixMilli()}
	d := &device{world: w, person: p, room: "sluice.mill-lane"}
	w.devices = append(w.devices, d)
	w.in(w.between(4*time.Second, 10*time.Second), d.says)
}

func (d *device) says() {
	w := d.world
	if w.isGone(d.person.realm) {
		return
	}
	w.in(w.between(beatEvery-2*time.Second, beatEvery+2*time.Second), d.says)
	h := w.hosts[w.random.IntN(len(w.hosts))]
	if !h.runs() {
		return
	}
	id := w.id()
	hello := presence.Hello{Attempt: id, User: d.person.id, Issued: d.person.issued, Session: d.session, Key: d.key, Nonce: "gauge", Leased: true, NoInput: true,
		NewSession: presence.SessionID(fmt.Sprint("session-", id)), NewKey: fmt.Sprint("key-", id), Rooms: []presence.RoomName{d.room}}
	w.answers[id] = func(a cluster.Answer) {
		if a.Err != nil {
			return
		}
		r := a.Reply
		if d.session != "" && r.Link.Session != d.session && d.remains() {
			w.breaks(WhoReturns, "%s had %s, answered %v ago, and gets %s: %s", d.person.id, d.session, w.now-d.beat, r.Link.Session, r.NotResumed)
		}
		if d.session != "" && r.Link.Session != d.session && !d.remains() {
			d.excused = w.now + time.Second
		}
		w.tell("%s has %s over link %x at %s, resumed: %v %s", d.person.id, r.Link.Session, r.Link.Number, h.name, r.Resumed, r.NotResumed)
		d.session, d.key, d.link, d.beat, d.less = r.Link.Session, r.Key, r.Link.Number, w.now, w.less[d.person.realm].total
		w.count("beats of devices")
	}
	h.run(func() {
		h.node.Requested(h.at(), d.person.realm, 0, cluster.Request{Attempt: id, Input: hello})
	})
}

// remains reports whether, by the rules, the session of the device cannot have ended: its lease has not,
// and it is on record.
func (d *device) remains() bool {
	w := d.world
	if d.person.removing {
		return false
	}
	_, recorded := w.broker.recorded[presence.LinkID{Session: d.session, Number: d.link}]
	return recorded && w.now < d.beat+w.policy.Lease-time.Second
}
