package server

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/peers"
)

// How a node finds out whether another process has its name.
const (
	namesakeEvery = 250 * time.Millisecond // how often it asks the other nodes
	// namesakeDies is longer than other nodes hear a process that has died.
	namesakeDies = 3 * time.Second
	// namesakeQuiet is how long no node may have heard another process, if any of them ever heard one or does not answer.
	// On a busy machine a living process may not be heard for some seconds.
	namesakeQuiet = 10 * time.Second
	// namesakeSilence is the same if no node has answered at all.
	namesakeSilence = 30 * time.Second
)

// namesake judges whether another process has the name of this node and lives.
type namesake struct {
	began    time.Time // when it was first asked
	heard    time.Time // when it was last heard; zero: never
	answered bool      // a node has answered
}

// sightings is what other nodes say about processes with the name of this node.
type sightings struct {
	heardBy  string    // the node that has heard another one last
	heard    time.Time // and when that was; zero: never
	answered bool      // a node answered
	silent   bool      // a node did not
}

// verdict is what is known of a namesake.
type verdict uint8

const (
	askAgain verdict = iota
	isAlone          // no other process has the name
	isTaken          // another one has it
)

// judge takes what the others said at an instant.
func (s *namesake) judge(at time.Time, said sightings) verdict {
	if said.heard.After(s.heard) {
		s.heard = said.heard
	}
	s.answered = s.answered || said.answered
	quiet, enough := min(at.Sub(s.began), at.Sub(s.heard)), namesakeQuiet
	if !s.answered {
		enough = namesakeSilence
	}
	switch {
	case s.heard.Sub(s.began) > namesakeDies:
		return isTaken
	case s.heard.IsZero() && !said.silent, quiet > enough:
		return isAlone
	}
	return askAgain
}

// isTheOnlyOne returns an error if other nodes hear a process of this name that was not started with this data
// directory.
func (n *node) isTheOnlyOne(ctx context.Context, dir string) error {
	last, err := readNodeFile(dir)
	if err != nil {
		return err
	}
	other := namesake{began: time.Now()}
	for ; ctx.Err() == nil; time.Sleep(namesakeEvery) {
		said := n.sightings(ctx, last)
		switch other.judge(time.Now(), said) {
		case isAlone:
			return ctx.Err()
		case isTaken:
			return fmt.Errorf("%s hears another process that is the node %s: each needs a name of its own (cluster.node)", said.heardBy, n.Node)
		}
	}
	return ctx.Err()
}

// sightings asks all other nodes about processes with this name, apart from those that were started with this data
// directory.
func (n *node) sightings(ctx context.Context, last nodeFile) (said sightings) {
	var mu sync.Mutex
	var asking sync.WaitGroup
	for _, name := range n.Nodes {
		if name == n.Node {
			continue
		}
		asking.Go(func() {
			var is map[cluster.Name]cluster.LastHeard
			asked := time.Now()
			err := n.peers.Ask(ctx, name, askHeard, nil, &is)
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				said.silent = said.silent || errors.Is(err, peers.ErrAway) && !errors.Is(err, peers.ErrGone)
				return
			}
			said.answered = true
			one, ever := is[cluster.Name(n.Node)]
			if heard := asked.Add(-one.Ago); ever && one.Incarnation != last.Incarnation && heard.After(said.heard) {
				said.heardBy, said.heard = name, heard
			}
		})
	}
	asking.Wait()
	return said
}
