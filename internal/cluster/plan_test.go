package cluster_test

import (
	"fmt"
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tovik.example/tovik/internal/cluster"
)

// TestPlanIsEvenMovesLittleAndOnlyGoesForward draws tables and living nodes.
func TestPlanIsEvenMovesLittleAndOnlyGoesForward(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		names := []cluster.Name{"dipper", "heron", "kestrel", "plover", "wagtail"}
		living, alive := []cluster.Candidate{}, map[cluster.Name]cluster.Candidate{}
		for _, name := range names {
			if rapid.Bool().Draw(t, "lives") {
				c := cluster.Candidate{Name: name, Incarnation: cluster.Incarnation(rapid.IntRange(1, 2).Draw(t, "incarnation")), Steady: rapid.Bool().Draw(t, "steady"), Leaving: rapid.IntRange(0, 3).Draw(t, "leaving") == 0}
				living, alive[name] = append(living, c), c
			}
		}
		now := cluster.Owners{Version: 7, Realms: map[cluster.Realm]cluster.Ownership{}}
		for realm := range cluster.Realm(rapid.IntRange(0, 9).Draw(t, "realms")) {
			now.Realms[realm+1] = cluster.Ownership{Owner: rapid.SampledFrom(names).Draw(t, "owner"), Incarnation: 1, Epoch: cluster.Epoch(rapid.IntRange(1, 9).Draw(t, "epoch"))}
		}
		now.Listed = cluster.Position(rapid.IntRange(0, 2).Draw(t, "listed"))
		listing := cluster.Listing{At: cluster.Position(rapid.IntRange(0, 2).Draw(t, "at")), Epochs: map[cluster.Realm]cluster.Epoch{}}
		for realm := range cluster.Realm(9) {
			if rapid.Bool().Draw(t, "is") {
				listing.Epochs[realm+1] = cluster.Epoch(rapid.IntRange(0, 12).Draw(t, "epoch on record"))
			}
		}
		before := maps.Clone(now.Realms)
		next := cluster.Plan(now, listing, living)
		require.Equal(t, before, now.Realms, "the table given is not changed")
		slices.Reverse(living)
		require.Equal(t, next, cluster.Plan(now, listing, living), "the order of the nodes does not matter")
		if listing.At >= now.Listed && len(living) > 0 {
			for realm := range next.Realms {
				require.Contains(t, listing.Epochs, realm)
			}
			if slices.ContainsFunc(living, func(c cluster.Candidate) bool { return !c.Leaving }) {
				require.Len(t, next.Realms, len(listing.Epochs))
			}
			require.Equal(t, listing.At, next.Listed)
		} else {
			require.ElementsMatch(t, slices.Collect(maps.Keys(now.Realms)), slices.Collect(maps.Keys(next.Realms)), "an old listing adds and removes nothing")
			require.Equal(t, now.Listed, next.Listed)
		}
		if len(living) == 0 {
			require.Equal(t, now, next)
			return
		}
		stays := slices.ContainsFunc(living, func(c cluster.Candidate) bool { return !c.Leaving })
		if !stays { // there is nobody to give anything to
			for realm, is := range next.Realms {
				require.Equal(t, now.Realms[realm], is)
			}
			return
		}
		owned, kept, moved := map[cluster.Name]int{}, map[cluster.Name]int{}, 0
		for realm, is := range next.Realms {
			was := now.Realms[realm]
			epoch := max(was.Epoch, listing.Epochs[realm]) + 1
			owned[is.Owner]++
			c, lives := alive[is.Owner]
			require.True(t, lives, "the owner lives")
			old, lived := alive[was.Owner]
			lived = lived && old.Incarnation == was.Incarnation
			if lived {
				kept[was.Owner]++
			}
			require.False(t, c.Leaving, "who leaves owns nothing")
			switch {
			case is == was:
				require.True(t, lived)
			case lived && old.Leaving:
				require.True(t, is.Handover, "who leaves hands over")
				require.Equal(t, epoch, is.Epoch)
			case lived:
				moved++
				require.True(t, is.Handover && c.Steady, "who lives hands over, to steady nodes")
				require.Equal(t, epoch, is.Epoch)
			default:
				require.False(t, is.Handover)
				require.Equal(t, epoch, is.Epoch)
			}
			if is != was {
				require.Equal(t, c.Incarnation, is.Incarnation)
			}
		}
		// Of two nodes one of which is steady, the steady one has at most one realm less.
		for _, a := range living {
			for _, b := range living {
				if b.Steady && !b.Leaving && moved > 0 {
					require.LessOrEqual(t, owned[a.Name]-owned[b.Name], max(1, owned[a.Name]-kept[a.Name]), fmt.Sprint(a.Name, b.Name))
				}
			}
		}
		again := cluster.Plan(next, listing, living)
		require.True(t, again.Equal(next), "a plan is a fixed point: %v %v", next, again)
	})
}

func TestOnlySteadyNodesTakeRealmsFromLivingOwners(t *testing.T) {
	is := cluster.Ownership{Owner: "dipper", Incarnation: 1, Epoch: 1}
	now := cluster.Owners{Version: 1, Realms: map[cluster.Realm]cluster.Ownership{1: is, 2: is}}
	listing := cluster.Listing{Epochs: map[cluster.Realm]cluster.Epoch{1: 1, 2: 1}}
	for _, steady := range []bool{false, true} {
		next := cluster.Plan(now, listing, []cluster.Candidate{{Name: "dipper", Incarnation: 1, Steady: true}, {Name: "heron", Incarnation: 1, Steady: steady}})
		require.Equal(t, !steady, next.Equal(now))
	}
}
