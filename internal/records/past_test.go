package records_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
)

// TestALongPastBoundsTheLogOfItsFile writes a past beside which no writer runs that would settle what was written.
func TestALongPastBoundsTheLogOfItsFile(t *testing.T) {
	dir := t.TempDir()
	store, err := records.Open(dir)
	require.NoError(t, err)
	defer func() { require.NoError(t, store.Close()) }()
	const most = 1 << 20
	store.BoundLogAt(most)
	at := time.Date(2026, 11, 23, 18, 0, 0, 0, time.UTC)
	past, err := records.NewPast(store, "main", at, nil)
	require.NoError(t, err)
	for range 12 {
		for range 5000 {
			past.Act(journal.Entry{At: at.UnixMilli(), Kind: journal.MemberJoined, Room: "desk.night", User: "ilse"})
			at = at.Add(time.Second)
		}
		past.Record(at, nil, nil)
		log, err := os.Stat(filepath.Join(dir, records.File+"-wal"))
		require.NoError(t, err)
		require.Less(t, log.Size(), int64(most))
	}
}

// TestSomebodyIsFirstSeenWhenTheyFirstCame has somebody come, and come again later, before anything is written.
func TestSomebodyIsFirstSeenWhenTheyFirstCame(t *testing.T) {
	store, err := records.Open(records.Memory)
	require.NoError(t, err)
	defer func() { require.NoError(t, store.Close()) }()
	came := time.Date(2026, 11, 23, 18, 0, 0, 0, time.UTC)
	past, err := records.NewPast(store, "main", came, nil)
	require.NoError(t, err)
	past.Record(came, []presence.Effect{presence.SessionOpened{Link: presence.LinkID{Session: "one", Number: 1}, User: "ilse"}}, []presence.UserID{"ilse"})
	again := presence.SavedSession{ID: "two", Opened: came.Add(time.Hour).UnixMilli()}
	require.NoError(t, past.Close(t.Context(), came.Add(2*time.Hour), presence.Saved{People: []presence.SavedPerson{{User: "ilse", Sessions: []presence.SavedSession{again}}}}))
	people, err := store.People(t.Context(), records.PeopleQuery{Realm: "main", Limit: 10})
	require.NoError(t, err)
	require.Len(t, people, 1)
	require.Equal(t, came.UnixMilli(), people[0].FirstSeen)
}
