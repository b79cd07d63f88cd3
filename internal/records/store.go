package records

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/gofrs/flock"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
	driver "modernc.org/sqlite" // in pure Go
	codes "modernc.org/sqlite/lib"
)

// File is the name of the database in the data directory, and lockFile of what the one
// service that uses it holds.
const (
	File     = "tovik.db"
	lockFile = "tovik.lock"
)

// Memory, as a data directory, stands for records that end with the service.
const Memory = ":memory:"

// readers is how many queries may be under way at once, beside what is written.
const readers = 4

// ErrNotFound says that there is no such row, and ErrExists that there is one already.
var (
	ErrNotFound = errors.New("not found")
	ErrExists   = errors.New("it exists already")
)

// Store is the open file. Its methods are safe for concurrent use.
type Store struct {
	path  string // empty: in memory
	where string // for people
	lock  *flock.Flock
	pools atomic.Pointer[pools]

	mostLog   int64   // bytes of the write-ahead log, beyond which nobody writes until it is empty
	through   Changer // nil: changes are made here
	mu        sync.Mutex
	listeners []Listener
	awaited   map[string]chan error // outcomes of changes, by id; each holds one
	written   chan struct{}         // closed when rows of the log have been put, then replaced
	ahead     map[string]*ahead     // by realm
	totals    Totals
}

// Totals returns what has been recorded since the file was opened.
func (s *Store) Totals() *Totals { return &s.totals }

// Changer brings a change into a log, for all files of it. It returns when the change is on record there.
type Changer func(context.Context, Change) error

// pools are the connections to the file: one that writes, and some that read beside it.
type pools struct {
	write, read *gorm.DB
	stuck       error // why nothing can be written, when the file could be opened for reading only
}

// Open opens the records of a data directory; with [Memory] or an empty name, records that are
// not kept. It creates or migrates the tables. Its error says what to do if the file is of a
// newer version, in use, or damaged.
//
// A file that can be read but not written is opened all the same: presence goes on, and the
// writer tries again until it can write.
func Open(dir string) (*Store, error) { return OpenThrough(dir, nil) }

// OpenThrough opens a file of a log: its changes are not made at once, but brought into the log, and made
// when [Store.Put] puts them.
func OpenThrough(dir string, changer Changer) (*Store, error) {
	s := &Store{where: "the records in memory", mostLog: maxLog, through: changer, awaited: map[string]chan error{}, written: make(chan struct{}), totals: Totals{entries: map[Total]int64{}}}
	if dir != Memory && dir != "" {
		s.path = filepath.Join(dir, File)
		s.where = s.path
		s.lock = newLock(dir)
		switch free, err := s.lock.TryLock(); {
		case err != nil && !errors.Is(err, os.ErrPermission) && !errors.Is(err, syscall.EROFS): // else nobody can write there
			return nil, fmt.Errorf("%s cannot be used: %w", dir, err)
		case err == nil && !free:
			return nil, fmt.Errorf("%s is in use by another tovik: stop that one, or choose another directory with --data", dir)
		}
	}
	opened, err := s.open()
	if err != nil && s.path != "" {
		if reading, failed := s.openToRead(err); failed == nil {
			opened, err = reading, nil
		}
	}
	if err != nil {
		s.unlock()
		return nil, fmt.Errorf("%s: %w", s.where, hint(err))
	}
	s.pools.Store(opened)
	return s, nil
}

func (s *Store) open() (*pools, error) {
	if s.path != "" {
		f, err := os.OpenFile(s.path, os.O_CREATE|os.O_RDWR, 0o600) // it holds secrets
		if err != nil {
			return nil, err
		}
		if err := f.Close(); err != nil {
			return nil, err
		}
	}
	write, err := s.connect("&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=wal_autocheckpoint(0)&_pragma=cache_size(-16384)&_pragma=foreign_keys(1)&_pragma=secure_delete(1)", 1)
	if err != nil {
		return nil, err
	}
	unprepared := write
	if err = migrate(write); err == nil {
		write, err = prepare(write)
	}
	if err != nil {
		closeDB(unprepared)
		return nil, err
	}
	p := &pools{write: write, read: write} // memory is that of one connection
	if s.path != "" {
		if p.read, err = s.connect("&_pragma=query_only(1)", readers); err != nil {
			closeDB(write)
			return nil, err
		}
	}
	return p, nil
}

// openToRead opens a file of this version that cannot be written; its last writes may be
// missing.
func (s *Store) openToRead(why error) (*pools, error) {
	for _, how := range []string{"&mode=ro", "&mode=ro&immutable=1"} {
		read, err := s.connect(how, readers)
		if err != nil {
			continue
		}
		var version int
		if err := read.Raw("PRAGMA user_version").Scan(&version).Error; err == nil && version == len(migrations) {
			if err := read.Raw("SELECT count(*) FROM realms").Scan(new(int)).Error; err == nil {
				return &pools{write: read, read: read, stuck: why}, nil
			}
		}
		closeDB(read)
	}
	return nil, why
}

// mend tries to open for writing what could only be read.
func (s *Store) mend() error {
	old := s.pools.Load()
	if old.stuck == nil {
		return nil
	}
	opened, err := s.open()
	if err != nil {
		return err
	}
	s.pools.Store(opened)
	closeDB(old.write)
	return nil
}

func (s *Store) connect(pragmas string, connections int) (*gorm.DB, error) {
	path := "file::memory:"
	if s.path != "" {
		path = "file:" + s.path
	}
	db, err := gorm.Open(sqlite.Dialector{DriverName: "sqlite", DSN: path + "?_pragma=busy_timeout(1000)" + pragmas}, &gorm.Config{
		Logger:                 logger.NewSlogLogger(slog.New(slog.DiscardHandler), logger.Config{}),
		SkipDefaultTransaction: true,
	})
	if err != nil {
		return nil, err
	}
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(connections)
	pool.SetMaxIdleConns(1) // each has a cache of its own
	return db, nil
}

func closeDB(db *gorm.DB) {
	if pool, err := db.DB(); err == nil {
		_ = pool.Close()
	}
}

// db returns the connection for writing, and for reading what must be as new as the last write.
func (s *Store) db() *gorm.DB { return s.pools.Load().write }

// reading returns the connections for reading beside the writer.
func (s *Store) reading(ctx context.Context) *gorm.DB { return s.pools.Load().read.WithContext(ctx) }

// behind writes what need not survive a loss of power. It survives the process, and is made safe
// within [settleEvery], so that nobody waits for the disk.
func (s *Store) behind(write func(tx *gorm.DB) error) error {
	return s.db().Connection(func(db *gorm.DB) error {
		if err := db.Exec("PRAGMA synchronous = NORMAL").Error; err != nil {
			return err
		}
		return errors.Join(db.Transaction(write), db.Exec("PRAGMA synchronous = FULL").Error)
	})
}

// maxLog limits the write-ahead log.
const maxLog = 256 << 20

// settle moves the latest writes from the log into the file, while others write.
func (s *Store) settle(ctx context.Context) error {
	if s.path == "" || s.pools.Load().stuck != nil {
		return nil
	}
	db, how := s.reading(ctx), "PASSIVE"
	if log, err := os.Stat(s.path + "-wal"); err == nil && log.Size() > s.mostLog {
		db, how = s.db(), "TRUNCATE" // nobody writes meanwhile
	}
	var busy, size, moved int
	return db.Raw("PRAGMA wal_checkpoint("+how+")").Row().Scan(&busy, &size, &moved)
}

// boundLog settles everything when the log has grown, for bulk writes without a running writer.
func (s *Store) boundLog() error {
	if log, err := os.Stat(s.path + "-wal"); s.path == "" || err != nil || log.Size() < s.mostLog/4 {
		return nil
	}
	var busy, size, moved int
	return s.db().Raw("PRAGMA wal_checkpoint(TRUNCATE)").Row().Scan(&busy, &size, &moved)
}

// forgetLog empties the log, so that no deleted row remains in it. It waits for readers.
func (s *Store) forgetLog(ctx context.Context) error {
	if s.path == "" {
		return nil
	}
	for {
		var busy, size, moved int
		if err := s.db().WithContext(ctx).Raw("PRAGMA wal_checkpoint(TRUNCATE)").Row().Scan(&busy, &size, &moved); err != nil {
			return err
		}
		if busy == 0 {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("somebody still reads the records as they were: %w", ctx.Err())
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Close closes the file.
func (s *Store) Close() error {
	p := s.pools.Load()
	if p.read != p.write {
		closeDB(p.read)
	}
	pool, err := p.write.DB()
	if err != nil {
		return err
	}
	defer s.unlock()
	return pool.Close()
}

// newLock returns the lock of a data directory, which one service holds.
func newLock(dir string) *flock.Flock { return flock.New(filepath.Join(dir, lockFile)) }

func (s *Store) unlock() {
	if s.lock != nil {
		_ = s.lock.Unlock()
	}
}

// IsFailure tells whether an error means that the file cannot be read or written now: the disk
// is full, or the file is locked or damaged.
func IsFailure(err error) bool {
	var failed *driver.Error
	return errors.As(err, &failed)
}

// hint adds what to do about a file that cannot be used.
func hint(err error) error {
	var failed *driver.Error
	switch {
	case errors.As(err, &failed) && (failed.Code()&0xff == codes.SQLITE_CORRUPT || failed.Code()&0xff == codes.SQLITE_NOTADB):
		return fmt.Errorf("the file is broken: look at it with tovik check, put a backup in its place with tovik restore, or move it away to begin anew: %w", err)
	case errors.As(err, &failed) && failed.Code()&0xff == codes.SQLITE_BUSY:
		return fmt.Errorf("another program has the file locked: close it: %w", err)
	}
	return err
}

func migrate(db *gorm.DB) error {
	var version int
	if err := db.Raw("PRAGMA user_version").Scan(&version).Error; err != nil {
		return err
	}
	if version > len(migrations) {
		return fmt.Errorf("the file is of version %d, and this Tovik knows up to %d: run the newer Tovik, or restore a backup from before", version, len(migrations))
	}
	if fresh := version == 0; !fresh && version < clean {
		defer func() { _ = db.Exec("VACUUM").Error }() // else it is as it was
	}
	for ; version < len(migrations); version++ {
		err := db.Transaction(func(tx *gorm.DB) error {
			for _, statement := range migrations[version] {
				if err := tx.Exec(statement).Error; err != nil {
					return err
				}
			}
			return tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", version+1)).Error
		})
		if err != nil {
			return fmt.Errorf("bring the file to version %d: %w", version+1, err)
		}
	}
	return nil
}

// now returns the present as it is stored: in UTC, to the millisecond.
func now() time.Time { return time.Now().UTC().Truncate(time.Millisecond) }

func created(err error) error {
	var failed *driver.Error
	if errors.As(err, &failed) && (failed.Code() == codes.SQLITE_CONSTRAINT_PRIMARYKEY || failed.Code() == codes.SQLITE_CONSTRAINT_UNIQUE) {
		return ErrExists
	}
	return err
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
