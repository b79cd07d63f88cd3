package records_test

import (
	"database/sql"
	"path/filepath"
	"testing"
	"time"
	"tovik.example/tovik/internal/headcount"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/timing"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
)

func TestWhatIsWrittenIsThereWhenItIsOpenedAgain(t *testing.T) {
	dir := t.TempDir()
	open := func() *records.Store {
		s, err := records.Open(dir)
		require.NoError(t, err)
		return s
	}
	s := open()
	_, err := s.AddRealm("training")
	require.NoError(t, err)
	_, err = s.AddRealm("training")
	require.ErrorIs(t, err, records.ErrExists)
	key := records.OperatorKey{ID: "k1", Realm: "training", Role: "read", Rooms: []presence.Pattern{"basin.*"}, Hash: []byte{1, 2}}
	require.NoError(t, s.AddOperatorKey(&key))
	require.NoError(t, s.AddTokenKey(&records.TokenKey{ID: "2026", Realm: "training", Algorithm: "HS256", Material: []byte("secret")}))
	require.ErrorIs(t, s.AddTokenKey(&records.TokenKey{ID: "2026", Realm: "main"}), records.ErrExists, "a kid names one key in all realms")
	at := time.UnixMilli(1_795_462_167_123).UTC()
	for range 2 {
		require.NoError(t, s.Remove(records.Removal{Realm: "training", User: "ilse", Room: "basin.upper-weir", At: at}))
		at = at.Add(time.Second)
	}
	require.NoError(t, s.RevokeOperatorKey("k1", at))
	require.ErrorIs(t, s.RevokeTokenKey("none", at), records.ErrNotFound)
	require.NoError(t, s.Close())

	s = open()
	keys, err := s.OperatorKeys()
	require.NoError(t, err)
	require.Len(t, keys, 1)
	require.Equal(t, key.Rooms, keys[0].Rooms)
	require.True(t, at.Equal(*keys[0].Revoked))
	removals, err := s.Removals("training")
	require.NoError(t, err)
	require.Len(t, removals, 1, "the latest counts")
	require.True(t, at.Add(-time.Second).Equal(removals[0].At))
	erased, err := s.Erase(t.Context(), "training", "ilse")
	require.NoError(t, err)
	require.Equal(t, map[string]int64{"removals": 1, "directory": 0, "journal": 0, "deliveries": 0, "expected": 0}, erased)
	require.NoError(t, s.RemoveRealm("training"))
	keys, err = s.OperatorKeys()
	require.NoError(t, err)
	require.Empty(t, keys, "nothing is left of a realm")
	require.NoError(t, s.Close())
}

// TestNothingIsLeftOfARealm fills all tables that have a realm, also those of which nobody thought.
func TestNothingIsLeftOfARealm(t *testing.T) {
	dir := t.TempDir()
	s, err := records.Open(dir)
	require.NoError(t, err)
	const training = "training"
	rows := records.Rows{Realm: training, Entries: []journal.Entry{{At: 1, Realm: training, Kind: journal.MemberJoined, User: "ilse"}},
		People: []records.Person{{Realm: training, User: "ilse", FirstSeen: 1}}, Counts: []headcount.Row{{Realm: training, Room: "basin.upper-weir", Step: headcount.Minute}},
		Typings: []timing.Typing{{Realm: training, Room: "basin.upper-weir", Times: 1}}, Hooked: []records.Delivery{{Hook: "hook-1", Body: []byte("{}"), State: records.Waiting}},
		Changes: []records.Change{{AddRealm: &records.Realm{Name: training}}, {AddOperatorKey: &records.OperatorKey{ID: "key-1", Realm: training, Hash: []byte{1}}}, {AddTokenKey: &records.TokenKey{ID: "2026", Realm: training, Material: []byte{1}}},
			{PutHook: &records.Hook{ID: "hook-1", Realm: training, Kinds: []string{"member.joined"}, Rooms: []presence.Pattern{"**"}}}, {Declare: &records.Room{Realm: training, Room: "basin.upper-weir"}}, {Remove: &records.Removal{Realm: training, User: "bram"}}}}
	require.NoError(t, s.Put(records.Position{Log: "aldermoor", Sequence: 1, Hash: []byte{1}}, []records.Rows{rows}))
	count := func() map[string]int {
		db, err := sql.Open("sqlite", filepath.Join(dir, "tovik.db"))
		require.NoError(t, err)
		defer func() { require.NoError(t, db.Close()) }()
		names, err := db.Query("SELECT DISTINCT m.name FROM sqlite_master m JOIN pragma_table_info(m.name) c WHERE m.type = 'table' AND c.name IN ('realm', 'hook')")
		require.NoError(t, err)
		counts := map[string]int{}
		for names.Next() {
			var name string
			require.NoError(t, names.Scan(&name))
			counts[name] = 0
		}
		require.NoError(t, names.Err())
		for name := range counts {
			var n int
			require.NoError(t, db.QueryRow("SELECT count(*) FROM "+name).Scan(&n))
			counts[name] = n
		}
		return counts
	}
	for table, n := range count() {
		require.Positive(t, n, table)
	}
	require.NoError(t, s.RemoveRealm(training))
	for table, n := range count() {
		require.Zero(t, n, table)
	}
	require.NoError(t, s.Close())
}

func TestAFileOfANewerVersionIsRefused(t *testing.T) {
	dir := t.TempDir()
	db, err := sql.Open("sqlite", filepath.Join(dir, "tovik.db"))
	require.NoError(t, err)
	_, err = db.Exec("PRAGMA user_version = 99")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = records.Open(dir)
	require.ErrorContains(t, err, "version 99")
}

func TestTheJournalSaysWhichSessionsWereOpened(t *testing.T) {
	s, err := records.Open(t.TempDir())
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	entry := func(id int64, realm string, kind journal.Kind, session presence.SessionID) journal.Entry {
		return journal.Entry{ID: id, At: 1_795_462_167_123, Realm: realm, Kind: kind, User: "ilse", Session: session}
	}
	require.NoError(t, s.ImportEntries([]journal.Entry{entry(1, "main", journal.SessionOpened, "s1"), entry(2, "main", journal.SessionEnded, "s2"), entry(3, "drills", journal.SessionOpened, "s3"), entry(4, "main", journal.SessionOpened, "s4")}))
	opened, err := s.Opened("main", []presence.SessionID{"s1", "s2", "s3", "s4", "s5"})
	require.NoError(t, err)
	require.ElementsMatch(t, []presence.SessionID{"s1", "s4"}, opened)
}
