package delivery

import "tovik.example/tovik/internal/deflate"

// Next appends some of the frames that the receiver lacks, and tells whether there are more. For
// each room these are the batches since its revision, or a snapshot. Only one call may be under
// way at a time.
//
// A missing state is fetched in its turn. So the order of frames is the order of changes,
// whatever other receivers have fetched.
func (r *Receiver) Next(frames []deflate.Text) (_ []deflate.Text, more bool) {
	to := r.hub.gathering()
	defer r.hub.release(to)
	to.before = len(frames)
	dirty, people, missed := r.inbox.take()
	r.mu.Lock()
	to.log = r.log
	if missed {
		r.lookForRooms()
	}
	var again []*sub
	for len(dirty) > 0 && !to.full() {
		s, served := r.serve(dirty[0], to)
		if !served {
			r.mu.Unlock()
			s.catchUp()
			r.mu.Lock()
			if s, served = r.serve(s, to); !served && s.mayCatchUp() {
				again = append(again, s) // the topic changed during the call
			}
		}
		dirty = dirty[1:]
	}
	for len(people) > 0 && !to.full() {
		if s := people[0]; !r.servePerson(s, to) {
			r.mu.Unlock()
			s.look()
			r.mu.Lock()
			r.servePerson(s, to)
		}
		people = people[1:]
	}
	r.mu.Unlock()
	more = r.inbox.putBack(dirty, people, again)
	for _, f := range to.frames {
		frames = append(frames, f.encoded())
	}
	return frames, more
}

// serve gathers the frames that a sub lacks. It returns false if it must first fetch a state.
func (r *Receiver) serve(s *sub, to *gathering) (_ *sub, served bool) {
	t := s.topic
	t.mu.Lock()
	defer t.mu.Unlock()
	if s.announced {
		if !t.exists || t.gone || t.View != r.view || r.sub(t) != nil {
			return s, true // it has ended, or is attached already
		}
		if s = r.attach(t); s == nil {
			return s, true // no longer followed
		}
		s.sealed = true
	}
	switch {
	case s.detail == None:
	case !s.ready():
		return s, false
	default:
		s.next(to)
		r.hub.measure(s)
		if s.over() {
			r.drop(s)
		}
	}
	return s, true
}

// mayCatchUp reports whether fetching again will help. Otherwise the next seal, or the pin that
// the sub waits for, marks it.
func (s *sub) mayCatchUp() bool {
	s.topic.mu.Lock()
	defer s.topic.mu.Unlock()
	return s.sealed && !s.topic.pinsItself()
}

// lookForRooms attaches to the matching rooms whose announcements were dropped.
func (r *Receiver) lookForRooms() {
	for _, f := range r.follows {
		if _, single := f.pattern.Room(); single {
			continue
		}
		for _, t := range r.hub.known(r.view, f.pattern) {
			t.mu.Lock()
			if t.exists && r.sub(t) == nil {
				r.attachFresh(t)
			}
			t.mu.Unlock()
		}
	}
}

// servePerson gathers the news of a person. It returns false if it must first fetch them.
func (r *Receiver) servePerson(s *personSub, to *gathering) bool {
	p := s.subject
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case s.dropped:
	case p.sight == nil:
		return false
	default:
		to.add(sent{person: s}, p.now())
	}
	return true
}

// gathering collects the result of one call of Next, still to be encoded.
type gathering struct {
	before int // the number of frames that the caller has already
	frames []*frame
	log    *sentLog // nil: none is kept
}

// gathering returns an empty gathering. Release it, because every delivery needs one.
func (h *Hub) gathering() *gathering {
	if g, ok := h.gatherings.Get().(*gathering); ok {
		return g
	}
	return new(gathering)
}

func (h *Hub) release(g *gathering) {
	clear(g.frames)
	*g = gathering{frames: g.frames[:0]}
	h.gatherings.Put(g)
}

func (g *gathering) full() bool { return g.before+len(g.frames) >= maxFrames }

func (g *gathering) add(note sent, f *frame) {
	g.frames = append(g.frames, f)
	if g.log != nil {
		g.log.note(note, uint64(g.before+len(g.frames)))
	}
}
