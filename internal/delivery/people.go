package delivery

import (
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// subject is a person as followed in a view. It is guarded by the hub's lock.
type subject struct {
	engine.Subject
	subs    []*personSub
	profile presence.Profile // as it was when somebody last began to follow
	frame   []byte           // the newest; nil when not known, or not encoded yet
	sight   *engine.Sight
}

// personSub is a receiver's following of a person.
type personSub struct {
	receiver *Receiver
	subject  *subject
	place    int // in the subject's subs
	dirty    bool
	dropped  bool
}

// TakeSight implements [engine.Sink].
func (h *Hub) TakeSight(sight engine.Sight) {
	h.mu.Lock()
	defer h.mu.Unlock()
	p := h.people[sight.Subject]
	if p == nil {
		return
	}
	p.sight, p.frame = &sight, nil
	for _, s := range p.subs {
		s.receiver.markPerson(s)
	}
}

// FollowPeople makes the receiver follow the statuses of people, beginning with the present
// ones. Following again sends the present status again. Profiles are what the directory has of
// them; it may be nil.
func (r *Receiver) FollowPeople(users []presence.UserID, profiles map[presence.UserID]presence.Profile) {
	h := r.hub
	h.mu.Lock()
	defer h.mu.Unlock()
	if r.closed {
		return
	}
	r.followPeople(users, profiles)
}

func (r *Receiver) followPeople(users []presence.UserID, profiles map[presence.UserID]presence.Profile) {
	h := r.hub
	if r.people == nil {
		r.people = make(map[presence.UserID]*personSub, len(users))
	}
	for _, user := range users {
		s := r.people[user]
		if s == nil {
			name := engine.Subject{User: user, View: r.view}
			p := h.people[name]
			if p == nil {
				p = &subject{Subject: name}
				h.people[name] = p
			}
			s = &personSub{receiver: r, subject: p, place: len(p.subs)}
			p.subs = append(p.subs, s)
			r.people[user] = s
		}
		if p := s.subject; profiles != nil && p.profile != profiles[user] {
			p.profile, p.frame = profiles[user], nil
		}
		r.markPerson(s)
	}
}

// UnfollowPeople undoes FollowPeople. A person who is not followed is no error.
func (r *Receiver) UnfollowPeople(users []presence.UserID) {
	r.hub.mu.Lock()
	defer r.hub.mu.Unlock()
	for _, user := range users {
		if s := r.people[user]; s != nil {
			r.dropPerson(s)
		}
	}
}

func (r *Receiver) dropPerson(s *personSub) {
	p := s.subject
	s.dropped = true
	delete(r.people, p.User)
	last := p.subs[len(p.subs)-1]
	p.subs[s.place], last.place = last, s.place
	p.subs = p.subs[:len(p.subs)-1]
	if len(p.subs) == 0 {
		delete(r.hub.people, p.Subject)
	}
}

func (r *Receiver) markPerson(s *personSub) {
	if !s.dirty {
		s.dirty = true
		r.dirtyPeople = append(r.dirtyPeople, s)
	}
	r.wake()
}

// nextPeople appends what is new of people.
func (r *Receiver) nextPeople(frames [][]byte) [][]byte {
	for len(r.dirtyPeople) > 0 && len(frames) < maxFrames {
		s := r.dirtyPeople[0]
		p := s.subject
		if !s.dropped && p.sight == nil {
			break // it came meanwhile, and is looked for by the next call
		}
		r.dirtyPeople = r.dirtyPeople[1:]
		s.dirty = false
		if s.dropped {
			continue
		}
		if p.frame == nil {
			p.frame = wire.Encode(personFrame(*p.sight, p.profile))
		}
		frames = r.append(frames, sent{person: s}, p.frame)
	}
	if len(r.dirtyPeople) == 0 {
		r.dirtyPeople = nil
	}
	return frames
}

// look asks the source for the state of a person, unless a change arrived meanwhile.
func (s *personSub) look() {
	h := s.receiver.hub
	sight := h.source.Sight(s.subject.Subject)
	h.mu.Lock()
	defer h.mu.Unlock()
	if p := s.subject; p.sight == nil {
		p.sight = &sight
	}
}
