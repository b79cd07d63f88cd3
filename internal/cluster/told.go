package cluster

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// An owner is what its engine tells: its [engine.Sink], [engine.Links], [engine.Settler] and
// [engine.Recorder]. It passes everything on to the carriers and the log.

// follower is what a carrier follows.
type follower struct {
	wishes wishes
	people map[engine.Subject]bool
}

// runOf puts an epoch into the name of a run, so that a node that is shown it knows of the epoch.
func runOf(epoch Epoch, name string) string { return fmt.Sprintf("%x-%s", uint32(epoch), name) }

// EpochOf returns the epoch in the name of a run; 0 if it has none.
func EpochOf(run string) Epoch {
	text, _, _ := strings.Cut(run, "-")
	epoch, err := strconv.ParseUint(text, 16, 32)
	if err != nil {
		return 0
	}
	return Epoch(epoch)
}

// ask asks an engine, and returns what its method returned.
func (q *Question) ask(of *engine.Engine) []any {
	method := reflect.ValueOf(of).MethodByName(q.Method)
	if !method.IsValid() {
		panic("cluster: an engine has no method " + q.Method)
	}
	args := make([]reflect.Value, len(q.Args))
	for i, arg := range q.Args {
		args[i] = reflect.ValueOf(arg)
		if arg == nil {
			args[i] = reflect.Zero(method.Type().In(i))
		}
	}
	values := []any{}
	for _, v := range method.Call(args) {
		values = append(values, v.Interface())
	}
	return values
}

// takeFollow handles what a carrier wants to follow. A carrier that has not reported yet is asked to,
// so that nobody is shown to leave whom it carries.
func (n *Node) takeFollow(o *owner, from Name, up Up) {
	if !o.seated[from] {
		n.down(o, from, WantReport{})
		return
	}
	is := o.follows[from]
	if is == nil {
		is = &follower{newWishes(), map[engine.Subject]bool{}}
		o.follows[from] = is
	}
	switch up := up.(type) {
	case Follow:
		for _, wish := range up.Wishes {
			is.wishes.add(wish)
			names := o.engine.Topics(wish.Pattern, wish.View)
			n.down(o, from, Rooms{wish, names})
			for _, room := range names {
				n.state(o, from, engine.Topic{Room: room, View: wish.View})
			}
		}
		for _, subject := range up.People {
			is.people[subject] = true
			n.down(o, from, News{o.engine.Sight(subject)})
		}
	case Unfollow:
		for _, wish := range up.Wishes {
			is.wishes.remove(wish)
		}
		for _, subject := range up.People {
			delete(is.people, subject)
		}
	case Want:
		n.state(o, from, up.Topic)
	}
}

// state sends a whole list, now or when there is credit to spare.
func (n *Node) state(o *owner, to Name, topic engine.Topic) {
	out := &n.peers[to].out
	if !out.hasCreditToSpare() {
		out.leaveOut(stale{realm: o.realm.id, topic: topic})
		return
	}
	typists, asks := o.engine.Registers(topic)
	n.down(o, to, State{o.engine.Sealed(topic), typists, asks})
}

// tell tells a carrier a change of a list or a person. Without credit the change is left out, and so
// are later ones until the whole state was sent.
func (n *Node) tell(o *owner, to Name, of stale, what any) {
	out := &n.peers[to].out
	if out.isStale[of] {
		return
	}
	if !out.hasCredit() {
		out.leaveOut(of)
		return
	}
	n.down(o, to, News{what})
}

func (o *owner) spread(topic engine.Topic, what any) {
	for _, name := range o.node.names {
		if is := o.follows[name]; is != nil && is.wishes.want(topic) {
			o.node.tell(o, name, stale{realm: o.realm.id, topic: topic}, what)
		}
	}
}

// Take implements [engine.Sink].
func (o *owner) Take(b *engine.Batch) { o.spread(b.Topic, b) }

// TakeUnchanged implements [engine.Sink].
func (o *owner) TakeUnchanged(t engine.Topic) { o.spread(t, t) }

// TakeTypists implements [engine.Sink].
func (o *owner) TakeTypists(t engine.Typists) { o.spread(t.Topic, t) }

// TakeAsks implements [engine.Sink].
func (o *owner) TakeAsks(a engine.Asks) {
	full, open := engine.Topic{Room: a.Room, View: presence.Full}, engine.Topic{Room: a.Room, View: presence.Open}
	for _, name := range o.node.names {
		switch is := o.follows[name]; {
		case is == nil:
		case is.wishes.want(full):
			o.node.tell(o, name, stale{realm: o.realm.id, topic: full}, a)
		case is.wishes.want(open):
			o.node.tell(o, name, stale{realm: o.realm.id, topic: open}, a)
		}
	}
}

// TakeSight implements [engine.Sink].
func (o *owner) TakeSight(s engine.Sight) {
	for _, name := range o.node.names {
		if is := o.follows[name]; is != nil && is.people[s.Subject] {
			o.node.tell(o, name, stale{realm: o.realm.id, subject: s.Subject}, s)
		}
	}
}

// carriersOf returns the carriers of links, by name, and which links each has.
func (o *owner) carriersOf(links []presence.LinkID) ([]Name, map[Name][]presence.LinkID) {
	by := map[Name][]presence.LinkID{}
	for _, link := range links {
		if carrier, known := o.links[link]; known {
			by[carrier.carrier] = append(by[carrier.carrier], link)
		}
	}
	return slices.Sorted(maps.Keys(by)), by
}

// order gives an effect about links to their carriers. Of makes the effect for some of them.
func (o *owner) order(links []presence.LinkID, of func([]presence.LinkID) presence.Effect) {
	if o.frozen {
		return // it will ask for reports, which bring this up again
	}
	names, by := o.carriersOf(links)
	for _, name := range names {
		o.node.down(o, name, Order{of(by[name])})
	}
}

// passOn passes a frame on to the carriers of links.
func (o *owner) passOn(p Pass) {
	names, by := o.carriersOf(p.Links)
	for _, name := range names {
		o.node.down(o, name, Deliver{by[name], p.Frame})
	}
}

func (o *owner) orderOne(link presence.LinkID, effect presence.Effect) {
	o.order([]presence.LinkID{link}, func([]presence.LinkID) presence.Effect { return effect })
}

// AskBeat implements [engine.Links].
func (o *owner) AskBeat(e presence.AskBeat) {
	if _, known := o.links[e.Link]; !known { // a message that its node sent before it died came late
		o.orphans = append(o.orphans, e.Link)
	}
	o.orderOne(e.Link, e)
}

// Cut implements [engine.Links].
func (o *owner) Cut(e presence.Cut) {
	o.orderOne(e.Link, e)
	delete(o.links, e.Link)
}

// TakenOut implements [engine.Links].
func (o *owner) TakenOut(e presence.TakenOut) { o.orderOne(e.Link, e) }

// WarnExpiry implements [engine.Links].
func (o *owner) WarnExpiry(link presence.LinkID, expires time.Time) {
	o.orderOne(link, presence.WarnExpiry{Link: link, Expires: expires.UnixMilli()})
}

// OwnChanged implements [engine.Links].
func (o *owner) OwnChanged(e presence.OwnChanged) {
	o.order(e.Links, func(links []presence.LinkID) presence.Effect { e.Links = links; return e })
}

// AskAnswered implements [engine.Links].
func (o *owner) AskAnswered(e presence.AskAnswered) {
	o.order(e.Links, func(links []presence.LinkID) presence.Effect { e.Links = links; return e })
}

// InvitationAnswered implements [engine.Links].
func (o *owner) InvitationAnswered(e presence.InvitationAnswered) {
	o.order(e.Links, func(links []presence.LinkID) presence.Effect { e.Links = links; return e })
}

// PassEnded implements [engine.Links].
func (o *owner) PassEnded(e presence.PassEnded) {
	o.order(e.Links, func(links []presence.LinkID) presence.Effect { e.Links = links; return e })
}

// InvitationsChanged implements [engine.Links].
func (o *owner) InvitationsChanged(e presence.InvitationsChanged) {
	o.order(e.Links, func(links []presence.LinkID) presence.Effect { e.Links = links; return e })
}

// Settled implements [engine.Settler].
func (o *owner) Settled(s presence.Settled) {
	if from, waits := o.pending[s.Attempt]; waits {
		delete(o.pending, s.Attempt)
		o.node.answer(o, from, Answer{Attempt: s.Attempt, Reply: s.Reply, Err: s.Err})
	}
}

// Record implements [engine.Recorder].
func (o *owner) Record(at time.Time, effects []presence.Effect, touched []presence.UserID) {
	o.maker.Record(at, effects, touched)
	for _, effect := range effects {
		switch e := effect.(type) {
		case presence.PersonRemoved:
			o.removed = append(o.removed, e)
		case presence.SessionInGrace:
			o.node.note("%s over %x is in grace: %s", e.Link.Session, e.Link.Number, e.Reason)
		case presence.SessionEnded:
			o.node.note("%s over %x has ended: %s", e.Link.Session, e.Link.Number, e.Reason)
		}
	}
}

// Restored implements [engine.Recorder].
func (o *owner) Restored(at time.Time, effects []presence.Effect, touched []presence.UserID) {
	o.maker.Restored(at, effects, touched)
}
