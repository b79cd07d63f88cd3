package delivery

import (
	"maps"
	"slices"
	"sync"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// maxFrames limits, roughly, how many frames one call of Next returns.
const maxFrames = 64

// manySubs is the number of topics from which on a receiver keeps an index of them.
const manySubs = 16

// Receiver is a link as delivery sees it: what it follows, and what it lacks. Its owner calls
// [Receiver.Next] each time it has been woken.
type Receiver struct {
	hub   *Hub
	inbox inbox

	mu      sync.Mutex
	view    presence.View
	may     func(presence.RoomName, Detail) bool // of a room that asks; nil: all
	follows []follow
	subs    []*sub
	index   map[*topic]*sub // of subs, when there are many
	people  map[presence.UserID]*personSub
	admits  []presence.Pattern // rooms whose asks it gets while it is in them; immutable
	log     *sentLog           // nil unless recorded
	closed  bool
}

// follow is one reason to follow rooms. Being in a room and watching it are two reasons, so that
// giving up one leaves the other.
type follow struct {
	pattern presence.Pattern
	cause   Cause
	How
}

// How says in what detail something is followed.
type How struct {
	Detail Detail
	// Sparse leaves out what members are doing.
	Sparse bool
	// Limit gives the first members by id only, as many at most, whole after each seal. 0 gives
	// all, change by change.
	Limit int
}

// Cause says why rooms are followed.
type Cause uint8

// The causes.
const (
	Watched Cause = iota // asked for by a watch
	Joined               // the session is in the room
)

// NewReceiver returns a receiver that follows nothing, and sees rooms in a view. Wake is called
// when there may be something to fetch with Next. It is called with locks held, so it must
// neither block nor call back.
func (h *Hub) NewReceiver(view presence.View, wake func()) *Receiver {
	return h.NewPersonsReceiver(view, nil, wake)
}

// NewPersonsReceiver is NewReceiver for somebody who may not watch every room that asks. May
// decides that at a detail; it is called with locks held, and must not call the hub.
func (h *Hub) NewPersonsReceiver(view presence.View, may func(presence.RoomName, Detail) bool, wake func()) *Receiver {
	return &Receiver{hub: h, view: view, may: may, inbox: inbox{wake: wake}}
}

// asks reports whether people must ask to enter a room.
func (h *Hub) asks(room presence.RoomName) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.policy.For(room).Entry == presence.EntryAsk
}

// Follow makes the receiver follow every room that the pattern names, now or later, beginning
// with its present state. Following again changes the detail, and sends the present state again.
func (r *Receiver) Follow(cause Cause, pattern presence.Pattern, how How) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.closed {
		return
	}
	if i := r.find(cause, pattern); i >= 0 {
		r.follows[i].How = how
	} else {
		r.follows = append(r.follows, follow{pattern, cause, how})
		if to := r.hub.follower; to != nil {
			to.Follow(pattern, r.view)
		}
		r.tellWildcards()
	}
	r.begin(pattern)
}

// Admit makes the receiver get the open asks of the rooms of some patterns, while it follows them
// because its session is in them. It replaces the patterns of an earlier call.
func (r *Receiver) Admit(patterns []presence.Pattern) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.admits = patterns
	for _, s := range r.subs {
		s.topic.mu.Lock()
		if s.admit(); s.admits {
			r.inbox.mark(s)
		}
		s.topic.mu.Unlock()
	}
}

func (r *Receiver) mayAdmit(room presence.RoomName) bool {
	return r.find(Joined, presence.Pattern(room)) >= 0 && slices.ContainsFunc(r.admits, func(p presence.Pattern) bool { return p.Match(room) })
}

// begin sends the present state of the rooms of a pattern.
func (r *Receiver) begin(pattern presence.Pattern) {
	if room, single := pattern.Room(); single {
		t := r.hub.lock(engine.Topic{Room: room, View: r.view})
		defer t.mu.Unlock()
		r.attachFresh(t)
		return
	}
	for _, t := range r.hub.known(r.view, pattern) {
		t.mu.Lock()
		if t.exists {
			r.attachFresh(t)
		}
		t.mu.Unlock()
	}
}

// tellWildcards registers the wildcards with the hub.
func (r *Receiver) tellWildcards() {
	w := wildcards{view: r.view}
	for _, f := range r.follows {
		if _, single := f.pattern.Room(); !single {
			w.patterns = append(w.patterns, f.pattern)
		}
	}
	r.hub.mu.Lock()
	defer r.hub.mu.Unlock()
	if len(w.patterns) == 0 {
		delete(r.hub.wildcards, r)
	} else {
		r.hub.wildcards[r] = w
	}
}

// Resumption says what a receiver gets of a room of which it had a revision.
type Resumption string

// The resumptions.
const (
	Current  Resumption = "current"  // nothing was missed
	Changes  Resumption = "changes"  // what was missed, change by change
	Whole    Resumption = "snapshot" // the room whole: too much was missed
	OtherRun Resumption = "new-run"  // the room whole: the service or the room began anew
)

// Resume says which revisions of followed rooms the receiver has already. Call it right after
// following them. The result leaves out rooms that are not followed.
func (r *Receiver) Resume(revisions map[presence.RoomName]engine.Revision) map[presence.RoomName]Resumption {
	r.mu.Lock()
	defer r.mu.Unlock()
	result := make(map[presence.RoomName]Resumption, len(revisions))
	for _, room := range slices.Sorted(maps.Keys(revisions)) {
		if r.how(room).Detail == None {
			continue
		}
		t := r.hub.lock(engine.Topic{Room: room, View: r.view}) // even if the room has just ended, so that the receiver hears it
		if r.sub(t) == nil {
			r.attachFresh(t)
		}
		if s := r.sub(t); s != nil {
			result[room] = s.resume(revisions[room])
		}
		t.mu.Unlock()
	}
	return result
}

// Unfollow undoes a Follow. It returns false if there was none.
func (r *Receiver) Unfollow(cause Cause, pattern presence.Pattern) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	i := r.find(cause, pattern)
	if i < 0 {
		return false
	}
	r.follows = slices.Delete(r.follows, i, i+1)
	if to := r.hub.follower; to != nil {
		to.Unfollow(pattern, r.view)
	}
	r.tellWildcards()
	for _, s := range slices.Clone(r.subs) {
		if t := s.topic; pattern.Match(t.Room) {
			t.mu.Lock()
			s.admit()
			if r.reset(s) {
				r.hub.catchUpCount(t)
			}
			t.mu.Unlock()
		}
	}
	return true
}

// reset adapts a sub to what the receiver follows now, and drops it if that is nothing. It returns
// false then. The lock of the topic is held.
func (r *Receiver) reset(s *sub) bool {
	if s.set(r.how(s.topic.Room)); s.detail == None {
		r.drop(s)
		return false
	}
	if s.fresh {
		r.inbox.mark(s) // or it would get the present state at the next change only
	}
	return true
}

// Following returns the patterns that are followed for a cause.
func (r *Receiver) Following(cause Cause) (patterns []presence.Pattern) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, f := range r.follows {
		if f.cause == cause {
			patterns = append(patterns, f.pattern)
		}
	}
	return patterns
}

// See changes the view. If it is another view, everything that is followed begins anew.
func (r *Receiver) See(view presence.View) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.closed || r.view == view {
		return
	}
	if to := r.hub.follower; to != nil {
		for _, f := range r.follows {
			to.Follow(f.pattern, view)
			to.Unfollow(f.pattern, r.view)
		}
	}
	r.view = view
	r.dropRooms()
	r.tellWildcards()
	for _, f := range r.follows {
		r.begin(f.pattern)
	}
	people, profiles := make([]presence.UserID, 0, len(r.people)), map[presence.UserID]presence.Profile{}
	for user, s := range r.people {
		people = append(people, user)
		profiles[user] = r.dropPerson(s)
	}
	slices.Sort(people)
	r.followPeople(people, profiles)
}

// Close ends all following. A wake that is under way may still come.
func (r *Receiver) Close() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if to := r.hub.follower; to != nil {
		for _, f := range r.follows {
			to.Unfollow(f.pattern, r.view)
		}
	}
	r.closed, r.follows = true, nil
	r.tellWildcards()
	r.dropRooms()
	for _, s := range r.people {
		r.dropPerson(s)
	}
}

func (r *Receiver) dropRooms() {
	for _, s := range slices.Clone(r.subs) {
		s.topic.mu.Lock()
		r.drop(s)
		s.topic.mu.Unlock()
	}
}

// Rewake replaces the wake function, as when a client reconnects.
func (r *Receiver) Rewake(wake func()) {
	r.inbox.rewake(wake)
	wake()
}

// attach follows a topic if one of the receiver's patterns matches it. The locks of both are
// held.
func (r *Receiver) attach(t *topic) *sub {
	var how How
	if t.View == r.view {
		how = r.how(t.Room)
	}
	s := r.sub(t)
	if s == nil {
		if how.Detail == None {
			return nil
		}
		s = &sub{receiver: r, topic: t, fresh: true, place: len(t.subs)}
		t.subs = append(t.subs, s)
		r.subs = append(r.subs, s)
		if r.index != nil {
			r.index[t] = s
		} else if len(r.subs) > manySubs {
			r.index = make(map[*topic]*sub, 2*manySubs)
			for _, s := range r.subs {
				r.index[s.topic] = s
			}
		}
	}
	s.set(how)
	s.admit()
	r.hub.catchUpCount(t)
	return s
}

func (r *Receiver) sub(t *topic) *sub {
	if r.index != nil {
		return r.index[t]
	}
	for _, s := range r.subs {
		if s.topic == t {
			return s
		}
	}
	return nil
}

func (r *Receiver) attachFresh(t *topic) {
	if s := r.attach(t); s != nil { // else it may not be watched
		s.fresh, s.sealed = true, false
		r.inbox.mark(s)
	}
}

// drop ends a sub. The locks of the receiver and of the topic are held.
func (r *Receiver) drop(s *sub) {
	s.detail = None
	t := s.topic
	i := slices.Index(r.subs, s)
	r.subs[i] = r.subs[len(r.subs)-1]
	r.subs[len(r.subs)-1] = nil
	r.subs = r.subs[:len(r.subs)-1]
	delete(r.index, t)
	t.remove(s)
	r.hub.letGo(t)
}

// how returns the highest detail at which the receiver's patterns follow a room. It is sparse if
// all that follow its members are.
func (r *Receiver) how(room presence.RoomName) How {
	var most How
	for _, f := range r.follows {
		switch {
		case !f.pattern.Match(room) || f.cause == Watched && f.Detail > most.Detail && !r.lets(room, f.Detail):
		case f.Detail > most.Detail:
			most = f.How
		case f.Detail == most.Detail:
			most.Sparse = most.Sparse && f.Sparse
			if most.Limit > 0 {
				most.Limit = max(most.Limit, f.Limit)
			}
			if f.Limit == 0 {
				most.Limit = 0
			}
		}
	}
	return most
}

// lets reports whether the receiver may watch a room.
func (r *Receiver) lets(room presence.RoomName, detail Detail) bool {
	return r.may == nil || !r.hub.asks(room) || r.may(room, detail)
}

// Recheck stops following rooms that the receiver may no longer watch.
func (r *Receiver) Recheck() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.may == nil {
		return
	}
	for _, s := range slices.Clone(r.subs) {
		if s.topic.mu.Lock(); s.topic.policy.Entry == presence.EntryAsk {
			r.reset(s)
		}
		s.topic.mu.Unlock()
	}
}

func (r *Receiver) find(cause Cause, pattern presence.Pattern) int {
	return slices.IndexFunc(r.follows, func(f follow) bool { return f.pattern == pattern && f.cause == cause })
}

func (r *Receiver) byName(room presence.RoomName) bool {
	return r.find(Watched, presence.Pattern(room)) >= 0 || r.find(Joined, presence.Pattern(room)) >= 0
}
