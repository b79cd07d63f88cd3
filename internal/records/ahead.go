package records

import (
	"cmp"
	"slices"
	"time"

	"tovik.example/tovik/internal/presence"
)

// ahead is what was read ahead of the people of a realm, and who has changed since.
type ahead struct {
	people  []presence.SavedPerson
	changed map[presence.UserID]bool
	at      time.Time
}

const (
	aheadFor    = 30 * time.Second // then it is forgotten
	mostChanged = 500              // if more have changed, all are read again
)

// ReadAhead reads the people of a realm, so that the next [Store.SavedPeople] only reads those who have changed since.
func (s *Store) ReadAhead(realm string) error {
	is := &ahead{changed: map[presence.UserID]bool{}, at: time.Now()}
	s.mu.Lock()
	if s.ahead == nil {
		s.ahead = map[string]*ahead{}
	}
	s.ahead[realm] = is // who changes from here on is read again
	s.mu.Unlock()
	people, err := s.readPeople(realm, nil)
	s.mu.Lock()
	defer s.mu.Unlock()
	is.people = people
	if err != nil && s.ahead[realm] == is {
		delete(s.ahead, realm)
	}
	return err
}

// SavedPeople returns what a restart needs to know of the people of a realm, by user id.
func (s *Store) SavedPeople(realm string) ([]presence.SavedPerson, error) {
	s.mu.Lock()
	is := s.ahead[realm]
	delete(s.ahead, realm)
	done := is != nil && is.people != nil
	s.mu.Unlock()
	if !done || len(is.changed) > mostChanged {
		return s.readPeople(realm, nil)
	}
	var changed []presence.UserID
	for user := range is.changed {
		changed = append(changed, user)
	}
	again := []presence.SavedPerson{}
	if len(changed) > 0 {
		var err error
		if again, err = s.readPeople(realm, changed); err != nil {
			return nil, err
		}
	}
	people := append(slices.DeleteFunc(is.people, func(p presence.SavedPerson) bool { return is.changed[p.User] }), again...)
	slices.SortFunc(people, func(a, b presence.SavedPerson) int { return cmp.Compare(a.User, b.User) })
	return people, nil
}

// changedSince notes whom rows have changed since their realms were read ahead.
func (s *Store) changedSince(rows []Rows) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for realm, is := range s.ahead {
		if time.Since(is.at) > aheadFor {
			delete(s.ahead, realm)
		}
	}
	notes := func(realm string, user presence.UserID) {
		if is := s.ahead[realm]; is != nil {
			is.changed[user] = true
		}
	}
	for _, r := range rows {
		for _, p := range r.People {
			notes(p.Realm, p.User)
		}
		for _, c := range r.Changes {
			if c.Erase != nil {
				notes(c.Erase.Realm, c.Erase.User)
			}
			delete(s.ahead, c.DropRealm)
		}
	}
}
