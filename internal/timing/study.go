package timing

import (
	"maps"
	"slices"
	"time"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
)

// Cause is how a session came to be without a link.
type Cause string

// The causes of gaps. Each but Restarted and Silent has a grace of its own.
const (
	Closing    Cause = "closing"    // the page closed or reloaded
	Lost       Cause = "lost"       // the link was lost, in the foreground
	Background Cause = "background" // the same, of a page in the background
	Silent     Cause = "silent"     // the link was up but silent
	Restarted  Cause = "restarted"  // the service was not there
)

// Causes are all causes, in the order in which they are shown.
var Causes = []Cause{Closing, Lost, Background, Silent, Restarted}

// Late is the longest gap after which a return still counts as one.
const Late = 10 * time.Minute

// Gaps are gaps without a link.
type Gaps struct {
	InTime  int64     // ended with the same session
	Late    int64     // ended with a new one, within [Late]
	Never   int64     // did not end within [Late]
	Returns Histogram // how long those were that ended with a return
}

// Together returns the gaps of several causes.
func Together(list ...*Gaps) *Gaps {
	sum := &Gaps{}
	for _, g := range list {
		sum.InTime, sum.Late, sum.Never = sum.InTime+g.InTime, sum.Late+g.Late, sum.Never+g.Never
		sum.Returns.Merge(&g.Returns)
	}
	return sum
}

// Part is a part of the gaps of a cause.
type Part struct {
	By   string // room, link or hour
	Name string // a pattern of the policy, a kind of link, an hour (UTC)
	Gaps
}

// The ways in which gaps are split up.
const (
	ByRoom = "room"
	ByLink = "link"
	ByHour = "hour"
)

// Study reads what happened. Make one with [NewStudy], and give it all entries of a realm in
// order. Gaps that began too shortly before the last entry to be called endless are left out.
type Study struct {
	Sessions, People int
	Entries, Missing int64 // read, and lost by the journal
	Reloads          int   // of the configuration
	Gaps             map[Cause]*Gaps
	// Quiet are the times without activity of sessions that had become idle, and were active
	// again.
	Quiet Histogram

	policy   *presence.Policy
	room     presence.Pattern
	sessions map[presence.SessionID]*studied
	people   map[presence.UserID]*visitor
	parts    map[partID]*Part
	ends     []*loss // those that wait, the oldest first
}

type partID struct {
	cause    Cause
	by, name string
}

// visitor is a person with sessions, or somebody who may come back.
type visitor struct {
	live int   // sessions that have not ended
	last *loss // with which the person went
}

type studied struct {
	id    presence.SessionID
	user  presence.UserID
	over  string
	rooms []presence.RoomName
	loss  *loss // nil: it has a link
	ended bool
}

type loss struct {
	at    int64
	cause Cause
	of    *studied
	done  bool
}

// NewStudy returns a study of sessions in rooms that match a pattern; all, if it is empty. The
// policy says by which patterns gaps are split up.
func NewStudy(policy *presence.Policy, room presence.Pattern) *Study {
	s := &Study{policy: policy, room: room, Gaps: map[Cause]*Gaps{}, sessions: map[presence.SessionID]*studied{}, people: map[presence.UserID]*visitor{}, parts: map[partID]*Part{}}
	for _, cause := range Causes {
		s.Gaps[cause] = &Gaps{}
	}
	return s
}

// Take takes the next entry.
func (s *Study) Take(e *journal.Entry) {
	s.Entries++
	s.giveUp(e.At)
	switch e.Kind {
	case journal.SessionOpened:
		s.opened(e)
	case journal.SessionLost:
		if of := s.session(e); of.loss == nil {
			s.lose(of, e.At, causeOf(e))
		} else if e.Reason == presence.ReasonClosing.String() { // the page said so a little later
			of.loss.cause = Closing
		}
	case journal.SessionResumed:
		of := s.session(e)
		if of.loss == nil { // the service was away
			s.lose(of, e.At-e.Length, Restarted)
		}
		s.settle(of.loss, time.Duration(e.Length)*time.Millisecond, func(g *Gaps) { g.InTime++ })
		of.loss = nil
	case journal.SessionEnded:
		s.ended(e)
	case journal.SessionActive:
		if s.matches(s.session(e)) {
			s.Quiet.Add(time.Duration(e.Length) * time.Millisecond)
		}
	case journal.MemberJoined, journal.SessionJoined:
		if of := s.sessions[e.Session]; of != nil && !slices.Contains(of.rooms, e.Room) {
			of.rooms = append(of.rooms, e.Room)
		}
	case journal.MemberLeft, journal.SessionLeft:
		if of := s.sessions[e.Session]; of != nil && of.loss == nil {
			of.rooms = slices.DeleteFunc(of.rooms, func(r presence.RoomName) bool { return r == e.Room })
		}
	case journal.Gap:
		s.Missing += e.Lost
	case journal.ConfigReloaded:
		s.Reloads++
	}
}

func causeOf(e *journal.Entry) Cause {
	switch {
	case e.Reason == presence.ReasonClosing.String():
		return Closing
	case e.PageHidden:
		return Background
	case e.Reason == presence.ReasonSilent.String():
		return Silent
	}
	return Lost
}

func (s *Study) opened(e *journal.Entry) {
	s.Sessions++
	person := s.person(e.User)
	gone := person.last
	if wanted := s.sessions[e.Wanted]; e.Wanted != "" && wanted != nil && wanted.user == e.User {
		gone = wanted.loss
	} else if person.live > 0 {
		gone = nil
	}
	if gone != nil {
		s.settle(gone, time.Duration(e.At-gone.at)*time.Millisecond, func(g *Gaps) { g.Late++ })
	}
	person.last = nil
	person.live++
	s.sessions[e.Session] = &studied{id: e.Session, user: e.User, over: e.Over}
}

func (s *Study) ended(e *journal.Entry) {
	of := s.session(e)
	person := s.person(e.User)
	if person.live--; person.live <= 0 {
		person.live, person.last = 0, of.loss
	}
	if of.ended = true; of.loss == nil || of.loss.done {
		delete(s.sessions, e.Session)
	}
}

func (s *Study) person(user presence.UserID) *visitor {
	p := s.people[user]
	if p == nil {
		p = &visitor{}
		s.people[user] = p
		s.People++
	}
	return p
}

// session returns the session of an entry. One that was opened earlier is in no room as far as
// is known.
func (s *Study) session(e *journal.Entry) *studied {
	of := s.sessions[e.Session]
	if of == nil {
		of = &studied{id: e.Session, user: e.User, over: e.Over}
		s.sessions[e.Session] = of
		s.person(e.User).live++
	}
	return of
}

func (s *Study) lose(of *studied, at int64, cause Cause) {
	of.loss = &loss{at: at, cause: cause, of: of}
	s.ends = append(s.ends, of.loss)
}

// giveUp settles gaps that are too long.
func (s *Study) giveUp(now int64) {
	n := 0
	for ; n < len(s.ends) && s.ends[n].at < now-Late.Milliseconds(); n++ {
		l := s.ends[n]
		s.settle(l, -1, func(g *Gaps) { g.Never++ })
		if person := s.people[l.of.user]; person.last == l {
			person.last = nil
		}
	}
	s.ends = s.ends[n:]
}

// settle counts a gap where it belongs; with its length, unless that is negative.
func (s *Study) settle(l *loss, length time.Duration, count func(*Gaps)) {
	if l.done {
		return
	}
	if l.done = true; l.of.ended {
		delete(s.sessions, l.of.id)
	}
	if !s.matches(l.of) {
		return
	}
	tally := func(g *Gaps) {
		count(g)
		if length >= 0 {
			g.Returns.Add(length)
		}
	}
	tally(s.Gaps[l.cause])
	part := func(by, name string) {
		id := partID{l.cause, by, name}
		if s.parts[id] == nil {
			s.parts[id] = &Part{By: by, Name: name}
		}
		tally(&s.parts[id].Gaps)
	}
	for _, pattern := range s.patterns(l.of.rooms) {
		part(ByRoom, pattern)
	}
	part(ByLink, l.of.over)
	part(ByHour, time.UnixMilli(l.at).UTC().Format("15"))
}

// patterns returns the patterns of the policy that apply to rooms, each once; ** stands for the
// policy of the realm.
func (s *Study) patterns(rooms []presence.RoomName) (list []string) {
	for _, room := range rooms {
		name := string(s.policy.PatternFor(room))
		if !slices.Contains(list, name) {
			list = append(list, name)
		}
	}
	return list
}

func (s *Study) matches(of *studied) bool {
	return s.room == "" || slices.ContainsFunc(of.rooms, s.room.Match)
}

// Parts returns the parts of the gaps of a cause, ordered by how they are split up and by name.
func (s *Study) Parts(cause Cause) (parts []*Part) {
	ids := slices.SortedFunc(maps.Keys(s.parts), func(a, b partID) int {
		return slices.Compare([]string{a.by, a.name}, []string{b.by, b.name})
	})
	for _, id := range ids {
		if id.cause == cause {
			parts = append(parts, s.parts[id])
		}
	}
	return parts
}
