package timing

import (
	"fmt"
	"reflect"
	"slices"
	"time"

	"tovik.example/tovik/internal/agenda"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
)

// Replay plays recorded entries again, as inputs of a core of its own, under a policy.
//
// The journal has no beats and no input, so a replay cannot find silent links or idle people by
// itself: it moves those that are on record by as much as the policies differ. For the same
// reason a shorter idle.after than the one in force finds only the idle times that were longer
// than that one. What people set themselves (a status, hiding) is not played.
type Replay struct {
	policy presence.Policy // that is played
	score  *score
	slack  int64 // how much earlier than its entry something may happen, in milliseconds
	shifts shifts
	later  int64 // 1 under the policy of the record, which says in which order things happened in a millisecond
	quiet  int64 // idle.after of the record

	core    *presence.Core
	origin  int64 // of the core's monotonic clock, Unix milliseconds
	now     int64 // Unix milliseconds
	down    bool  // between a stop of the service and its next start
	still   bool  // while the machine stands still
	saved   presence.Saved
	effects presence.Effects

	agenda agenda.Agenda
	played map[presence.SessionID]*played // by their id on record
	people map[presence.UserID][]*played
	live   map[presence.SessionID]bool // sessions of the core; false in their grace
	ending []*played                   // that have ended on record, the oldest first
}

// shifts are by how much later than on record something happens, in milliseconds.
type shifts struct{ silent, lease, idle int64 }

// played is a session on record, and the core's session that stands for it.
type played struct {
	id, core presence.SessionID
	user     presence.UserID
	leased   bool
	heir     *played // that it wanted to be
	rooms    []presence.RoomName
	link     presence.LinkID
	idle     bool
	spell    int // how often it was active again
	read     int // the same, as far as entries are read
	ended    int64
}

const never = 30 * 365 * 24 * time.Hour

// NewReplay returns a replay of what was recorded under one policy as it would have been under
// another. It scores rooms that match a pattern; all, if it is empty.
func NewReplay(recorded, policy presence.Policy, room presence.Pattern) *Replay {
	r := &Replay{score: newScore(room), played: map[presence.SessionID]*played{}, people: map[presence.UserID][]*played{}, live: map[presence.SessionID]bool{}, quiet: recorded.IdleAfter.Milliseconds()}
	r.shifts = shifts{
		silent: (policy.LostAfter() - recorded.LostAfter()).Milliseconds(), lease: (policy.Lease - recorded.Lease).Milliseconds(),
		idle: (policy.IdleAfter - recorded.IdleAfter).Milliseconds(),
	}
	r.slack = max(-r.shifts.silent, -r.shifts.lease, -r.shifts.idle, 0) + 1000
	r.policy = unlimited(policy)
	if reflect.DeepEqual(recorded, policy) {
		r.later = 1
	}
	return r
}

// unlimited returns a policy under which nobody is refused, and nothing happens for lack of
// beats and input.
func unlimited(p presence.Policy) presence.Policy {
	p.BeatEvery, p.Lease, p.IdleAfter = never, never, never
	p.RoomsPerSession, p.SessionsPerPerson, p.SecondSession = 1<<30, 1<<30, presence.AllowSecond
	open := func(r *presence.RoomPolicy) { r.Entry, r.Capacity, r.EngagesSeveral = presence.EntryOpen, 0, true }
	open(&p.RoomPolicy)
	p.Rooms = slices.Clone(p.Rooms)
	for i := range p.Rooms {
		open(&p.Rooms[i].RoomPolicy)
	}
	return p
}

// at plans something for a time in Unix milliseconds.
func (r *Replay) at(at int64, do func()) { r.agenda.Add(max(at, r.now), do) }

// Take takes the next entry.
func (r *Replay) Take(e *journal.Entry) {
	if r.core == nil {
		r.now, r.origin = e.At-r.slack, e.At-r.slack
		r.core = presence.NewCore(r.policy)
		r.score.begin = e.At
	}
	r.plan(e)
	r.score.recorded(e)
	r.score.end = max(r.score.end, e.At)
	r.run(e.At - r.slack)
	r.forget(e.At)
}

// plan turns an entry into acts.
func (r *Replay) plan(e *journal.Entry) {
	switch e.Kind {
	case journal.SessionOpened:
		other := r.played[e.Wanted]
		p := r.know(e)
		if other != nil && other.user == e.User {
			p.heir = other
		}
		r.at(e.At, func() { r.open(p) })
	case journal.SessionLost:
		p := r.session(e)
		at, gone, hidden := e.At, e.At, e.PageHidden
		if e.Reason == presence.ReasonSilent.String() {
			at, gone = at+r.shifts.silent, e.At-e.Unheard
		}
		if e.Reason == presence.ReasonClosing.String() {
			r.at(at, func() { r.close(p, gone) })
		} else {
			r.at(at, func() { r.lose(p, gone, hidden) })
		}
	case journal.SessionResumed:
		p := r.session(e)
		r.at(e.At, func() { r.resume(p) })
	case journal.SessionEnded:
		r.planEnd(e)
	case journal.SessionIdle:
		p, at := r.session(e), e.At
		if e.Length >= r.quiet-1000 { // else it said so
			at = max(e.At+min(r.shifts.idle, 0), e.At-e.Length+r.quiet+r.shifts.idle)
		}
		spell := p.read
		r.at(at, func() { r.fallIdle(p, spell) })
	case journal.SessionActive:
		p := r.session(e)
		p.read++
		r.at(e.At, func() { r.wake(p) })
	case journal.MemberJoined, journal.SessionJoined:
		if p := r.coming(e); p != nil {
			room := e.Room
			r.at(e.At, func() { r.join(p, room) })
		}
	case journal.MemberLeft, journal.SessionLeft:
		r.planLeave(e)
	case journal.ServiceSuspended:
		r.at(e.At-e.Length, func() { r.stand(true) })
		r.at(e.At, func() { r.stand(false) })
	case journal.ServiceStarted:
		r.at(e.At-e.Length, func() { r.stop() })
		r.at(e.At, func() { r.start() })
	}
}

func (r *Replay) planEnd(e *journal.Entry) {
	p := r.session(e)
	p.ended = e.At
	r.ending = append(r.ending, p)
	switch e.Reason {
	case presence.ReasonBye.String(), presence.ReasonRemoved.String(), presence.ReasonReplaced.String():
		r.at(e.At, func() { r.finish(p, 0) })
	case presence.ReasonSilent.String():
		if p.leased {
			gone := e.At - e.Unheard
			r.at(e.At+r.shifts.lease, func() { r.finish(p, gone) })
			return
		}
		fallthrough
	default:
		r.at(e.At, func() { r.advance(r.now) })
	}
}

// planLeave plays a leave on purpose. Others follow from the end of a session or its grace, and
// only count as recorded.
func (r *Replay) planLeave(e *journal.Entry) {
	room := e.Room
	purpose := e.Reason == presence.ReasonLeave.String() || e.Reason == presence.ReasonRemoved.String()
	if e.Session != "" {
		p := r.session(e)
		r.at(e.At, func() { r.leave(p, room, purpose) })
		return
	}
	for _, p := range r.people[e.User] {
		r.at(e.At, func() { r.leave(p, room, purpose) })
	}
}

func (r *Replay) know(e *journal.Entry) *played {
	p := &played{id: e.Session, core: e.Session, user: e.User, leased: e.Over == presence.HTTPBeats.String()}
	r.played[e.Session] = p
	r.people[e.User] = append(r.people[e.User], p)
	return p
}

// session returns the session of an entry. One that was opened before the first entry is opened
// now.
func (r *Replay) session(e *journal.Entry) *played {
	p := r.played[e.Session]
	if p == nil {
		p = r.know(e)
		r.at(e.At-r.slack, func() { r.open(p) })
	}
	return p
}

// coming returns the session of a join; of an entry without one, a session of the person.
func (r *Replay) coming(e *journal.Entry) (found *played) {
	if e.Session != "" {
		return r.session(e)
	}
	for _, p := range r.people[e.User] {
		if p.ended == 0 {
			found = p
		}
	}
	return found
}

// forget forgets sessions that nothing on record will mention any more.
func (r *Replay) forget(now int64) {
	n := 0
	for ; n < len(r.ending) && r.ending[n].ended < now-2*Late.Milliseconds(); n++ {
		p := r.ending[n]
		delete(r.played, p.id)
		r.people[p.user] = slices.DeleteFunc(r.people[p.user], func(other *played) bool { return other == p })
		if len(r.people[p.user]) == 0 {
			delete(r.people, p.user)
		}
	}
	r.ending = r.ending[n:]
}

// Finish plays what is left.
func (r *Replay) Finish() {
	if r.core != nil {
		r.run(r.score.end)
		r.score.finish(r.score.end)
	}
}

// run plays everything up to a time.
func (r *Replay) run(until int64) {
	for {
		at, ok := r.agenda.Due()
		if !ok || at > until {
			break
		}
		do := r.agenda.Next()
		if r.advance(at - r.later); r.later > 0 {
			r.now = max(r.now, at)
		}
		do()
	}
	r.advance(until)
}

// advance lets the core's deadlines come, each at its time.
func (r *Replay) advance(until int64) {
	for !r.down && !r.still {
		due, ok := r.core.Due()
		at := r.origin + due.Milliseconds()
		if !ok || at > until {
			break
		}
		r.now = max(r.now, at)
		for more := true; more; {
			_, more = r.core.Advance(r.instant(), 1000, &r.effects)
		}
		r.see()
	}
	r.now = max(r.now, until)
}

func (r *Replay) instant() presence.Instant {
	return presence.Instant{Mono: time.Duration(r.now-r.origin) * time.Millisecond, Wall: time.UnixMilli(r.now)}
}

// apply gives the core an input, and looks at what comes of it. What the core refuses did not
// happen here; if it made a difference, the exceptions have it.
func (r *Replay) apply(in presence.Input) presence.Reply {
	reply, _ := r.core.Apply(r.instant(), in, &r.effects)
	r.see()
	return reply
}

func (r *Replay) see() {
	for _, effect := range r.effects.List {
		switch e := effect.(type) {
		case presence.SessionOpened:
			r.live[e.Link.Session] = true
		case presence.SessionResumed:
			r.live[e.Link.Session] = true
		case presence.SessionInGrace:
			r.live[e.Link.Session] = false
		case presence.SessionEnded:
			delete(r.live, e.Link.Session)
			r.score.back(e.Link.Session)
		case presence.MemberChanged:
			r.score.member(r.now, &e)
		case presence.PersonChanged:
			r.score.person(r.now, &e)
		}
	}
	r.effects.Reset()
}

// has reports whether the core has the session of p, and whether that has a link.
func (r *Replay) has(p *played) (here, live bool) {
	live, here = r.live[p.core]
	return here && !r.down, live && !r.down
}

// The one key and nonce of all sessions.
const (
	key   = "key"
	nonce = "nonce"
)

// open is the hello of a new session. If the one that its client had wanted to resume is still
// in its grace here, it resumes that.
func (r *Replay) open(p *played) {
	if r.down {
		return
	}
	if h := p.heir; h != nil {
		if here, live := r.has(h); here && !live {
			p.core = h.core
			defer r.active(p) // as a new session is
		}
		p.heir = nil
	}
	r.hello(p)
}

func (r *Replay) resume(p *played) { r.hello(p) }

// hello opens a link. The session is a new one if the core does not have it any more.
func (r *Replay) hello(p *played) {
	if r.down {
		return
	}
	in := presence.Hello{User: p.user, Nonce: nonce, NewSession: p.id, NewKey: key, Leased: p.leased}
	here, _ := r.has(p)
	if here {
		in.Session, in.Key = p.core, key
	}
	reply := r.apply(in)
	p.core, p.link = reply.Link.Session, reply.Link
	r.score.back(p.core)
	if !here {
		for _, room := range slices.Clone(p.rooms) {
			r.apply(presence.Join{From: p.link, Room: room})
		}
	} else if len(reply.Rooms) > 0 {
		r.at(r.now+settling, func() { r.settle(p, reply.Rooms) })
	}
	if p.idle {
		r.apply(presence.Idle{From: p.link})
	}
}

// settling is how long after its return a session is still in rooms that it was in before, until
// it is known which ones it wants.
const settling = 1000

// settle takes a session that has returned out of the rooms that it has not wanted again, of
// those that it was in.
func (r *Replay) settle(p *played, was []presence.RoomName) {
	for _, room := range was {
		if _, live := r.has(p); live && !slices.Contains(p.rooms, room) {
			r.apply(presence.Leave{From: p.link, Room: room})
		}
	}
}

func (r *Replay) lose(p *played, gone int64, hidden bool) {
	if _, live := r.has(p); !live {
		return
	}
	r.score.lost(p.core, gone)
	if hidden {
		r.apply(presence.PageHidden{From: p.link, Hidden: true})
	}
	if p.leased { // it has no link that could be lost
		return
	}
	r.apply(presence.LinkLost{Link: p.link})
}

func (r *Replay) close(p *played, gone int64) {
	here, live := r.has(p)
	if !here {
		return
	}
	if live {
		r.score.lost(p.core, gone)
	}
	r.apply(presence.ClosingBeacon{Session: p.core, Key: key, Nonce: nonce})
}

// finish ends a session; if gone is not 0, because nothing was heard of it since then.
func (r *Replay) finish(p *played, gone int64) {
	if here, _ := r.has(p); !here {
		return
	}
	if gone != 0 {
		r.score.lost(p.core, gone)
		r.score.silent = true
		defer func() { r.score.silent = false }()
	}
	r.apply(presence.EndSession{Session: p.core})
}

func (r *Replay) fallIdle(p *played, spell int) {
	if spell != p.spell {
		return
	}
	p.idle = true
	if _, live := r.has(p); live {
		r.apply(presence.Idle{From: p.link})
	}
}

func (r *Replay) wake(p *played) {
	p.spell++
	p.idle = false
	r.active(p)
}

func (r *Replay) active(p *played) {
	if _, live := r.has(p); live {
		r.apply(presence.Activity{From: p.link})
	}
}

func (r *Replay) join(p *played, room presence.RoomName) {
	if !slices.Contains(p.rooms, room) {
		p.rooms = append(p.rooms, room)
	}
	if _, live := r.has(p); live {
		r.apply(presence.Join{From: p.link, Room: room})
	}
}

func (r *Replay) leave(p *played, room presence.RoomName, purpose bool) {
	i := slices.Index(p.rooms, room)
	if i < 0 {
		return
	}
	p.rooms = slices.Delete(p.rooms, i, i+1)
	if _, live := r.has(p); live && purpose {
		r.apply(presence.Leave{From: p.link, Room: room})
	}
}

// stand lets the machine stand still from now on, or go on. The core notices how late it is.
func (r *Replay) stand(still bool) {
	if r.down {
		return
	}
	r.still = still
	_, _ = r.core.Advance(r.instant(), 1, &r.effects)
	r.see()
}

// stop stops the service, whose core is saved.
func (r *Replay) stop() {
	if !r.down {
		r.saved, r.down = r.core.Save(r.instant()), true
	}
}

// start starts it again: everybody has lost their link, and grace begins anew.
func (r *Replay) start() {
	if !r.down {
		return
	}
	r.core, r.origin, r.down = presence.NewCore(r.policy), r.now, false
	if err := r.core.Restore(r.instant(), r.saved, &r.effects); err != nil {
		panic(fmt.Sprintf("timing: a core cannot read what a core has saved: %v", err))
	}
	r.effects.Reset() // it is as it was
	for id := range r.live {
		r.live[id] = false
		r.score.lost(id, r.now)
	}
}

// Outcome returns what others saw. Call it after Finish.
func (r *Replay) Outcome() Outcome { return r.score.Outcome }

// Exceptions returns the leaves that the replay and the record disagree about.
func (r *Replay) Exceptions() Exceptions { return r.score.exceptions }

// Recorded returns the number of leaves on record.
func (r *Replay) Recorded() int { return r.score.recordedLeaves }
