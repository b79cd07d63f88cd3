package records

import (
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// markEvery is how often it is noted that the service runs: what bounds how wrong times
// are after a crash.
const markEvery = time.Second

// Run is one run of the service. Times are Unix milliseconds.
type Run struct {
	ID      int64 `gorm:"primaryKey"`
	Started int64
	Mark    int64 // when it was last known to run
	Stopped int64 // 0: it runs, or has crashed
}

// LastRun returns the previous run; zero if there is none.
func (s *Store) LastRun() (Run, error) {
	var run Run
	return run, s.db().Order("id DESC").Limit(1).Find(&run).Error
}

// mark reads a number that is kept under a name; 0 if there is none.
func (s *Store) mark(name string) (value int64, err error) {
	return value, s.db().Raw("SELECT coalesce(max(value), 0) FROM marks WHERE name = ?", name).Scan(&value).Error
}

type mark struct {
	Name  string `gorm:"primaryKey"`
	Value int64
}

func putMark(tx *gorm.DB, name string, value int64) error {
	return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&mark{name, value}).Error
}
