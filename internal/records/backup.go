package records

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"gorm.io/gorm"

	"tovik.example/tovik/internal/headcount"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
)

// Copy copies the records, as of one moment, into a file that the caller removes.
func (s *Store) Copy(ctx context.Context) (*os.File, error) {
	dir := os.TempDir()
	if s.path != "" {
		dir = filepath.Dir(s.path) // where there is room for as much
	}
	temp, err := os.MkdirTemp(dir, ".backup-")
	if err != nil {
		return nil, err
	}
	path := filepath.Join(temp, File)
	db := s.db()
	if s.path != "" { // with a connection of its own, beside which others write
		if db, err = s.connect("", 1); err != nil {
			return nil, errors.Join(err, os.RemoveAll(temp))
		}
		defer closeDB(db)
	}
	if err := db.WithContext(ctx).Exec("VACUUM INTO ?", path).Error; err != nil {
		return nil, errors.Join(err, os.RemoveAll(temp))
	}
	if err := os.Chmod(path, 0o600); err != nil {
		return nil, errors.Join(err, os.RemoveAll(temp))
	}
	// It is moved out of its directory, so that one removal is enough.
	final := temp + ".db"
	if err := errors.Join(os.Rename(path, final), os.Remove(temp)); err != nil {
		return nil, errors.Join(err, os.RemoveAll(temp))
	}
	return os.Open(final)
}

// Restore replaces the records of a data directory, which no service may be using, by a backup.
// It returns where the old file was moved to; empty if there was none.
func Restore(backup, dir string) (aside string, err error) {
	if err := CheckFile(backup); err != nil {
		return "", fmt.Errorf("the backup %s: %w", backup, err)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	probe := &Store{lock: newLock(dir)}
	if free, err := probe.lock.TryLock(); err != nil {
		return "", err
	} else if !free {
		return "", fmt.Errorf("%s is in use by a service: stop it first", dir)
	}
	defer probe.unlock()
	fresh := filepath.Join(dir, ".restoring.db")
	if err := copyFile(backup, fresh); err != nil {
		return "", errors.Join(err, os.Remove(fresh))
	}
	path := filepath.Join(dir, File)
	if _, err := os.Stat(path); err == nil {
		aside = path + ".before-" + time.Now().UTC().Format("20060102-150405")
		for _, suffix := range []string{"", "-wal", "-shm"} {
			if err := os.Rename(path+suffix, aside+suffix); err != nil && !errors.Is(err, os.ErrNotExist) {
				return "", err
			}
		}
	}
	return aside, os.Rename(fresh, path)
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer func() { _ = in.Close() }()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Sync(), out.Close())
}

// CheckFile tells whether a file is one of Tovik's, undamaged, and of a known version.
func CheckFile(path string) error {
	if _, err := os.Stat(path); err != nil {
		return err
	}
	s := &Store{path: path}
	db, err := s.connect("&mode=ro", 1)
	if err != nil {
		return hint(err)
	}
	defer closeDB(db)
	var version int
	if err := db.Raw("PRAGMA user_version").Scan(&version).Error; err != nil {
		return hint(err)
	}
	if version < 1 || version > len(migrations) {
		return fmt.Errorf("this is of version %d; this Tovik knows 1 to %d", version, len(migrations))
	}
	var said string
	if err := db.Raw("PRAGMA quick_check(1)").Scan(&said).Error; err != nil {
		return hint(err)
	}
	if said != "ok" {
		return fmt.Errorf("the file is broken: %s", said)
	}
	return nil
}

// Finding is a result of a check.
type Finding struct {
	What   string
	Number int64
	Wrong  bool
	Detail string
}

// Check checks the records of a data directory: whether the file is undamaged, and its content
// consistent. It changes nothing, and a service may be using the directory.
func Check(ctx context.Context, dir string) ([]Finding, error) {
	path := filepath.Join(dir, File)
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("there are no records in %s: %w", dir, err)
	}
	s := &Store{path: path}
	db, err := s.connect("&mode=ro", 1)
	if err != nil {
		return nil, hint(err)
	}
	defer closeDB(db)
	db = db.WithContext(ctx)
	var said []string
	if err := db.Raw("PRAGMA integrity_check(20)").Scan(&said).Error; err != nil {
		return nil, hint(err)
	}
	findings := []Finding{{What: "the file", Detail: "whole"}}
	if len(said) != 1 || said[0] != "ok" {
		findings = []Finding{{What: "the file", Wrong: true, Detail: fmt.Sprint(said)}}
	}
	more, err := checkRows(db)
	return append(findings, more...), err
}

// checkRows compares what is kept of people with the journal.
func checkRows(db *gorm.DB) (findings []Finding, err error) {
	count := func(what, sql string) {
		var n int64
		err = errors.Join(err, db.Raw(sql).Scan(&n).Error)
		findings = append(findings, Finding{What: what, Number: n})
	}
	count("people", "SELECT count(*) FROM people")
	count("entries of the journal", "SELECT count(*) FROM journal")
	count("headcounts", "SELECT count(*) FROM headcounts")
	count("deliveries that wait", "SELECT count(*) FROM deliveries WHERE state = 'waiting'")
	count("entries that were lost", "SELECT coalesce(sum(lost), 0) FROM journal")
	var people []Person
	if err := errors.Join(err, db.Raw("SELECT * FROM people WHERE state IS NOT NULL").Scan(&people).Error); err != nil {
		return findings, err
	}
	ranges, err := blocks(db, wholeJournal)
	if err != nil {
		return findings, err
	}
	sessions, members, unreadable := int64(0), int64(0), int64(0)
	unknown, absent := int64(0), int64(0)
	type place struct {
		realm string
		room  presence.RoomName
	}
	here := map[place]int{}
	for i := range people {
		saved, err := people[i].Saved()
		if err != nil {
			unreadable++
			continue
		}
		rooms := map[presence.RoomName]bool{}
		for _, s := range saved.Sessions {
			sessions++
			for _, e := range s.Rooms {
				rooms[e.Room] = true
			}
			last, err := lastOf(db, ranges, people[i].Realm, saved.User, s.ID)
			if err != nil {
				return findings, err
			}
			if last == journal.SessionEnded {
				unknown++
			}
		}
		for _, m := range saved.Members {
			members++
			here[place{people[i].Realm, m.Room}]++
			if !rooms[m.Room] {
				absent++
			}
		}
	}
	findings = append(findings,
		Finding{What: "sessions that have not ended", Number: sessions},
		Finding{What: "memberships", Number: members},
		Finding{What: "people who cannot be read", Number: unreadable, Wrong: unreadable > 0},
		Finding{What: "sessions that the journal says have ended", Number: unknown, Wrong: unknown > 0},
		Finding{What: "memberships without a session", Number: absent, Wrong: absent > 0})
	wrong := int64(0)
	for at, n := range here {
		var last *int
		err := db.Raw("SELECT people_close FROM headcounts WHERE realm = ? AND room = ? AND step = ? ORDER BY at DESC LIMIT 1", at.realm, at.room, headcount.Minute).Scan(&last).Error
		if err != nil {
			return findings, err
		}
		if last != nil && *last != n {
			wrong++
		}
	}
	// The count of the present minute is up to five seconds old when the service has crashed
	// or runs, so a difference is worth a look, and no fault.
	return append(findings, Finding{What: "rooms whose last headcount differs from their members", Number: wrong}), nil
}

// lastOf returns the kind of the last entry of a session; none if there is no entry. Ranges are the blocks
// of the journal.
func lastOf(db *gorm.DB, ranges []idRange, realm string, user presence.UserID, session presence.SessionID) (last journal.Kind, err error) {
	q := JournalQuery{Realm: realm, Users: []presence.UserID{user}}
	for _, ids := range slices.Backward(ranges) {
		result := q.narrow(db.Model(&journal.Entry{}), ids).Where("session = ?", session).Select("kind").Order("id DESC").Limit(1).Scan(&last)
		if result.Error != nil || result.RowsAffected > 0 {
			return last, result.Error
		}
	}
	return "", nil
}
