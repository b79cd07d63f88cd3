package records

import (
	"cmp"
	"context"
	"slices"
	"time"

	"gorm.io/gorm"

	"tovik.example/tovik/internal/headcount"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
)

// rolledUp is the mark up to which minutes have been summed up into hours, and hours into days.
const rolledUp = "rolled-up"

// rollUp sums up what is over by a time: at most one hour at a call, and its day if that ends
// with it. It returns false when nothing is left to do.
func (s *Store) rollUp(ctx context.Context, at time.Time) (more bool, err error) {
	to, rows, err := s.sums(ctx, at)
	if err != nil || to == 0 {
		return false, err
	}
	return true, s.db().Transaction(func(tx *gorm.DB) error {
		if err := putHeadcounts(tx, rows); err != nil {
			return err
		}
		return putMark(tx, rolledUp, to)
	})
}

// sums returns the next hour that is over by a time, summed up, with its day if that ends with it, and up
// to when that is; 0 if there is none.
func (s *Store) sums(ctx context.Context, at time.Time) (to int64, rows []headcount.Row, err error) {
	from, err := s.mark(rolledUp)
	if err != nil {
		return 0, nil, err
	}
	if from == 0 {
		var first *int64
		if err := s.db().Raw("SELECT min(at) FROM headcounts WHERE step = ?", headcount.Minute).Scan(&first).Error; err != nil || first == nil {
			return 0, nil, err
		}
		from = headcount.Hour.Begin(*first)
	}
	to = from + int64(headcount.Hour)
	if at.UnixMilli() < to {
		return 0, nil, nil
	}
	if rows, err = s.sumUp(ctx, headcount.Minute, headcount.Hour, from, nil); err != nil {
		return 0, nil, err
	}
	if to%int64(headcount.Day) == 0 {
		days, err := s.sumUp(ctx, headcount.Hour, headcount.Day, to-int64(headcount.Day), rows)
		if err != nil {
			return 0, nil, err
		}
		rows = append(rows, days...)
	}
	return to, rows, nil
}

// sumUp makes one step of each room out of the shorter steps in it, those on record and more of them.
func (s *Store) sumUp(ctx context.Context, of, into headcount.Step, from int64, more []headcount.Row) (sums []headcount.Row, err error) {
	to := from + int64(into)
	var parts []headcount.Row
	if err := s.db().Where("step = ? AND at >= ? AND at < ?", of, from, to).Find(&parts).Error; err != nil {
		return nil, err
	}
	parts = append(parts, more...)
	slices.SortFunc(parts, func(a, b headcount.Row) int {
		return cmp.Or(cmp.Compare(a.Realm, b.Realm), cmp.Compare(a.Room, b.Room), cmp.Compare(a.At, b.At))
	})
	ran, err := s.ran(ctx, from, to)
	if err != nil {
		return nil, err
	}
	rooms := byRoom(parts)
	came, err := s.came(ctx, rooms, from, to)
	if err != nil {
		return nil, err
	}
	for _, steps := range rooms {
		counted := countedRoom{steps[0].Realm, steps[0].Room}
		if of == headcount.Minute {
			steps = headcount.Fill(steps, from, to, ran)
		}
		sums = append(sums, headcount.SumUp(steps, into, came[counted]))
	}
	return sums, nil
}

// countedRoom is a room of a realm, or the realm itself if the room is empty.
type countedRoom struct {
	realm string
	room  presence.RoomName
}

// byRoom divides sorted steps into those of each room.
func byRoom(sorted []headcount.Row) (rooms [][]headcount.Row) {
	for len(sorted) > 0 {
		n := slices.IndexFunc(sorted, func(h headcount.Row) bool { return h.Realm != sorted[0].Realm || h.Room != sorted[0].Room })
		if n < 0 {
			n = len(sorted)
		}
		rooms = append(rooms, sorted[:n])
		sorted = sorted[n:]
	}
	return rooms
}

// One query counts the visitors of at most roomsTogether rooms, and of no further room once joinsTogether joins were
// counted in them. The joins bound the visitors, and so the memory.
const (
	roomsTogether = 1000
	joinsTogether = 100_000
)

// came returns how many people came into each room between two times and were not there at the first, given the
// steps of each room, sorted by realm. A room without joins is left out.
func (s *Store) came(ctx context.Context, rooms [][]headcount.Row, from, to int64) (map[countedRoom]int, error) {
	came := make(map[countedRoom]int, len(rooms))
	var together []presence.RoomName
	joined := 0
	for i, steps := range rooms {
		realm, room, joins := steps[0].Realm, steps[0].Room, 0
		for j := range steps {
			joins += steps[j].Joins
		}
		switch {
		case joins > 0 && room == "":
			if err := s.addCame(ctx, came, online, realm, nil, from, to); err != nil {
				return nil, err
			}
		case joins > 0:
			together = append(together, room)
			joined += joins
		}
		last := i+1 == len(rooms) || rooms[i+1][0].Realm != realm
		if len(together) > 0 && (last || len(together) == roomsTogether || joined >= joinsTogether) {
			if err := s.addCame(ctx, came, inRooms, realm, together, from, to); err != nil {
				return nil, err
			}
			together, joined = nil, 0
		}
	}
	return came, nil
}

// arrival says in SQL which entries are about arriving and leaving, and which of those say that somebody arrived.
type arrival struct{ about, arrived string }

var (
	inRooms = arrival{block + " = @block AND room IN @rooms AND room <> '' AND +kind IN (@joined, @left)", "kind = @joined"}
	online  = arrival{"+kind = @changed AND (was = @offline OR status = @offline)", "was = @offline"}
)

// addCame adds to came, for each room, the people whose first entry about arriving and leaving, between the two times,
// says that they arrived.
func (s *Store) addCame(ctx context.Context, came map[countedRoom]int, of arrival, realm string, rooms []presence.RoomName, from, to int64) error {
	first, last, err := s.idsBetween(ctx, time.UnixMilli(from), time.UnixMilli(to))
	if err != nil {
		return err
	}
	ranges, err := blocks(s.reading(ctx), idRange{first, last})
	if err != nil {
		return err
	}
	type visit struct {
		room presence.RoomName
		user presence.UserID
	}
	seen := map[visit]struct{}{}
	for _, ids := range ranges {
		var list []struct {
			Room    presence.RoomName
			User    presence.UserID
			Arrived bool
		}
		// With min(id), SQLite takes the other columns from the row that has the minimum.
		err := s.reading(ctx).Raw("SELECT room, user, "+of.arrived+" AS arrived, min(id) FROM journal WHERE realm = @realm AND id BETWEEN @first AND @last AND at >= @from AND at < @to AND "+of.about+" GROUP BY room, user",
			map[string]any{"realm": realm, "rooms": rooms, "block": ids.block(), "first": ids.first, "last": ids.last, "from": from, "to": to,
				"joined": journal.MemberJoined, "left": journal.MemberLeft, "changed": journal.StatusChanged, "offline": presence.Offline}).Scan(&list).Error
		if err != nil {
			return err
		}
		for i := range list {
			v := visit{list[i].Room, list[i].User}
			if _, before := seen[v]; before {
				continue
			}
			seen[v] = struct{}{}
			if list[i].Arrived {
				came[countedRoom{realm, v.room}]++
			}
		}
	}
	return nil
}
