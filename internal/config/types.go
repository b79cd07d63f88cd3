package config

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"
)

// Duration is a duration in a file: 3s, 1m30s, 90d. It is above zero.
type Duration struct{ time.Duration } // a struct, so that a number without a unit is refused

const aTime = "a time above zero, such as 3s, 1m30s or 90d"

// UnmarshalText implements [encoding.TextUnmarshaler]. Its error continues the name of the key.
func (d *Duration) UnmarshalText(text []byte) error {
	parsed, err := time.ParseDuration(string(text))
	if days, ok := strings.CutSuffix(string(text), "d"); ok {
		var n int
		n, err = strconv.Atoi(days)
		parsed = time.Duration(min(n, 36500)) * 24 * time.Hour
	}
	if err != nil || parsed <= 0 {
		return fmt.Errorf("is %q; allowed: %s", text, aTime)
	}
	d.Duration = parsed
	return nil
}

// String returns the duration as it stands in a file.
func (d Duration) String() string {
	if day := 24 * time.Hour; d.Duration >= day && d.Duration%day == 0 {
		return fmt.Sprintf("%dd", d.Duration/day)
	}
	text := d.Duration.String()
	for _, nothing := range []string{"m0s", "h0m"} {
		if strings.HasSuffix(text, nothing) {
			text = text[:len(text)-2]
		}
	}
	return text
}

// Prefix is a network, or a single address.
type Prefix struct{ netip.Prefix }

const aNetwork = "an address such as 10.0.0.7, or a network such as 10.0.0.0/8"

// UnmarshalText implements [encoding.TextUnmarshaler]. Its error continues the name of the key.
func (p *Prefix) UnmarshalText(text []byte) (err error) {
	if a, bad := netip.ParseAddr(string(text)); bad == nil {
		p.Prefix, err = a.Prefix(a.BitLen())
	} else {
		p.Prefix, err = netip.ParsePrefix(string(text))
	}
	if err != nil {
		return fmt.Errorf("is %q; allowed: %s", text, aNetwork)
	}
	return nil
}
