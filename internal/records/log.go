package records

import (
	"bytes"
	"crypto/sha256"
	"errors"

	"gorm.io/gorm"

	"tovik.example/tovik/internal/headcount"
	"tovik.example/tovik/internal/presence"
)

// Position is up to where a file has the rows of a log. Sequence counts the records that had rows, and
// Hash is that of all of them, so that two files of one log with equal sequences and hashes have equal
// rows.
type Position struct {
	Log      string // the identity of the log; empty: the file is of no log
	Sequence uint64
	Hash     []byte
	At       uint64 // the number of the last record that was read, with rows or without
	State    []byte // what the log said about the cluster until then, as the node wrote it
}

// Next returns the position after one more record, given what it consists of.
func (p Position) Next(record []byte) Position {
	hash := sha256.Sum256(append(bytes.Clone(p.Hash), record...))
	return Position{Log: p.Log, Sequence: p.Sequence + 1, Hash: hash[:16]}
}

// Position returns the position of the file.
func (s *Store) Position() (p Position, err error) {
	return p, s.db().Raw("SELECT log, sequence, hash, at, state FROM log").Scan(&p).Error
}

// Begin notes that the records are those of a log, up to a position.
func (s *Store) Begin(at Position) error {
	return s.behind(func(tx *gorm.DB) error {
		if err := tx.Exec("DELETE FROM log").Error; err != nil {
			return err
		}
		return tx.Exec("INSERT INTO log (log, sequence, hash, at, state, entry, delivery) VALUES (?, ?, ?, ?, ?, 0, 0)", at.Log, at.Sequence, at.Hash, at.At, at.State).Error
	})
}

// LeaveLog notes that the records are of no log any longer, because they go on without the other nodes. It reports
// whether they were of one.
func (s *Store) LeaveLog() (were bool, err error) {
	at, err := s.Position()
	if err != nil || at.Log == "" {
		return false, err
	}
	return true, s.behind(func(tx *gorm.DB) error { return tx.Exec("DELETE FROM log").Error })
}

// Blank reports whether there is nothing on record.
func (s *Store) Blank() (bool, error) {
	var tables []string
	if err := s.db().Raw("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite%'").Scan(&tables).Error; err != nil {
		return false, err
	}
	for _, table := range tables {
		var rows bool
		if err := s.db().Raw("SELECT EXISTS (SELECT 1 FROM " + table + ")").Scan(&rows).Error; err != nil || rows {
			return false, err
		}
	}
	return true, nil
}

// Put puts the rows of records of the log into the file, in order, and notes the position after them:
// all or nothing. Ids of entries and deliveries follow from the order. A change that does not fit is
// left out, because it fits no other file either.
func (s *Store) Put(after Position, rows []Rows) error {
	outcomes := map[string]error{} // of changes that somebody may wait for
	all := rows                    // with changes that do not fit
	rows = together(rows)
	err := s.behind(func(tx *gorm.DB) error {
		var ends struct{ Entry, Delivery int64 }
		// Ids go on after the last one even if its row was deleted, so that they do not depend on how many
		// records are put together.
		err := tx.Raw(`SELECT max(coalesce((SELECT entry FROM log), 0), (SELECT coalesce(max(id), 0) FROM journal)) AS entry,
			max(coalesce((SELECT delivery FROM log), 0), (SELECT coalesce(max(id), 0) FROM deliveries)) AS delivery`).Scan(&ends).Error
		if err != nil {
			return err
		}
		for i := range rows {
			if err := rows[i].put(tx, &ends.Entry, &ends.Delivery, outcomes); err != nil {
				return err
			}
		}
		if err := tx.Exec("DELETE FROM log").Error; err != nil {
			return err
		}
		return tx.Exec("INSERT INTO log (log, sequence, hash, at, state, entry, delivery) VALUES (?, ?, ?, ?, ?, ?, ?)", after.Log, after.Sequence, after.Hash, after.At, after.State, ends.Entry, ends.Delivery).Error
	})
	if err == nil {
		s.changedSince(all)
		s.hasPut(outcomes, rows)
		for i := range rows {
			s.totals.wrote(rows[i].Size())
		}
	}
	return err
}

// put puts the rows of a record. Entry and delivery are the last ids.
func (r *Rows) put(tx *gorm.DB, entry, delivery *int64, outcomes map[string]error) error {
	for i := range r.Changes {
		if act := r.Changes[i].Act; act != nil {
			r.Entries = append(r.Entries, *act)
		}
	}
	for i := range r.Entries {
		*entry++
		r.Entries[i].ID = *entry
	}
	if len(r.Entries) > 0 {
		if err := errors.Join(putEntries(tx, r.Entries), addMinutes(tx, r.Entries)); err != nil {
			return err
		}
	}
	if len(r.People) > 0 {
		people := make([]*Person, len(r.People))
		for i := range r.People {
			people[i] = &r.People[i]
		}
		if err := putPeople(tx, people); err != nil {
			return err
		}
	}
	if err := putHeadcounts(tx, r.Counts); err != nil {
		return err
	}
	if err := addTypings(tx, r.Typings); err != nil {
		return err
	}
	for i := range r.Hooked {
		*delivery++
		r.Hooked[i].ID = *delivery
	}
	if len(r.Hooked) > 0 {
		if err := tx.CreateInBatches(r.Hooked, 200).Error; err != nil {
			return err
		}
	}
	fit := r.Changes[:0:0]
	for i := range r.Changes {
		var err error
		if r.Changes[i].Act == nil { // otherwise it is among the entries
			err = r.Changes[i].apply(tx)
		}
		if err != nil && !errors.Is(err, ErrNotFound) && !errors.Is(err, ErrExists) {
			return err
		}
		if id := r.Changes[i].ID; id != "" {
			outcomes[id] = err
		}
		if err == nil {
			fit = append(fit, r.Changes[i])
		}
	}
	r.Changes = fit // for listeners
	for i := range r.Tried {
		if err := updateDelivery(tx, &r.Tried[i]); err != nil {
			return err
		}
	}
	if r.Run != nil {
		if err := tx.Save(r.Run).Error; err != nil {
			return err
		}
	}
	if r.Tidy != nil {
		return r.Tidy.apply(tx)
	}
	return nil
}

// updateDelivery notes the outcome of a delivery. One that is gone, as of a hook that was removed, stays so.
func updateDelivery(tx *gorm.DB, d *Delivery) error {
	return tx.Select("State", "Attempts", "Tried", "Due", "Answered", "Answer", "Error", "Took").Updates(d).Error
}

// Listener hears of rows that the log has brought, in order, once they have been put. It must not wait for
// a change of the store.
type Listener interface{ HasPut([]Rows) }

// Listen tells a listener of all rows to come. Call it before the first are put.
func (s *Store) Listen(l Listener) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.listeners = append(s.listeners, l)
}

// State returns what the next owner of a realm needs to continue.
func (s *Store) State(realm string) (saved presence.Saved, err error) {
	saved.Version = presence.SavedVersion
	if saved.People, err = s.SavedPeople(realm); err != nil {
		return saved, err
	}
	rooms, err := s.Rooms(realm)
	if err != nil {
		return saved, err
	}
	for _, room := range rooms {
		saved.Declared = append(saved.Declared, room.Room)
	}
	removals, err := s.Removals(realm)
	if err != nil {
		return saved, err
	}
	places := map[presence.UserID]int{}
	for i := range saved.People {
		places[saved.People[i].User] = i
	}
	for _, r := range removals {
		i, known := places[r.User]
		if !known {
			i = len(saved.People)
			places[r.User] = i
			saved.People = append(saved.People, presence.SavedPerson{User: r.User})
		}
		p := &saved.People[i]
		p.Removed = append(p.Removed, presence.SavedRemoval{Room: r.Room, At: r.At.UnixMilli()})
	}
	return saved, nil
}

// Minute returns the headcounts of a minute, given by its begin in Unix milliseconds.
func (s *Store) Minute(realm string, at int64) (rows []headcount.Row, err error) {
	return rows, s.db().Where("realm = ? AND step = ? AND at = ?", realm, headcount.Minute, at).Find(&rows).Error
}

// Opened returns those of the sessions whose opening is in the journal, in any order.
func (s *Store) Opened(realm string, sessions []presence.SessionID) (opened []presence.SessionID, err error) {
	return opened, s.db().Raw("SELECT session FROM journal INDEXED BY journal_opened WHERE realm = ? AND session IN ? AND kind = 'session.opened'", realm, sessions).Scan(&opened).Error
}
