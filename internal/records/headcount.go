package records

import (
	"context"
	"strings"
	"time"

	"gorm.io/gorm"

	"tovik.example/tovik/internal/presence"
)

// Step is the length of time of a headcount.
type Step int64

// The steps, in milliseconds.
const (
	Minute Step = 60_000
	Hour   Step = 60 * Minute
	Day    Step = 24 * Hour
)

// Headcount is how many were in a room, or with an empty Room in the realm, during a step. Sums
// over time are in people, or sessions, times milliseconds.
//
// A minute in which nothing changed has no row: it is as the minute before it was at its end.
// The first minute of each hour, and of each start of the service, has a row for every room that
// somebody is in.
type Headcount struct {
	Realm         string            `gorm:"primaryKey"`
	Room          presence.RoomName `gorm:"primaryKey"`
	Step          Step              `gorm:"primaryKey;autoIncrement:false"`
	At            int64             `gorm:"primaryKey;autoIncrement:false"` // Unix milliseconds: where it begins, in UTC
	PeopleMin     int
	PeopleMax     int
	PeopleTime    int64
	PeopleClose   int
	SessionsMin   int
	SessionsMax   int
	SessionsTime  int64
	SessionsClose int
	Span          int64 // milliseconds of it in which the service ran
	Visitors      int   // distinct people
	Joins, Leaves int
	Peak          int64 // when there were the most people, the first time; Unix milliseconds
}

// add extends a headcount by the next one.
func (h *Headcount) add(next *Headcount) {
	if h.Span == 0 || next.PeopleMax > h.PeopleMax {
		h.PeopleMax, h.Peak = next.PeopleMax, next.Peak
	}
	if h.Span == 0 {
		h.PeopleMin, h.SessionsMin = next.PeopleMin, next.SessionsMin
	}
	h.PeopleMin, h.SessionsMin = min(h.PeopleMin, next.PeopleMin), min(h.SessionsMin, next.SessionsMin)
	h.SessionsMax = max(h.SessionsMax, next.SessionsMax)
	h.PeopleTime += next.PeopleTime
	h.SessionsTime += next.SessionsTime
	h.PeopleClose, h.SessionsClose = next.PeopleClose, next.SessionsClose
	h.Span += next.Span
	h.Joins += next.Joins
	h.Leaves += next.Leaves
	h.Visitors = max(h.Visitors, next.Visitors)
}

// steady returns a step in which nothing changes after h.
func (h *Headcount) steady(at int64, step Step) Headcount {
	p, s := h.PeopleClose, h.SessionsClose
	return Headcount{Realm: h.Realm, Room: h.Room, Step: step, At: at, PeopleMin: p, PeopleMax: p, PeopleTime: int64(p) * int64(step), PeopleClose: p,
		SessionsMin: s, SessionsMax: s, SessionsTime: int64(s) * int64(step), SessionsClose: s, Span: int64(step), Visitors: p, Peak: at}
}

// Headcounts returns the steps of a room between two times, up to most of them, without gaps
// while the service ran.
func (s *Store) Headcounts(ctx context.Context, realm string, room presence.RoomName, step Step, from, to time.Time, most int) ([]Headcount, error) {
	begin := from.UnixMilli() / int64(step) * int64(step)
	end := min(to.UnixMilli(), time.Now().UnixMilli())
	end = min(end, begin+int64(most)*int64(step))
	var rows []Headcount
	anchor := begin / int64(Hour) * int64(Hour)
	if step != Minute {
		anchor = begin
	}
	err := s.reading(ctx).Where("realm = ? AND room = ? AND step = ? AND at >= ? AND at < ?", realm, room, step, anchor, end).Order("at").Find(&rows).Error
	if err != nil || step != Minute {
		return rows, err
	}
	ran, err := s.ran(ctx, anchor, end)
	if err != nil {
		return nil, err
	}
	return fill(rows, begin, end, ran), nil
}

// fill adds the minutes in which nothing changed. Rows begin with the hour of begin; before the
// first row the room was empty.
func fill(rows []Headcount, begin, end int64, ran func(int64) bool) []Headcount {
	if len(rows) == 0 {
		return nil
	}
	var all []Headcount
	last := &Headcount{Realm: rows[0].Realm, Room: rows[0].Room}
	next := 0
	for at := begin / int64(Hour) * int64(Hour); at < end; at += int64(Minute) {
		switch {
		case next < len(rows) && rows[next].At == at:
			last = &rows[next]
			next++
			if at >= begin {
				all = append(all, *last)
			}
		case !ran(at):
			last = nil
		case last != nil && at >= begin:
			all = append(all, last.steady(at, Minute))
		}
	}
	return all
}

// ran returns a function that tells whether the service ran throughout a minute.
func (s *Store) ran(ctx context.Context, begin, end int64) (func(at int64) bool, error) {
	var runs []Run
	if err := s.reading(ctx).Where("mark >= ? AND started < ?", begin, end).Order("id").Find(&runs).Error; err != nil {
		return nil, err
	}
	return func(at int64) bool {
		for _, r := range runs {
			if r.Started <= at && r.Mark+int64(markEvery/time.Millisecond)*5 >= at+int64(Minute) {
				return true
			}
		}
		return false
	}, nil
}

// Peaks returns the steps of a room with the most people, highest first.
func (s *Store) Peaks(ctx context.Context, realm string, room presence.RoomName, step Step, from, to time.Time, most int) ([]Headcount, error) {
	var rows []Headcount
	return rows, s.reading(ctx).Where("realm = ? AND room = ? AND step = ? AND at >= ? AND at < ?", realm, room, step, from.UnixMilli(), to.UnixMilli()).
		Order("people_max DESC, at").Limit(most).Find(&rows).Error
}

// CountedRooms returns the rooms that have headcounts between two times, by name.
func (s *Store) CountedRooms(ctx context.Context, realm string, from, to time.Time) ([]presence.RoomName, error) {
	var rooms []presence.RoomName
	return rooms, s.reading(ctx).Raw(`SELECT DISTINCT room FROM headcounts WHERE realm = ? AND step = ? AND at >= ? AND at < ? AND room <> '' ORDER BY room`,
		realm, Minute, from.UnixMilli()/int64(Hour)*int64(Hour), to.UnixMilli()).Scan(&rooms).Error
}

// Stay is one person's stay in a room, or in the realm.
type Stay struct {
	User   presence.UserID
	Joined int64 // Unix milliseconds
	Left   int64 // the same; 0: still there
}

// Here returns who is in a room now, or with an empty room has sessions, and since when.
type Here func(realm string, room presence.RoomName) []Stay

// Attendance returns who was in a room between two times, by when they joined, as far as the
// journal reaches. Here says who is there now.
func (s *Store) Attendance(ctx context.Context, realm string, room presence.RoomName, from, to time.Time, here Here) ([]Stay, error) {
	end := to.UnixMilli()
	q := JournalQuery{Realm: realm, From: from, Kinds: []Kind{MemberLeft}, Rooms: []presence.Pattern{presence.Pattern(room)}}
	if room == "" {
		q.Kinds, q.Rooms = []Kind{SessionEnded}, nil
	}
	var stays []Stay
	err := s.EachEntry(ctx, q, chunk, func(page []Entry) bool {
		for i := range page {
			if joined := page[i].At - page[i].Length; joined < end {
				stays = append(stays, Stay{page[i].User, joined, page[i].At})
			}
		}
		return true
	})
	if err != nil {
		return nil, err
	}
	for _, stay := range here(realm, room) {
		if stay.Joined < end {
			stays = append(stays, stay)
		}
	}
	return stays, nil
}

// distinct counts the people of stays.
func distinct(stays []Stay) int {
	seen := map[presence.UserID]struct{}{}
	for _, stay := range stays {
		seen[stay.User] = struct{}{}
	}
	return len(seen)
}

// rolledUp is the mark up to which minutes have been summed up into hours, and hours into days.
const rolledUp = "rolled-up"

// rollUp sums up what is over by a time: at most one hour at a call, and its day if that ends
// with it. It returns false when nothing is left to do.
func (s *Store) rollUp(ctx context.Context, at time.Time, here Here) (more bool, err error) {
	from, err := s.mark(rolledUp)
	if err != nil {
		return false, err
	}
	if from == 0 {
		var first *int64
		if err := s.db().Raw("SELECT min(at) FROM headcounts WHERE step = ?", Minute).Scan(&first).Error; err != nil || first == nil {
			return false, err
		}
		from = *first / int64(Hour) * int64(Hour)
	}
	to := from + int64(Hour)
	if at.UnixMilli() < to {
		return false, nil
	}
	rows, err := s.sumUp(ctx, Minute, Hour, from, here)
	if err != nil {
		return false, err
	}
	if err := s.db().Transaction(func(tx *gorm.DB) error {
		if err := putHeadcounts(tx, rows); err != nil {
			return err
		}
		return putMark(tx, rolledUp, to)
	}); err != nil {
		return false, err
	}
	if to%int64(Day) == 0 {
		days, err := s.sumUp(ctx, Hour, Day, to-int64(Day), here)
		if err != nil {
			return false, err
		}
		return true, s.db().Transaction(func(tx *gorm.DB) error { return putHeadcounts(tx, days) })
	}
	return true, nil
}

// sumUp makes one step of each room out of the shorter steps in it.
func (s *Store) sumUp(ctx context.Context, of, into Step, from int64, here Here) ([]Headcount, error) {
	to := from + int64(into)
	var parts []Headcount
	if err := s.db().Where("step = ? AND at >= ? AND at < ?", of, from, to).Order("realm, room, at").Find(&parts).Error; err != nil {
		return nil, err
	}
	if of == Minute {
		ran, err := s.ran(ctx, from, to)
		if err != nil {
			return nil, err
		}
		parts = fillEach(parts, from, to, ran)
	}
	var sums []Headcount
	for i := range parts {
		p := &parts[i]
		if n := len(sums); n == 0 || sums[n-1].Realm != p.Realm || sums[n-1].Room != p.Room {
			sums = append(sums, Headcount{Realm: p.Realm, Room: p.Room, Step: into, At: from})
		}
		sums[len(sums)-1].add(p)
	}
	for i := range sums {
		stays, err := s.Attendance(ctx, sums[i].Realm, sums[i].Room, time.UnixMilli(from), time.UnixMilli(to), here)
		if err != nil {
			return nil, err
		}
		sums[i].Visitors = max(distinct(stays), sums[i].PeopleMax)
	}
	return sums, nil
}

// fillEach fills the minutes of each room.
func fillEach(rows []Headcount, begin, end int64, ran func(int64) bool) []Headcount {
	var all []Headcount
	for from := 0; from < len(rows); {
		to := from
		for to < len(rows) && rows[to].Realm == rows[from].Realm && rows[to].Room == rows[from].Room {
			to++
		}
		all = append(all, fill(rows[from:to], begin, end, ran)...)
		from = to
	}
	return all
}

const headcountValues = "people_min, people_max, people_time, people_close, sessions_min, sessions_max, sessions_time, sessions_close, span, visitors, joins, leaves, peak"

var headcountsTable = newTable("headcounts", "realm, room, step, at, "+headcountValues,
	" ON CONFLICT (realm, room, step, at) DO UPDATE SET ("+headcountValues+") = (excluded."+strings.ReplaceAll(headcountValues, ", ", ", excluded.")+")")

func putHeadcounts(tx *gorm.DB, rows []Headcount) error {
	return putRows(tx, headcountsTable, rows, func(into []any, h *Headcount) []any {
		return append(into, h.Realm, string(h.Room), int64(h.Step), h.At, h.PeopleMin, h.PeopleMax, h.PeopleTime, h.PeopleClose,
			h.SessionsMin, h.SessionsMax, h.SessionsTime, h.SessionsClose, h.Span, h.Visitors, h.Joins, h.Leaves, h.Peak)
	})
}
