// Package peers lets the nodes of a cluster carry out requests for each other, when a load balancer sends a
// request to a node that lacks the state for it. Messages about presence go over the bus of package cluster instead.
package peers

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"

	"tovik.example/tovik/internal/problem"
	"tovik.example/tovik/wire"
)

// Options are the settings of [Peers]. All are required.
type Options struct {
	Conn    *nats.Conn
	Cluster string   // the prefix of all subjects
	Node    string   // the name of this node
	Nodes   []string // the names of all nodes
	Log     *slog.Logger
}

// Peers are the nodes of a cluster as one of them asks them. A nil *Peers is a service that is alone. All
// methods are safe for concurrent use.
type Peers struct {
	Options
	mu      sync.RWMutex
	answers map[string]Answerer
}

// Answerer carries out a request of another node. The answer is encoded as JSON; the error becomes a problem.
type Answerer func(ctx context.Context, question json.RawMessage) (answer any, err error)

// Limits of requests between nodes.
const (
	answerIn = 3 * time.Second // a node answers in time, or counts as away
	atOnce   = 256             // requests that a node carries out at once
)

// ErrAway is the error for a node that does not answer. ErrGone wraps it: the request has not reached the node,
// because it is not connected or not part of the cluster.
var (
	ErrAway = errors.New("the node does not answer")
	ErrGone = fmt.Errorf("%w: it is gone", ErrAway)
)

// New returns the peers of a node. Call Answer for each kind of request, and Run. A request that comes before is
// refused.
func New(o Options) *Peers { return &Peers{Options: o, answers: map[string]Answerer{}} }

// Name returns the name of this node; empty: the service is alone.
func (p *Peers) Name() string {
	if p == nil {
		return ""
	}
	return p.Node
}

// All returns the names of all nodes, sorted.
func (p *Peers) All() []string {
	if p == nil {
		return nil
	}
	return slices.Sorted(slices.Values(p.Nodes))
}

// Answer sets what carries out a kind of request.
func (p *Peers) Answer(kind string, do Answerer) {
	if p != nil {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.answers[kind] = do
	}
}

// Mark prefixes a name with that of this node, so that other nodes know whom to ask about it. A service that is
// alone leaves the name as it is.
func (p *Peers) Mark(name string) string {
	if p == nil {
		return name
	}
	return p.Node + "." + name
}

// Elsewhere returns which other node has marked a name; empty: none.
func (p *Peers) Elsewhere(marked string) string {
	if p == nil {
		return ""
	}
	if i := strings.LastIndexByte(marked, '.'); i > 0 && marked[:i] != p.Node && slices.Contains(p.Nodes, marked[:i]) {
		return marked[:i]
	}
	return ""
}

// reply is the answer of a node.
type reply struct {
	Problem *wire.Problem   `json:"problem,omitempty"`
	Answer  json.RawMessage `json:"answer,omitempty"`
}

// Ask has a node carry out a request, and reads its answer. The error is [ErrAway], a [*wire.Problem] of the
// other node, or that of ctx. A request without an answer may have been carried out.
func (p *Peers) Ask(ctx context.Context, node, kind string, question, answer any) error {
	if p == nil || !slices.Contains(p.Nodes, node) {
		return fmt.Errorf("%s: %w", node, ErrGone)
	}
	text, err := json.Marshal(question)
	if err != nil {
		return err
	}
	var got reply
	if node == p.Node { // the connection does not hear itself
		got = p.carryOut(ctx, kind, text)
	} else {
		ctx, cancel := context.WithTimeout(ctx, answerIn)
		defer cancel()
		m, err := p.Conn.RequestWithContext(ctx, p.subject(node)+kind, text)
		switch {
		case errors.Is(err, nats.ErrNoResponders):
			return fmt.Errorf("%s: %w", node, ErrGone)
		case err != nil:
			return fmt.Errorf("%s: %w (%w)", node, ErrAway, err)
		}
		if err := json.Unmarshal(m.Data, &got); err != nil {
			return fmt.Errorf("the answer of %s cannot be read: %w", node, err)
		}
	}
	if got.Problem != nil {
		return got.Problem
	}
	return json.Unmarshal(got.Answer, answer)
}

func (p *Peers) subject(node string) string { return p.Cluster + ".ask." + node + "." }

func (p *Peers) carryOut(ctx context.Context, kind string, question []byte) (r reply) {
	p.mu.RLock()
	do := p.answers[kind]
	p.mu.RUnlock()
	answer, err := any(nil), error(&wire.Problem{Code: wire.CodeNotReady, Detail: "the node is starting, or its version does not know this request"})
	if do != nil {
		answer, err = do(ctx, question)
	}
	if err == nil {
		r.Answer, err = json.Marshal(answer)
	}
	if err != nil {
		r.Problem = problem.Of(err)
	}
	return r
}

// Run carries out requests of other nodes until ctx is done, and returns when none is under way.
func (p *Peers) Run(ctx context.Context) error {
	messages := make(chan *nats.Msg, atOnce)
	asked, err := p.Conn.ChanSubscribe(p.subject(p.Node)+">", messages)
	if err != nil {
		return err
	}
	defer func() { _ = asked.Unsubscribe() }()
	busy := make(chan struct{}, atOnce)
	defer func() {
		for range atOnce {
			busy <- struct{}{}
		}
	}()
	for {
		select {
		case <-ctx.Done():
			return nil
		case m := <-messages:
			busy <- struct{}{}
			go func() {
				defer func() { <-busy }()
				ctx, cancel := context.WithTimeout(ctx, answerIn)
				defer cancel()
				text, err := json.Marshal(p.carryOut(ctx, strings.TrimPrefix(m.Subject, p.subject(p.Node)), m.Data))
				if err == nil {
					err = m.Respond(text)
				}
				if err != nil {
					p.Log.Debug("a request of another node could not be answered", "error", err)
				}
			}()
		}
	}
}
