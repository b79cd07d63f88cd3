package records_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
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
