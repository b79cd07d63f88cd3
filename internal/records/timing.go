package records

import (
	"context"
	"database/sql"
	"time"

	"gorm.io/gorm"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/timing"
)

var typingsTable = newTable("typings", "realm, room, hour, length, expired, times",
	" ON CONFLICT (realm, room, hour, length, expired) DO UPDATE SET times = times + excluded.times")

// putTypings adds to how often there was typing.
func putTypings(tx *gorm.DB, typings map[timing.Typing]int64) error {
	rows := make([]timing.Typing, 0, len(typings))
	for t, times := range typings {
		t.Times = times
		rows = append(rows, t)
	}
	return addTypings(tx, rows)
}

func addTypings(tx *gorm.DB, rows []timing.Typing) error {
	return putRows(tx, typingsTable, rows, func(into []any, t *timing.Typing) []any {
		return append(into, t.Realm, string(t.Room), t.Hour, t.Length, t.Expired, t.Times)
	})
}

// Typings returns how often there was typing in the rooms of a realm, that ended in the hours
// between two times.
func (s *Store) Typings(ctx context.Context, realm string, from, to time.Time) ([]timing.Typing, error) {
	var rows []timing.Typing
	return rows, s.reading(ctx).Raw("SELECT * FROM typings WHERE realm = ? AND hour > ? AND hour < ? ORDER BY room, hour, length, expired",
		realm, from.Add(-time.Hour).UnixMilli(), to.UnixMilli()).Scan(&rows).Error
}

// moves is how many entries are read at once for a study. Between, the file can be tidied.
const moves = 5000

// EachMove calls each with the entries between two times that say how sessions came, went and
// were active, in order. It reads far more of them than [Store.EachEntry] in the same time.
// Progress, from 0 to 1, is told after each piece. The entry is valid during the call only.
func (s *Store) EachMove(ctx context.Context, realm string, from, to time.Time, progress func(float64), each func(*journal.Entry)) error {
	first, last, err := s.idsBetween(ctx, from, to)
	if err != nil {
		return err
	}
	_, highest, err := s.JournalEnds(ctx)
	if err != nil {
		return err
	}
	last = min(last, highest)
	pool, err := s.reading(ctx).DB()
	if err != nil {
		return err
	}
	begin := first
	names := names{}
	for first <= last {
		upTo := min(first+moves-1, last)
		if err := readMoves(ctx, pool, realm, first, upTo, func(e *journal.Entry) {
			if e.At < from.UnixMilli() || e.At >= to.UnixMilli() {
				return
			}
			names.share(e)
			each(e)
		}); err != nil {
			return err
		}
		first = upTo + 1
		progress(float64(first-begin) / float64(last-begin+1))
	}
	return nil
}

func readMoves(ctx context.Context, pool *sql.DB, realm string, first, last int64, each func(*journal.Entry)) error {
	rows, err := pool.QueryContext(ctx, `SELECT id, at, kind, room, user, session, over, reason, length, lost, wanted, unheard, page_hidden FROM journal
		WHERE id BETWEEN ? AND ? AND realm = ? ORDER BY id`, first, last, realm)
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	e := journal.Entry{Realm: realm}
	for rows.Next() {
		if err := rows.Scan(&e.ID, &e.At, &e.Kind, &e.Room, &e.User, &e.Session, &e.Over, &e.Reason, &e.Length, &e.Lost, &e.Wanted, &e.Unheard, &e.PageHidden); err != nil {
			return err
		}
		each(&e)
	}
	return rows.Err()
}

// names keeps one copy of each name that comes again and again.
type names map[string]string

// mostNames limits how many are kept.
const mostNames = 100_000

func (n names) share(e *journal.Entry) {
	e.Room, e.User = presence.RoomName(n.one(string(e.Room))), presence.UserID(n.one(string(e.User)))
	e.Over, e.Reason, e.Kind = n.one(e.Over), n.one(e.Reason), journal.Kind(n.one(string(e.Kind)))
}

func (n names) one(name string) string {
	if kept, ok := n[name]; ok {
		return kept
	}
	if len(n) < mostNames {
		n[name] = name
	}
	return name
}
