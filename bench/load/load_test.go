//go:build linux

package load

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAResultStaysAsItWas(t *testing.T) {
	c := &Crowd{result: Result{Last: map[uint64]int64{}, Had: map[uint64]int{}, Whole: map[uint64]int{}}}
	l := &link{}
	c.look(l, 0x81, []byte(`{"type":"snapshot","rev":"1"}`), 10)
	c.look(l, 0x81, []byte(`{"type":"change","rev":"2"}`), 20)
	was := c.Result()
	require.Equal(t, map[uint64]int{2: 1}, was.Had)
	c.look(l, 0x81, []byte(`{"type":"change","rev":"3"}`), 30)
	c.look(l, 0x81, []byte(`{"type":"snapshot","rev":"4"}`), 40)
	require.Equal(t, map[uint64]int{2: 1}, was.Had)
	require.Equal(t, map[uint64]int64{2: 20}, was.Last)
	require.Empty(t, was.Whole)
}
