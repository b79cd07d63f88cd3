// Package nodes rehearses a cluster. It plays several nodes (internal/cluster), a broker and people
// with pages in one process, on a virtual clock and from one seed, with many kinds of faults, and
// checks the promises of docs/cluster.md.
package nodes

import (
	"container/heap"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/inmemory"
	"tovik.example/tovik/internal/presence"
)

// Options make a rehearsal.
type Options struct {
	Seed   uint64
	Nodes  int
	Realms int
	// Length is the time with faults. A quiet time follows, in which everything must settle.
	Length time.Duration
	// Deaths and Partitions are the numbers of these faults, if only they are wanted. If both are 0,
	// there are faults of all kinds at random. Calm leaves all faults out.
	Deaths, Partitions int
	Calm               bool
	// External puts the broker on machines of its own.
	External bool
	// Without leaves these faults of all kinds out, counted from 1.
	Without []int
	// Files is a directory for the hosts' files, if rows are to go into files of the service.
	Files string
	// Story fills Result.Story.
	Story bool
}

// Promise is a promise of docs/cluster.md.
type Promise string

// The promises.
const (
	NobodyLeaves      Promise = "nobody who returns in time is shown to leave"
	WhoReturns        Promise = "a page that returns in time resumes"
	NoGhosts          Promise = "no ghost outlives the bound"
	NobodyGoesBack    Promise = "no receiver goes back to an older owner"
	EpochsGrow        Promise = "epochs only grow"
	OneOwner          Promise = "each epoch has one owner"
	LinksOnce         Promise = "no link number is given twice"
	OwnedSoon         Promise = "a realm has an owner again soon"
	RequestsAnswered  Promise = "a hello is refused only without an owner"
	ReplacedAreSilent Promise = "an owner that stood still and was replaced says nothing"
	PagesMove         Promise = "pages are sent away from a node that does not reach their owner"
	LinksAgree        Promise = "owners, carriers and pages agree about links"
	ChangesFollow     Promise = "each change that a receiver gets follows the one before"
	QueuesBounded     Promise = "what waits for another node is bounded"
	RemovedStayAway   Promise = "removed people stay away"
	OwnedInTheEnd     Promise = "in the end every realm has an owner"
	LinkedInTheEnd    Promise = "in the end every open page has a link"
	TruthInTheEnd     Promise = "in the end the core has exactly the pages that are open"
	SeenInTheEnd      Promise = "in the end every receiver has the core's lists"
	AnswersLast       Promise = "what was answered as durable is not lost"
	NothingWaits      Promise = "in the end no ask or invitation is open"
	PagesKnow         Promise = "in the end pages know all that they were to be told"
	EqualRows         Promise = "rows are equal at equal positions"
	RowsAreTrue       Promise = "in the end the rows at the owner say what its core has"
	RealmsEnd         Promise = "a realm that has ended is gone, also if one of its name is made"
	FormsAreWhole     Promise = "a message is the same after it was on the bus"
	FormatsKnown      Promise = "a node halts only if it is too old for a format that all knew"
)

// Promises returns all promises.
func Promises() []Promise {
	return []Promise{NobodyLeaves, WhoReturns, NoGhosts, NobodyGoesBack, EpochsGrow, OneOwner, LinksOnce, OwnedSoon, RequestsAnswered, ReplacedAreSilent, PagesMove, LinksAgree, ChangesFollow, QueuesBounded, RemovedStayAway, OwnedInTheEnd, LinkedInTheEnd, TruthInTheEnd, SeenInTheEnd, AnswersLast, NothingWaits, PagesKnow, EqualRows, RowsAreTrue, RealmsEnd, FormsAreWhole, FormatsKnown}
}

// Result is the result of a rehearsal.
type Result struct {
	Broken    []string        // promises, with the time; each once
	Times     map[Promise]int // how often each was broken
	Story     []string
	Counts    map[string]int
	Longest   time.Duration // without an owner
	Ownerless time.Duration
}

// began is when a rehearsal begins, for the time of day.
var began = time.Date(2026, 11, 14, 19, 0, 0, 0, time.UTC)

// quiet is the time without faults at the end: longer than any ghost may stay. Messages and answers are
// lost in the first half of it, too.
const quiet = 90 * time.Second

type event struct {
	at  time.Duration
	seq uint64
	run func()
}

// events holds pointers, since container/heap would make new memory for each value.
type events []*event

func (q events) Len() int { return len(q) }
func (q events) Less(i, j int) bool {
	return q[i].at < q[j].at || q[i].at == q[j].at && q[i].seq < q[j].seq
}
func (q events) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *events) Push(x any)   { *q = append(*q, x.(*event)) }
func (q *events) Pop() any {
	old := *q
	last := old[len(old)-1]
	old[len(old)-1] = nil
	*q = old[:len(old)-1]
	return last
}

type world struct {
	Options
	policy  presence.Policy
	now     time.Duration
	queue   events
	seq     uint64
	random  *rand.Rand
	hosts   []*host
	names   []cluster.Name
	realms  []cluster.Realm
	broker  broker
	pages   []*page
	people  []*person
	devices []*device
	still   bool // no more faults, and people stay as they are
	ids     uint64
	runs    [2]int // that were begun, by view
	credit  int    // of nodes, in bytes
	faults  int    // that came so far

	over    time.Duration // when the last fault is over
	result  Result
	cutAt   time.Duration // when the last cut began
	healed  time.Duration // when a cut was healed last
	less    map[cluster.Realm]*ownerless
	removed map[*person]time.Duration
	shown   map[place]time.Duration // until when somebody was rightly in a room
	holders map[presence.LinkID]string
	answers map[uint64]func(cluster.Answer)
	// answered are the invitations that a page has seen.
	answered map[presence.InvitationID]bool
}

// ownerless counts the time that a realm had no owner who speaks.
type ownerless struct {
	total, now, since time.Duration
	epoch             cluster.Epoch // of the owner since then
	log               []sample
}

type sample struct{ at, total time.Duration }

// Play plays a rehearsal.
func Play(o Options) Result {
	w := &world{Options: o, policy: policy(), random: rand.New(rand.NewPCG(o.Seed, 19)), now: time.Second,
		result: Result{Counts: map[string]int{}, Times: map[Promise]int{}}, less: map[cluster.Realm]*ownerless{}, removed: map[*person]time.Duration{},
		shown: map[place]time.Duration{}, holders: map[presence.LinkID]string{}, answers: map[uint64]func(cluster.Answer){}, answered: map[presence.InvitationID]bool{}}
	if o.Seed%3 == 1 {
		w.credit = 4000 << w.random.IntN(4)
	}
	w.names = []cluster.Name{"dipper", "heron", "kestrel", "plover", "wagtail"}[:o.Nodes]
	for id := range cluster.Realm(o.Realms) {
		w.realms = append(w.realms, id+1)
		w.less[id+1] = &ownerless{}
	}
	w.broker = newBroker(w)
	for i := range 12 + int(o.Seed%12) {
		p := &person{id: presence.UserID(fmt.Sprintf("w-%02d", i)), realm: w.realms[i%len(w.realms)], issued: w.wall(0).UnixMilli()}
		w.people = append(w.people, p)
		for range 1 + w.random.IntN(5)/2 {
			w.in(w.between(4*time.Second, 12*time.Second), func() { w.open(p) })
		}
	}
	for i, name := range w.names {
		h := &host{world: w, name: name, place: i, knows: 1, skew: w.between(-300*time.Millisecond, 300*time.Millisecond)}
		if w.chance(0.1) { // its clock is not synchronised
			h.skew = w.between(-time.Minute, time.Minute)
		}
		w.hosts = append(w.hosts, h)
		h.start(false)
	}
	for i, realm := range w.realms {
		w.device(realm, i)
	}
	if o.Seed%3 != 0 && !o.Calm && o.Deaths+o.Partitions == 0 {
		for range 1 + w.random.IntN(2) {
			w.in(w.between(12*time.Second, o.Length), w.again)
		}
	}
	if w.upgrades() {
		w.in(w.between(12*time.Second, 20*time.Second), w.restart)
		w.in(w.between(15*time.Second, 30*time.Second), w.raise)
	}
	for _, p := range w.people {
		if w.chance(0.5) {
			w.in(w.between(5*time.Second, o.Length), func() { w.set(p) })
		}
	}
	for range 2 {
		p := w.people[w.random.IntN(len(w.people))]
		w.in(w.between(o.Length/4, o.Length), func() { w.remove(p) })
	}
	w.watch()
	switch {
	case o.Deaths+o.Partitions > 0:
		w.plan(func() bool { return w.death(w.victim()) }, o.Deaths)
		w.plan(func() bool { return w.cut(w.victim()) }, o.Partitions)
	case !o.Calm:
		w.in(w.between(10*time.Second, 20*time.Second), w.fault)
	}
	w.in(o.Length, func() { w.still = true })
	for _, after := range []time.Duration{6 * time.Second, 12 * time.Second, 20 * time.Second, 40 * time.Second} {
		w.in(o.Length+after, w.agree)
	}
	w.lasts(o.Length)
	for len(w.queue) > 0 && w.now <= w.over+quiet {
		e := heap.Pop(&w.queue).(*event)
		w.now = e.at
		e.run()
	}
	w.end()
	for _, h := range w.hosts {
		h.records.close()
	}
	return w.result
}

// lasts notes that a fault is over after some time.
func (w *world) lasts(d time.Duration) { w.over = max(w.over, w.now+d) }

// loses decides with a probability whether something is lost, as long as anything may be.
func (w *world) loses(p float64) bool { return w.now < w.over+quiet/2 && w.chance(p) }

func (w *world) in(d time.Duration, run func()) {
	w.seq++
	heap.Push(&w.queue, &event{w.now + max(d, 0), w.seq, run})
}

func (w *world) between(a, b time.Duration) time.Duration {
	return a + time.Duration(w.random.Int64N(int64(b-a)+1))
}

func (w *world) chance(p float64) bool { return w.random.Float64() < p }

func (w *world) id() uint64 { w.ids++; return w.ids }

// Shrink leaves out the faults without which a rehearsal still breaks a promise.
func Shrink(o Options) Options {
	w := o
	for n := 1; n <= 60; n++ {
		w.Without = append(slices.Clone(o.Without), n)
		if len(Play(w).Broken) > 0 {
			o = w
		}
	}
	return o
}

// newTable returns an empty table for a host.
func (w *world) newTable() table {
	if w.Files == "" {
		return plain{inmemory.NewRecords()}
	}
	dir := filepath.Join(w.Files, fmt.Sprint(w.Seed, "-", w.id()))
	if err := os.MkdirAll(dir, 0o700); err != nil {
		panic(err)
	}
	return newFile(dir, w.broker.begins)
}

// newRun names the runs of each view apart, so that those of the open view tell nothing.
func (w *world) newRun(view presence.View) string {
	w.runs[view]++
	return fmt.Sprint(w.runs[view])
}

func (w *world) wall(skew time.Duration) time.Time { return began.Add(w.now + skew) }

func (w *world) count(what string) { w.result.Counts[what]++ }

func (w *world) tell(format string, args ...any) {
	if w.Story {
		w.result.Story = append(w.result.Story, fmt.Sprintf("%9.3f  ", w.now.Seconds())+fmt.Sprintf(format, args...))
	}
}

// breaks notes a broken promise.
func (w *world) breaks(promise Promise, format string, args ...any) {
	if w.result.Times[promise]++; w.result.Times[promise] > 1 {
		return
	}
	text := fmt.Sprintf("%s at %.3f s: %s", promise, w.now.Seconds(), fmt.Sprintf(format, args...))
	w.result.Broken = append(w.result.Broken, text)
	w.tell("BROKEN: %s", text)
}

func (w *world) host(name cluster.Name) *host { return w.hosts[slices.Index(w.names, name)] }

// reaches reports whether messages of one host arrive at another.
func (w *world) reaches(from, to *host) bool {
	return from == to || !w.broker.cut[[2]int{from.place, to.place}]
}

// linked reports whether two hosts reach each other and both run.
func (w *world) linked(a, b *host) bool {
	return a == b || w.reaches(a, b) && w.reaches(b, a) && b.runs()
}

// fault breaks something for a while, again and again.
func (w *world) fault() {
	if w.still {
		return
	}
	defer w.in(w.between(time.Second, 12*time.Second), w.fault)
	h, kind := w.victim(), w.random.IntN(7)
	w.faults++
	if slices.Contains(w.Without, w.faults) {
		return
	}
	switch kind {
	case 0:
		if w.chance(0.2) {
			w.blackout()
			return
		}
		w.death(h)
	case 1:
		w.death(h)
	case 2:
		w.pause(h)
	case 3, 4:
		w.cut(h)
	case 5:
		w.stall(w.between(500*time.Millisecond, 10*time.Second))
	default:
		w.handOver(h)
	}
}

// victim returns a host, which owns a realm half of the time.
func (w *world) victim() *host {
	if owner := w.owner(w.someRealm()); owner != nil && w.chance(0.5) {
		return owner
	}
	return w.hosts[w.random.IntN(len(w.hosts))]
}

// someRealm returns a realm; 0 if there is none now.
func (w *world) someRealm() cluster.Realm {
	if len(w.realms) == 0 {
		return 0
	}
	return w.realms[w.random.IntN(len(w.realms))]
}

// allRun reports whether no host is dead or stands still.
func (w *world) allRun() bool {
	return !slices.ContainsFunc(w.hosts, func(h *host) bool { return !h.runs() })
}

// death ends a node, which comes back later. It returns false if another one does not run.
func (w *world) death(h *host) bool {
	if !w.allRun() || len(w.hosts) < 2 {
		return false
	}
	reset, disk := w.chance(0.5), w.chance(0.7)
	w.tell("%s dies; its clients notice: %v; its records survive: %v", h.name, reset, disk)
	w.count("deaths")
	h.die(reset)
	if w.chance(0.4) {
		w.stall(w.between(4*time.Second, 6500*time.Millisecond))
	}
	away := w.between(time.Second, 20*time.Second)
	if w.chance(0.08) {
		away = w.between(60*time.Second, 120*time.Second)
	}
	w.lasts(away)
	w.in(away, func() {
		w.tell("%s is back", h.name)
		w.chooseVersion(h)
		h.start(disk)
	})
	return true
}

// blackout ends all nodes at once, as a loss of power does. All come back with their records.
func (w *world) blackout() {
	if !w.allRun() {
		return
	}
	w.tell("all nodes die")
	w.count("blackouts")
	for _, h := range w.hosts {
		h.die(w.chance(0.5))
		away := w.between(time.Second, 6*time.Second)
		w.lasts(away)
		w.in(away, func() {
			w.tell("%s is back", h.name)
			w.chooseVersion(h)
			h.start(true)
		})
	}
}

// pause lets a node stand still for a while.
func (w *world) pause(h *host) {
	if !w.allRun() {
		return
	}
	d := w.between(time.Second, 15*time.Second)
	if w.chance(0.5) {
		d = w.between(time.Second, 4*time.Second)
	}
	w.tell("%s stands still for %v", h.name, d)
	w.count("pauses")
	w.lasts(d)
	h.paused, h.stood, h.deaf = w.now+d, d, w.chance(0.5)
}

// plan breaks something as often as was asked for.
func (w *world) plan(what func() bool, times int) {
	for range times {
		var try func()
		try = func() {
			if !w.still && !what() {
				w.in(time.Second, try)
			}
		}
		w.in(w.between(10*time.Second, w.Length), try)
	}
}

// cut cuts a host off, or a pair, or one direction, and heals it again. It returns false if
// another cut is not healed.
func (w *world) cut(h *host) bool {
	if len(w.broker.cut) > 0 || len(w.hosts) < 2 {
		return false
	}
	others := slices.DeleteFunc(slices.Clone(w.hosts), func(other *host) bool { return other == h })
	if w.chance(0.5) {
		others = others[w.random.IntN(len(others)):][:1]
	}
	to, from := true, true
	if w.chance(0.4) {
		to = w.chance(0.5)
		from = !to
	}
	side := []*host{h}
	if w.External { // all that nodes say to each other goes through the broker
		others = slices.DeleteFunc(slices.Clone(w.hosts), func(other *host) bool { return other == h })
		if len(others) > 1 && w.chance(0.3) {
			side, others = append(side, others[0]), others[1:]
		}
		w.broker.off = side
	}
	names := []string{}
	for _, other := range others {
		names = append(names, string(other.name))
		for _, h := range side {
			if to {
				w.broker.cut[[2]int{h.place, other.place}] = true
			}
			if from {
				w.broker.cut[[2]int{other.place, h.place}] = true
			}
		}
	}
	d := w.between(time.Second, 30*time.Second)
	w.cutAt = w.now
	w.tell("%s is cut from %s for %v (to: %v, from: %v; away from the broker: %d)", h.name, strings.Join(names, ", "), d, to, from, len(w.broker.off))
	w.count("cuts")
	w.lasts(d + 7*time.Second)
	w.in(d, func() {
		clear(w.broker.cut)
		w.broker.off = nil
		w.healed = w.now
		w.tell("the cut is healed")
		if w.chance(0.5) {
			w.stall(w.between(5*time.Second, 6500*time.Millisecond))
		}
	})
	return true
}

// stall lets the log and the table answer nobody for a while.
func (w *world) stall(d time.Duration) {
	w.lasts(d)
	w.broker.stalled = max(w.broker.stalled, w.now+d)
	w.tell("log and table stall for %v", d)
	w.count("stalls")
}

// handOver asks the owner of a realm to give it to a host.
func (w *world) handOver(to *host) {
	realm := w.someRealm()
	owner := w.owner(realm)
	if owner == nil || owner == to || !to.runs() || !w.linked(owner, to) || !w.linked(to, owner) || !w.broker.serves(to) {
		return
	}
	is, tabled := w.broker.table.Realms[realm]
	if !tabled {
		return
	}
	w.broker.table.Version++
	w.broker.table.Realms[realm] = cluster.Ownership{Owner: to.name, Incarnation: to.incarnation, Epoch: is.Epoch + 1, Handover: true}
	for _, p := range w.people { // some change of which the old owner must still have written
		if p.realm == realm {
			w.in(w.between(0, 600*time.Millisecond), func() { w.setNow(p) })
		}
	}
	w.tell("realm %d is to go from %s to %s", realm, owner.name, to.name)
	w.count("handovers")
}
