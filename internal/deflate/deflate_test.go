package deflate

import (
	"bytes"
	"compress/flate"
	"io"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestOffersAreAnswered has the offers of browsers and of other clients, and what is no offer.
func TestOffersAreAnswered(t *testing.T) {
	const agreed = "permessage-deflate;server_no_context_takeover;client_no_context_takeover"
	for offers, want := range map[string]string{
		"":                   "",
		"permessage-deflate": agreed,
		"permessage-deflate; client_max_window_bits":                             agreed,
		"permessage-deflate;client_no_context_takeover;client_max_window_bits=9": agreed,
		"permessage-deflate; server_no_context_takeover":                         agreed,
		"permessage-deflate; server_max_window_bits=10":                          "", // the window is larger
		"permessage-deflate; server_max_window_bits=10, permessage-deflate":      agreed,
		"permessage-deflate; shrink=much":                                        "",
		"permessage-deflate; shrink=much, permessage-deflate":                    agreed,
		"permessage-deflate; client_max_window_bits=99":                          "",
		"x-shorthand, permessage-deflate":                                        agreed,
		"x-shorthand":                                                            "",
		";;;,\"":                                                                 "",
	} {
		answer, accepted := Accept([]byte(offers))
		require.Equal(t, want, answer, "%q", offers)
		require.Equal(t, want != "", accepted, "%q", offers)
	}
}

// TestASharedTextIsCompressedOnce compresses members in the worker that comes first, and decompresses them by
// the standard library.
func TestASharedTextIsCompressedOnce(t *testing.T) {
	long := []byte(strings.Repeat(`{"user":"ilse","status":"online"},`, 1000))
	shared := Shared(long)
	var all sync.WaitGroup
	first := shared.Packed()
	for range 8 {
		all.Go(func() {
			if again := shared.Packed(); &again[0] != &first[0] {
				t.Error("compressed again")
			}
		})
	}
	all.Wait()
	require.Less(t, len(first), len(long)/10)
	text, err := io.ReadAll(flate.NewReader(io.MultiReader(bytes.NewReader(first), strings.NewReader(tail))))
	require.NoError(t, err)
	require.Equal(t, long, text)
	require.Equal(t, long, shared.Plain())

	noise := make([]byte, 10_000)
	_, _ = rand.NewChaCha8([32]byte{}).Read(noise)
	for name, text := range map[string]Text{"for one receiver": Plain(long), "short": Shared(long[:worthwhile-1]), "no shorter": Shared(noise)} {
		require.Nil(t, text.Packed(), name)
	}
}

// FuzzUnpacking decompresses what a client may send: within its limit, or not at all.
func FuzzUnpacking(f *testing.F) {
	for _, text := range []string{"", "level 2.10", strings.Repeat("level 2.10 ", 500), strings.Repeat("0", 1<<15)} {
		f.Add(pack([]byte(text)), []byte(text))
	}
	f.Add([]byte{0, 0, 0, 255, 255, 1}, []byte{})
	const limit = 1 << 14
	var packed bytes.Buffer
	w, err := flate.NewWriter(&packed, flate.BestSpeed)
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, message, text []byte) {
		got, err := Unpack(message, limit)
		require.LessOrEqual(t, len(got), limit)
		if err != nil {
			require.Empty(t, got)
		}
		packed.Reset()
		w.Reset(&packed)
		_, err = w.Write(text)
		require.NoError(t, err)
		require.NoError(t, w.Flush())
		got, err = Unpack(bytes.TrimSuffix(packed.Bytes(), []byte(tail[:4])), limit)
		if len(text) > limit {
			require.ErrorIs(t, err, ErrTooLarge)
			return
		}
		require.NoError(t, err)
		require.True(t, bytes.Equal(text, got))
	})
}
