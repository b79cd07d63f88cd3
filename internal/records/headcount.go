package records

import (
	"context"
	"math"
	"strings"
	"time"

	"gorm.io/gorm"

	"tovik.example/tovik/internal/headcount"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
)

// HeadcountQuery asks for steps of a room, or of the whole realm with an empty room.
type HeadcountQuery struct {
	Realm    string
	Room     presence.RoomName
	Step     headcount.Step
	From, To time.Time // from the one, before the other
	Most     int
}

func (q *HeadcountQuery) between(db *gorm.DB, from, to int64) *gorm.DB {
	return db.Where("realm = ? AND room = ? AND step = ? AND at >= ? AND at < ?", q.Realm, q.Room, q.Step, from, to)
}

// Headcounts returns steps in order, without gaps while the service ran.
func (s *Store) Headcounts(ctx context.Context, q HeadcountQuery) ([]headcount.Row, error) {
	begin := q.Step.Begin(q.From.UnixMilli())
	end := min(q.To.UnixMilli(), time.Now().UnixMilli())
	end = min(end, begin+int64(q.Most)*int64(q.Step))
	var rows []headcount.Row
	anchor := headcount.Hour.Begin(begin)
	if q.Step != headcount.Minute {
		anchor = begin
	}
	err := q.between(s.reading(ctx), anchor, end).Order("at").Find(&rows).Error
	if err != nil || q.Step != headcount.Minute {
		return rows, err
	}
	ran, err := s.ran(ctx, anchor, end)
	if err != nil {
		return nil, err
	}
	return headcount.Fill(rows, begin, end, ran), nil
}

// ran returns a function that tells whether the service ran throughout a minute.
func (s *Store) ran(ctx context.Context, begin, end int64) (func(at int64) bool, error) {
	var runs []Run
	if err := s.reading(ctx).Where("mark >= ? AND started < ?", begin, end).Order("id").Find(&runs).Error; err != nil {
		return nil, err
	}
	return func(at int64) bool {
		for _, r := range runs {
			if r.Started <= at && r.Mark+int64(markEvery/time.Millisecond)*5 >= at+int64(headcount.Minute) {
				return true
			}
		}
		return false
	}, nil
}

// Usage returns the steps of the realm between two times, by time: days, and hours of the day that is not over; or only
// hours. Minutes follow where hours are not summed up yet.
func (s *Store) Usage(ctx context.Context, realm string, hourly bool, from, to time.Time) ([]headcount.Row, error) {
	summed, err := s.mark(rolledUp)
	if err != nil {
		return nil, err
	}
	begin, end := from.UnixMilli(), to.UnixMilli()
	days := begin
	if !hourly {
		days = max(headcount.Day.Begin(summed), begin)
	}
	var rows []headcount.Row
	for _, part := range []struct {
		step     headcount.Step
		from, to int64
	}{{headcount.Day, begin, min(days, end)}, {headcount.Hour, days, min(summed, end)}} {
		var some []headcount.Row
		if err := s.reading(ctx).Where("realm = ? AND room = '' AND step = ? AND at >= ? AND at < ?", realm, part.step, part.from, part.to).Order("at").Find(&some).Error; err != nil {
			return nil, err
		}
		rows = append(rows, some...)
	}
	if last := time.UnixMilli(max(summed, begin)); last.Before(to) {
		minutes, err := s.Headcounts(ctx, HeadcountQuery{Realm: realm, Step: headcount.Minute, From: last, To: to, Most: math.MaxInt32})
		if err != nil {
			return nil, err
		}
		rows = append(rows, minutes...)
	}
	return rows, nil
}

// Peaks returns the steps with the most people, highest first.
func (s *Store) Peaks(ctx context.Context, q HeadcountQuery) ([]headcount.Row, error) {
	var rows []headcount.Row
	err := q.between(s.reading(ctx), q.From.UnixMilli(), q.To.UnixMilli()).Order("people_max DESC, at").Limit(q.Most).Find(&rows).Error
	return rows, err
}

// CountedRooms returns the rooms that have headcounts between two times, by name.
func (s *Store) CountedRooms(ctx context.Context, realm string, from, to time.Time) ([]presence.RoomName, error) {
	var rooms []presence.RoomName
	return rooms, s.reading(ctx).Raw(`SELECT DISTINCT room FROM headcounts WHERE realm = ? AND step = ? AND at >= ? AND at < ? AND room <> '' ORDER BY room`,
		realm, headcount.Minute, headcount.Hour.Begin(from.UnixMilli()), to.UnixMilli()).Scan(&rooms).Error
}

// Stay is one person's stay in a room, or in the realm.
type Stay struct {
	User   presence.UserID
	Joined int64 // Unix milliseconds
	Left   int64 // the same; 0: still there
}

// Attendance returns who was in a room between two times, by when they joined, as far as the
// journal reaches. Here are those who are there now.
func (s *Store) Attendance(ctx context.Context, realm string, room presence.RoomName, from, to time.Time, here []Stay) ([]Stay, error) {
	end := to.UnixMilli()
	q := JournalQuery{Realm: realm, From: from, Kinds: []journal.Kind{journal.MemberLeft}, Rooms: []presence.Pattern{presence.Pattern(room)}}
	if room == "" {
		q.Kinds, q.Rooms = []journal.Kind{journal.SessionEnded}, nil
	}
	var stays []Stay
	err := s.EachEntry(ctx, q, chunk, func(page []journal.Entry) bool {
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
	for _, stay := range here {
		if stay.Joined < end {
			stays = append(stays, stay)
		}
	}
	return stays, nil
}

const headcountValues = "people_min, people_max, people_time, people_close, sessions_min, sessions_max, sessions_time, sessions_close, span, visitors, joins, leaves, peak, links_max, links_close, cues"

var headcountsTable = newTable("headcounts", "realm, room, step, at, "+headcountValues,
	" ON CONFLICT (realm, room, step, at) DO UPDATE SET ("+headcountValues+") = (excluded."+strings.ReplaceAll(headcountValues, ", ", ", excluded.")+")")

func putHeadcounts(tx *gorm.DB, rows []headcount.Row) error {
	return putRows(tx, headcountsTable, rows, func(into []any, h *headcount.Row) []any {
		return append(into, h.Realm, string(h.Room), int64(h.Step), h.At, h.PeopleMin, h.PeopleMax, h.PeopleTime, h.PeopleClose,
			h.SessionsMin, h.SessionsMax, h.SessionsTime, h.SessionsClose, h.Span, h.Visitors, h.Joins, h.Leaves, h.Peak, h.LinksMax, h.LinksClose, h.Cues)
	})
}
