package records

import (
	"context"
	"time"

	"tovik.example/tovik/internal/headcount"
	"tovik.example/tovik/internal/journal"
)

// Retention says how long records are kept. What is older is deleted, a little at a time.
type Retention struct {
	Journal     time.Duration                  // of entries; 0: 90 days
	Kinds       map[journal.Kind]time.Duration // of entries of a kind, where it differs
	JournalRows int64                          // at most so many entries, the newest; 0: 20 million
	KindRows    map[journal.Kind]int64         // at most so many of a kind
	Minutes     time.Duration                  // of headcounts by the minute; 0: 14 days
	Hours       time.Duration                  // of headcounts by the hour; 0: 400 days
	Deliveries  time.Duration                  // that were delivered or parked; 0: 7 days
}

// withDefaults replaces zero fields by their defaults.
func (r Retention) withDefaults() Retention {
	const day = 24 * time.Hour
	for field, value := range map[*time.Duration]time.Duration{&r.Journal: 90 * day, &r.Minutes: 14 * day, &r.Hours: 400 * day, &r.Deliveries: 7 * day} {
		if *field == 0 {
			*field = value
		}
	}
	if r.JournalRows == 0 {
		r.JournalRows = 20_000_000
	}
	return r
}

const (
	tidyEvery = 10 * time.Second
	pruneRows = 500 // deleted at once
	// countKindsEvery is how often entries of a kind are counted, for which the whole journal
	// may have to be read.
	countKindsEvery = 10 * time.Minute
	prunePause      = 20 * time.Millisecond // between, in which others write
)

// tidy sums up minutes and deletes what is old, until ctx is done.
func (w *Writer) tidy(ctx context.Context) {
	ticker := time.NewTicker(tidyEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		if w.Health().Failing != nil {
			continue
		}
		err := w.rollUp(ctx, time.Now())
		if err == nil {
			err = w.prune(ctx, time.Now())
		}
		if err != nil && ctx.Err() == nil {
			w.log.Warn("deleting old records failed", "error", err)
		}
	}
}

// rollUp sums up all hours that are over, a little after their last minute was written.
func (w *Writer) rollUp(ctx context.Context, now time.Time) error {
	for {
		if more, err := w.store.rollUp(ctx, now.Add(-2*markEvery)); err != nil || !more || ctx.Err() != nil {
			return err
		}
	}
}

// prune deletes what is too old, in small steps.
func (w *Writer) prune(ctx context.Context, now time.Time) error {
	keep := *w.retention.Load()
	ago := func(d time.Duration) int64 { return now.Add(-d).UnixMilli() }
	steps := []struct {
		sql  string
		args []any
	}{
		{"DELETE FROM headcounts WHERE (realm, room, step, at) IN (SELECT realm, room, step, at FROM headcounts INDEXED BY headcounts_by_time WHERE step = ? AND at < ? LIMIT ?)", []any{headcount.Minute, ago(keep.Minutes)}},
		{"DELETE FROM headcounts WHERE (realm, room, step, at) IN (SELECT realm, room, step, at FROM headcounts INDEXED BY headcounts_by_time WHERE step = ? AND at < ? LIMIT ?)", []any{headcount.Hour, ago(keep.Hours)}},
		{"DELETE FROM typings WHERE (realm, room, hour, length, expired) IN (SELECT realm, room, hour, length, expired FROM typings INDEXED BY typings_by_hour WHERE hour < ? LIMIT ?)", []any{ago(keep.Journal)}},
		{"DELETE FROM deliveries WHERE id IN (SELECT id FROM deliveries WHERE state <> 'waiting' AND created < ? LIMIT ?)", []any{ago(keep.Deliveries)}},
	}
	_, last, err := w.store.JournalEnds(ctx)
	if err != nil {
		return err
	}
	old, err := w.store.idBefore(ctx, ago(keep.Journal))
	if err != nil {
		return err
	}
	steps = append(steps, struct {
		sql  string
		args []any
	}{"DELETE FROM journal WHERE id IN (SELECT id FROM journal WHERE id <= ? ORDER BY id LIMIT ?)", []any{max(old, last-keep.JournalRows)}})
	if now.Sub(w.counted) < countKindsEvery {
		keep.KindRows = nil
	} else {
		w.counted = now
	}
	for _, kind := range journal.Kinds {
		upTo, err := w.store.kindUpTo(ctx, kind, keep, ago)
		if err != nil {
			return err
		}
		if upTo == 0 { // as for most kinds
			continue
		}
		done, err := w.store.mark("pruned " + string(kind))
		if err != nil {
			return err
		}
		if upTo <= done {
			continue
		}
		// By stretches of ids, lest the same rows be looked at again and again.
		upTo = min(upTo, done+100*pruneRows)
		if err := w.delete(ctx, "DELETE FROM journal WHERE id IN (SELECT id FROM journal WHERE id > ? AND id <= ? AND kind = ? LIMIT ?)", done, upTo, kind); err != nil {
			return err
		}
		if err := putMark(w.store.db(), "pruned "+string(kind), upTo); err != nil {
			return err
		}
	}
	for _, step := range steps {
		if err := w.delete(ctx, step.sql, step.args...); err != nil {
			return err
		}
	}
	return w.store.db().Exec("DELETE FROM journal_minutes WHERE last < (SELECT coalesce(min(id), 0) FROM journal)").Error
}

// kindUpTo returns the id up to which the entries of a kind are too old, or too many.
func (s *Store) kindUpTo(ctx context.Context, kind journal.Kind, keep Retention, ago func(time.Duration) int64) (upTo int64, err error) {
	if age, ok := keep.Kinds[kind]; ok {
		if upTo, err = s.idBefore(ctx, ago(age)); err != nil {
			return 0, err
		}
	}
	if most, ok := keep.KindRows[kind]; ok {
		var over *int64
		if err := s.reading(ctx).Raw("SELECT id FROM journal WHERE kind = ? ORDER BY id DESC LIMIT 1 OFFSET ?", kind, most).Scan(&over).Error; err != nil {
			return 0, err
		}
		if over != nil {
			upTo = max(upTo, *over)
		}
	}
	return upTo, nil
}

// delete repeats a statement that deletes some rows, whose last parameter is how many, until
// none are left.
func (w *Writer) delete(ctx context.Context, sql string, args ...any) error {
	for ctx.Err() == nil {
		result := w.store.db().Exec(sql, append(args[:len(args):len(args)], pruneRows)...)
		if result.Error != nil || result.RowsAffected < pruneRows {
			return result.Error
		}
		select {
		case <-ctx.Done():
		case <-time.After(prunePause):
		}
	}
	return nil
}

// idBefore returns the highest id of an entry before a time; 0 if there is none.
func (s *Store) idBefore(ctx context.Context, at int64) (id int64, err error) {
	return id, s.reading(ctx).Raw("SELECT coalesce(max(last), 0) FROM journal_minutes WHERE minute < ?", at/60_000).Scan(&id).Error
}
