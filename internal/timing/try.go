package timing

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"tovik.example/tovik/internal/presence"
)

// Tries are the keys that a replay can try, as in tovik.toml.
var Tries = []string{"grace.closing", "grace.lost", "grace.background", "idle.after", "beat.every", "beat.tolerance", "lease"}

// Try sets a key of a policy. The policies of patterns that had the realm's value follow it. Its
// error says what is allowed.
func Try(p *presence.Policy, key, value string) error {
	field, ok := map[string]func(*presence.Policy) *time.Duration{
		"idle.after": func(p *presence.Policy) *time.Duration { return &p.IdleAfter },
		"beat.every": func(p *presence.Policy) *time.Duration { return &p.BeatEvery },
		"lease":      func(p *presence.Policy) *time.Duration { return &p.Lease },
	}[key]
	ofRoom, isOfRoom := map[string]func(*presence.RoomPolicy) *time.Duration{
		"grace.closing":    func(p *presence.RoomPolicy) *time.Duration { return &p.GraceClosing },
		"grace.lost":       func(p *presence.RoomPolicy) *time.Duration { return &p.GraceLost },
		"grace.background": func(p *presence.RoomPolicy) *time.Duration { return &p.GraceBackground },
	}[key]
	if key == "beat.tolerance" {
		n, err := strconv.ParseFloat(value, 64)
		if err != nil || n < 1 || n > 100 {
			return fmt.Errorf("a number from 1 to 100")
		}
		p.BeatTolerance = n
		return nil
	}
	if !ok && !isOfRoom {
		return fmt.Errorf("%s", strings.Join(Tries, ", "))
	}
	d, err := time.ParseDuration(value)
	if err != nil || d < 100*time.Millisecond || d > 24*time.Hour {
		return fmt.Errorf("a time from 100ms to 24h, such as 20s or 1m30s")
	}
	if ok {
		*field(p) = d
		return nil
	}
	p.Rooms = slices.Clone(p.Rooms)
	for i := range p.Rooms {
		if own := ofRoom(&p.Rooms[i].RoomPolicy); *own == *ofRoom(&p.RoomPolicy) {
			*own = d
		}
	}
	*ofRoom(&p.RoomPolicy) = d
	return nil
}
