package records

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"tovik.example/tovik/internal/headcount"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/timing"
)

// Change is what a command changes in the records, as plain data. One field is set, beside the ID.
type Change struct {
	ID                string               `json:"id,omitempty"`  // in a log, to know it again
	Act               *journal.Entry       `json:"act,omitempty"` // what an operator did
	AddRealm          *Realm               `json:"add_realm,omitempty"`
	DropRealm         string               `json:"drop_realm,omitempty"` // with everything in it
	AddOperatorKey    *OperatorKey         `json:"add_operator_key,omitempty"`
	RevokeOperatorKey *Revocation          `json:"revoke_operator_key,omitempty"`
	AddTokenKey       *TokenKey            `json:"add_token_key,omitempty"`
	RevokeTokenKey    *Revocation          `json:"revoke_token_key,omitempty"`
	AddSignIn         *SignIn              `json:"add_sign_in,omitempty"`
	DropSignIn        []byte               `json:"drop_sign_in,omitempty"` // by its hash
	DropSignIns       bool                 `json:"drop_sign_ins,omitempty"`
	PutHook           *Hook                `json:"put_hook,omitempty"`
	DropHook          string               `json:"drop_hook,omitempty"` // with its deliveries
	PutPeople         []Person             `json:"put_people,omitempty"`
	DropPerson        *PersonID            `json:"drop_person,omitempty"`
	Declare           *Room                `json:"declare,omitempty"`
	Undeclare         *RoomID              `json:"undeclare,omitempty"`
	Remove            *Removal             `json:"remove,omitempty"`
	Erase             *PersonID            `json:"erase,omitempty"`
	UsedOperatorKeys  map[string]time.Time `json:"used_operator_keys,omitempty"` // when last, by id
	Redeliver         *Delivery            `json:"redeliver,omitempty"`
	Configure         *Configuration       `json:"configure,omitempty"`
}

// Revocation is the end of a key.
type Revocation struct {
	Key string    `json:"key"`
	At  time.Time `json:"at"`
}

// PersonID names a person.
type PersonID struct {
	Realm string          `json:"realm"`
	User  presence.UserID `json:"user"`
}

// RoomID names a room.
type RoomID struct {
	Realm string            `json:"realm"`
	Room  presence.RoomName `json:"room"`
}

// apply makes the change. The error is [ErrNotFound] or [ErrExists] if it does not fit.
func (c *Change) apply(tx *gorm.DB) error {
	switch {
	case c.AddRealm != nil:
		return created(tx.Create(c.AddRealm).Error)
	case c.DropRealm != "":
		return dropRealm(tx, c.DropRealm)
	case c.AddOperatorKey != nil:
		return created(tx.Create(c.AddOperatorKey).Error)
	case c.RevokeOperatorKey != nil:
		return found(tx.Model(&OperatorKey{}).Where("id = ?", c.RevokeOperatorKey.Key).Update("revoked", c.RevokeOperatorKey.At))
	case c.AddTokenKey != nil:
		return created(tx.Create(c.AddTokenKey).Error)
	case c.RevokeTokenKey != nil:
		return found(tx.Model(&TokenKey{}).Where("id = ?", c.RevokeTokenKey.Key).Update("revoked", c.RevokeTokenKey.At))
	case c.AddSignIn != nil:
		return tx.Create(c.AddSignIn).Error
	case c.DropSignIn != nil:
		return tx.Where("hash = ?", c.DropSignIn).Delete(&SignIn{}).Error
	case c.DropSignIns:
		return tx.Where("TRUE").Delete(&SignIn{}).Error
	case c.PutHook != nil:
		return tx.Save(c.PutHook).Error
	case c.DropHook != "":
		if err := tx.Where("hook = ?", c.DropHook).Delete(&Delivery{}).Error; err != nil {
			return err
		}
		return found(tx.Where("id = ?", c.DropHook).Delete(&Hook{}))
	case c.PutPeople != nil:
		return tx.Clauses(clause.OnConflict{
			Columns:   []clause.Column{{Name: "realm"}, {Name: "user"}},
			DoUpdates: clause.AssignmentColumns([]string{"name", "picture", "attributes"}),
		}).CreateInBatches(c.PutPeople, 500).Error
	case c.DropPerson != nil:
		return found(tx.Where("realm = ? AND user = ? AND first_seen = 0 AND state IS NULL", c.DropPerson.Realm, c.DropPerson.User).Delete(&Person{}))
	case c.Declare != nil:
		return tx.Clauses(clause.OnConflict{
			Columns: []clause.Column{{Name: "realm"}, {Name: "room"}}, DoUpdates: clause.AssignmentColumns([]string{"expected"}),
		}).Create(c.Declare).Error
	case c.Undeclare != nil:
		return found(tx.Where("realm = ? AND room = ?", c.Undeclare.Realm, c.Undeclare.Room).Delete(&Room{}))
	case c.Remove != nil:
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(c.Remove).Error
	case c.UsedOperatorKeys != nil:
		for id, at := range c.UsedOperatorKeys {
			if err := tx.Model(&OperatorKey{}).Where("id = ?", id).Update("last_used", at).Error; err != nil {
				return err
			}
		}
		return nil
	case c.Redeliver != nil:
		return updateDelivery(tx, c.Redeliver)
	case c.Configure != nil:
		return c.Configure.put(tx)
	case c.Erase != nil:
		_, err := erase(tx, *c.Erase)
		return err
	}
	return errors.New("records: a change without content")
}

// changeTimeout limits how long a change waits for its log.
const changeTimeout = 10 * time.Second

// change makes a change, whole or not at all. Through a log, its error may also say that it will be made
// later.
func (s *Store) change(c Change) error {
	if s.through == nil {
		return s.make(c)
	}
	ctx, cancel := context.WithTimeout(context.Background(), changeTimeout)
	defer cancel()
	c.ID = rand.Text()
	made := make(chan error, 1)
	s.mu.Lock()
	s.awaited[c.ID] = made
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.awaited, c.ID)
	}()
	if err := s.through(ctx, c); err != nil {
		return err
	}
	select {
	case err := <-made:
		return err
	case <-ctx.Done():
		return fmt.Errorf("it is on record, but has not come to this node yet: %w", ctx.Err())
	}
}

// Written returns a channel that closes when the next rows of the log have been put.
func (s *Store) Written() <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.written
}

// hasPut tells that rows of the log have been put, and those who wait for changes their outcomes, by id.
func (s *Store) hasPut(outcomes map[string]error, rows []Rows) {
	s.mu.Lock()
	listeners := s.listeners
	s.mu.Unlock()
	for _, l := range listeners { // before who waits goes on
		l.HasPut(rows)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	close(s.written)
	s.written = make(chan struct{})
	for id, err := range outcomes {
		select {
		case s.awaited[id] <- err: // of a change that comes twice, the first outcome counts
		default:
		}
	}
}

// make makes a change here.
func (s *Store) make(c Change) error {
	return s.db().Transaction(func(tx *gorm.DB) error { return c.apply(tx) })
}

func dropRealm(tx *gorm.DB, name string) error {
	if err := tx.Where("hook IN (SELECT id FROM hooks WHERE realm = ?)", name).Delete(&Delivery{}).Error; err != nil {
		return err
	}
	for _, table := range []any{&OperatorKey{}, &TokenKey{}, &Removal{}, &Person{}, &Room{}, &journal.Entry{}, &headcount.Row{}, &timing.Typing{}, &Hook{}} {
		if err := tx.Where("realm = ?", name).Delete(table).Error; err != nil {
			return err
		}
	}
	return found(tx.Where("name = ?", name).Delete(&Realm{}))
}

// erase deletes everything about a person, and returns how many rows there were of each kind.
func erase(tx *gorm.DB, p PersonID) (map[string]int64, error) {
	erased := map[string]int64{"journal": 0}
	for kind, table := range map[string]any{"removals": &Removal{}, "directory": &Person{}} {
		result := tx.Where("realm = ? AND user = ?", p.Realm, p.User).Delete(table)
		if result.Error != nil {
			return erased, result.Error
		}
		erased[kind] = result.RowsAffected
	}
	ranges, err := blocks(tx, wholeJournal)
	if err != nil {
		return erased, err
	}
	for _, ids := range ranges {
		// Whom somebody invited, and who answered an ask, is in the entries of others.
		q := JournalQuery{Realm: p.Realm, About: p.User}
		result := q.narrow(tx, ids).Delete(&journal.Entry{})
		if result.Error != nil {
			return erased, result.Error
		}
		erased["journal"] += result.RowsAffected
	}
	result := tx.Where("(user = ? OR other = ?) AND hook IN (SELECT id FROM hooks WHERE realm = ?)", p.User, p.User, p.Realm).Delete(&Delivery{})
	if result.Error != nil {
		return erased, result.Error
	}
	erased["deliveries"] = result.RowsAffected
	rooms, err := eraseExpected(tx, p.Realm, p.User)
	erased["expected"] = rooms
	return erased, err
}
