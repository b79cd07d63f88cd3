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
	r.hub.mu.Lock()
	defer r.hub.mu.Unlock()
	if r.log == nil {
		r.log = &sentLog{}
	}
	r.log.base = base
}

// append appends a frame, and remembers it.
func (r *Receiver) append(frames [][]byte, note sent, frame []byte) [][]byte {
	if r.log != nil {
		note.number = r.log.base + uint64(len(frames)) + 1
		if len(r.log.entries) == maxSent {
			copy(r.log.entries, r.log.entries[1:])
			r.log.entries = r.log.entries[:maxSent-1]
		}
		r.log.entries = append(r.log.entries, note)
	}
	return append(frames, frame)
}

// Rewind takes back the frames after a number, so that Next returns them again. What is no
// longer remembered is sent anew.
func (r *Receiver) Rewind(number uint64) {
	r.hub.mu.Lock()
	defer r.hub.mu.Unlock()
	if r.log == nil {
		return
	}
	entries := r.log.entries
	r.log.entries = nil
	if len(entries) == maxSent && entries[0].number > number+1 {
		for _, s := range r.subs {
			s.fresh = true
			r.mark(s)
		}
		for _, s := range r.people {
			r.markPerson(s)
		}
		return
	}
	for i := len(entries) - 1; i >= 0 && entries[i].number > number; i-- {
		if s := entries[i].person; s != nil && !s.dropped {
			r.markPerson(s)
		} else if s := entries[i].sub; s != nil && s.detail != None {
			s.has, s.fresh, s.counted, s.typed = entries[i].has, entries[i].fresh, 0, 0
			r.mark(s)
		}
	}
}
