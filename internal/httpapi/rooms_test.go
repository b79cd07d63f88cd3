package httpapi

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tovik.example/tovik/wire"
)

func TestACountIsWrittenAsAnyOtherJSON(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := wire.Room{Room: rapid.StringMatching(`[a-zA-Z0-9_-]{1,9}(\.[a-zA-Z0-9_-]{1,9}){0,3}`).Draw(t, "room"), Count: rapid.Make[wire.Count]().Draw(t, "count")}
		want, err := json.Marshal(r)
		require.NoError(t, err)
		require.Equal(t, string(want), string(appendRoom(nil, r)))
	})
}
