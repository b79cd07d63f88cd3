package records

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"gorm.io/gorm"

	"tovik.example/tovik/internal/journal"
)

// rowsAtOnce is how many rows one statement has: as many as fit, of the largest size first.
// More than the first make it no faster; and each size is one statement to keep prepared.
var rowsAtOnce = [...]int{64, 16, 4, 1}

// table is a table into which many rows are written by statements of our own. That costs half of
// what it costs to derive the statements from the types of the rows, and the writer does it all
// the time.
type table struct {
	insert [len(rowsAtOnce)]string // a statement for each of [rowsAtOnce]
}

// tables are all there are, for [prepare].
var tables []*table

func newTable(name, columns, tail string) *table {
	places := "(" + strings.TrimSuffix(strings.Repeat("?,", 1+strings.Count(columns, ",")), ",") + ")"
	t := new(table)
	for i, n := range rowsAtOnce {
		// A statement that fails may leave rows behind, as its transaction is rolled back. So SQLite
		// need not keep the pages of before for each statement.
		t.insert[i] = "INSERT OR FAIL INTO " + name + " (" + columns + ") VALUES " + strings.TrimSuffix(strings.Repeat(places+",", n), ",") + tail
	}
	tables = append(tables, t)
	return t
}

// prepared holds the statements of [tables], parsed once for the connection that writes.
type prepared map[*table][len(rowsAtOnce)]*sql.Stmt

// preparedKey is the name by which GORM hands a connection's [prepared] on to its
// transactions.
const preparedKey = "tovik:prepared"

// prepare returns db with its statements prepared. They end with its pool.
func prepare(db *gorm.DB) (*gorm.DB, error) {
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	statements := prepared{}
	for _, t := range tables {
		var sizes [len(rowsAtOnce)]*sql.Stmt
		for i, text := range t.insert {
			if sizes[i], err = pool.Prepare(text); err != nil {
				return nil, fmt.Errorf("prepare %.40s…: %w", text, err)
			}
		}
		statements[t] = sizes
	}
	return db.Set(preparedKey, statements).Session(&gorm.Session{}), nil
}

// putRows writes rows in a transaction of a prepared connection. Values appends the values of a
// row.
func putRows[R any](tx *gorm.DB, t *table, rows []R, values func(into []any, row *R) []any) error {
	transaction, ok := tx.Statement.ConnPool.(*sql.Tx)
	statements, found := tx.Get(preparedKey)
	if !ok || !found {
		return fmt.Errorf("rows are written in a transaction, not by %T", tx.Statement.ConnPool)
	}
	ctx := context.Background()
	var args []any
	for i, n := range rowsAtOnce {
		if len(rows) < n {
			continue
		}
		statement := transaction.StmtContext(ctx, statements.(prepared)[t][i])
		for ; len(rows) >= n; rows = rows[n:] {
			args = args[:0]
			for row := range n {
				args = values(args, &rows[row])
			}
			if _, err := statement.ExecContext(ctx, args...); err != nil {
				return err
			}
		}
	}
	return nil
}

// Most entries have few columns that are not empty, and to bind one costs a tenth of a row. Entries of members are
// brief; what comes with a session takes the usual columns.
const (
	briefColumns = "at, realm, kind, room, user, session, status, reason, length, open"
	usualColumns = briefColumns + ", link, over, was, unheard"
	wholeColumns = "at, realm, kind, room, user, other, session, link, over, status, was, note, reason, length, lost, open, wanted, unheard, page_hidden, by"
)

// The tables without an id let SQLite choose it, the highest and one. A statement that gives the ids of
// many rows makes SQLite keep the pages of before, which costs a fifth of the work.
var (
	journalTable  = newTable("journal", "id, "+wholeColumns, "")
	journalTables = [...]*table{brief: newTable("journal", briefColumns, ""), usual: newTable("journal", usualColumns, ""), whole: newTable("journal", wholeColumns, "")}
)

// width says which columns an entry needs.
type width int

const (
	brief width = iota
	usual
	whole
)

func widthOf(e *journal.Entry) width {
	switch {
	case e.Other != "" || e.Note != "" || e.Lost != 0 || e.Wanted != "" || e.PageHidden || e.By != "":
		return whole
	case e.Link != 0 || e.Over != "" || e.Was != "" || e.Unheard != 0:
		return usual
	}
	return brief
}

// columns appends the values of a width.
func (w width) columns(into []any, e *journal.Entry) []any {
	if w == whole {
		return wholeEntry(into, e)
	}
	into = append(into, e.At, e.Realm, string(e.Kind), string(e.Room), string(e.User), string(e.Session), e.Status, e.Reason, e.Length, e.Open)
	if w == usual {
		into = append(into, int64(e.Link), e.Over, e.Was, e.Unheard)
	}
	return into
}

func wholeEntry(into []any, e *journal.Entry) []any {
	return append(into, e.At, e.Realm, string(e.Kind), string(e.Room), string(e.User), string(e.Other), string(e.Session), int64(e.Link), e.Over,
		e.Status, e.Was, e.Note, e.Reason, e.Length, e.Lost, e.Open, string(e.Wanted), e.Unheard, e.PageHidden, e.By)
}

// putEntries puts entries with consecutive ids, all of them higher than those on record. Neighbours of different widths
// go together, because a statement costs more than some empty columns; but many brief ones in a row go on their own.
func putEntries(tx *gorm.DB, entries []journal.Entry) error {
	if err := putEntriesAt(tx, entries[:1]); err != nil {
		return err
	}
	for rest := entries[1:]; len(rest) > 0; {
		is, n := widthOf(&rest[0]), 1
		for ; n < min(len(rest), rowsAtOnce[0]); n++ {
			next := widthOf(&rest[n])
			if next > is && n >= manyBrief {
				break
			}
			is = max(is, next)
		}
		if err := putRows(tx, journalTables[is], rest[:n], is.columns); err != nil {
			return err
		}
		rest = rest[n:]
	}
	return nil
}

// manyBrief is after how many narrower entries a wider one begins another statement.
const manyBrief = 16

// putEntriesAt puts entries under any ids that are free.
func putEntriesAt(tx *gorm.DB, entries []journal.Entry) error {
	return putRows(tx, journalTable, entries, func(into []any, e *journal.Entry) []any { return wholeEntry(append(into, e.ID), e) })
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
