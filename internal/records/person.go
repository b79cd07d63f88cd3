package records

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"runtime"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"
	"gorm.io/gorm"

	"tovik.example/tovik/internal/presence"
)

// Person is a person whom a realm knows, present or not.
type Person struct {
	Realm   string          `gorm:"primaryKey" json:",omitzero"`
	User    presence.UserID `gorm:"primaryKey" json:",omitzero"`
	Name    string          `json:",omitzero"`
	Picture string          `json:",omitzero"`
	// Attributes are whatever the back end keeps of the person.
	Attributes map[string]string `gorm:"serializer:json" json:",omitzero"`
	FirstSeen  int64             `json:",omitzero"` // Unix milliseconds; 0: never
	LastSeen   int64             `json:",omitzero"` // the same, when they were last online
	// LastSeenOpen is the same for those who do not see who hides.
	LastSeenOpen int64 `json:",omitzero"`
	// State is what a restart needs of them, a [presence.SavedPerson] in JSON, and nil of
	// who neither has a session nor has set anything.
	State []byte `json:",omitzero"`
}

// adds reports whether putPeople adds the row if the person has none. Otherwise it only clears the state of the row that they have.
func (p *Person) adds() bool { return p.State != nil || p.FirstSeen != 0 }

// follows takes over from an older row of the person what putPeople would keep of it.
func (p *Person) follows(old *Person) {
	p.Name, p.Picture, p.FirstSeen = cmp.Or(p.Name, old.Name), cmp.Or(p.Picture, old.Picture), cmp.Or(old.FirstSeen, p.FirstSeen)
	p.LastSeen, p.LastSeenOpen = max(p.LastSeen, old.LastSeen), max(p.LastSeenOpen, old.LastSeenOpen)
}

// Saved returns what a restart needs to know of the person.
func (p *Person) Saved() (saved presence.SavedPerson, err error) {
	saved.User = p.User
	if p.State == nil {
		return saved, nil
	}
	if err := json.Unmarshal(p.State, &saved); err != nil {
		return saved, fmt.Errorf("what is kept of %q cannot be read: %w", p.User, err)
	}
	return saved, nil
}

// Room is a declared room: it exists even while nobody is in it.
type Room struct {
	Realm    string            `gorm:"primaryKey"`
	Room     presence.RoomName `gorm:"primaryKey"`
	Expected []presence.UserID `gorm:"serializer:json"` // who is missing while they are not there
	Created  int64
}

// PeopleQuery asks for people of a realm, by user id.
type PeopleQuery struct {
	Realm string
	After presence.UserID
	Users []presence.UserID // only these; nil: all
	Text  string            // only those whose id begins so, or whose name has it
	Limit int
}

// People returns a page of people.
func (s *Store) People(ctx context.Context, q PeopleQuery) ([]Person, error) {
	query := s.reading(ctx).Where("realm = ? AND user > ?", q.Realm, q.After).Order("user").Limit(q.Limit)
	if q.Users != nil {
		query = query.Where("user IN ?", q.Users)
	}
	if q.Text != "" {
		query = query.Where("(user >= ? AND user < ?) OR instr(lower(name), lower(?)) > 0", q.Text, q.Text+"\U0010ffff", q.Text)
	}
	var page []Person
	return page, query.Find(&page).Error
}

// PutPeople adds people to the directory, or changes their profile and attributes, but not when
// they were seen. It writes all of them or none.
func (s *Store) PutPeople(people []Person) error {
	err := s.change(Change{PutPeople: people})
	if err != nil {
		return err
	}
	return s.boundLog()
}

// DropPerson removes a person from the directory who is not and never was present.
func (s *Store) DropPerson(realm string, user presence.UserID) error {
	return s.change(Change{DropPerson: &PersonID{realm, user}})
}

// readPeople reads what a restart needs to know of some people of a realm, or of all (nil), by user id.
func (s *Store) readPeople(realm string, users []presence.UserID) ([]presence.SavedPerson, error) {
	query := s.db().Model(&Person{}).Select("user, state").Where("realm = ? AND state IS NOT NULL", realm).Order("user")
	if users != nil {
		query = query.Where("user IN ?", users)
	}
	var rows []Person
	if err := query.Find(&rows).Error; err != nil {
		return nil, err
	}
	people := make([]presence.SavedPerson, len(rows))
	work := errgroup.Group{} // reading JSON takes longest, and a realm has no owner meanwhile
	each := len(rows)/runtime.GOMAXPROCS(0) + 1
	for from := 0; from < len(rows); from += each {
		work.Go(func() (err error) {
			for i := from; i < min(from+each, len(rows)) && err == nil; i++ {
				people[i], err = rows[i].Saved()
			}
			return err
		})
	}
	return people, work.Wait()
}

// LastSeen returns the absent people who were last seen most recently, in the order in which
// they were seen.
func (s *Store) LastSeen(realm string, most int) ([]Person, error) {
	var rows []Person
	err := s.db().Raw(`SELECT * FROM (SELECT user, last_seen, last_seen_open FROM people INDEXED BY people_last_seen
		WHERE realm = ? AND last_seen > 0 ORDER BY last_seen DESC LIMIT ?) ORDER BY last_seen`, realm, most).Scan(&rows).Error
	return rows, err
}

// Rooms returns the declared rooms of a realm, by name.
func (s *Store) Rooms(realm string) ([]Room, error) {
	var all []Room
	return all, s.db().Where("realm = ?", realm).Order("room").Find(&all).Error
}

// Room returns a declared room.
func (s *Store) Room(realm string, name presence.RoomName) (Room, error) {
	var room Room
	return room, found(s.db().Where("realm = ? AND room = ?", realm, name).Limit(1).Find(&room))
}

// Declare keeps a declared room and whom it expects.
func (s *Store) Declare(r Room) error {
	r.Created = time.Now().UnixMilli()
	return s.change(Change{Declare: &r})
}

// Undeclare removes the declaration of a room.
func (s *Store) Undeclare(realm string, room presence.RoomName) error {
	return s.change(Change{Undeclare: &RoomID{realm, room}})
}

// putPeople writes the states of people. Somebody who is not and never was present gets no row.
func putPeople(tx *gorm.DB, people []*Person) error {
	slices.SortFunc(people, func(p, q *Person) int { return cmp.Or(cmp.Compare(p.Realm, q.Realm), cmp.Compare(p.User, q.User)) })
	added := make([]*Person, 0, len(people))
	for _, p := range people {
		if p.adds() {
			added = append(added, p)
			continue
		}
		err := tx.Exec("UPDATE people SET state = NULL, last_seen = max(last_seen, ?), last_seen_open = max(last_seen_open, ?) WHERE realm = ? AND user = ?",
			p.LastSeen, p.LastSeenOpen, p.Realm, p.User).Error
		if err != nil {
			return err
		}
	}
	if len(added) == 0 {
		return nil
	}
	return putStates(tx, added)
}

// eraseExpected removes a person from the lists of expected people.
func eraseExpected(tx *gorm.DB, realm string, user presence.UserID) (rooms int64, err error) {
	var all []Room
	if err := tx.Where("realm = ? AND expected LIKE ?", realm, "%"+string(user)+"%").Find(&all).Error; err != nil {
		return 0, err
	}
	for _, room := range all {
		kept := make([]presence.UserID, 0, len(room.Expected))
		for _, other := range room.Expected {
			if other != user {
				kept = append(kept, other)
			}
		}
		if len(kept) == len(room.Expected) {
			continue
		}
		room.Expected = kept
		if err := tx.Save(&room).Error; err != nil {
			return rooms, err
		}
		rooms++
	}
	return rooms, nil
}
