package records

import (
	"context"
	"strings"

	"gorm.io/gorm"
)

// rowsAtOnce is how many rows one statement has: more make it no faster.
const rowsAtOnce = 50

// table is where many rows are written by statements of our own: they cost half of what
// those cost that are made of the rows' types, and this is what the writer does all day.
type table struct {
	into string // up to VALUES
	one  string // the places of a row
	tail string
}

func newTable(name, columns, tail string) table {
	places := strings.TrimSuffix(strings.Repeat("?,", 1+strings.Count(columns, ",")), ",")
	return table{"INSERT INTO " + name + " (" + columns + ") VALUES ", "(" + places + ")", tail}
}

// putRows writes rows, of which each gives its values.
func putRows[R any](tx *gorm.DB, t table, rows []R, values func(into []any, row *R) []any) error {
	var args []any
	for len(rows) > 0 {
		n := min(rowsAtOnce, len(rows))
		args = args[:0]
		for i := range n {
			args = values(args, &rows[i])
		}
		text := t.into + strings.TrimSuffix(strings.Repeat(t.one+",", n), ",") + t.tail
		if _, err := tx.Statement.ConnPool.ExecContext(context.Background(), text, args...); err != nil {
			return err
		}
		rows = rows[n:]
	}
	return nil
}

var journalTable = newTable("journal", "id, at, realm, kind, room, user, session, link, over, status, was, note, reason, length, lost, open", "")

func putEntries(tx *gorm.DB, entries []Entry) error {
	return putRows(tx, journalTable, entries, func(into []any, e *Entry) []any {
		return append(into, e.ID, e.At, e.Realm, string(e.Kind), string(e.Room), string(e.User), string(e.Session), int64(e.Link), e.Over,
			e.Status, e.Was, e.Note, e.Reason, e.Length, e.Lost, e.Open)
	})
}

// A name or a time that is not known does not undo one that is.
var peopleTable = newTable("people", "realm, user, name, picture, first_seen, last_seen, last_seen_open, state", ` ON CONFLICT (realm, user) DO UPDATE SET
	name = iif(excluded.name <> '', excluded.name, people.name), picture = iif(excluded.picture <> '', excluded.picture, people.picture),
	first_seen = iif(people.first_seen > 0, people.first_seen, excluded.first_seen), last_seen = max(people.last_seen, excluded.last_seen),
	last_seen_open = max(people.last_seen_open, excluded.last_seen_open), state = excluded.state`)

func putStates(tx *gorm.DB, people []*Person) error {
	return putRows(tx, peopleTable, people, func(into []any, p **Person) []any {
		return append(into, (*p).Realm, string((*p).User), (*p).Name, (*p).Picture, (*p).FirstSeen, (*p).LastSeen, (*p).LastSeenOpen, (*p).State)
	})
}
