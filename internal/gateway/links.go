package gateway

import (
	"context"
	"sync"
	"time"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// Links knows all links of the service. It is the [engine.Links] that carries
// out what the core wants done about them. The zero value is not ready; use
// NewLinks.
type Links struct {
	mu       sync.Mutex
	all      map[*link]struct{}
	carriers map[presence.SessionID]*link // the newest link of each session
	draining bool
	empty    chan struct{} // closed when draining and no link is left
}

// NewLinks returns an empty registry.
func NewLinks() *Links {
	return &Links{
		all:      map[*link]struct{}{},
		carriers: map[presence.SessionID]*link{},
		empty:    make(chan struct{}),
	}
}

// AskBeat implements [engine.Links].
func (s *Links) AskBeat(id presence.LinkID) {
	if l := s.carrier(id); l != nil {
		l.askBeat(id)
	}
}

// Cut implements [engine.Links].
func (s *Links) Cut(id presence.LinkID, reason presence.Reason) {
	if l := s.carrier(id); l != nil {
		l.close(closeFor(reason), reason.String())
	}
}

// WarnExpiry implements [engine.Links].
func (s *Links) WarnExpiry(id presence.LinkID, expires time.Time) {
	if l := s.carrier(id); l != nil {
		l.send(outgoing{frame: encode(wire.Expiring{Type: wire.TypeExpiring, Expires: wire.Time{Time: expires}})})
	}
}

func (s *Links) carrier(id presence.LinkID) *link {
	s.mu.Lock()
	defer s.mu.Unlock()
	if l := s.carriers[id.Session]; l != nil && l.carries == id {
		return l
	}
	return nil
}

// add registers a new link, and refuses it when the service is stopping.
func (s *Links) add(l *link) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.draining {
		return false
	}
	s.all[l] = struct{}{}
	return true
}

// carry notes that a session is carried by the link from now on, unless it has a
// newer one already.
func (s *Links) carry(l *link, id presence.LinkID) {
	s.mu.Lock()
	defer s.mu.Unlock()
	l.carries = id
	if other := s.carriers[id.Session]; other == nil || other.carries.Number < id.Number {
		s.carriers[id.Session] = l
	}
}

func (s *Links) remove(l *link) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.all, l)
	if s.carriers[l.carries.Session] == l {
		delete(s.carriers, l.carries.Session)
	}
	if s.draining && len(s.all) == 0 {
		close(s.empty)
	}
}

// Draining tells whether new links are refused.
func (s *Links) Draining() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.draining
}

// Drain refuses new links, tells each link that the service goes away, and waits
// until all are closed or ctx is over; then it cuts those that are left. It is
// called once.
func (s *Links) Drain(ctx context.Context, code int, reason string) {
	s.mu.Lock()
	s.draining = true
	if len(s.all) == 0 {
		close(s.empty)
	}
	for l := range s.all {
		l.close(code, reason)
	}
	s.mu.Unlock()
	select {
	case <-s.empty:
		return
	case <-ctx.Done():
	}
	s.mu.Lock()
	for l := range s.all {
		_ = l.conn.Close()
	}
	s.mu.Unlock()
	<-s.empty
}
