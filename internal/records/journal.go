package records

import (
	"context"
	"math"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
)

// journalMinute is the range of ids of the entries of a minute.
type journalMinute struct {
	Minute      int64 `gorm:"primaryKey;autoIncrement:false"`
	First, Last int64
}

// The indexes of rooms and people go by blocks of entries: first the block, then the room or the person.
// New entries only touch the part of the newest block, which stays in the cache. Without blocks they would go to
// random places of indexes that keep growing, and take ever longer. A query goes from block to block.
const (
	block     = "id >> 18" // as the indexes have it
	blockBits = 18         // an index of so many entries takes about 8 MB
)

// idRange is a range of ids, with both ends.
type idRange struct{ first, last int64 }

// block returns the block of a range that lies within one.
func (r idRange) block() int64 { return r.first >> blockBits }

// blocks divides a range into blocks, in order, without those that have no entries.
func blocks(db *gorm.DB, ids idRange) ([]idRange, error) {
	if ids.first>>blockBits == ids.last>>blockBits {
		return []idRange{ids}, nil
	}
	var found []int64
	err := db.Raw(`WITH RECURSIVE blocks (n) AS (
			SELECT (SELECT min(id) FROM journal WHERE id BETWEEN @first AND @last) >> @bits
			UNION ALL SELECT (SELECT min(id) FROM journal WHERE id BETWEEN (n + 1) << @bits AND @last) >> @bits FROM blocks WHERE n < @last >> @bits)
		SELECT n FROM blocks WHERE n IS NOT NULL`, map[string]any{"first": ids.first, "last": ids.last, "bits": blockBits}).Scan(&found).Error
	ranges := make([]idRange, len(found))
	for i, n := range found {
		ranges[i] = idRange{max(ids.first, n<<blockBits), min(ids.last, n<<blockBits+(1<<blockBits-1))}
	}
	return ranges, err
}

// wholeJournal is the range of all ids.
var wholeJournal = idRange{1, math.MaxInt64}

// JournalQuery asks for entries of a realm. A zero field is no condition.
type JournalQuery struct {
	Realm    string
	From, To time.Time // from the one, before the other
	Rooms    []presence.Pattern
	Users    []presence.UserID
	About    presence.UserID // somebody whom the entry names in any way
	Kinds    []journal.Kind
	After    int64 // only entries with a higher id
	Before   int64 // only entries with a lower id
	Backward bool  // the newest first
}

// chunk is how many rows a query reads at once. A longer query would keep the file from being
// tidied.
const chunk = 1000

// Journal returns up to limit entries.
func (s *Store) Journal(ctx context.Context, q JournalQuery, limit int) ([]journal.Entry, error) {
	var page []journal.Entry
	err := s.EachEntry(ctx, q, min(limit, chunk), func(more []journal.Entry) bool {
		page = append(page, more[:min(len(more), limit-len(page))]...)
		return len(page) < limit
	})
	return page, err
}

// EachEntry calls each with the entries in order, size of them at once, until it returns false.
// Entries that are added meanwhile may or may not be included.
func (s *Store) EachEntry(ctx context.Context, q JournalQuery, size int, each func([]journal.Entry) bool) error {
	first, last, err := s.idsBetween(ctx, q.From, q.To)
	if err != nil {
		return err
	}
	ranges := []idRange{{max(first, q.After+1), min(last, before(q.Before))}}
	if q.indexed() {
		if ranges, err = blocks(s.reading(ctx), ranges[0]); err != nil {
			return err
		}
	}
	if q.Backward {
		slices.Reverse(ranges)
	}
	for _, ids := range ranges {
		if more, err := s.eachOf(ctx, q, ids, size, each); err != nil || !more {
			return err
		}
	}
	return nil
}

// eachOf calls each with the entries of a range. It reports whether each wants more.
func (s *Store) eachOf(ctx context.Context, q JournalQuery, ids idRange, size int, each func([]journal.Entry) bool) (more bool, err error) {
	for ids.first <= ids.last {
		var rows []journal.Entry
		query := q.narrow(s.reading(ctx), ids).Limit(size)
		if q.Backward {
			query = query.Order("id DESC")
		} else {
			query = query.Order("id")
		}
		if err := query.Find(&rows).Error; err != nil {
			return false, err
		}
		if len(rows) == 0 {
			return true, nil
		}
		if q.Backward {
			ids.last = rows[len(rows)-1].ID - 1
		} else {
			ids.first = rows[len(rows)-1].ID + 1
		}
		all := len(rows) < size
		rows = slices.DeleteFunc(rows, func(e journal.Entry) bool { return !q.has(&e) })
		if len(rows) > 0 && !each(rows) {
			return false, nil
		}
		if all {
			return true, nil
		}
	}
	return true, nil
}

func before(id int64) int64 {
	if id == 0 {
		return math.MaxInt64
	}
	return id - 1
}

// indexed reports whether an index leads to the entries; otherwise all of a range are looked at.
func (q *JournalQuery) indexed() bool { return len(q.Users) > 0 || q.About != "" || q.oneRoom() }

func (q *JournalQuery) oneRoom() bool {
	return len(q.Rooms) == 1 && !strings.Contains(string(q.Rooms[0]), "*")
}

// narrow adds the conditions that the database can check, for a range of ids. If the query is indexed, it
// lies within a block.
func (q *JournalQuery) narrow(db *gorm.DB, ids idRange) *gorm.DB {
	db = db.Where("realm = ? AND id BETWEEN ? AND ?", q.Realm, ids.first, ids.last)
	if q.indexed() {
		db = db.Where(block+" = ?", ids.block())
	}
	switch {
	case len(q.Users) == 1:
		db = db.Where("user = ? AND user <> ''", q.Users[0])
	case len(q.Users) > 1:
		db = db.Where("user IN ? AND user <> ''", q.Users)
	case q.oneRoom():
		db = db.Where("room = ? AND room <> ''", q.Rooms[0])
	}
	if q.About != "" {
		db = db.Where("((user = ? AND user <> '') OR (other = ? AND other <> ''))", q.About, q.About)
	}
	if q.Kinds != nil {
		db = db.Where("+kind IN ?", q.Kinds)
	}
	return db
}

// has checks the remaining conditions.
func (q *JournalQuery) has(e *journal.Entry) bool {
	switch {
	case !q.From.IsZero() && e.At < q.From.UnixMilli(), !q.To.IsZero() && e.At >= q.To.UnixMilli():
		return false
	case q.Rooms == nil:
		return true
	}
	return e.Room != "" && slices.ContainsFunc(q.Rooms, func(p presence.Pattern) bool { return p.Match(e.Room) })
}

// idsBetween returns the range of ids of the entries between two times.
func (s *Store) idsBetween(ctx context.Context, from, to time.Time) (first, last int64, err error) {
	first, last = 1, math.MaxInt64
	if from.IsZero() && to.IsZero() {
		return first, last, nil
	}
	begin, end := int64(0), int64(math.MaxInt64)
	if !from.IsZero() {
		begin = from.UnixMilli() / 60_000
	}
	if !to.IsZero() {
		end = to.UnixMilli() / 60_000
	}
	var found struct{ First, Last *int64 }
	err = s.reading(ctx).Raw("SELECT min(first) AS first, max(last) AS last FROM journal_minutes WHERE minute BETWEEN ? AND ?", begin, end).Scan(&found).Error
	if err != nil || found.First == nil {
		return 1, 0, err
	}
	first = *found.First
	if !to.IsZero() {
		last = *found.Last
	}
	return first, last, nil
}

// JournalEnds returns the lowest and the highest id; 0 if the journal is empty.
func (s *Store) JournalEnds(ctx context.Context) (first, last int64, err error) {
	var found struct{ First, Last int64 }
	err = s.reading(ctx).Raw("SELECT coalesce(min(id), 0) AS first, (SELECT coalesce(max(id), 0) FROM journal) AS last FROM journal").Scan(&found).Error
	return found.First, found.Last, err
}

// ImportEntries adds entries exported from another service under their ids, which must be free.
func (s *Store) ImportEntries(entries []journal.Entry) error {
	err := s.db().Transaction(func(tx *gorm.DB) error {
		if err := created(putEntriesAt(tx, entries)); err != nil {
			return err
		}
		return addMinutes(tx, entries)
	})
	if err != nil {
		return err
	}
	return s.boundLog()
}

// addMinutes updates the index by time.
func addMinutes(tx *gorm.DB, entries []journal.Entry) error {
	spans := map[int64]*journalMinute{}
	for i := range entries {
		minute, id := entries[i].At/60_000, entries[i].ID
		if m := spans[minute]; m == nil {
			spans[minute] = &journalMinute{minute, id, id}
		} else {
			m.First, m.Last = min(m.First, id), max(m.Last, id)
		}
	}
	for _, m := range spans {
		err := tx.Exec(`INSERT INTO journal_minutes (minute, first, last) VALUES (?, ?, ?)
			ON CONFLICT (minute) DO UPDATE SET first = min(first, excluded.first), last = max(last, excluded.last)`, m.Minute, m.First, m.Last).Error
		if err != nil {
			return err
		}
	}
	return nil
}
