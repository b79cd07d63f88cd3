package client

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"time"

	"tovik.example/tovik/wire"
)

// TimingQuery asks what the journal says about the timings of the policy.
type TimingQuery struct {
	From, To time.Time // zero: the last 7 days
	Room     string    // a pattern; empty: all rooms
	Tries    []string  // of another policy, as in grace.lost=20s
}

// Timing studies the journal, and calls progress with how much is done, from 0 to 1. It takes
// from less than a second to some minutes.
func (a API) Timing(ctx context.Context, q TimingQuery, progress func(float64)) (wire.Timing, error) {
	v := span(q.Room, q.From, q.To)
	v["try"] = q.Tries
	return a.timing(ctx, v, progress)
}

func (a API) timing(ctx context.Context, v url.Values, progress func(float64)) (doc wire.Timing, err error) {
	body, err := a.open(ctx, "/v1/timing?"+v.Encode(), "text/event-stream")
	if err != nil {
		return doc, err
	}
	defer func() { _ = body.Close() }()
	lines := bufio.NewScanner(body)
	lines.Buffer(nil, 16<<20)
	event := ""
	for lines.Scan() {
		if name, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
			event = name
		}
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		switch event {
		case "progress":
			var p wire.TimingProgress
			if err := json.Unmarshal([]byte(data), &p); err != nil {
				return doc, err
			}
			progress(p.Done)
		case "problem":
			var p Error
			if err := json.Unmarshal([]byte(data), &p.Document); err != nil {
				return doc, err
			}
			return doc, &p
		case "report":
			return doc, json.Unmarshal([]byte(data), &doc)
		}
	}
	if err := lines.Err(); err != nil {
		return doc, err
	}
	return doc, fmt.Errorf("the study broke off before its report")
}
