package server_test

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// TestEveryCodeHasItsWords compares the words with the codes of the core.
func TestEveryCodeHasItsWords(t *testing.T) {
	t.Parallel()
	for reason := presence.ReasonLeave; reason <= presence.ReasonReplaced; reason++ {
		words, ok := wire.Reasons[reason.String()]
		require.True(t, ok && words.Short != "" && words.Left != "" && words.Ended != "", "the reason %s", reason)
	}
	for _, rule := range presence.Rules() {
		require.Contains(t, wire.Rules, string(rule))
	}
	for _, act := range presence.Acts() {
		require.Contains(t, wire.Acts, string(act))
	}
	for _, kind := range []presence.LinkKind{presence.WebSocket, presence.EventStream, presence.HTTPBeats} {
		require.Contains(t, wire.Overs, kind.String())
	}
	require.Len(t, wire.Reasons, int(presence.ReasonReplaced))
	require.Len(t, wire.Rules, len(presence.Rules()))
	require.Len(t, wire.Acts, len(presence.Acts()))
	for _, outcome := range presence.Outcomes() {
		require.Contains(t, wire.Outcomes, string(outcome))
	}
	require.Len(t, wire.Outcomes, len(presence.Outcomes()))
}

// TestTheConsoleHasTheServicesWords compares the console's words with the table in package wire;
// with -write it rewrites them.
func TestTheConsoleHasTheServicesWords(t *testing.T) {
	const file = "../../web/console/src/service-words.ts"
	var text strings.Builder
	text.WriteString("// Made from wire/words.go by: go test ./internal/server -run TestTheConsoleHasTheServicesWords -write\n")
	for _, words := range []struct {
		name, says, of string
		words          any
	}{
		{"reasons", "Why a link, a session or a stay is over, by the code of the reason.", "{ readonly short: string; readonly left: string; readonly ended: string; readonly lost?: string }", wire.Reasons},
		{"rules", "The rules that decide a status, by their codes.", "string", wire.Rules},
		{"acts", "What happens to a session if nothing more is heard of it, by its code. {room} stands for a room.", "string", wire.Acts},
		{"overs", "The kinds of links.", "string", wire.Overs},
		{"outcomes", "How an ask or an invitation ended, by the code of its outcome.", "string", wire.Outcomes},
	} {
		made, err := json.MarshalIndent(words.words, "", "  ") // by code, in order
		require.NoError(t, err)
		fmt.Fprintf(&text, "\n/** %s */\nexport const %s: Readonly<Record<string, %s>> = %s;\n", words.says, words.name, words.of, made)
	}
	if *write {
		require.NoError(t, os.WriteFile(file, []byte(text.String()), 0o600))
		return
	}
	kept, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, text.String(), string(kept), "write it anew with -write")
}
