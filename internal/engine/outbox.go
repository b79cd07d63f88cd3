package engine

import (
	"sync"
	"time"

	"tovik.example/tovik/internal/presence"
)

// outbox queues the news for the sink and the links, in order. Each goroutine that changes the
// core empties the outbox after it has unlocked the core, including the news of others.
type outbox struct {
	telling sync.Mutex // held while telling; locked before mu
	mu      sync.Mutex
	news    []any
	spare   []any // memory for the next news
}

func (o *outbox) add(news []any) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.news = append(o.news, news...)
}

func (o *outbox) empty(sink Sink, links Links) {
	o.telling.Lock()
	defer o.telling.Unlock()
	o.mu.Lock()
	news := o.news
	o.news, o.spare = o.spare, nil
	o.mu.Unlock()
	for _, what := range news {
		tell(what, sink, links)
	}
	clear(news)
	o.mu.Lock()
	o.spare = news[:0]
	o.mu.Unlock()
}

// answer is the answer to a hello that waited. It comes after what the hello has caused.
type answer struct {
	to      chan<- presence.Settled // holds one
	settled presence.Settled
}

func tell(what any, sink Sink, links Links) {
	switch what := what.(type) {
	case *Batch:
		sink.Take(what)
	case Topic:
		sink.TakeUnchanged(what)
	case Typists:
		sink.TakeTypists(what)
	case Sight:
		sink.TakeSight(what)
	case Asks:
		sink.TakeAsks(what)
	case presence.AskAnswered:
		links.AskAnswered(what)
	case presence.InvitationAnswered:
		links.InvitationAnswered(what)
	case presence.InvitationsChanged:
		links.InvitationsChanged(what)
	case presence.PassEnded:
		links.PassEnded(what)
	case answer:
		what.to <- what.settled
	case presence.Settled:
		if to, ok := links.(Settler); ok {
			to.Settled(what)
		}
	case presence.AskBeat:
		links.AskBeat(what)
	case presence.Cut:
		links.Cut(what)
	case presence.WarnExpiry:
		links.WarnExpiry(what.Link, time.UnixMilli(what.Expires))
	case presence.TakenOut:
		links.TakenOut(what)
	case presence.OwnChanged:
		links.OwnChanged(what)
	}
}
