package conform

import (
	"context"
	"fmt"
	"sync"
	"time"
)

// Options say how scenarios are played. Command is required.
type Options struct {
	Command  []string      // the program, with its arguments
	Patience time.Duration // how long something that must come is waited for; 0: 10 s
	Quiet    time.Duration // how long something that must not come is waited for; 0: 2 s
	Together int           // how many scenarios are played at once; 0: 4
}

// Scenario is a situation that a client must cope with.
type Scenario struct {
	Name    string `json:"scenario"`
	Section string `json:"section"` // of docs/protocol.md
	Rule    string `json:"rule"`
	play    func(*stage)
}

// Verdict is how a client did in a scenario.
type Verdict struct {
	Scenario
	Passed  bool     `json:"passed"`
	Problem string   `json:"problem,omitempty"`
	Story   []string `json:"story"`
}

// Play plays scenarios, and calls back with each verdict, in their order. It returns when all are played or ctx is done.
func Play(ctx context.Context, o Options, scenarios []Scenario, with func(Verdict)) error {
	if o.Patience == 0 {
		o.Patience = 10 * time.Second
	}
	if o.Quiet == 0 {
		o.Quiet = 2 * time.Second
	}
	if o.Together == 0 {
		o.Together = 4
	}
	verdicts := make([]chan Verdict, len(scenarios))
	places := make(chan struct{}, o.Together)
	var playing sync.WaitGroup
	defer playing.Wait()
	for i, scenario := range scenarios {
		verdicts[i] = make(chan Verdict, 1)
		playing.Go(func() {
			places <- struct{}{}
			defer func() { <-places }()
			if ctx.Err() == nil {
				verdicts[i] <- play(ctx, o, scenario)
			}
		})
	}
	for _, verdict := range verdicts {
		select {
		case v := <-verdict:
			with(v)
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}

// play plays one scenario.
func play(ctx context.Context, o Options, scenario Scenario) (v Verdict) {
	v.Scenario = scenario
	s, err := newStage(ctx, o)
	if err != nil {
		v.Problem = err.Error()
		return v
	}
	defer func() {
		said := recover()
		s.close()
		s.mu.Lock()
		defer s.mu.Unlock()
		v.Story = s.story
		switch why := said.(type) {
		case nil:
		case failure:
			v.Problem = string(why)
		default:
			panic(fmt.Sprint("conform: ", scenario.Name, ": ", said))
		}
		if s.fault != "" { // from which the rest may follow
			v.Problem = s.fault
		}
		v.Passed = v.Problem == ""
	}()
	s.run()
	scenario.play(s)
	return v
}
