//go:build linux

package load

import (
	"runtime"
	"time"

	"github.com/prometheus/procfs"
)

// Stolen starts to measure what the host takes of this machine's processors. The function that it returns says how much
// that was until then, in percent.
func Stolen() (percent func() float64) {
	began, before := time.Now(), steal()
	return func() float64 {
		return 100 * (steal() - before) / (time.Since(began).Seconds() * float64(runtime.NumCPU()))
	}
}

// steal returns how long the host has had the processors, in seconds; 0 if that is not known.
func steal() float64 {
	fs, err := procfs.NewDefaultFS()
	if err != nil {
		return 0
	}
	stat, err := fs.Stat()
	if err != nil {
		return 0
	}
	return stat.CPUTotal.Steal
}
