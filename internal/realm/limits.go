package realm

import (
	"time"

	"tovik.example/tovik/internal/pace"
)

const (
	maxWatches = 64   // rooms and patterns that one link may watch
	maxPeople  = 1000 // people that one link may watch
	maxCue     = 4 << 10
	maxCueName = 64
	maxPage    = 1000 // members on one page
	pageSize   = 200
)

var cueRate = pace.Rate{Each: 200 * time.Millisecond, Burst: 20}
