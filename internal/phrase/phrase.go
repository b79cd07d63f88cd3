// Package phrase puts durations, numbers and lists into English. It imports the standard library
// only.
package phrase

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Lasting formats a duration in its largest units: "300 ms", "4.1 s", "1 min 30 s", "2 h 5 min",
// "3 days". A negative one counts as 0.
func Lasting(d time.Duration) string {
	switch d = max(d, 0); {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute && (d < 10*time.Second || d%(100*time.Millisecond) == 0):
		return strings.TrimSuffix(fmt.Sprintf("%.1f", d.Seconds()), ".0") + " s"
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return strings.TrimSuffix(fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60), " 0 s")
	case d < 48*time.Hour:
		return strings.TrimSuffix(fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60), " 0 min")
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// Count puts a number before a noun, which is in the singular: "1 entry", "2 entries".
func Count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if noun == "person" {
		return fmt.Sprintf("%d people", n)
	}
	if stem, ok := strings.CutSuffix(noun, "y"); ok && noun != "day" {
		return fmt.Sprintf("%d %sies", n, stem)
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// Size returns a number of bytes in the largest unit: "820 B", "1.2 MB".
func Size(bytes uint64) string {
	if bytes < 1000 {
		return fmt.Sprintf("%d B", bytes)
	}
	size, units := float64(bytes), []string{"kB", "MB", "GB", "TB"}
	for i, unit := range units {
		if size /= 1000; size < 999.5 || i == len(units)-1 {
			return strings.Replace(fmt.Sprintf("%.1f %s", size, unit), ".0 ", " ", 1)
		}
	}
	return ""
}

// List lists different words: "a, b and c".
func List(words []string) string {
	var list []string
	for _, word := range words {
		if !slices.Contains(list, word) {
			list = append(list, word)
		}
	}
	if len(list) < 2 {
		return strings.Join(list, "")
	}
	return strings.Join(list[:len(list)-1], ", ") + " and " + list[len(list)-1]
}
