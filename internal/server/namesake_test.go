package server

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestANamesakeIsJudgedByWhatOthersHear lists what other nodes say, each a second later than the one before, and what follows.
func TestANamesakeIsJudgedByWhatOthersHear(t *testing.T) {
	none, heard, met, silent := sightings{}, sightings{heardBy: "avocet", met: true}, sightings{met: true}, sightings{silent: true}
	times := func(n int, s sightings) (all []sightings) {
		for range n {
			all = append(all, s)
		}
		return all
	}
	for name, story := range map[string]struct {
		said []sightings
		ends verdict
	}{
		"nobody knows one":                      {times(1, none), isAlone},
		"a node does not answer at first":       {append(times(3, silent), none), isAlone},
		"a node never answers":                  {times(12, silent), isAlone},
		"one lives":                             {times(5, heard), isTaken},
		"one has died":                          {append(times(2, heard), times(11, met)...), isAlone},
		"one had died before":                   {times(12, met), isAlone},
		"one lives, and is not heard for 8 s":   {append(append(times(2, heard), times(8, met)...), heard), isTaken},
		"one lives, and nobody says so for 8 s": {append(times(8, silent), heard), isTaken},
	} {
		at := time.Now()
		s := namesake{began: at, quiet: at}
		for i, said := range story.said {
			verdict := askAgain
			if i == len(story.said)-1 {
				verdict = story.ends
			}
			require.Equal(t, verdict, s.judge(at, said), "%s: %d", name, i)
			at = at.Add(time.Second)
		}
	}
}
