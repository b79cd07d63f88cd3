package phrase_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/phrase"
)

func TestNumbersReadAsEnglish(t *testing.T) {
	for d, text := range map[time.Duration]string{
		-time.Second: "0 ms", 300 * time.Millisecond: "300 ms", 3 * time.Second: "3 s", 4149 * time.Millisecond: "4.1 s",
		12500 * time.Millisecond: "12.5 s", 12345 * time.Millisecond: "12 s", time.Minute: "1 min", 90 * time.Second: "1 min 30 s",
		30 * time.Minute: "30 min", 2 * time.Hour: "2 h", 2*time.Hour + 5*time.Minute: "2 h 5 min", 10 * time.Hour: "10 h", 72 * time.Hour: "3 days",
	} {
		require.Equal(t, text, phrase.Lasting(d))
	}
	require.Equal(t, []string{"1 entry", "2 entries", "0 days", "1 person", "3 people"},
		[]string{phrase.Count(1, "entry"), phrase.Count(2, "entry"), phrase.Count(0, "day"), phrase.Count(1, "person"), phrase.Count(3, "person")})
	require.Equal(t, []string{"0 B", "999 B", "1 kB", "5.3 kB", "36.8 kB", "1 MB", "10.7 GB", "18446744.1 TB"},
		[]string{phrase.Size(0), phrase.Size(999), phrase.Size(1000), phrase.Size(5320), phrase.Size(36_790), phrase.Size(999_990), phrase.Size(10 << 30), phrase.Size(1<<64 - 1)})
	require.Equal(t, []string{"", "a", "a and b", "a, b and c"},
		[]string{phrase.List(nil), phrase.List([]string{"a", "a"}), phrase.List([]string{"a", "b", "a"}), phrase.List([]string{"a", "b", "c"})})
}
