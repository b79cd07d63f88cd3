package delivery

import (
	"sync"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// subject is a person as followed in a view.
type subject struct {
	engine.Subject

	mu      sync.Mutex
	subs    []*personSub
	profile presence.Profile // as it was when somebody last began to follow
	frame   *frame           // of the newest state; nil until needed
	sight   *engine.Sight    // nil when not known
	gone    bool             // out of the hub
}

// personSub is a receiver's following of a person, guarded by the lock of the subject.
type personSub struct {
	receiver *Receiver
	subject  *subject
	place    int // in the subject's subs
	dropped  bool
	dirty    bool // it is in the inbox, whose lock guards this
}

// lockPerson returns a subject with its lock held. It creates the subject if necessary.
func (h *Hub) lockPerson(name engine.Subject) *subject {
	for {
		h.mu.Lock()
		p := h.people[name]
		if p == nil {
			p = &subject{Subject: name}
			h.people[name] = p
			if h.follower != nil {
				h.follower.FollowPerson(name)
			}
		}
		h.mu.Unlock()
		p.mu.Lock()
		if !p.gone {
			return p
		}
		p.mu.Unlock() // forgotten a moment ago
	}
}

// TakeSight implements [engine.Sink].
func (h *Hub) TakeSight(sight engine.Sight) {
	h.mu.Lock()
	p := h.people[sight.Subject]
	h.mu.Unlock()
	if p == nil {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.sight, p.frame = &sight, nil
	for _, s := range p.subs {
		s.receiver.inbox.markPerson(s)
	}
}

// FollowPeople makes the receiver follow the statuses of people, beginning with the present
// ones. Following again sends the present status again. Profiles are what the directory has of
// them; it may be nil.
func (r *Receiver) FollowPeople(users []presence.UserID, profiles map[presence.UserID]presence.Profile) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !r.closed {
		r.followPeople(users, profiles)
	}
}

func (r *Receiver) followPeople(users []presence.UserID, profiles map[presence.UserID]presence.Profile) {
	if r.people == nil {
		r.people = make(map[presence.UserID]*personSub, len(users))
	}
	for _, user := range users {
		p := r.hub.lockPerson(engine.Subject{User: user, View: r.view})
		s := r.people[user]
		if s == nil {
			s = &personSub{receiver: r, subject: p, place: len(p.subs)}
			p.subs = append(p.subs, s)
			r.people[user] = s
		}
		if profiles != nil && p.profile != profiles[user] {
			p.profile, p.frame = profiles[user], nil
		}
		p.mu.Unlock()
		r.inbox.markPerson(s)
	}
}

// UnfollowPeople undoes FollowPeople. A person who is not followed is no error.
func (r *Receiver) UnfollowPeople(users []presence.UserID) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, user := range users {
		if s := r.people[user]; s != nil {
			r.dropPerson(s)
		}
	}
}

// dropPerson stops following a person and returns their profile.
func (r *Receiver) dropPerson(s *personSub) presence.Profile {
	p := s.subject
	p.mu.Lock()
	defer p.mu.Unlock()
	s.dropped = true
	delete(r.people, p.User)
	last := p.subs[len(p.subs)-1]
	p.subs[s.place], last.place = last, s.place
	p.subs = p.subs[:len(p.subs)-1]
	if len(p.subs) == 0 {
		p.gone = true
		r.hub.mu.Lock()
		delete(r.hub.people, p.Subject)
		if r.hub.follower != nil {
			r.hub.follower.UnfollowPerson(p.Subject)
		}
		r.hub.mu.Unlock()
	}
	return p.profile
}

// now returns the frame of the known state. The lock is held.
func (p *subject) now() *frame {
	if p.frame == nil {
		sight, profile := *p.sight, p.profile
		p.frame = &frame{of: func() any { return personFrame(sight, profile) }}
	}
	return p.frame
}

// look asks the source for the state of a person, unless a change arrived meanwhile.
func (s *personSub) look() {
	sight := s.receiver.hub.source.Sight(s.subject.Subject)
	p := s.subject
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.sight == nil {
		p.sight = &sight
	}
}
