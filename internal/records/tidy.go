package records

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"gorm.io/gorm"

	"tovik.example/tovik/internal/headcount"
	"tovik.example/tovik/internal/journal"
)

// Tidy deletes what is old. Which rows are old is decided once, by an owner, so that all nodes delete the
// same ones. Times are Unix milliseconds; what is before them goes.
type Tidy struct {
	Journal    int64                  `json:"journal,omitempty"` // up to this id
	Kinds      map[journal.Kind]int64 `json:"kinds,omitempty"`   // of a kind, up to this id
	Minutes    int64                  `json:"minutes,omitempty"` // headcounts by the minute
	Hours      int64                  `json:"hours,omitempty"`   // headcounts by the hour
	Typings    int64                  `json:"typings,omitempty"`
	Deliveries int64                  `json:"deliveries,omitempty"` // those that do not wait
	SignIns    int64                  `json:"sign_ins,omitempty"`
	// Summed is up to when headcounts were summed up; the sums are in Sums.
	Summed int64           `json:"summed,omitempty"`
	Sums   []headcount.Row `json:"sums,omitempty"`
}

// empty reports whether there is nothing to do.
func (t *Tidy) empty() bool {
	return t.Journal+t.Minutes+t.Hours+t.Typings+t.Deliveries+t.SignIns+t.Summed == 0 && len(t.Kinds) == 0
}

func (t *Tidy) apply(tx *gorm.DB) error {
	if err := putHeadcounts(tx, t.Sums); err != nil {
		return err
	}
	if t.Summed > 0 {
		if err := putMark(tx, rolledUp, t.Summed); err != nil {
			return err
		}
	}
	for _, kind := range slices.Sorted(maps.Keys(t.Kinds)) {
		if err := tx.Exec("DELETE FROM journal WHERE id > coalesce((SELECT value FROM marks WHERE name = ?), 0) AND id <= ? AND kind = ?", prunedMark(kind), t.Kinds[kind], kind).Error; err != nil {
			return err
		}
		if err := putMark(tx, prunedMark(kind), t.Kinds[kind]); err != nil {
			return err
		}
	}
	for _, step := range []struct {
		upTo int64
		sql  string
	}{
		{t.Journal, "DELETE FROM journal WHERE id <= ?"},
		{t.Journal, "DELETE FROM journal_minutes WHERE last <= ?"},
		{t.Minutes, fmt.Sprintf("DELETE FROM headcounts WHERE step = %d AND at < ?", headcount.Minute)},
		{t.Hours, fmt.Sprintf("DELETE FROM headcounts WHERE step = %d AND at < ?", headcount.Hour)},
		{t.Typings, "DELETE FROM typings WHERE hour < ?"},
		{t.Deliveries, "DELETE FROM deliveries WHERE state <> 'waiting' AND created < ?"},
		{t.SignIns, "DELETE FROM sign_ins WHERE expires <= ?"},
	} {
		if step.upTo == 0 {
			continue
		}
		if err := tx.Exec(step.sql, step.upTo).Error; err != nil {
			return err
		}
	}
	return nil
}

func prunedMark(kind journal.Kind) string { return "pruned " + string(kind) }

// tidyRows is about how many rows of a table one Tidy deletes, so that no node is held up for long.
const tidyRows = 20_000

// Tidying returns what should be deleted and summed up next, or nil. It may be a part of what is due: ask
// again after it was put.
func (s *Store) Tidying(ctx context.Context, keep Retention, at time.Time) (*Tidy, error) {
	keep = keep.withDefaults()
	ago := func(d time.Duration) int64 { return at.Add(-d).UnixMilli() }
	t := &Tidy{Kinds: map[journal.Kind]int64{}}
	var err error
	if t.Summed, t.Sums, err = s.sums(ctx, at.Add(-2*markEvery)); err != nil {
		return nil, err
	}
	first, last, err := s.JournalEnds(ctx)
	if err != nil {
		return nil, err
	}
	old, err := s.idBefore(ctx, ago(keep.Journal))
	if err != nil {
		return nil, err
	}
	if upTo := min(max(old, last-keep.JournalRows), first+tidyRows); first > 0 && upTo >= first {
		t.Journal = upTo
	}
	for _, kind := range journal.Kinds {
		upTo, err := s.kindUpTo(ctx, kind, keep, ago)
		if err != nil {
			return nil, err
		}
		if upTo == 0 { // as for most kinds
			continue
		}
		done, err := s.mark(prunedMark(kind))
		if err != nil {
			return nil, err
		}
		// By stretches of ids, lest the same rows be looked at again and again.
		if upTo = min(upTo, max(done, first)+100*pruneRows); upTo > done {
			t.Kinds[kind] = upTo
		}
	}
	for _, table := range []struct {
		upTo   *int64
		before int64
		oldest string // the time up to which the oldest rows go
	}{
		{&t.Minutes, ago(keep.Minutes), fmt.Sprintf("SELECT at + 1 FROM headcounts INDEXED BY headcounts_by_time WHERE step = %d AND at < ? ORDER BY at LIMIT 1 OFFSET %d", headcount.Minute, tidyRows)},
		{&t.Hours, ago(keep.Hours), fmt.Sprintf("SELECT at + 1 FROM headcounts INDEXED BY headcounts_by_time WHERE step = %d AND at < ? ORDER BY at LIMIT 1 OFFSET %d", headcount.Hour, tidyRows)},
		{&t.Typings, ago(keep.Journal), fmt.Sprintf("SELECT hour + 1 FROM typings INDEXED BY typings_by_hour WHERE hour < ? ORDER BY hour LIMIT 1 OFFSET %d", tidyRows)},
		{&t.Deliveries, ago(keep.Deliveries), fmt.Sprintf("SELECT created + 1 FROM deliveries WHERE state <> 'waiting' AND created < ? ORDER BY created LIMIT 1 OFFSET %d", tidyRows)},
		{&t.SignIns, at.UnixMilli(), fmt.Sprintf("SELECT expires FROM sign_ins WHERE expires <= ? ORDER BY expires LIMIT 1 OFFSET %d", tidyRows)},
	} {
		if *table.upTo, err = s.oldest(ctx, table.before, table.oldest); err != nil {
			return nil, err
		}
	}
	if t.empty() {
		return nil, nil
	}
	return t, nil
}

// oldest returns up to when rows before a time go: all of them, or about tidyRows; 0 if there are none.
func (s *Store) oldest(ctx context.Context, before int64, query string) (upTo int64, err error) {
	var cut []int64
	if err := s.reading(ctx).Raw(query, before).Scan(&cut).Error; err != nil || len(cut) > 0 {
		return append(cut, 0)[0], err
	}
	query = query[:len(query)-len(fmt.Sprintf(" OFFSET %d", tidyRows))]
	if err := s.reading(ctx).Raw(query, before).Scan(&cut).Error; err != nil || len(cut) == 0 {
		return 0, err
	}
	return before, nil
}
