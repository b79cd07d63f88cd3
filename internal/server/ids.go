package server

import (
	"crypto/rand"
	"strconv"
	"sync/atomic"
)

// idSource makes ids that no process has made before.
type idSource struct {
	begin atomic.Pointer[string]
	count atomic.Uint64
}

func (s *idSource) next() string {
	if s.begin.Load() == nil {
		text := rand.Text()[:12] + "-"
		s.begin.CompareAndSwap(nil, &text)
	}
	return *s.begin.Load() + strconv.FormatUint(s.count.Add(1), 36)
}
