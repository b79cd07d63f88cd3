package timing

import (
	"time"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
)

// Outcome is what others saw in a replay.
type Outcome struct {
	Leaves   int
	Losses   int           // leaves because somebody had not come back in time
	Flickers int           // losses that were followed by a return within [Soon]
	Ghosts   time.Duration // time for which people were listed who had gone, and were not back within [Soon]
	Missing  time.Duration // time for which people were not listed in a flicker
	Away     time.Duration // time for which people were shown away
	// CountError is by how many people the headcounts were wrong, on average: ghosts and missing
	// people.
	CountError float64
}

// Leave is a leave that a replay and the record disagree about.
type Leave struct {
	At   time.Time
	User presence.UserID
	Room presence.RoomName
}

// Exceptions are leaves that are only on record, or only in the replay.
type Exceptions struct {
	Recorded, Replayed         int
	RecordedFirst, ReplayFirst []Leave // the first few
}

const (
	sameTime = 2 * time.Second // at most this far apart, two leaves are the same one
	examples = 5
)

type place struct {
	user presence.UserID
	room presence.RoomName
}

// score counts what others see.
type score struct {
	room       presence.Pattern
	begin, end int64
	Outcome
	exceptions     Exceptions
	recordedLeaves int

	now    int64
	silent bool                         // the session that ends now was not heard of any more
	gone   map[presence.SessionID]int64 // since when nothing is heard of a session
	left   map[place]departure          // who has been lost, and may be back soon
	lefts  []leave
	away   map[presence.UserID]int64
	record unmatched
	replay unmatched
}

// departure is a leave of somebody who was lost, in milliseconds: when, and for how long they had
// been listed though they were gone.
type departure struct{ at, listed int64 }

type leave struct {
	place
	at int64
}

// unmatched are leaves of one side that the other does not have yet.
type unmatched struct {
	at    map[place][]int64
	order []leave
}

func newScore(room presence.Pattern) *score {
	return &score{room: room, gone: map[presence.SessionID]int64{}, left: map[place]departure{}, away: map[presence.UserID]int64{},
		record: unmatched{at: map[place][]int64{}}, replay: unmatched{at: map[place][]int64{}}}
}

func (s *score) matches(room presence.RoomName) bool { return s.room == "" || s.room.Match(room) }

// lost notes since when nothing is heard of a session.
func (s *score) lost(session presence.SessionID, since int64) { s.gone[session] = since }

// back notes that a session has a link again.
func (s *score) back(session presence.SessionID) { delete(s.gone, session) }

// member scores a change of a member.
func (s *score) member(now int64, e *presence.MemberChanged) {
	s.now = now
	s.expire()
	if !e.Views.Has(presence.Full) || !s.matches(e.Room) {
		return
	}
	where := place{e.After.User, e.Room}
	switch came, went := e.Before.Sessions == 0, e.After.Sessions == 0; {
	case came:
		if d, lately := s.left[where]; lately {
			s.Flickers++
			s.Missing += ms(now - d.at)
			s.Ghosts -= ms(d.listed)
			delete(s.left, where)
		}
	case went:
		s.Leaves++
		s.match(&s.record, &s.replay, leave{where, now})
		if !s.silent && e.Reason != presence.ReasonClosing && e.Reason != presence.ReasonLost {
			return
		}
		s.Losses++
		d := departure{at: now}
		if since, ok := s.gone[e.Session]; ok {
			d.listed = now - since
		}
		s.Ghosts += ms(d.listed)
		s.left[where] = d
		s.lefts = append(s.lefts, leave{where, now})
	}
}

// person scores a change of a person's status.
func (s *score) person(now int64, e *presence.PersonChanged) {
	if !e.Views.Has(presence.Full) {
		return
	}
	if since, was := s.away[e.User]; was && e.After.Status != presence.Away {
		s.Away += ms(now - since)
		delete(s.away, e.User)
	} else if !was && e.After.Status == presence.Away {
		s.away[e.User] = now
	}
}

// recorded takes an entry, whose leave the replay should have, too.
func (s *score) recorded(e *journal.Entry) {
	if e.Kind == journal.MemberLeft && s.matches(e.Room) {
		s.recordedLeaves++
		s.match(&s.replay, &s.record, leave{place{e.User, e.Room}, e.At})
	}
}

// match takes a leave of one side. If the other side has had it, both forget it.
func (s *score) match(others, own *unmatched, l leave) {
	for i, at := range others.at[l.place] {
		if max(at-l.at, l.at-at) <= sameTime.Milliseconds() {
			others.drop(l.place, i)
			return
		}
	}
	own.at[l.place] = append(own.at[l.place], l.at)
	own.order = append(own.order, l)
}

func (u *unmatched) drop(where place, i int) {
	list := append(u.at[where][:i], u.at[where][i+1:]...)
	if len(list) == 0 {
		delete(u.at, where)
		return
	}
	u.at[where] = list
}

// expire gives up what is too old to matter, as of the time of the replay.
func (s *score) expire() {
	n := 0
	for ; n < len(s.lefts) && s.lefts[n].at < s.now-Soon.Milliseconds(); n++ {
		if l := s.lefts[n]; s.left[l.place].at == l.at {
			delete(s.left, l.place)
		}
	}
	s.lefts = s.lefts[n:]
	s.record.expire(s.now-2*sameTime.Milliseconds(), &s.exceptions.Recorded, &s.exceptions.RecordedFirst)
	s.replay.expire(s.now-2*sameTime.Milliseconds(), &s.exceptions.Replayed, &s.exceptions.ReplayFirst)
}

// expire counts leaves before a time that the other side has never had.
func (u *unmatched) expire(before int64, count *int, first *[]Leave) {
	n := 0
	for ; n < len(u.order) && u.order[n].at < before; n++ {
		l := u.order[n]
		for i, at := range u.at[l.place] {
			if at == l.at {
				u.drop(l.place, i)
				if *count++; len(*first) < examples {
					*first = append(*first, Leave{time.UnixMilli(at), l.user, l.room})
				}
				break
			}
		}
	}
	u.order = u.order[n:]
}

// finish closes what is open at the end.
func (s *score) finish(end int64) {
	s.now = end + Soon.Milliseconds()
	s.expire()
	for _, since := range s.away {
		s.Away += ms(end - since)
	}
	if span := ms(end - s.begin); span > 0 {
		s.CountError = float64(s.Ghosts+s.Missing) / float64(span)
	}
}

func ms(n int64) time.Duration { return time.Duration(n) * time.Millisecond }
