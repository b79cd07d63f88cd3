package records

import (
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
	driver "modernc.org/sqlite" // in pure Go
	codes "modernc.org/sqlite/lib"
)

// file is the name of the database in the data directory.
const file = "tovik.db"

// Memory as a data directory stands for records that end with the service.
const Memory = ":memory:"

// ErrNotFound says that there is no such row, and ErrExists that there is one already.
var (
	ErrNotFound = errors.New("not found")
	ErrExists   = errors.New("it exists already")
)

// Store is the open file. Its methods are safe for concurrent use.
type Store struct{ db *gorm.DB }

// Open opens the records of a data directory, or with [Memory] or an empty name some
// that are not kept. The tables are made, or brought up to what this version knows. The
// error says what to do when the file is of a newer version, locked, or broken.
func Open(dir string) (*Store, error) {
	path, where := "file::memory:", "the records in memory"
	if dir != Memory && dir != "" {
		path, where = filepath.Join(dir, file), filepath.Join(dir, file)
		if f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600); err != nil { // it holds secrets
			return nil, fmt.Errorf("the records cannot be opened: %w", err)
		} else if err := f.Close(); err != nil {
			return nil, err
		}
	}
	dsn := path + "?_pragma=busy_timeout(5000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(1)"
	db, err := gorm.Open(sqlite.Dialector{DriverName: "sqlite", DSN: dsn}, &gorm.Config{
		Logger: logger.NewSlogLogger(slog.New(slog.DiscardHandler), logger.Config{}),
	})
	if err != nil {
		return nil, fmt.Errorf("%s cannot be opened: %w", where, err)
	}
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(1) // one writer; and memory is that of one connection
	if err := migrate(db); err != nil {
		_ = pool.Close()
		return nil, fmt.Errorf("%s: %w", where, err)
	}
	return &Store{db}, nil
}

// Close ends the use of the file.
func (s *Store) Close() error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return pool.Close()
}

// migrations bring the file from each version to the next. One that has been released
// is never changed.
var migrations = []func(*gorm.DB) error{
	func(db *gorm.DB) error { return db.AutoMigrate(&Realm{}, &OperatorKey{}, &TokenKey{}, &Removal{}) },
}

func migrate(db *gorm.DB) error {
	var version int
	if err := db.Raw("PRAGMA user_version").Scan(&version).Error; err != nil {
		return fmt.Errorf("this is no file of Tovik's, or it is broken: %w", err)
	}
	if version > len(migrations) {
		return fmt.Errorf("the file is of version %d, and this Tovik knows up to %d: run the newer Tovik, or restore a backup from before", version, len(migrations))
	}
	for ; version < len(migrations); version++ {
		err := db.Transaction(func(tx *gorm.DB) error {
			if err := migrations[version](tx); err != nil {
				return err
			}
			return tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", version+1)).Error
		})
		if err != nil {
			return fmt.Errorf("bring the file to version %d: %w", version+1, err)
		}
	}
	return nil
}

// now is the present as it is stored: in UTC, to the millisecond.
func now() time.Time { return time.Now().UTC().Truncate(time.Millisecond) }

func created(result *gorm.DB) error {
	var failed *driver.Error
	if errors.As(result.Error, &failed) && (failed.Code() == codes.SQLITE_CONSTRAINT_PRIMARYKEY || failed.Code() == codes.SQLITE_CONSTRAINT_UNIQUE) {
		return ErrExists
	}
	return result.Error
}

func found(result *gorm.DB) error {
	switch {
	case result.Error != nil:
		return result.Error
	case result.RowsAffected == 0:
		return ErrNotFound
	}
	return nil
}
