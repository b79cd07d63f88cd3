package rehearsal_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/rehearsal"
)

func TestNoBoundIsBroken(t *testing.T) {
	for seed := range uint64(4) {
		score := rehearsal.Run(rehearsal.Options{Policy: presence.DefaultPolicy(), People: 150, Length: 24 * time.Hour, Seed: seed})
		require.False(t, score.Broken(), "%+v", score.Lines)
		seen := map[string]int{}
		for _, l := range score.Lines {
			seen[l.What] = l.Seen
		}
		for _, what := range []string{"ghost: closing", "ghost: lost", "ghost: silent", "ghost: bye", "typing after the last key", "away shown too early"} {
			require.Positive(t, seen[what], "the world had no %s", what)
		}
		require.Positive(t, score.Restarts)
		require.Positive(t, score.Pauses)
	}
}

func TestOtherTimingsAreKeptToo(t *testing.T) {
	policy := presence.DefaultPolicy()
	policy.GraceClosing, policy.GraceLost, policy.GraceBackground = time.Second, 30*time.Second, 45*time.Second
	policy.BeatEvery, policy.IdleAfter, policy.TypingExpires = 5*time.Second, 2*time.Minute, 4*time.Second
	score := rehearsal.Run(rehearsal.Options{Policy: policy, People: 150, Length: 12 * time.Hour, Seed: 1})
	// Reloads take up to 1.5 s here, so one second of grace is too short for some.
	for _, l := range score.Lines {
		require.Zero(t, l.Broken, l.What)
	}
}

func TestTheSameSeedGivesTheSameScore(t *testing.T) {
	var scores []string
	for range 2 {
		score := rehearsal.Run(rehearsal.Options{Policy: presence.DefaultPolicy(), People: 60, Length: 8 * time.Hour, Seed: 3})
		text, err := json.Marshal(score)
		require.NoError(t, err)
		scores = append(scores, string(text))
	}
	require.Equal(t, scores[0], scores[1])
}
