package delivery

import "tovik.example/tovik/internal/engine"

// maxSent is how many of the last frames can be taken back.
const maxSent = 256

// sentLog remembers the last frames of an event stream, so that a client that says which of them
// it got last is given the later ones again.
type sentLog struct {
	base    uint64 // the number of the last frame before the present Next
	entries []sent // of consecutive numbers or with gaps, the newest last
}

// sent is a frame that was returned, and what the receiver had before it.
type sent struct {
	number uint64
	sub    *sub       // nil for a person
	person *personSub // nil for a room
	has    engine.Revision
	fresh  bool
}

// Record makes the receiver remember the frames that it returns. Base is the number of the last
// frame before those of the next call of Next; the frames with which that is called count.
func (r *Receiver) Record(base uint64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.log == nil {
		r.log = &sentLog{}
	}
	r.log.base = base
}

// note remembers the frame that comes as the nth since base.
func (l *sentLog) note(what sent, nth uint64) {
	what.number = l.base + nth
	if len(l.entries) == maxSent {
		copy(l.entries, l.entries[1:])
		l.entries = l.entries[:maxSent-1]
	}
	l.entries = append(l.entries, what)
}

// Rewind takes back the frames after a number, so that Next returns them again. What is no
// longer remembered is sent anew.
func (r *Receiver) Rewind(number uint64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.log == nil {
		return
	}
	entries := r.log.entries
	r.log.entries = nil
	if len(entries) == maxSent && entries[0].number > number+1 {
		for _, s := range r.subs {
			s.takeBack(sent{fresh: true})
		}
		for _, s := range r.people {
			r.inbox.markPerson(s)
		}
		return
	}
	for i := len(entries) - 1; i >= 0 && entries[i].number > number; i-- {
		if s := entries[i].person; s != nil {
			r.inbox.markPerson(s)
		} else {
			entries[i].sub.takeBack(entries[i])
		}
	}
}

// takeBack sets a sub back to before a frame was sent.
func (s *sub) takeBack(to sent) {
	s.topic.mu.Lock()
	defer s.topic.mu.Unlock()
	if s.detail != None {
		s.has, s.fresh, s.counted, s.typed, s.asked = to.has, to.fresh, 0, 0, 0
		s.receiver.inbox.mark(s)
	}
}
