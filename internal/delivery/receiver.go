package delivery

import (
	"maps"
	"slices"
	"strings"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// maxFrames limits, roughly, how many frames one call of Next returns.
const maxFrames = 64

// manySubs is the number of topics from which on a receiver keeps an index of them.
const manySubs = 16

// Receiver is a link as delivery sees it: what it follows, and what it lacks. Its owner calls
// [Receiver.Next] each time it has been woken.
type Receiver struct {
	hub  *Hub
	view presence.View
	wake func()

	// Guarded by the hub's lock.
	follows     []follow
	subs        []*sub
	index       map[*topic]*sub // of subs, when there are many
	dirty       []*sub          // those that lack something, in order
	people      map[presence.UserID]*personSub
	dirtyPeople []*personSub
	log         *sentLog // nil unless recorded
	closed      bool
}

// follow is one reason to follow rooms. Being in a room and watching it are two reasons, so that
// giving up one leaves the other.
type follow struct {
	pattern presence.Pattern
	cause   Cause
	detail  Detail
}

// Cause says why rooms are followed.
type Cause uint8

// The causes.
const (
	Watched Cause = iota // asked for by a watch
	Joined               // the session is in the room
)

// sub is a receiver's place in a topic.
type sub struct {
	receiver *Receiver
	topic    *topic
	place    int             // in the topic's subs
	has      engine.Revision // of the members or of the count, what the receiver has
	counted  uint64          // the version of the published count that it has
	typed    uint64          // the version of the typists that it has
	detail   Detail
	fresh    bool // it has nothing yet, or not what it should
	sealed   bool // fresh: all that had happened when it began is sealed now
	dirty    bool
}

// NewReceiver returns a receiver that follows nothing, and sees rooms in a view. Wake is called
// when there may be something to fetch with Next. It is called with locks held, so it must
// neither block nor call back.
func (h *Hub) NewReceiver(view presence.View, wake func()) *Receiver {
	return &Receiver{hub: h, view: view, wake: wake}
}

// Follow makes the receiver follow every room that the pattern names, now or later, beginning
// with its present state. Following again changes the detail, and sends the present state again.
func (r *Receiver) Follow(cause Cause, pattern presence.Pattern, detail Detail) {
	h := r.hub
	h.mu.Lock()
	defer h.mu.Unlock()
	if r.closed {
		return
	}
	if i := r.find(cause, pattern); i >= 0 {
		r.follows[i].detail = detail
	} else {
		r.follows = append(r.follows, follow{pattern, cause, detail})
	}
	r.begin(pattern)
}

// begin sends the present state of the rooms of a pattern.
func (r *Receiver) begin(pattern presence.Pattern) {
	if room, single := pattern.Room(); single {
		r.attachFresh(r.topic(room))
		return
	}
	r.hub.wildcard[r] = struct{}{}
	for _, t := range r.hub.existing(r.view, pattern) {
		r.attachFresh(t)
	}
}

// existing returns the topics of existing rooms that match, by name.
func (h *Hub) existing(view presence.View, pattern presence.Pattern) (list []*topic) {
	for _, t := range h.topics {
		if t.View == view && t.exists && pattern.Match(t.Room) {
			list = append(list, t)
		}
	}
	slices.SortFunc(list, func(a, b *topic) int { return strings.Compare(string(a.Room), string(b.Room)) })
	return list
}

func (r *Receiver) topic(room presence.RoomName) *topic {
	name := engine.Topic{Room: room, View: r.view}
	if t := r.hub.topics[name]; t != nil {
		return t
	}
	return r.hub.begin(name)
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
	r.hub.mu.Lock()
	defer r.hub.mu.Unlock()
	result := make(map[presence.RoomName]Resumption, len(revisions))
	for _, room := range slices.Sorted(maps.Keys(revisions)) {
		revision := revisions[room]
		if r.detail(room) == None {
			continue
		}
		t := r.topic(room) // also one that has ended meanwhile, so that it is told
		s := r.sub(t)
		if s == nil {
			r.attachFresh(t)
			s = r.sub(t)
		}
		result[room] = s.resume(revision)
	}
	return result
}

func (s *sub) resume(revision engine.Revision) Resumption {
	t := s.topic
	newest := t.newest
	if !t.exists {
		newest = engine.Revision{}
	}
	switch {
	case revision == newest && (s.detail == AtCount || !t.big):
		s.has, s.fresh = t.newest, false
		if s.detail == AtCount && t.published.revision == s.has {
			s.counted = t.published.version
		}
		return Current
	case revision.Run != newest.Run:
		return OtherRun
	case s.detail == AtMembers && !t.big && t.has(revision):
		s.has, s.fresh = revision, false
		return Changes
	}
	return Whole
}

// Unfollow undoes a Follow. It returns false if there was none.
func (r *Receiver) Unfollow(cause Cause, pattern presence.Pattern) bool {
	h := r.hub
	h.mu.Lock()
	defer h.mu.Unlock()
	i := r.find(cause, pattern)
	if i < 0 {
		return false
	}
	r.follows = slices.Delete(r.follows, i, i+1)
	if !r.hasWildcard() {
		delete(h.wildcard, r)
	}
	for _, s := range slices.Clone(r.subs) {
		if !pattern.Match(s.topic.Room) {
			continue
		}
		if s.detail = r.detail(s.topic.Room); s.detail == None {
			r.drop(s)
		} else {
			h.catchUpCount(s.topic)
		}
	}
	return true
}

// Following returns the patterns that are followed for a cause.
func (r *Receiver) Following(cause Cause) (patterns []presence.Pattern) {
	r.hub.mu.Lock()
	defer r.hub.mu.Unlock()
	for _, f := range r.follows {
		if f.cause == cause {
			patterns = append(patterns, f.pattern)
		}
	}
	return patterns
}

// See changes the view. If it is another view, everything that is followed begins anew.
func (r *Receiver) See(view presence.View) {
	h := r.hub
	h.mu.Lock()
	defer h.mu.Unlock()
	if r.closed || r.view == view {
		return
	}
	r.view = view
	for _, s := range slices.Clone(r.subs) {
		r.drop(s)
	}
	for _, f := range r.follows {
		r.begin(f.pattern)
	}
	people, profiles := make([]presence.UserID, 0, len(r.people)), map[presence.UserID]presence.Profile{}
	for user, s := range r.people {
		people = append(people, user)
		profiles[user] = s.subject.profile
		r.dropPerson(s)
	}
	slices.Sort(people)
	r.followPeople(people, profiles)
}

// Close ends all following. A wake that is under way may still come.
func (r *Receiver) Close() {
	r.hub.mu.Lock()
	defer r.hub.mu.Unlock()
	r.closed, r.follows = true, nil
	delete(r.hub.wildcard, r)
	for _, s := range slices.Clone(r.subs) {
		r.drop(s)
	}
	for _, s := range r.people {
		r.dropPerson(s)
	}
}

// Rewake replaces the wake function, as when a client reconnects.
func (r *Receiver) Rewake(wake func()) {
	r.hub.mu.Lock()
	defer r.hub.mu.Unlock()
	r.wake = wake
	wake()
}

// Next appends some of the frames that the receiver lacks, and tells whether there are more. For
// each room these are the batches since its revision, or a snapshot. Only one call may be under
// way at a time.
//
// Missing states are fetched first, so that frames come in the order in which rooms and people
// changed, whatever other receivers have fetched before.
func (r *Receiver) Next(frames [][]byte) (_ [][]byte, more bool) {
	h := r.hub
	h.mu.Lock()
	if behind, unknown := r.lacking(); len(behind)+len(unknown) > 0 {
		h.mu.Unlock()
		for _, s := range behind {
			s.catchUp()
		}
		for _, s := range unknown {
			s.look()
		}
		h.mu.Lock()
	}
	defer h.mu.Unlock()
	var again []*sub
	done := 0
	for _, s := range r.dirty {
		if len(frames) >= maxFrames {
			break
		}
		done++
		switch {
		case s.detail == None:
			s.dirty = false
		case s.ready():
			s.dirty = false
			frames = s.next(frames)
			h.measure(s.topic)
			if s.over() {
				r.drop(s)
			}
		case s.sealed && !s.topic.pinsItself():
			again = append(again, s) // it has gone on meanwhile
		default:
			s.dirty = false // it is marked at the next seal, or by the pin that it waits for
		}
	}
	clear(r.dirty[:done])
	if r.dirty = append(r.dirty[done:], again...); len(r.dirty) == 0 {
		r.dirty = nil
	}
	frames = r.nextPeople(frames)
	return frames, len(r.dirty)+len(r.dirtyPeople) > 0
}

// lacking returns what comes next and has to be fetched first.
func (r *Receiver) lacking() (behind []*sub, unknown []*personSub) {
	for _, s := range r.dirty[:min(len(r.dirty), maxFrames)] {
		if s.detail != None && !s.ready() && !(s.sealed && s.topic.pinsItself()) {
			behind = append(behind, s)
		}
	}
	for _, s := range r.dirtyPeople[:min(len(r.dirtyPeople), maxFrames)] {
		if !s.dropped && s.subject.sight == nil {
			unknown = append(unknown, s)
		}
	}
	return behind, unknown
}

// whole tells whether the room is followed member by member.
func (s *sub) whole() bool { return s.detail == AtMembers && !s.topic.big }

// ready tells whether the topic has what the sub lacks, and decides whether that is the whole
// room. A newcomer gets the first state that is sealed with everything that had happened before,
// whatever others have asked for.
func (s *sub) ready() bool {
	t := s.topic
	if s.whole() && !s.fresh && s.has != t.newest {
		s.fresh = !t.has(s.has) || t.lag(s.has) > t.count.People+farBehind
		s.sealed = true
	}
	switch {
	case !s.fresh || t.ended:
		return true
	case s.detail == AtMembers && t.big:
		return s.sealed && t.pinned() != nil
	case s.detail == AtCount || !t.exists:
		return s.sealed
	}
	return s.sealed && t.snapshot != nil
}

// farBehind is how many more changes than members a sub may lack before it gets a snapshot
// instead.
const farBehind = 32

// next appends what the sub lacks. It must be ready.
func (s *sub) next(frames [][]byte) [][]byte {
	t, r := s.topic, s.receiver
	if s.fresh {
		return s.begin(frames)
	}
	if s.whole() {
		t.since(s.has, func(prev engine.Revision, frame []byte) {
			frames = r.append(frames, sent{sub: s, has: prev}, frame)
		})
		s.has = t.newest
	} else if s.counted != t.published.version {
		if s.has != t.published.revision {
			frames = r.append(frames, sent{sub: s, has: s.has}, t.countFrame())
		}
		s.counted, s.has = t.published.version, t.published.revision
	}
	if s.detail == AtMembers && s.typed != t.typing.version {
		frames = r.append(frames, sent{sub: s, has: s.has}, t.typingFrame())
		s.typed = t.typing.version
	}
	return frames
}

// begin appends the present state.
func (s *sub) begin(frames [][]byte) [][]byte {
	t, r := s.topic, s.receiver
	note := sent{sub: s, fresh: true}
	s.fresh, s.has, s.counted, s.typed = false, t.newest, t.published.version, t.typing.version
	if t.ended {
		if heir := r.sub(r.hub.topics[t.Topic]); heir != nil && heir.fresh {
			return frames // the room has begun anew, and tells its whole state itself
		}
	}
	switch {
	case s.detail == AtCount:
		return r.append(frames, note, t.newestCount())
	case t.ended || !t.exists:
		return r.append(frames, note, wire.Encode(snapshotFrame(engine.Snapshot{Topic: t.Topic})))
	case t.big:
		p := t.pinned()
		p.given = true
		frames = r.append(frames, note, p.firstFrame())
		if p.Revision != t.newest {
			frames = r.append(frames, note, t.newestCount())
		}
	default:
		frames = r.append(frames, note, t.snapshot)
	}
	if len(t.typists) > 0 {
		frames = r.append(frames, note, t.typingFrame())
	}
	return frames
}

// over tells that nothing more comes of a topic that the receiver does not follow by name.
func (s *sub) over() bool {
	t := s.topic
	return t.ended || (!t.exists && !t.waiting && !s.receiver.byName(t.Room))
}

// catchUp fetches what the sub needs to begin. The source is asked without the hub's lock: it
// may be sealing, which calls Take.
func (s *sub) catchUp() {
	t := s.topic
	h := s.receiver.hub
	h.mu.Lock()
	sealed := s.sealed
	h.mu.Unlock()
	if !sealed && h.source.Unsealed(t.Topic) {
		return // Take marks those that wait
	}
	h.mu.Lock()
	s.sealed = true
	ready := s.ready() || t.pinsItself()
	h.mu.Unlock()
	if !ready {
		snapshot := h.source.Sealed(t.Topic)
		h.mu.Lock()
		switch {
		case snapshot.Revision != t.newest || !t.exists: // it has gone on meanwhile
		case t.big:
			h.pin(t, snapshot)
		default:
			t.snapshot = wire.Encode(snapshotFrame(snapshot))
		}
		h.mu.Unlock()
	}
}

// attach makes the receiver follow a topic if one of its patterns names it.
func (r *Receiver) attach(t *topic) *sub {
	detail := None
	if t.View == r.view {
		detail = r.detail(t.Room)
	}
	s := r.sub(t)
	if s == nil {
		if detail == None {
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
	s.detail = detail
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
	s := r.attach(t)
	s.fresh, s.sealed = true, false
	r.mark(s)
}

func (r *Receiver) drop(s *sub) {
	s.detail = None
	t := s.topic
	i := slices.Index(r.subs, s)
	r.subs[i] = r.subs[len(r.subs)-1]
	r.subs[len(r.subs)-1] = nil
	r.subs = r.subs[:len(r.subs)-1]
	delete(r.index, t)
	t.remove(s)
	if !t.exists && !t.waiting && len(t.subs) == 0 && r.hub.topics[t.Topic] == t {
		delete(r.hub.topics, t.Topic)
	}
}

func (r *Receiver) mark(s *sub) {
	if !s.dirty {
		s.dirty = true
		r.dirty = append(r.dirty, s)
	}
	r.wake()
}

// detail returns the highest detail at which the receiver's patterns follow a room.
func (r *Receiver) detail(room presence.RoomName) Detail {
	most := None
	for _, f := range r.follows {
		if f.detail > most && f.pattern.Match(room) {
			most = f.detail
		}
	}
	return most
}

func (r *Receiver) find(cause Cause, pattern presence.Pattern) int {
	return slices.IndexFunc(r.follows, func(f follow) bool { return f.pattern == pattern && f.cause == cause })
}

func (r *Receiver) byName(room presence.RoomName) bool {
	return r.find(Watched, presence.Pattern(room)) >= 0 || r.find(Joined, presence.Pattern(room)) >= 0
}

func (r *Receiver) hasWildcard() bool {
	return slices.ContainsFunc(r.follows, func(f follow) bool {
		_, single := f.pattern.Room()
		return !single
	})
}
