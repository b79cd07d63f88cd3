package server

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"tovik.example/tovik/internal/cluster/peers"
)

// How a node finds out whether another process has its name.
const (
	namesakeEvery = 250 * time.Millisecond // how often it asks the other nodes
	// namesakeDies is longer than other nodes hear a process that has died.
	namesakeDies = 3 * time.Second
	// namesakeQuiet is how long no node may have heard another process, if any of them ever met one or does not answer.
	// On a busy machine a living process may not be heard for some seconds.
	namesakeQuiet = 10 * time.Second
)

// namesake judges whether another process has the name of this node and lives.
type namesake struct {
	began time.Time // when it was first asked
	quiet time.Time // when it was last heard, or began
}

// sightings is what other nodes say about processes with the name of this node.
type sightings struct {
	heardBy string // a node that hears another one; empty: none does
	met     bool   // somebody has heard another one at some time
	silent  bool   // a node did not answer
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
	switch {
	case said.heardBy != "" && at.Sub(s.began) > namesakeDies:
		return isTaken
	case said.heardBy != "":
		s.quiet = at
	case !said.met && !said.silent, at.Sub(s.quiet) > namesakeQuiet:
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
	now := time.Now()
	other := namesake{began: now, quiet: now}
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
			ctx, cancel := context.WithTimeout(ctx, lookIn)
			defer cancel()
			var is nodeStatus
			err := n.peers.Ask(ctx, name, askStatus, nil, &is)
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				said.silent = said.silent || errors.Is(err, peers.ErrAway) && !errors.Is(err, peers.ErrGone)
				return
			}
			if is.Heard[n.Node] > 0 && is.Heard[n.Node] != last.Incarnation {
				said.heardBy = name
			}
			said.met = said.met || is.Met[n.Node] > 0 && is.Met[n.Node] != last.Incarnation
		})
	}
	asking.Wait()
	return said
}
