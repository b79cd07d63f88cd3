// Package headcount turns the effects of a core into the number of people and sessions in each
// room, minute by minute. It is a pure fold: it needs nothing but the effects, and knows no
// database. It may import presence.
package headcount

import "tovik.example/tovik/internal/presence"

// Step is the length of time of a headcount.
type Step int64

// The steps, in milliseconds.
const (
	Minute Step = 60_000
	Hour   Step = 60 * Minute
	Day    Step = 24 * Hour
)

// Begin returns the beginning, in UTC, of the step that contains a time in Unix milliseconds.
func (s Step) Begin(at int64) int64 { return at / int64(s) * int64(s) }

// Row is how many were in a room, or with an empty Room in the realm, during a step. Sums over
// time are in people, or sessions, times milliseconds.
//
// A minute in which nothing changed has no row: it is as the minute before it was at its end.
// The first minute of each hour, and of each start of the service, has a row for every room that
// somebody is in.
type Row struct {
	Realm         string            `gorm:"primaryKey" json:",omitzero"`
	Room          presence.RoomName `gorm:"primaryKey" json:",omitzero"`
	Step          Step              `gorm:"primaryKey;autoIncrement:false" json:",omitzero"`
	At            int64             `gorm:"primaryKey;autoIncrement:false" json:",omitzero"` // Unix milliseconds: where it begins, in UTC
	PeopleMin     int               `json:",omitzero"`
	PeopleMax     int               `json:",omitzero"`
	PeopleTime    int64             `json:",omitzero"`
	PeopleClose   int               `json:",omitzero"`
	SessionsMin   int               `json:",omitzero"`
	SessionsMax   int               `json:",omitzero"`
	SessionsTime  int64             `json:",omitzero"`
	SessionsClose int               `json:",omitzero"`
	Span          int64             `json:",omitzero"` // milliseconds of it in which the service ran
	Visitors      int               `json:",omitzero"` // distinct people
	Joins, Leaves int               `json:",omitzero"`
	LinksMax      int               `json:",omitzero"` // sessions with a link; of the realm only, as all that follow
	LinksClose    int               `json:",omitzero"`
	Cues          int               `json:",omitzero"` // that were given
	Peak          int64             `json:",omitzero"` // when there were the most people, the first time; Unix milliseconds
}

// TableName is for gorm.
func (Row) TableName() string { return "headcounts" }

// Add extends a headcount by the next one.
func (h *Row) Add(next *Row) {
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
	h.LinksMax, h.LinksClose = max(h.LinksMax, next.LinksMax), next.LinksClose
	h.Cues += next.Cues
}

// start returns the number of people at the beginning of the step.
func (h *Row) start() int { return h.PeopleClose - h.Joins + h.Leaves }

// steady returns a step in which nothing changes after h.
func (h *Row) steady(at int64, step Step) Row {
	p, s := h.PeopleClose, h.SessionsClose
	return Row{Realm: h.Realm, Room: h.Room, Step: step, At: at, PeopleMin: p, PeopleMax: p, PeopleTime: int64(p) * int64(step), PeopleClose: p,
		SessionsMin: s, SessionsMax: s, SessionsTime: int64(s) * int64(step), SessionsClose: s, Span: int64(step), Visitors: p, Peak: at,
		LinksMax: h.LinksClose, LinksClose: h.LinksClose}
}

// Fill adds the minutes from begin to end in which nothing changed. Rows are those of one room,
// by time, from the hour of begin on; before the first row the room was empty. Ran reports
// whether the service ran throughout the minute that begins at a time.
func Fill(rows []Row, begin, end int64, ran func(at int64) bool) []Row {
	if len(rows) == 0 {
		return nil
	}
	var all []Row
	last := &Row{Realm: rows[0].Realm, Room: rows[0].Room}
	next := 0
	for at := Hour.Begin(begin); at < end; at += int64(Minute) {
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

// SumUp sums up the shorter steps of one room. Parts are all of them, by time. Came is the
// number of people who came during the step and were not there at its beginning.
func SumUp(parts []Row, into Step, came int) Row {
	sum := Row{Realm: parts[0].Realm, Room: parts[0].Room, Step: into, At: into.Begin(parts[0].At)}
	for i := range parts {
		sum.Add(&parts[i])
	}
	sum.Visitors = max(parts[0].start()+came, sum.Visitors)
	return sum
}
