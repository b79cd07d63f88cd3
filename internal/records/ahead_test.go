package records_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
)

// TestWhatWasReadAheadIsCurrent reads the people of two realms ahead, before, between and after changes of theirs. What is
// returned then is what reading everything returns.
func TestWhatWasReadAheadIsCurrent(t *testing.T) {
	t.Parallel()
	s, err := records.Open(records.Memory)
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	realms := []string{"aldermoor", "training"}
	random := rand.New(rand.NewPCG(7, 11))
	at := records.Position{Log: "aldermoor"}
	for step := range 400 {
		realm := realms[random.IntN(2)]
		rows := records.Rows{Realm: realm}
		for range random.IntN(4) {
			p := records.Person{Realm: realm, User: presence.UserID(fmt.Sprint("w-", random.IntN(30))), FirstSeen: 1}
			if random.IntN(3) > 0 {
				p.State = fmt.Appendf(nil, `{"note":"step %d"}`, step)
			}
			rows.People = append(rows.People, p)
		}
		switch random.IntN(20) {
		case 0, 1:
			rows.Changes = []records.Change{{Erase: &records.PersonID{Realm: realm, User: presence.UserID(fmt.Sprint("w-", random.IntN(30)))}}}
		case 2:
			rows.Changes = []records.Change{{DropRealm: realm}}
		}
		if random.IntN(3) == 0 {
			require.NoError(t, s.ReadAhead(realms[random.IntN(2)]))
		}
		at = at.Next([]byte("one more"))
		require.NoError(t, s.Put(at, []records.Rows{rows}))
		if random.IntN(4) == 0 {
			realm := realms[random.IntN(2)]
			got, err := s.SavedPeople(realm)
			require.NoError(t, err)
			all, err := s.SavedPeople(realm)
			require.NoError(t, err)
			require.Equal(t, all, got, "step %d", step)
		}
	}
}
