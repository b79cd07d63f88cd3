package records_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/headcount"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/timing"
)

// TestFilesOfOneLogAreCompared puts the same rows into two files, and then one more into one of them.
func TestFilesOfOneLogAreCompared(t *testing.T) {
	entries := func(n int) (list []journal.Entry) {
		for i := range n {
			e := journal.Entry{At: int64(i), Realm: "aldermoor", Kind: journal.MemberJoined, Room: "desk.night", User: "ilse", Open: true}
			if i%3 == 0 {
				e.Kind, e.Over, e.Room = journal.SessionOpened, "websocket", ""
			}
			list = append(list, e)
		}
		return list
	}
	begin := records.Position{Log: "aldermoor"}
	put := func(dir string, after records.Position, rows records.Rows) {
		store, err := records.Open(dir)
		require.NoError(t, err)
		defer func() { require.NoError(t, store.Close()) }()
		require.NoError(t, store.Put(after, []records.Rows{rows}))
		at, err := store.Position()
		require.NoError(t, err)
		require.Equal(t, after, at)
	}
	here, there, alone := t.TempDir(), t.TempDir(), t.TempDir()
	rows := func() records.Rows {
		return records.Rows{Realm: "aldermoor", Entries: entries(200), People: []records.Person{{Realm: "aldermoor", User: "ilse", FirstSeen: 7}},
			Changes: []records.Change{
				{Remove: &records.Removal{Realm: "aldermoor", User: "bram", At: time.UnixMilli(8).UTC()}},
				{DropHook: "hook-unknown"}, // fits no file
			}}
	}
	first := begin.Next([]byte("one"))
	put(here, first, rows())
	put(there, first, rows())
	store, err := records.Open(alone)
	require.NoError(t, err)
	require.NoError(t, store.Close())

	wrong := func() (what []string) {
		findings, err := records.Compare(t.Context(), here, there)
		require.NoError(t, err)
		for _, f := range findings {
			if f.Wrong {
				what = append(what, f.What)
			}
		}
		return what
	}
	require.Empty(t, wrong())
	saved, err := func() (presence.Saved, error) {
		store, err := records.Open(here)
		require.NoError(t, err)
		defer func() { require.NoError(t, store.Close()) }()
		return store.State("aldermoor")
	}()
	require.NoError(t, err)
	require.Equal(t, []presence.SavedRemoval{{At: 8}}, saved.People[0].Removed)

	put(here, first.Next([]byte("two")), records.Rows{Entries: entries(1)})
	_, err = records.Compare(t.Context(), here, there)
	require.ErrorContains(t, err, there+" is behind by 1 records of the log")
	put(there, first.Next([]byte("another")), records.Rows{Entries: entries(2)})
	require.Equal(t, []string{"position in the log", "equal rows of journal", "equal rows of journal_minutes"}, wrong())
	_, err = records.Compare(t.Context(), here, alone)
	require.ErrorContains(t, err, alone+" are not those of a cluster")
	_, err = records.Compare(t.Context(), here, alone+"/nowhere")
	require.ErrorContains(t, err, "there are no records in "+alone+"/nowhere")
}

// TestRecordsMayBePutTogether puts the same records, of any kind, into one file one by one and into another some at a time.
// No row differs.
func TestRecordsMayBePutTogether(t *testing.T) {
	t.Parallel()
	for seed := range uint64(20) {
		random := rand.New(rand.NewPCG(seed, 7))
		few := func() int { return random.IntN(3) }
		record := func(i int) (r records.Rows) {
			person := func(n int) presence.UserID { return presence.UserID(fmt.Sprint("w-", i/8, "-", n)) } // sometimes others
			some := func() presence.UserID { return person(few()) }
			for range few() {
				r.Entries = append(r.Entries, journal.Entry{At: 40_000 * int64(i), Realm: "aldermoor", Kind: journal.MemberJoined, Room: "desk.night", User: some(), Open: true})
			}
			for _, at := range random.Perm(3)[:few()] {
				p := records.Person{Realm: "aldermoor", User: person(at), LastSeen: int64(random.IntN(9)), LastSeenOpen: int64(random.IntN(9))}
				if few() > 1 {
					p.Name, p.FirstSeen = fmt.Sprint("Name ", i), 100-int64(i)
				}
				if few() > 1 {
					p.State = fmt.Appendf(nil, `{"note":"%d"}`, i)
				}
				r.People = append(r.People, p)
			}
			r.Typings = make([]timing.Typing, few())
			r.Counts = make([]headcount.Row, few())
			for j := range r.Counts {
				r.Counts[j] = headcount.Row{Realm: "aldermoor", Room: presence.RoomName(fmt.Sprint("basin.b-", j)), Visitors: i}
			}
			for range few() {
				r.Hooked = append(r.Hooked, records.Delivery{Hook: "hook-1", State: "waiting", Body: []byte("{}"), Created: int64(i)})
			}
			if n := few(); n > 0 {
				r.Run = &records.Run{ID: int64(n), Mark: int64(i)}
			}
			switch random.IntN(24) {
			case 0, 1:
				r.Changes = []records.Change{{Erase: &records.PersonID{Realm: "aldermoor", User: some()}}}
			case 2:
				r.Changes = []records.Change{{PutPeople: []records.Person{{Realm: "aldermoor", User: some(), Name: "Wren Alder"}}}, {DropHook: "hook-unknown"}}
			case 3:
				r.Tried = []records.Delivery{{ID: 1, Hook: "hook-1", State: "delivered"}}
			case 4:
				r.Tidy = &records.Tidy{Journal: int64(i)}
			}
			return r
		}
		var list []records.Rows
		for i := range 40 {
			list = append(list, record(i))
		}
		text, err := json.Marshal(list)
		require.NoError(t, err)
		put := func(atOnce func() int) (dir string) {
			dir = t.TempDir()
			store, err := records.Open(dir)
			require.NoError(t, err)
			var rows []records.Rows // a store may keep what it is given
			require.NoError(t, json.Unmarshal(text, &rows))
			for at := (records.Position{Log: "aldermoor"}); len(rows) > 0; {
				n := min(atOnce(), len(rows))
				for range n {
					at = at.Next([]byte("one more"))
				}
				require.NoError(t, store.Put(at, rows[:n]))
				rows = rows[n:]
			}
			require.NoError(t, store.Close())
			return dir
		}
		findings, err := records.Compare(t.Context(), put(func() int { return 1 }), put(func() int { return 1 + random.IntN(12) }))
		require.NoError(t, err)
		for _, f := range findings {
			require.False(t, f.Wrong, "seed %d: %s: %s", seed, f.What, f.Detail)
		}
	}
}
