package delivery

import (
	"tovik.example/tovik/internal/engine"
)

// sub is a receiver's place in a topic. Except for receiver and topic, the topic's lock guards
// its fields.
type sub struct {
	receiver *Receiver
	topic    *topic
	place    int             // in the topic's subs
	has      engine.Revision // of the members or of the count, what the receiver has
	counted  uint64          // the version of the published count that it has
	typed    uint64          // the version of the typists that it has
	asked    uint64          // the version of the open asks that it has
	admits   bool            // it gets the open asks
	detail   Detail          // None once it is dropped
	sparse   bool            // without what members are doing
	limit    int             // the first members only; 0: all
	fresh    bool            // it needs the whole state
	sealed   bool            // if fresh: everything from before it began is sealed
	dirty    bool            // it is in the inbox, whose lock guards this
	newer    bool            // a batch came that it has not got, and since when is measured

	// announced marks an announcement: the news of a new room that a wildcard matches. It never
	// changes.
	announced bool
}

// admit decides whether the sub gets the open asks. A sub that begins to get them is
// told even that there are none: otherwise it could tell whether others followed the room before.
func (s *sub) admit() {
	may := s.receiver.mayAdmit(s.topic.Room)
	if may && !s.admits {
		s.asked = 0
	}
	s.admits = may
}

func (s *sub) resume(revision engine.Revision) Resumption {
	t := s.topic
	newest := t.newest
	if s.sparse {
		newest = t.bare
	}
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
	case s.whole() && t.has(revision):
		s.has, s.fresh = revision, false
		return Changes
	case revision.Run != newest.Run:
		return OtherRun
	}
	return Whole
}

// whole tells whether the room is followed member by member, change by change.
func (s *sub) whole() bool { return s.detail == AtMembers && !s.topic.big && s.limit == 0 }

// ready tells whether the topic has what the sub lacks, and decides whether that is the whole
// room. A newcomer gets the first state that is sealed with everything that had happened before,
// whatever others have asked for.
func (s *sub) ready() bool {
	t := s.topic
	if s.limit > 0 && s.detail == AtMembers && !t.big && !s.fresh && s.lacksMembers() {
		s.fresh, s.sealed = true, true
	}
	if s.whole() && !s.fresh && s.has != t.newest {
		s.fresh = !t.has(s.has) || t.lag(s.has) > t.count.People+farBehind
		s.sealed = true
	}
	switch {
	case !s.fresh:
		return true
	case s.detail == AtMembers && t.big:
		return s.sealed && t.pinned() != nil
	case s.detail == AtCount || !t.exists:
		return s.sealed
	}
	return s.sealed && s.snapshot() != nil
}

func (s *sub) snapshot() *frame {
	if s.limit > 0 {
		return s.topic.firstOf(part{s.limit, s.sparse})
	}
	if s.sparse {
		return s.topic.sparse
	}
	return s.topic.snapshot
}

// lacksMembers tells whether the members have changed since, as far as the sub follows that.
func (s *sub) lacksMembers() bool {
	t := s.topic
	if s.sparse {
		return s.has.Run != t.newest.Run || s.has.Number < t.bare.Number
	}
	return s.has != t.newest
}

func (s *sub) set(how How) {
	if how.Sparse != s.sparse || how.Limit != s.limit {
		s.fresh = true
	}
	s.detail, s.sparse, s.limit = how.Detail, how.Sparse, how.Limit
}

// farBehind is how many more changes than members a sub may lack before it gets a snapshot
// instead.
const farBehind = 32

// next appends what the sub lacks. It must be ready.
func (s *sub) next(to *gathering) {
	t := s.topic
	if s.fresh {
		s.begin(to)
		return
	}
	if s.whole() {
		t.since(s.has, s.sparse, func(prev engine.Revision, f *frame) { to.add(sent{sub: s, has: prev}, f) })
		s.has = t.newest
	} else if s.counted != t.published.version && (s.detail == AtCount || t.big) {
		if s.has != t.published.revision {
			to.add(sent{sub: s, has: s.has}, t.publishedCount())
		}
		s.counted, s.has = t.published.version, t.published.revision
	}
	if s.detail == AtMembers && s.typed != t.typing.version {
		to.add(sent{sub: s, has: s.has}, t.typingNow())
		s.typed = t.typing.version
	}
	s.nextAsks(to)
}

// nextAsks appends the open asks, if the sub lacks them. They follow the state of the room.
func (s *sub) nextAsks(to *gathering) {
	if t := s.topic; s.admits && s.asked != t.asking.version {
		to.add(sent{sub: s, has: s.has}, t.asksNow())
		s.asked = t.asking.version
	}
}

// firstPage says what the sub gets of a big room at once.
func (s *sub) firstPage() part {
	if s.limit > 0 {
		return part{min(s.limit, firstPage), s.sparse}
	}
	return part{firstPage, s.sparse}
}

// begin appends the present state.
func (s *sub) begin(to *gathering) {
	t := s.topic
	note := sent{sub: s, fresh: true}
	defer s.nextAsks(to)
	s.fresh, s.has, s.counted, s.typed = false, t.newest, t.published.version, t.typing.version
	switch {
	case s.detail == AtCount:
		to.add(note, t.newestCount())
		return
	case !t.exists:
		to.add(note, &frame{of: func() any { return snapshotFrame(engine.Snapshot{Topic: t.Topic}) }})
		return
	case t.big:
		p := t.pinned()
		p.given = true
		to.add(note, p.first.of(p.Snapshot, s.firstPage()))
		if p.Revision != t.newest {
			to.add(note, t.newestCount())
		}
	default:
		to.add(note, s.snapshot())
	}
	if len(t.typists) > 0 {
		to.add(note, t.typingNow())
	}
}

// over tells that nothing more comes of a topic that the receiver does not follow by name.
func (s *sub) over() bool {
	t := s.topic
	return !t.exists && !t.waiting && !s.receiver.byName(t.Room)
}

// catchUp fetches the state that the sub begins with. It asks the source without holding a lock.
func (s *sub) catchUp() {
	t, h := s.topic, s.receiver.hub
	t.mu.Lock()
	sealed := s.sealed
	t.mu.Unlock()
	if !sealed && h.source.Unsealed(t.Topic) {
		return // the next seal marks it
	}
	t.mu.Lock()
	s.sealed = true
	ready := s.ready() || t.pinsItself()
	t.mu.Unlock()
	if ready {
		return
	}
	snapshot := h.source.Sealed(t.Topic)
	t.mu.Lock()
	defer t.mu.Unlock()
	switch {
	case snapshot.Revision != t.newest || !t.exists: // the topic has a newer revision by now
	case t.big:
		t.pin(snapshot)
	default:
		bare := t.bare
		t.keep(snapshot)
		t.snapshot = &frame{of: func() any { return snapshotFrame(snapshot) }}
		t.sparse = &frame{of: func() any { return bareFrame(snapshot, bare) }}
	}
}
