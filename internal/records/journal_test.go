package records_test

import (
	"context"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
)

// readBothWays reads a journal of the realm "main" in pages, by each index, forward and backward.
func readBothWays(t *testing.T, store *records.Store, all []journal.Entry) {
	t.Helper()
	middle := time.UnixMilli(all[len(all)/2].At)
	queries := map[string]records.JournalQuery{
		"all": {}, "room": {Rooms: []presence.Pattern{"desk.night"}}, "pattern": {Rooms: []presence.Pattern{"basin.*"}}, "person": {Users: []presence.UserID{"w-3"}}, "people": {Users: []presence.UserID{"w-3", "w-5"}},
		"about": {About: "w-3"}, "kind": {Kinds: []journal.Kind{journal.MemberLeft}}, "from": {From: middle}, "to": {To: middle},
		"both": {From: middle.Add(-5 * time.Minute), To: middle, Rooms: []presence.Pattern{"**"}, Users: []presence.UserID{"w-3"}},
	}
	for name, q := range queries {
		q.Realm = "main"
		var want []journal.Entry
		for _, e := range all {
			inTime := (q.From.IsZero() || e.At >= q.From.UnixMilli()) && (q.To.IsZero() || e.At < q.To.UnixMilli())
			inRoom := q.Rooms == nil || (e.Room != "" && q.Rooms[0].Match(e.Room))
			about := q.About == "" || e.User == q.About || e.Other == q.About
			if inTime && inRoom && about && (q.Users == nil || slices.Contains(q.Users, e.User)) && (q.Kinds == nil || slices.Contains(q.Kinds, e.Kind)) {
				want = append(want, e)
			}
		}
		require.NotEmpty(t, want, name)
		for _, backward := range []bool{false, true} {
			var got []journal.Entry
			q := q
			q.Backward = backward
			for {
				page, err := store.Journal(t.Context(), q, 17)
				require.NoError(t, err)
				if len(page) == 0 {
					break
				}
				got = append(got, page...)
				if backward {
					q.Before = page[len(page)-1].ID
				} else {
					q.After = page[len(page)-1].ID
				}
			}
			if backward {
				slices.Reverse(got)
			}
			require.Equal(t, want, got, "%s, backward %v", name, backward)
		}
	}
}

// TestAJournalOfManyBlocksIsReadAsOne has entries in some blocks of the indexes, full and nearly empty ones far from each
// other. They are read by each index, each of which finds them without a search; and somebody is erased
// from all.
func TestAJournalOfManyBlocksIsReadAsOne(t *testing.T) {
	store, err := records.Open(t.TempDir())
	require.NoError(t, err)
	defer func() { require.NoError(t, store.Close()) }()
	const size = 1 << 18
	at := time.Date(2026, 11, 23, 18, 0, 0, 0, time.UTC)
	var all []journal.Entry
	for _, first := range []int64{1, size - 70, 3*size - 1, 7 * size, 1 << 61} {
		for i := range int64(140) {
			e := journal.Entry{ID: first + i, At: at.UnixMilli(), Realm: "main", Kind: []journal.Kind{journal.MemberJoined, journal.MemberLeft}[i%2], Open: true,
				User: presence.UserID(fmt.Sprintf("w-%d", i%7)), Room: []presence.RoomName{weir, desk}[i/7%2]}
			if i%11 == 0 {
				e.Other = presence.UserID(fmt.Sprintf("w-%d", i%5))
			}
			all = append(all, e)
			at = at.Add(time.Second)
		}
	}
	require.NoError(t, store.ImportEntries(all))
	readBothWays(t, store, all)

	const person, other = "SEARCH journal USING INDEX journal_of_person (<expr>=? AND realm=? AND user=?", "SEARCH journal USING INDEX journal_of_other (<expr>=? AND realm=? AND other=?"
	for _, way := range []struct {
		q     records.JournalQuery
		steps []string
	}{
		{records.JournalQuery{Rooms: []presence.Pattern{"desk.night"}}, []string{"SEARCH journal USING INDEX journal_of_room (<expr>=? AND realm=? AND room=? AND rowid>? AND rowid<?)"}},
		{records.JournalQuery{Users: []presence.UserID{"w-3"}}, []string{person + " AND rowid>? AND rowid<?)"}},
		{records.JournalQuery{Users: []presence.UserID{"w-3", "w-5"}}, []string{person}},
		{records.JournalQuery{About: "w-3"}, []string{person, other}},
	} {
		plan, err := store.Plan(way.q)
		require.NoError(t, err)
		for _, step := range way.steps {
			require.Contains(t, strings.Join(plan, "\n"), step)
		}
	}

	left := slices.DeleteFunc(slices.Clone(all), func(e journal.Entry) bool { return e.User == "w-4" || e.Other == "w-4" })
	erased, err := store.Erase(t.Context(), "main", "w-4")
	require.NoError(t, err)
	require.EqualValues(t, len(all)-len(left), erased["journal"])
	readBothWays(t, store, left)
}

// Entries are written with the columns that they need, and many by one statement.
func TestEntriesAreReadAsTheyWereWritten(t *testing.T) {
	store, err := records.Open(records.Memory)
	require.NoError(t, err)
	defer func() { require.NoError(t, store.Close()) }()
	var all []journal.Entry
	rapid.Check(t, func(t *rapid.T) {
		last := len(all)
		for i := range rapid.OneOf(rapid.IntRange(1, 4), rapid.IntRange(1, 200)).Draw(t, "entries") {
			e := journal.Entry{ID: int64(last + i + 1), At: int64(i), Realm: "main", Kind: "some.kind"}
			fields := reflect.ValueOf(&e).Elem()
			most := rapid.SampledFrom([]int{0, 0, 1, 3, fields.NumField()}).Draw(t, "fields")
			for range most {
				switch field := fields.Field(rapid.IntRange(4, fields.NumField()-1).Draw(t, "field")); field.Kind() {
				case reflect.String:
					field.SetString(rapid.StringN(0, 9, -1).Draw(t, "text"))
				case reflect.Bool:
					field.SetBool(rapid.Bool().Draw(t, "whether"))
				case reflect.Uint64:
					field.SetUint(uint64(rapid.Uint32().Draw(t, "number")))
				default:
					field.SetInt(rapid.Int64().Draw(t, "length"))
				}
			}
			all = append(all, e)
		}
		require.NoError(t, store.Put(records.Position{Log: "log", Hash: []byte{}}, []records.Rows{{Realm: "main", Entries: slices.Clone(all[last:])}}))
		got, err := store.Journal(context.Background(), records.JournalQuery{Realm: "main", After: int64(last)}, 1000)
		require.NoError(t, err)
		require.Equal(t, all[last:], got)
	})
}
