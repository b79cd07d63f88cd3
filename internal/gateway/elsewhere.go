package gateway

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"tovik.example/tovik/internal/cluster/peers"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// Requests that a node sends to the node that keeps the ticket or carries the stream.
const (
	askTicket = "ticket"
	askStream = "stream"
	askPost   = "post"
)

// handedOver is what a new stream begins with.
type handedOver struct {
	Hello wire.Hello `json:"hello"`
	// Moved says that the client had the stream at another node. Kept are frames that were kept for the client
	// while it had no connection.
	Moved bool     `json:"moved"`
	Kept  [][]byte `json:"kept,omitempty"`
}

// answerPeers sets what this node does for others.
func (g *Gateway) answerPeers() {
	g.peers.Answer(askTicket, func(_ context.Context, question json.RawMessage) (any, error) {
		var name string
		if err := json.Unmarshal(question, &name); err != nil {
			return nil, err
		}
		t, err := g.tickets.use(name, time.Now())
		return t.hello, err
	})
	g.peers.Answer(askStream, func(_ context.Context, question json.RawMessage) (any, error) {
		var r FeedRequest
		if err := json.Unmarshal(question, &r); err != nil {
			return nil, err
		}
		return g.giveUp(r)
	})
	g.peers.Answer(askPost, func(ctx context.Context, question json.RawMessage) (any, error) {
		var r PostRequest
		if err := json.Unmarshal(question, &r); err != nil {
			return nil, err
		}
		answer, err := g.Post(ctx, r)
		return json.RawMessage(answer), err
	})
}

// origin returns the hello of a stream that another node may need.
func (g *Gateway) origin(h wire.Hello) wire.Hello {
	if g.peers == nil {
		return wire.Hello{}
	}
	return h
}

// takeTicket has another node use a ticket of its own, and returns the hello.
func (g *Gateway) takeTicket(ctx context.Context, node, name string, h *wire.Hello) error {
	err := g.peers.Ask(ctx, node, askTicket, name, h)
	if errors.Is(err, peers.ErrAway) {
		return badTicket("the node that has the ticket does not answer")
	}
	return err
}

// takeOver has another node give up a stream, whose client has come here.
func (g *Gateway) takeOver(ctx context.Context, node string, r FeedRequest, from *handedOver) error {
	err := g.peers.Ask(ctx, node, askStream, r, from)
	if errors.Is(err, peers.ErrAway) {
		return streamOver("the node that had this stream does not answer")
	}
	return err
}

// postTo has another node carry out a request.
func (g *Gateway) postTo(ctx context.Context, r PostRequest) (answer []byte, err error) {
	var text json.RawMessage
	err = g.peers.Ask(ctx, r.Node, askPost, r, &text)
	if errors.Is(err, peers.ErrAway) {
		return nil, noLink(r)
	}
	return text, err
}

// giveUp ends a stream here, and returns what another node needs to continue it. The session goes on.
func (g *Gateway) giveUp(r FeedRequest) (handedOver, error) {
	f, _, ok := g.feeds.find(r.Last)
	if !ok || !f.isOf(r) {
		return handedOver{}, streamOver("there is no such stream, or it is not this client's")
	}
	f.posting.Lock()
	defer f.posting.Unlock()
	if !f.hold() {
		return handedOver{}, streamOver("this stream was given up, for its client stayed away")
	}
	over := handedOver{Hello: f.talk.Again(f.hello), Moved: true, Kept: f.talk.TakeKept()}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.link != nil { // the core cuts it, too, if it has a session
		f.link.finish(wire.CloseReplaced, presence.ReasonReplaced.String())
		f.link = nil
	}
	g.feeds.end(f)
	return over, nil
}
