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
