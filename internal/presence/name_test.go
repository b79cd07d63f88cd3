package presence_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/presence"
)

func TestRoomNames(t *testing.T) {
	for _, good := range []string{"lobby", "basin.upper-weir", "A_1.b-2.c", strings.Repeat("a", 128)} {
		_, err := presence.ParseRoom(good)
		require.NoError(t, err, good)
	}
	for _, bad := range []string{"", ".", "a.", ".a", "a..b", "a b", "a/b", "a.*", "**", "häuser", "a\x00", strings.Repeat("a", 129)} {
		_, err := presence.ParseRoom(bad)
		requireRefusal(t, err, presence.CodeBadRoom)
	}
}

func TestPatternsCoverWhatTheyName(t *testing.T) {
	for _, c := range []struct {
		grant, asked string
		covers       bool
	}{
		{"basin.*", "basin.upper-weir", true},
		{"basin.*", "basin", false},
		{"basin.*", "basin.upper.weir", false},
		{"basin.**", "basin.upper.weir", true},
		{"basin.**", "basin", false},
		{"**", "desk.night", true},
		{"*.night", "desk.night", true},
		{"*.night", "desk.day", false},
		{"desk.night", "desk.night", true},
		{"desk.night", "desk.nights", false},
		{"basin.*", "basin.*", true},
		{"basin.*", "basin.**", false},
		{"basin.*", "*.upper", false},
		{"basin.**", "basin.*.x", true},
		{"*", "**", false},
		{"**", "**", true},
	} {
		require.Equal(t, c.covers, presence.Pattern(c.grant).Covers(presence.Pattern(c.asked)), "%s covers %s", c.grant, c.asked)
	}
	for _, bad := range []string{"", "a.**.b", "a*", "***", "a..*"} {
		_, err := presence.ParsePattern(bad)
		requireRefusal(t, err, presence.CodeBadPattern)
	}
}

// FuzzNames compares rooms and patterns: an accepted room names itself, and a pattern covers
// what it matches.
func FuzzNames(f *testing.F) {
	for _, name := range []string{"basin.upper-weir", "basin.*", "**", "a..b", "*.*", "desk.**", "\x00", "é"} {
		f.Add(name, "basin.fen-end")
	}
	f.Fuzz(func(t *testing.T, one, other string) {
		room, notRoom := presence.ParseRoom(one)
		pattern, notPattern := presence.ParsePattern(one)
		if notRoom == nil {
			require.NoError(t, notPattern)
			require.True(t, pattern.Match(room))
			require.True(t, presence.Pattern("**").Match(room))
		}
		grant, err := presence.ParsePattern(other)
		if err != nil || notPattern != nil {
			return
		}
		require.True(t, pattern.Covers(pattern))
		if grant.Covers(pattern) && notRoom == nil {
			require.True(t, grant.Match(room))
		}
		if grant.Covers(pattern) && pattern.Covers(grant) {
			require.Equal(t, grant, pattern)
		}
	})
}
