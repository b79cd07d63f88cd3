package presence

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAnIndexHasWhatAMapHas adds and removes at random, in times of growth and of shrinking, and compares with a map.
func TestAnIndexHasWhatAMapHas(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 1))
	x, want := newIndex[UserID, person](), map[UserID]*person{}
	look := func() {
		require.Equal(t, len(want), x.count)
		require.Len(t, slices.Collect(x.all()), len(want))
		for id := range x.ids() {
			require.Same(t, want[id], x.get(id))
		}
		require.Len(t, x.buckets, (x.size+segmentSize-1)/segmentSize)
	}
	for _, share := range []int{90, 40, 80, 5, 70, 0} { // of additions, in percent
		for range 3000 {
			id := UserID(fmt.Sprint("w-", random.IntN(4000)))
			require.Same(t, want[id], x.get(id))
			switch p := want[id]; {
			case p == nil && random.IntN(100) < share:
				want[id] = &person{id: id}
				x.put(want[id])
			case p != nil && random.IntN(100) >= share:
				x.remove(p)
				x.remove(p) // is not there any more
				delete(want, id)
			}
		}
		look()
	}
	for _, p := range want {
		x.remove(p)
	}
	clear(want)
	look()
	require.Equal(t, segmentSize, x.size, "it has shrunk")
}

// TestAFewHasWhatASliceHas compares it with a slice.
func TestAFewHasWhatASliceHas(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 1))
	var f few[int]
	var want []*int
	for range 500 {
		if random.IntN(2) == 0 {
			x := new(int)
			f.add(x)
			want = append(want, x)
		} else if len(want) > 0 {
			x := want[random.IntN(len(want))]
			f.remove(x)
			f.remove(x)
			want = without(want, x)
		}
		require.Len(t, want, f.count())
		for i, x := range f.list() {
			require.Same(t, want[i], x)
		}
		require.Equal(t, len(want) > 1, f.several != nil, "one needs no memory")
	}
}
