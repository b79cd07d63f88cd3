package cluster_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/inmemory"
	"tovik.example/tovik/internal/presence"
)

const (
	dipper  cluster.Name = "dipper"
	heron   cluster.Name = "heron"
	kestrel cluster.Name = "kestrel"
)

var dusk = time.Date(2026, 11, 14, 19, 0, 0, 0, time.UTC)

// trio is three nodes with one realm, which a test moves by hand: it decides who runs, what arrives and
// what the log says. The rehearsals have everything at random; here is what they rarely have.
type trio struct {
	t       *testing.T
	now     time.Duration
	names   []cluster.Name
	keepers []cluster.Name // of the log; nil: an external broker
	timings cluster.Timings
	nodes   map[cluster.Name]*cluster.Node
	rows    map[cluster.Name]*inmemory.Records
	applied map[cluster.Name]cluster.Position
	ids     int

	log    []cluster.Record
	last   cluster.Position // of the realm
	owners cluster.Owners

	still    map[cluster.Name]bool                                // these nodes do nothing; what is for them waits
	deaf     map[cluster.Name]bool                                // these do not read the log
	loses    func(from, to cluster.Name, e cluster.Envelope) bool // nil: nothing
	outcome  func(cluster.Name, cluster.Record) cluster.Outcome   // of an append that is not done; nil: Done
	readsOn  bool                                                 // who reads records is not done before read is called
	noTable  map[cluster.Name]bool                                // the table does not answer these
	waiting  map[cluster.Name][]func()                            // what is for nodes that are still
	queue    []func()                                             // what happens next
	acts     map[cluster.Name][]cluster.Act                       // since the last look
	answered map[cluster.ConnID]cluster.Answer

	afterReading []func() // what those do who read the state of the realm
}

// read lets those be done who read the state of the realm.
func (w *trio) read() {
	for _, do := range w.afterReading {
		do()
	}
	w.afterReading = nil
}

func newTrio(t *testing.T) *trio {
	names := []cluster.Name{dipper, heron, kestrel}
	return newTrioWith(t, names, cluster.DefaultTimings())
}

func newTrioWith(t *testing.T, keepers []cluster.Name, timings cluster.Timings) *trio {
	w := &trio{t: t, keepers: keepers, timings: timings, now: time.Second, names: []cluster.Name{dipper, heron, kestrel}, nodes: map[cluster.Name]*cluster.Node{}, rows: map[cluster.Name]*inmemory.Records{}, applied: map[cluster.Name]cluster.Position{},
		owners:  cluster.Owners{Version: 1, Realms: map[cluster.Realm]cluster.Ownership{1: {Owner: dipper, Incarnation: 1, Epoch: 1}}},
		noTable: map[cluster.Name]bool{}, still: map[cluster.Name]bool{}, deaf: map[cluster.Name]bool{}, waiting: map[cluster.Name][]func(){}, acts: map[cluster.Name][]cluster.Act{}, answered: map[cluster.ConnID]cluster.Answer{}}
	for _, name := range w.names {
		w.start(name, 1)
	}
	return w
}

func (w *trio) start(name cluster.Name, incarnation cluster.Incarnation) {
	rows := inmemory.NewRecords()
	w.rows[name], w.applied[name] = rows, 0
	w.nodes[name] = cluster.NewNode(cluster.Config{Name: name, Incarnation: incarnation, Nodes: w.names, LogNodes: w.keepers, Fold: cluster.NewFold("main"), Policy: func(string) presence.Policy { return presence.DefaultPolicy() }, Timings: w.timings,
		Records: rows, NewMaker: func(cluster.Realm) cluster.Maker { return inmemory.NewMaker() }, NewID: w.id, NewRun: func(presence.View) string { return w.id() }}, w.at())
}

func (w *trio) id() string { w.ids++; return fmt.Sprint("n", w.ids) }

func (w *trio) at() presence.Instant {
	return presence.Instant{Mono: w.now, Wall: dusk.Add(w.now)}
}

// run lets time pass.
func (w *trio) run(d time.Duration) {
	for end := w.now + d; w.now < end; {
		w.now += 5 * time.Millisecond
		for _, name := range w.names {
			if !w.still[name] && w.nodes[name].Due() <= w.now {
				w.nodes[name].Tick(w.at())
				w.drain(name)
			}
		}
		w.settle()
	}
}

// until lets time pass until something is so.
func (w *trio) until(what string, is func() bool) {
	w.t.Helper()
	for range 4000 {
		if is() {
			return
		}
		w.run(5 * time.Millisecond)
	}
	require.Fail(w.t, what)
}

func (w *trio) settle() {
	for steps := 0; len(w.queue) > 0; steps++ {
		require.Less(w.t, steps, 100_000, "nodes answer each other for ever")
		next := w.queue[0]
		w.queue = w.queue[1:]
		next()
	}
}

// on does something at a node, now or when it runs again.
func (w *trio) on(name cluster.Name, do func(*cluster.Node)) {
	w.queue = append(w.queue, func() {
		if w.still[name] {
			w.waiting[name] = append(w.waiting[name], func() { do(w.nodes[name]); w.drain(name) })
			return
		}
		do(w.nodes[name])
		w.drain(name)
	})
}

// wakes lets a node that was still go on, with what has waited for it.
func (w *trio) wakes(name cluster.Name) {
	w.still[name] = false
	waited := w.waiting[name]
	w.waiting[name] = nil
	for _, do := range waited {
		do()
	}
	w.settle()
}

func (w *trio) drain(name cluster.Name) {
	for _, act := range w.nodes[name].Acts() {
		w.acts[name] = append(w.acts[name], act)
		switch act := act.(type) {
		case cluster.Send:
			if w.loses == nil || !w.loses(name, act.To, act.Envelope) {
				w.on(act.To, func(n *cluster.Node) { n.Receive(w.at(), act.Envelope) })
			}
		case cluster.Append:
			outcome := w.append(name, act)
			w.on(name, func(n *cluster.Node) { n.Appended(w.at(), act.Record.ID, outcome) })
		case cluster.Prepare:
			if !w.readsOn {
				w.on(name, func(n *cluster.Node) { n.Prepared(w.at(), act.Realm, act.Epoch) })
			}
		case cluster.ReadSaved:
			is := w.nodes[name].Records.State(act.Realm)
			w.afterReading = append(w.afterReading, func() { w.on(name, func(n *cluster.Node) { n.Saved(w.at(), act.Realm, act.Epoch, is) }) })
			if !w.readsOn {
				w.read()
			}
		case cluster.Continue:
			act.Run()
			w.on(name, func(n *cluster.Node) { n.Continued(w.at(), act.Realm, act.Epoch, act.Engine) })
		case cluster.ReadTable:
			is := w.owners
			w.on(name, func(n *cluster.Node) { n.Table(w.at(), is, !w.noTable[name]) })
		case cluster.SwapTable:
			outcome := cluster.Refused
			if act.Version == w.owners.Version && !w.noTable[name] {
				outcome, w.owners = cluster.Done, cluster.Owners{Version: act.Version + 1, Realms: act.To.Realms}
			}
			w.on(name, func(n *cluster.Node) { n.Swapped(w.at(), outcome) })
		case cluster.PassAnswer:
			w.answered[act.Conn] = act.Answer
		}
	}
}

func (w *trio) append(name cluster.Name, act cluster.Append) cluster.Outcome {
	if w.outcome != nil {
		if outcome := w.outcome(name, act.Record); outcome != cluster.Done {
			return outcome
		}
	}
	if act.After != cluster.Unfenced && act.After != w.last {
		return cluster.Refused
	}
	w.log = append(w.log, act.Record)
	if act.Record.Realm != 0 {
		w.last = cluster.Position(len(w.log))
	}
	for _, other := range w.names {
		w.applies(other)
	}
	return cluster.Done
}

// applies lets a node apply what is new in the log.
func (w *trio) applies(name cluster.Name) {
	w.on(name, func(n *cluster.Node) {
		for !w.deaf[name] && int(w.applied[name]) < len(w.log) {
			r := w.log[w.applied[name]]
			w.applied[name]++
			require.NoError(w.t, w.rows[name].Put(w.applied[name], cluster.Fold{}, []cluster.Record{r}))
			n.Applied(w.at(), w.applied[name], r)
		}
	})
}

// opens opens a session over a connection of a node, and returns its link.
func (w *trio) opens(at cluster.Name, conn cluster.ConnID, user presence.UserID) presence.LinkID {
	w.t.Helper()
	w.says(at, conn, user)
	w.until("an answer", func() bool { return w.answered[conn].Reply.Link.Session != "" })
	return w.answered[conn].Reply.Link
}

func (w *trio) says(at cluster.Name, conn cluster.ConnID, user presence.UserID) {
	w.on(at, func(n *cluster.Node) {
		n.Hello(w.at(), 1, conn, presence.Hello{Attempt: uint64(conn), User: user, Issued: dusk.UnixMilli(), NewSession: presence.SessionID(fmt.Sprint("session-", conn)), NewKey: "key", Rooms: []presence.RoomName{"desk.night"}})
	})
	w.settle()
}

func (w *trio) owned(name cluster.Name) cluster.Owned {
	is, _ := w.nodes[name].Owned(1)
	return is
}

// gives lets the table name another owner.
func (w *trio) gives(to cluster.Name, handover bool) {
	is := w.owners.Realms[1]
	w.owners = cluster.Owners{Version: w.owners.Version + 1, Realms: map[cluster.Realm]cluster.Ownership{1: {Owner: to, Incarnation: 1, Epoch: is.Epoch + 1, Handover: handover}}}
}

// took returns what a node has done of one kind since the last look.
func took[A cluster.Act](w *trio, name cluster.Name) (list []A) {
	for _, act := range w.acts[name] {
		if a, ok := act.(A); ok {
			list = append(list, a)
		}
	}
	return list
}

// said returns what a node has said to another one since the last look.
func (w *trio) said(from, to cluster.Name) (list []cluster.Message) {
	for _, send := range took[cluster.Send](w, from) {
		if send.To == to {
			list = append(list, send.Envelope.Messages...)
		}
	}
	return list
}

// isFrom reports whether a message is one of an owner, of a kind.
func isFrom[D cluster.Down](m cluster.Message) bool {
	from, ok := m.(cluster.FromOwner)
	if ok {
		_, ok = from.What.(D)
	}
	return ok
}

func isUp[U cluster.Up](m cluster.Message) bool {
	to, ok := m.(cluster.ToOwner)
	if ok {
		_, ok = to.What.(U)
	}
	return ok
}

func (w *trio) kinds(epoch cluster.Epoch) (kinds []cluster.Kind) {
	for _, r := range w.log {
		if r.Realm == 1 && r.Epoch == epoch {
			kinds = append(kinds, r.Kind)
		}
	}
	return kinds
}

func begun(t *testing.T) *trio { return begin(newTrio(t)) }

func begin(w *trio) *trio {
	w.until("an owner", func() bool { return w.owned(dipper).Speaks })
	w.run(time.Second)
	return w
}
