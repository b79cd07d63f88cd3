package delivery

import (
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// Receiver is one link as delivery sees it: what it follows, and what it lacks.
// Its owner calls [Receiver.Next] each time it has been woken.
type Receiver struct {
	hub  *Hub
	view presence.View
	wake func()

	// Guarded by the hub's lock.
	follows map[follow]Detail
	subs    map[*topic]*sub
	dirty   []*sub // those that lack something, in order
}

// follow is one reason to follow rooms. Being in a room and watching it are two,
// so that giving up one leaves the other.
type follow struct {
	pattern presence.Pattern
	cause   Cause
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
	detail   Detail
	has      engine.Revision // what the receiver has
	fresh    bool            // it has nothing yet
	dirty    bool
}

// NewReceiver returns a receiver that follows nothing, and sees rooms in a view. Wake is called when there
// may be something to fetch with Next; with locks held, so it neither blocks nor
// calls back.
func (h *Hub) NewReceiver(view presence.View, wake func()) *Receiver {
	return &Receiver{hub: h, view: view, wake: wake, follows: map[follow]Detail{}, subs: map[*topic]*sub{}}
}

// Follow makes the receiver get every room that the pattern names, now or later,
// beginning with its present state. Following again changes the detail, and
// brings the present state once more.
func (r *Receiver) Follow(cause Cause, pattern presence.Pattern, detail Detail) {
	h := r.hub
	h.mu.Lock()
	defer h.mu.Unlock()
	r.follows[follow{pattern, cause}] = detail
	if room, single := pattern.Room(); single {
		name := engine.Topic{Room: room, View: r.view}
		t := h.topics[name]
		if t == nil {
			t = h.begin(name)
		}
		r.attachFresh(t)
		return
	}
	h.wildcard[r] = struct{}{}
	for _, t := range h.topics {
		if t.View == r.view && !t.idle() && pattern.Match(t.Room) {
			r.attachFresh(t)
		}
	}
}

// Unfollow undoes a Follow. It is false when there was none.
func (r *Receiver) Unfollow(cause Cause, pattern presence.Pattern) bool {
	h := r.hub
	h.mu.Lock()
	defer h.mu.Unlock()
	key := follow{pattern, cause}
	if _, ok := r.follows[key]; !ok {
		return false
	}
	delete(r.follows, key)
	if !r.hasWildcard() {
		delete(h.wildcard, r)
	}
	for t, s := range r.subs {
		if !pattern.Match(t.Room) {
			continue
		}
		if s.detail = r.detail(t.Room); s.detail == None {
			r.drop(s)
		}
	}
	return true
}

// Close ends all following. A wake may still come that was under way.
func (r *Receiver) Close() {
	r.hub.mu.Lock()
	defer r.hub.mu.Unlock()
	delete(r.hub.wildcard, r)
	for _, s := range r.subs {
		r.drop(s)
	}
	clear(r.follows)
}

// Next appends the frames that the receiver lacks to frames: of each room the
// batches since what it has, or a snapshot. At most one call is under way at a
// time.
func (r *Receiver) Next(frames [][]byte) [][]byte {
	h := r.hub
	h.mu.Lock()
	var behind []*sub
	for _, s := range r.dirty {
		s.dirty = false
		if s.detail == None {
			continue
		}
		var ok bool
		if frames, ok = s.next(frames); !ok {
			behind = append(behind, s)
		} else if s.topic.ended {
			r.drop(s)
		}
	}
	clear(r.dirty)
	r.dirty = r.dirty[:0]
	h.mu.Unlock()
	for _, s := range behind {
		if frame := s.catchUp(); frame != nil {
			frames = append(frames, frame)
		}
	}
	return frames
}

// next appends what the sub lacks, as far as the topic itself has it.
func (s *sub) next(frames [][]byte) ([][]byte, bool) {
	t := s.topic
	if s.detail == AtMembers {
		ok := false
		if !s.fresh {
			frames, ok = t.since(s.has, frames)
		}
		if !ok && t.snapshot != nil {
			frames, ok = append(frames, t.snapshot), true
		}
		if ok {
			s.has, s.fresh = t.newest(), false
		}
		return frames, ok
	}
	frame, revision, ok := t.newestCount()
	if ok && (s.fresh || s.has != revision) {
		frames = append(frames, frame)
	}
	s.has = revision
	wasFresh := s.fresh
	s.fresh = false
	return frames, ok || !wasFresh
}

// catchUp returns the whole room, or nil when it is no longer wanted. The source
// is asked without the hub's lock: it may seal what is pending, which comes back
// through Take. What comes after the snapshot marks the sub again.
func (s *sub) catchUp() []byte {
	snapshot, _ := s.receiver.hub.source.Snapshot(s.topic.Topic)
	h := s.receiver.hub
	h.mu.Lock()
	defer h.mu.Unlock()
	if s.detail == None {
		return nil // unfollowed meanwhile
	}
	s.has, s.fresh = snapshot.Revision, false
	detail := s.detail
	if s.topic.ended {
		s.receiver.drop(s)
	}
	if detail == AtCount {
		return encode(countFrame(snapshot.Room, snapshot.Revision, snapshot.Count))
	}
	frame := encode(snapshotFrame(snapshot))
	if snapshot.Revision == s.topic.newest() {
		s.topic.snapshot = frame
	}
	return frame
}

// attach makes the receiver follow a topic if one of its patterns says so.
func (r *Receiver) attach(t *topic) *sub {
	detail := None
	if t.View == r.view {
		detail = r.detail(t.Room)
	}
	s := r.subs[t]
	if s == nil {
		if detail == None {
			return nil
		}
		s = &sub{receiver: r, topic: t, fresh: true}
		r.subs[t] = s
		t.subs[s] = struct{}{}
	}
	s.detail = detail
	return s
}

func (r *Receiver) attachFresh(t *topic) {
	s := r.attach(t)
	s.fresh = true
	r.mark(s)
}

func (r *Receiver) drop(s *sub) {
	s.detail = None
	delete(r.subs, s.topic)
	delete(s.topic.subs, s)
	if t := s.topic; t.idle() && r.hub.topics[t.Topic] == t {
		r.hub.end(t)
	}
}

func (r *Receiver) mark(s *sub) {
	if !s.dirty {
		s.dirty = true
		r.dirty = append(r.dirty, s)
	}
	r.wake()
}

// detail is the most that any of the receiver's patterns asks of a room.
func (r *Receiver) detail(room presence.RoomName) Detail {
	most := None
	for f, detail := range r.follows {
		if detail > most && f.pattern.Match(room) {
			most = detail
		}
	}
	return most
}

func (r *Receiver) byName(room presence.RoomName) bool {
	_, watched := r.follows[follow{presence.Pattern(room), Watched}]
	_, joined := r.follows[follow{presence.Pattern(room), Joined}]
	return watched || joined
}

func (r *Receiver) hasWildcard() bool {
	for f := range r.follows {
		if _, single := f.pattern.Room(); !single {
			return true
		}
	}
	return false
}
