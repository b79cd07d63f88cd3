package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

const (
	// piece is how many entries are read and written at once.
	piece = 1000
	// maxUsers is how many people one may ask about at once.
	maxUsers = 100
)

// journal answers with a page of entries, with all of them line by line, or with those
// that come.
func (a *API) journal(c fiber.Ctx) error {
	q, err := journalQuery(c)
	if err != nil {
		return err
	}
	switch form, err := formIn(c, asJSON, asNDJSON, asCSV, asStream); {
	case err != nil:
		return err
	case form == asStream:
		return a.followJournal(c, q)
	case form != asJSON:
		return a.exportJournal(c, q, form)
	}
	limit, err := limitIn(c)
	if err != nil {
		return err
	}
	// From a time or an entry on, one reads forward; else what was last.
	q.Backward = q.After == 0 && (q.Before != 0 || q.From.IsZero())
	page, err := a.store.Journal(c.Context(), q, limit+1)
	if err != nil {
		return err
	}
	more := len(page) > limit
	page = page[:min(limit, len(page))]
	if q.Backward {
		slices.Reverse(page)
	}
	doc := wire.Journal{Entries: make([]wire.Record, len(page))}
	for i := range page {
		doc.Entries[i] = recordOf(&page[i])
	}
	if len(page) > 0 {
		if q.Backward && more || !q.Backward && q.After != 0 {
			doc.Older = page[0].ID
		}
		if !q.Backward && more || q.Backward && q.Before != 0 {
			doc.Newer = page[len(page)-1].ID
		}
	}
	return c.JSON(doc)
}

func journalQuery(c fiber.Ctx) (q records.JournalQuery, err error) {
	q.Realm = realmOf(c).Name
	if q.From, err = timeIn(c, "from", time.Time{}); err != nil {
		return q, err
	}
	if q.To, err = timeIn(c, "to", time.Time{}); err != nil {
		return q, err
	}
	if q.Rooms, err = patternsIn(c); err != nil {
		return q, err
	}
	if q.Users, err = usersIn(c, maxUsers); err != nil {
		return q, err
	}
	for _, word := range wordsIn(c, "kind") {
		kind := records.Kind(word)
		if !slices.Contains(records.Kinds, kind) {
			return q, badField("kind", word, "the journal has no entries of this kind", kindList())
		}
		q.Kinds = append(q.Kinds, kind)
	}
	if q.After, err = numberIn(c, "after", 0, 0, 1<<53); err != nil {
		return q, err
	}
	q.Before, err = numberIn(c, "before", 0, 0, 1<<53)
	return q, err
}

func kindList() string {
	words := make([]string, len(records.Kinds))
	for i, kind := range records.Kinds {
		words[i] = string(kind)
	}
	return strings.Join(words, ", ")
}

func recordOf(e *records.Entry) wire.Record {
	return wire.Record{
		ID: e.ID, At: wire.Time{Time: time.UnixMilli(e.At)}, Kind: string(e.Kind), Room: string(e.Room), User: string(e.User),
		Session: string(e.Session), Link: uint32(e.Link), Over: e.Over, Status: e.Status, Was: e.Was, Note: e.Note, Reason: e.Reason,
		Length: e.Length, Lost: e.Lost, Hidden: !e.Open,
	}
}

// exportJournal writes everything that matches, however much that is, or the first of it
// when a limit is given.
func (a *API) exportJournal(c fiber.Ctx, q records.JournalQuery, form string) error {
	left, err := numberIn(c, "limit", -1, 1, 1<<53)
	if err != nil {
		return err
	}
	return a.stream(c, form, func(ctx context.Context, w io.Writer, flush func() error) error {
		rows, err := newTable[wire.Record](form, w)
		if err != nil {
			return err
		}
		var failed error
		err = a.store.EachEntry(ctx, q, piece, func(page []records.Entry) bool {
			for i := range page {
				if left == 0 {
					return false
				}
				left--
				record := recordOf(&page[i])
				if failed = rows.row(&record); failed != nil {
					return false
				}
			}
			if failed = rows.flush(); failed == nil {
				failed = flush()
			}
			return failed == nil
		})
		if err == nil {
			err = failed
		}
		if err == nil {
			err = rows.flush()
		}
		return err
	})
}

// followJournal writes entries as they are written, after the last that the reader has
// seen (Last-Event-ID) or from now on, as server-sent events.
func (a *API) followJournal(c fiber.Ctx, q records.JournalQuery) error {
	if seen := c.Get("Last-Event-ID"); seen != "" {
		after, err := strconv.ParseInt(seen, 10, 64)
		if err != nil || after < 0 {
			return badField("Last-Event-ID", seen, "this is the id of no entry", "the id of the last event that was read")
		}
		q.After = after
	} else if q.After == 0 && q.From.IsZero() {
		_, last, err := a.store.JournalEnds(c.Context())
		if err != nil {
			return err
		}
		q.After = last
	}
	c.Set(fiber.HeaderCacheControl, "no-store")
	return a.stream(c, asStream, func(ctx context.Context, w io.Writer, flush func() error) error {
		if _, err := io.WriteString(w, "retry: 1000\n\n"); err != nil {
			return err
		}
		for {
			written := a.writer.Written() // asked for before reading, lest something comes between
			var failed error
			err := a.store.EachEntry(ctx, q, piece, func(page []records.Entry) bool {
				for i := range page {
					text, _ := json.Marshal(recordOf(&page[i])) // plain data
					if _, failed = fmt.Fprintf(w, "id: %d\nevent: entry\ndata: %s\n\n", page[i].ID, text); failed != nil {
						return false
					}
					q.After = page[i].ID
				}
				return true
			})
			if err == nil {
				err = failed
			}
			if err == nil {
				err = flush()
			}
			if err != nil {
				return err
			}
			select {
			case <-ctx.Done():
				return nil
			case <-written:
			case <-time.After(streamSilent):
				if err := stillHere(w, flush); err != nil {
					return err
				}
			}
		}
	})
}

// attendance says who was in a room, or had sessions, at some time between two.
func (a *API) attendance(c fiber.Ctx) error {
	room, err := oneRoomIn(c)
	if err != nil {
		return err
	}
	from, to, err := spanIn(c, time.Now().Add(-time.Hour))
	if err != nil {
		return err
	}
	realm := realmOf(c)
	stays, err := a.store.Attendance(c.Context(), realm.Name, room, from, to, a.writer.Here())
	if err != nil {
		return err
	}
	doc := wire.Attendance{Room: string(room), From: wire.Time{Time: from}, To: wire.Time{Time: to}, Stays: make([]wire.Stay, 0, len(stays))}
	for _, s := range stays {
		stay := wire.Stay{User: string(s.User), Joined: wire.Time{Time: time.UnixMilli(s.Joined)}}
		if s.Left != 0 {
			stay.Left = &wire.Time{Time: time.UnixMilli(s.Left)}
		}
		doc.Stays = append(doc.Stays, stay)
	}
	if err := a.nameStays(c.Context(), realm.Name, doc.Stays); err != nil {
		return err
	}
	slices.SortStableFunc(doc.Stays, func(x, y wire.Stay) int { return x.Joined.Compare(y.Joined.Time) })
	return listed(c, doc, doc.Stays)
}

// nameStays puts in the names that the directory has.
func (a *API) nameStays(ctx context.Context, realm string, stays []wire.Stay) error {
	users := map[presence.UserID]string{}
	for i := range stays {
		users[presence.UserID(stays[i].User)] = ""
	}
	list := make([]presence.UserID, 0, len(users))
	for user := range users {
		list = append(list, user)
	}
	for part := range slices.Chunk(list, maxLimit) {
		people, err := a.store.People(ctx, records.PeopleQuery{Realm: realm, Users: part, Limit: len(part)})
		if err != nil {
			return err
		}
		for _, p := range people {
			users[p.User] = p.Name
		}
	}
	for i := range stays {
		stays[i].Name = users[presence.UserID(stays[i].User)]
	}
	return nil
}
