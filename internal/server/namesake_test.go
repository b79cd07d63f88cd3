package server

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestANamesakeIsJudgedByWhatOthersHear lists what other nodes say, each a second later than the one before, and what follows.
func TestANamesakeIsJudgedByWhatOthersHear(t *testing.T) {
	const never = -1
	type said struct {
		ago              int // seconds since a node has heard another process
		answered, silent bool
	}
	none, silent, one, heard := said{never, true, false}, said{never, false, true}, said{never, true, true}, said{0, true, false}
	died := func(at, until int) (all []said) { // the last of it was heard at one time
		for ago := range until - at {
			all = append(all, said{ago, true, false})
		}
		return all
	}
	for name, story := range map[string]struct {
		said []said
		ends verdict
	}{
		"there are no others, or none is there":         {[]said{{never, false, false}}, isAlone},
		"nobody knows one":                              {[]said{none}, isAlone},
		"a node does not answer at first":               {append(slices.Repeat([]said{silent}, 3), none), isAlone},
		"one node never answers":                        {slices.Repeat([]said{one}, 12), isAlone},
		"no node ever answers":                          {slices.Repeat([]said{silent}, 32), isAlone},
		"one lives":                                     {slices.Repeat([]said{heard}, 5), isTaken},
		"one dies":                                      {append([]said{heard, heard}, died(1, 13)[1:]...), isAlone},
		"one had died before":                           {died(-100, 12)[100:], isAlone},
		"one lives, and is not heard for 8 s":           {append(append([]said{heard}, died(0, 9)[1:]...), heard), isTaken},
		"one lives, and nobody says so for 8 s":         {append(slices.Repeat([]said{one}, 8), heard), isTaken},
		"one lives, and no node answers for 25 s":       {append(slices.Repeat([]said{silent}, 25), heard), isTaken},
		"one lives, and who heard it says so 6 s later": {append(slices.Repeat([]said{one}, 10), said{6, true, true}), isTaken},
	} {
		at := time.Now()
		s := namesake{began: at}
		for i, said := range story.said {
			verdict := askAgain
			if i == len(story.said)-1 {
				verdict = story.ends
			}
			is := sightings{answered: said.answered, silent: said.silent}
			if said.ago != never {
				is.heardBy, is.heard = "avocet", at.Add(-time.Duration(said.ago)*time.Second)
			}
			require.Equal(t, verdict, s.judge(at, is), "%s: %d", name, i)
			at = at.Add(time.Second)
		}
	}
}
