package gateway

import (
	"testing"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/wire"
)

// TestABareFrameIsReadAsAnyOther compares each frame that has only a type with the same frame written
// with spaces. Reading the first allocates nothing.
func TestABareFrameIsReadAsAnyOther(t *testing.T) {
	for name := range wire.RequestFields {
		text := []byte(`{"type":"` + name + `"}`)
		f, err := readFrame(text)
		require.NoError(t, err)
		other, err := readFrame([]byte(`{ "type": "` + name + `", "of_a_later_version": 1 }`))
		require.NoError(t, err)
		require.Equal(t, other.name, f.name)
		r, err := f.request()
		require.NoError(t, err)
		like, err := other.request()
		require.NoError(t, err)
		require.Equal(t, like, r)
		require.Equal(t, wire.Request{Type: name}, r)
		require.Zero(t, testing.AllocsPerRun(100, func() {
			f, _ := readFrame(text)
			_, _ = f.request()
		}), name)
	}
	_, err := readFrame([]byte(`{"type":"hello"}x`))
	require.Error(t, err)
}
