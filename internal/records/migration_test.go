package records_test

import (
	"database/sql"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/timing"
)

// TestAnOlderFileIsMigrated opens a file from before entries said which session came or went. Its
// journal stays, takes new entries, and can be studied and replayed.
func TestAnOlderFileIsMigrated(t *testing.T) {
	dir := t.TempDir()
	db, err := sql.Open("sqlite", filepath.Join(dir, records.File))
	require.NoError(t, err)
	const old = 5
	for _, statements := range records.Migrations[:old] {
		for _, statement := range statements {
			_, err := db.Exec(statement)
			require.NoError(t, err)
		}
	}
	begin := time.Date(2026, 11, 23, 18, 0, 0, 0, time.UTC)
	at := begin.UnixMilli()
	insert := func(id, after int64, kind, room, session, over, reason string, length int64) {
		_, err := db.Exec("INSERT INTO journal (id, at, realm, kind, room, user, session, over, reason, length, open) VALUES (?, ?, 'main', ?, ?, 'ilse', ?, ?, ?, ?, 1)", id, at+after, kind, room, session, over, reason, length)
		require.NoError(t, err)
		_, err = db.Exec("INSERT INTO journal_minutes VALUES (?, ?, ?) ON CONFLICT (minute) DO UPDATE SET last = excluded.last", (at+after)/60_000, id, id)
		require.NoError(t, err)
	}
	insert(1, 0, "session.opened", "", "s1", "websocket", "", 0)
	insert(2, 0, "member.joined", "desk.night", "", "", "", 0)
	insert(3, 20_000, "session.lost", "", "s1", "websocket", "lost", 0)
	insert(4, 24_000, "session.resumed", "", "s1", "websocket", "", 4000)
	insert(5, 50_000, "session.lost", "", "s1", "websocket", "lost", 0)
	insert(6, 60_000, "member.left", "desk.night", "", "", "lost", 60_000)
	insert(7, 60_000, "session.ended", "", "s1", "websocket", "lost", 60_000)
	_, err = db.Exec("PRAGMA user_version = 5")
	require.NoError(t, err)
	require.NoError(t, db.Close())

	store, err := records.Open(dir)
	require.NoError(t, err)
	defer func() { require.NoError(t, store.Close()) }()
	require.NoError(t, store.ImportEntries([]journal.Entry{{ID: 8, At: at + 61_000, Realm: "main", Kind: journal.SessionOpened, User: "ilse", Session: "s2", Over: "websocket", Reason: "unknown", Wanted: "s1", Open: true}}))
	taken := []journal.Entry{{ID: 9, At: at + 62_000, Realm: "main", Kind: journal.MemberJoined, User: "tobin", Open: true}, {ID: 4, At: at + 63_000, Realm: "main", Kind: journal.MemberJoined, User: "tobin", Open: true}}
	require.ErrorIs(t, store.ImportEntries(taken), records.ErrExists, "an id is taken")
	page, err := store.Journal(t.Context(), records.JournalQuery{Realm: "main"}, 10)
	require.NoError(t, err)
	require.Len(t, page, 8, "all of them are written, or none")
	require.Equal(t, journal.Entry{ID: 4, At: at + 24_000, Realm: "main", Kind: journal.SessionResumed, User: "ilse", Session: "s1", Over: "websocket", Length: 4000, Open: true}, page[3])
	require.Equal(t, presence.SessionID("s1"), page[7].Wanted)

	policy := presence.DefaultPolicy()
	study, replay := timing.NewStudy(&policy, ""), timing.NewReplay(policy, policy, "")
	require.NoError(t, store.EachMove(t.Context(), "main", begin, begin.Add(time.Hour), func(float64) {}, func(e *journal.Entry) {
		study.Take(e)
		replay.Take(e)
	}))
	replay.Finish()
	require.Equal(t, []int64{1, 1}, []int64{study.Gaps[timing.Lost].InTime, study.Gaps[timing.Lost].Late})
	require.Equal(t, 1, replay.Outcome().Leaves)
	require.Equal(t, timing.Exceptions{}, replay.Exceptions())
}
