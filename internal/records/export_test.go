package records

import (
	"gorm.io/gorm"

	"tovik.example/tovik/internal/journal"
)

// HoldAtMost changes the limit of waiting entries, normally 200,000. Call it before Run.
func (w *Writer) HoldAtMost(entries int) { w.most = entries }

// BoundLogAt changes the limit of the write-ahead log, normally 256 MB.
func (s *Store) BoundLogAt(bytes int64) { s.mostLog = bytes }

// Migrations are those that make each version of the file.
var Migrations = migrations

// Plan says how the database finds the entries of a query within a block.
func (s *Store) Plan(q JournalQuery) (plan []string, err error) {
	sql := s.db().ToSQL(func(tx *gorm.DB) *gorm.DB {
		return q.narrow(tx, idRange{0, 1<<blockBits - 1}).Order("id").Limit(10).Find(&[]journal.Entry{})
	})
	var steps []struct{ Detail string }
	err = s.db().Raw("EXPLAIN QUERY PLAN " + sql).Scan(&steps).Error
	for _, step := range steps {
		plan = append(plan, step.Detail)
	}
	return plan, err
}
