package access

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/presence"
)

func TestGrantsOfEqualClaimsAreShared(t *testing.T) {
	var s sharing
	granting := func(room string) (*Grants, []byte) {
		return &Grants{Rooms: []presence.Pattern{presence.Pattern(room)}}, []byte(`{"rooms":["` + room + `"]}`)
	}
	first := s.like(granting("basin.*"))
	require.Same(t, first, s.like(granting("basin.*")))
	require.NotSame(t, first, s.like(granting("desk.**")))
	for i := range 3 * mostShared {
		own, claim := granting(fmt.Sprint("basin.b", i))
		require.Same(t, own, s.like(own, claim), "nobody else has the same")
		require.LessOrEqual(t, len(s.known), mostShared)
	}
	long, _ := granting("levee.*")
	require.Same(t, long, s.like(long, make([]byte, mostSharedBytes+1)))
	require.NotContains(t, s.known, string(make([]byte, mostSharedBytes+1)))
}
