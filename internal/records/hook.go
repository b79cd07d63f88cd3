package records

import (
	"context"
	"database/sql"
	"time"

	"tovik.example/tovik/internal/presence"
)

// Hook is a subscription: which events of which rooms are sent to an address.
type Hook struct {
	ID        string `gorm:"primaryKey"`
	Realm     string
	Name      string
	URL       string
	Kinds     []string           `gorm:"serializer:json"`
	Rooms     []presence.Pattern `gorm:"serializer:json"` // nil: all, and people as such
	View      string             // full or open
	Above     *int               // of headcount.above
	Below     *int               // of headcount.below
	Secret    string
	OldSecret string // that signs too, until OldUntil
	OldUntil  int64  // Unix milliseconds
	Paused    bool
	Created   int64
}

// The states of a delivery.
const (
	Waiting   = "waiting"
	Delivered = "delivered"
	Parked    = "parked" // given up, until somebody asks for it again
)

// Delivery is an event to be sent to a hook. The deliveries of a lane are sent in order.
type Delivery struct {
	ID       int64             `gorm:"primaryKey;autoIncrement:false" json:",omitzero"`
	Hook     string            `json:",omitzero"`
	Lane     string            `json:",omitzero"` // the room, or the person when it is about none
	Kind     string            `json:",omitzero"`
	Room     presence.RoomName `json:",omitzero"`
	User     presence.UserID   `json:",omitzero"`
	Other    presence.UserID   `json:",omitzero"` // who answered, or was invited
	Event    string            `json:",omitzero"` // its id
	Body     []byte            `json:",omitzero"`
	Created  int64             `json:",omitzero"` // Unix milliseconds
	State    string            `json:",omitzero"`
	Attempts int               `json:",omitzero"`
	Tried    int64             `json:",omitzero"` // when last, Unix milliseconds
	Due      int64             `json:",omitzero"` // when again
	Answered int               `json:",omitzero"` // the HTTP status of the last answer
	Answer   string            `json:",omitzero"` // the beginning of its body
	Error    string            `json:",omitzero"` // why there was none
	Took     int64             `json:",omitzero"` // milliseconds
}

// Hooks returns the hooks of all realms, oldest first.
func (s *Store) Hooks() ([]Hook, error) {
	var all []Hook
	return all, s.db().Order("created, id").Find(&all).Error
}

// PutHook adds or changes a hook.
func (s *Store) PutHook(h *Hook) error {
	if h.Created == 0 {
		h.Created = time.Now().UnixMilli()
	}
	return s.change(Change{PutHook: h})
}

// Redeliver notes, through the log, that a delivery waits again. Alone, [Writer.Redeliver] does.
func (s *Store) Redeliver(d Delivery) error { return s.change(Change{Redeliver: &d}) }

// RemoveHook removes a hook and its deliveries.
func (s *Store) RemoveHook(id string) error { return s.change(Change{DropHook: id}) }

// Lanes returns the lanes of a hook in which deliveries wait, the one with the oldest delivery
// first.
func (s *Store) Lanes(hook string) ([]string, error) {
	var lanes []string
	return lanes, s.reading(context.Background()).Raw("SELECT lane FROM deliveries WHERE hook = ? AND state = 'waiting' GROUP BY lane ORDER BY min(id)", hook).Scan(&lanes).Error
}

// WaitingIn returns the next waiting deliveries of a lane.
func (s *Store) WaitingIn(hook, lane string, after int64, most int) ([]Delivery, error) {
	var list []Delivery
	return list, s.db().Where("hook = ? AND lane = ? AND state = 'waiting' AND id > ?", hook, lane, after).Order("id").Limit(most).Find(&list).Error
}

// Deliveries returns a page of the deliveries of a hook, newest first: with a state if it is not
// empty, and with ids below before if it is not 0.
func (s *Store) Deliveries(ctx context.Context, hook, state string, before int64, most int) ([]Delivery, error) {
	query := s.reading(ctx).Where("hook = ?", hook).Order("id DESC").Limit(most)
	if state != "" {
		query = query.Where("state = ?", state)
	}
	if before != 0 {
		query = query.Where("id < ?", before)
	}
	var page []Delivery
	return page, query.Find(&page).Error
}

// Delivery returns a delivery.
func (s *Store) Delivery(id int64) (Delivery, error) {
	var d Delivery
	return d, found(s.db().Where("id = ?", id).Limit(1).Find(&d))
}

// EachDeliveryAbout calls each with the deliveries about a person, or with them, in order, until it
// returns an error.
func (s *Store) EachDeliveryAbout(ctx context.Context, realm string, user presence.UserID, each func(*Delivery) error) error {
	for after := int64(0); ; {
		var list []Delivery
		err := s.reading(ctx).Where("id > ? AND (user = ? OR other = ?) AND hook IN (SELECT id FROM hooks WHERE realm = ?)", after, user, user, realm).Order("id").Limit(chunk).Find(&list).Error
		if err != nil || len(list) == 0 {
			return err
		}
		for i := range list {
			if err := each(&list[i]); err != nil {
				return err
			}
		}
		after = list[len(list)-1].ID
	}
}

// CountDeliveries returns how many deliveries each hook has, by state.
func (s *Store) CountDeliveries(ctx context.Context) (map[string]map[string]int, error) {
	var rows []struct {
		Hook, State string
		N           int
	}
	if err := s.reading(ctx).Raw("SELECT hook, state, count(*) AS n FROM deliveries GROUP BY hook, state").Scan(&rows).Error; err != nil {
		return nil, err
	}
	counts := map[string]map[string]int{}
	for _, row := range rows {
		if counts[row.Hook] == nil {
			counts[row.Hook] = map[string]int{}
		}
		counts[row.Hook][row.State] = row.N
	}
	return counts, nil
}

// CountDeliveryStates returns how many deliveries to hooks of a realm, or for an empty realm of
// all, are waiting and how many are parked.
func (s *Store) CountDeliveryStates(ctx context.Context, realm string) (waiting, parked int, err error) {
	var rows []struct {
		State string
		N     int
	}
	const of = `hook IN (SELECT id FROM hooks WHERE realm = @realm OR @realm = '')`
	err = s.reading(ctx).Raw(`SELECT 'waiting' AS state, count(*) AS n FROM deliveries WHERE state = 'waiting' AND `+of+`
		UNION ALL SELECT 'parked', count(*) FROM deliveries WHERE state = 'parked' AND `+of, sql.Named("realm", realm)).Scan(&rows).Error
	for _, row := range rows {
		switch row.State {
		case Waiting:
			waiting = row.N
		case Parked:
			parked = row.N
		}
	}
	return waiting, parked, err
}
