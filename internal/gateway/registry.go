package gateway

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/internal/transport"
	"tovik.example/tovik/wire"
)

const restarts = "the service restarts"

// registry holds all links of the service, and carries out the core's orders about them.
type registry struct {
	limits Limits

	mu        sync.Mutex
	all       map[*link]struct{}
	carriers  map[presence.LinkID]*link      // published links with a session, which may have a newer one already
	reserved  map[presence.SessionID][]*link // links whose hello is under way, by each session that they may carry
	hailing   map[*link]struct{}             // links of a known guest that are not in all, or not published
	loose     map[*link]struct{}             // links that sweep looks after: without a session, or event streams
	byAddress map[string]int
	byPerson  map[realm.PersonID]int
	strangers int // links without a hello
	turned    int // connections that are being turned away
	returning returning
	draining  bool
	asked     int64            // beats asked for since the start
	slow      int64            // links closed because they did not read
	refused   map[string]int64 // hellos, by the code of the problem

	cuesDropped atomic.Int64 // because a link had too many unread frames
	beats       atomic.Int64 // received, also over HTTP

	empty chan struct{} // closed when draining has ended: no link is left
}

func newRegistry(limits Limits) *registry {
	return &registry{
		limits:    limits,
		all:       map[*link]struct{}{},
		carriers:  map[presence.LinkID]*link{},
		reserved:  map[presence.SessionID][]*link{},
		hailing:   map[*link]struct{}{},
		loose:     map[*link]struct{}{},
		byAddress: map[string]int{},
		byPerson:  map[realm.PersonID]int{},
		refused:   map[string]int64{},
		empty:     make(chan struct{}),
	}
}

// AskBeat implements [realm.Links].
func (s *registry) AskBeat(ask presence.AskBeat) {
	s.order(ask.Link, func(l *link) {
		beat := outgoing{frame: beatFrame, beat: true}
		if ask.Probe {
			beat.before = func() { l.guest().Realm().Apply(presence.BeatWritten{To: ask.Link, Probe: true}) }
		}
		l.send(beat)
		s.mu.Lock()
		s.asked++
		s.mu.Unlock()
	})
}

// Size is the number of links now, and numbers of events since the start.
type Size struct {
	WebSockets, Streams, Strangers int // strangers are links without a hello
	Operators                      int // included in the numbers before
	Beats, BeatsAsked, Slow        int64
	CuesDropped                    int64
	Refused                        map[string]int64 // hellos, by code
}

// Size returns the current numbers.
func (s *registry) Size() Size {
	s.mu.Lock()
	defer s.mu.Unlock()
	size := Size{Strangers: s.strangers, Beats: s.beats.Load(), BeatsAsked: s.asked, Slow: s.slow, CuesDropped: s.cuesDropped.Load(), Refused: maps.Clone(s.refused)}
	for l := range s.all {
		if l.kind.isStream() {
			size.Streams++
		} else {
			size.WebSockets++
		}
		if who := l.guest(); who != nil && who.IsOperator() {
			size.Operators++
		}
	}
	return size
}

func (s *registry) turnedAway(code string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.refused[code]++
}

func (s *registry) tooSlow() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.slow++
}

// Cut implements [realm.Links].
func (s *registry) Cut(cut presence.Cut) {
	s.order(cut.Link, func(l *link) { l.finish(closeFor(cut), cut.Reason.String()) })
}

// TakenOut implements [realm.Links].
func (s *registry) TakenOut(taken presence.TakenOut) {
	s.order(taken.Link, func(l *link) { l.takenOut(taken.Room, taken.Reason) })
}

// OwnChanged implements [realm.Links].
func (s *registry) OwnChanged(changed presence.OwnChanged) {
	s.tell(changed.Links, realm.OwnFrame(changed))
}

// AskAnswered implements [realm.Links].
func (s *registry) AskAnswered(answered presence.AskAnswered) {
	frame := realm.AskFrame(answered)
	for _, id := range answered.Links {
		s.order(id, func(l *link) {
			if talk := l.talk.Load(); talk != nil {
				l.send(outgoing{frame: frame, after: func() { talk.AskAnswered(id, answered) }})
			}
		})
	}
}

// InvitationAnswered implements [realm.Links].
func (s *registry) InvitationAnswered(answered presence.InvitationAnswered) {
	s.tell(answered.Links, realm.InvitationFrame(answered))
}

// InvitationsChanged implements [realm.Links].
func (s *registry) InvitationsChanged(changed presence.InvitationsChanged) {
	s.tell(changed.Links, realm.InvitationsFrame(changed.Invitations))
}

// PassEnded implements [realm.Links].
func (s *registry) PassEnded(ended presence.PassEnded) {
	for _, id := range ended.Links {
		s.order(id, func(l *link) { l.narrow() })
	}
}

// tell sends a frame over links.
func (s *registry) tell(links []presence.LinkID, frame []byte) {
	for _, id := range links {
		s.order(id, func(l *link) { l.send(outgoing{frame: frame}) })
	}
}

// WarnExpiry implements [realm.Links].
func (s *registry) WarnExpiry(id presence.LinkID, expires time.Time) {
	frame := wire.Encode(wire.Expiring{Type: wire.TypeExpiring, Expires: wire.Time{Time: expires}})
	s.order(id, func(l *link) { l.send(outgoing{frame: frame}) })
}

// Offer implements [realm.Links].
func (s *registry) Offer(id presence.LinkID, frame []byte) bool {
	l := s.carrier(id)
	return l != nil && l.offer(frame)
}

// order makes the link with an id carry out an order. A link whose hello is under way carries it
// out before it is published, if it has the id then.
func (s *registry) order(id presence.LinkID, do func(*link)) {
	s.mu.Lock()
	l := s.carriers[id]
	if l == nil {
		for _, hailing := range s.reserved[id.Session] {
			hailing.hello.orders = append(hailing.hello.orders, order{id, do})
		}
	}
	s.mu.Unlock()
	if l != nil {
		do(l)
	}
}

// carrier returns the link with an id, or nil.
func (s *registry) carrier(id presence.LinkID) *link {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.carriers[id]
}

// mayStream returns an error if an address may not open another event stream now. Its hello is in the request, so it
// needs no place among the links without one. The error is a [*wire.Problem].
func (s *registry) mayStream(address string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.hasPlace(address, false)
}

// mayKnock returns an error if an address may not open a WebSocket now, not even to be told when to come back. The
// error is a [*wire.Problem].
func (s *registry) mayKnock(address string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.hasPlace(address, s.turned >= s.limits.BeforeHello)
}

// turning counts a connection that is being turned away, or no longer.
func (s *registry) turning(n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.turned += n
}

// comeBack returns after which time a link should come back for which there is no place now.
func (s *registry) comeBack(now time.Time) time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.returning.after(now)
}

func (s *registry) hasPlace(address string, stranger bool) error {
	switch {
	case s.draining:
		return &wire.Problem{Code: wire.CodeNotReady, Detail: "the service is stopping"}
	case s.byAddress[address] >= s.limits.PerAddress:
		return &wire.Problem{Code: wire.CodeTooManyLinks, Detail: "this network address has too many links", Field: "address", Value: address,
			Allowed: fmt.Sprintf("at most %d at once", s.limits.PerAddress)}
	case stranger && s.strangers >= s.limits.BeforeHello:
		return &wire.Problem{Code: wire.CodeBusy, Detail: "too many links have not said hello yet", Allowed: "another try in a second"}
	}
	return nil
}

// add registers a new link within the limits. Its error is a [*wire.Problem].
func (s *registry) add(l *link) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.hasPlace(l.caller.Address, !l.introduced); err != nil {
		return err
	}
	s.all[l] = struct{}{}
	delete(s.hailing, l)
	s.byAddress[l.caller.Address]++
	if !l.introduced {
		s.strangers++
	}
	if l.kind.isStream() {
		s.loose[l] = struct{}{}
	}
	return nil
}

// reservation is the state of a link from the time its guest is known until it is published.
type reservation struct {
	guest    *realm.Guest
	sessions []presence.SessionID // that it may carry
	orders   []order              // in order; the link carries them out before others can find it
}

// order is something that a link must do: the link with this id, or any link of the guest if the
// id is zero.
type order struct {
	id presence.LinkID
	do func(*link)
}

// reserve counts a link as one of its guest's, and reserves the sessions that it may carry. From
// then on no order about them is missed, so check keys and removals after it. Its error is a
// [*wire.Problem].
func (s *registry) reserve(l *link, c *realm.Greeting) error {
	who := c.Guest()
	s.mu.Lock()
	defer s.mu.Unlock()
	if !who.IsOperator() {
		if err := s.count(l, who); err != nil {
			return err
		}
	}
	l.hello = &reservation{guest: who, sessions: c.Sessions()}
	s.hailing[l] = struct{}{}
	for _, session := range l.hello.sessions {
		s.reserved[session] = append(s.reserved[session], l)
	}
	return nil
}

// unreserve ends the reservation of a link.
func (s *registry) unreserve(l *link) {
	if l.hello == nil {
		return
	}
	for _, session := range l.hello.sessions {
		others := slices.DeleteFunc(s.reserved[session], func(other *link) bool { return other == l })
		if s.reserved[session] = others; len(others) == 0 {
			delete(s.reserved, session)
		}
	}
	l.hello = nil
}

func (s *registry) count(l *link, who *realm.Guest) error {
	if _, connected := s.all[l]; !connected && !l.kind.isStream() {
		return &wire.Problem{Code: wire.CodeNotReady, Detail: "the connection has ended"}
	}
	if s.byPerson[who.ID()] >= s.limits.PerPerson {
		return &wire.Problem{Code: wire.CodeTooManyLinks, Detail: "this person has too many links", Field: "user", Value: string(who.ID().User),
			Allowed: fmt.Sprintf("at most %d at once", s.limits.PerPerson)}
	}
	s.byPerson[who.ID()]++
	l.counted = true
	return nil
}

// forget removes a link from all counts and indexes.
func (s *registry) forget(l *link) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.forgetLocked(l)
}

func (s *registry) forgetLocked(l *link) {
	if l.counted {
		who := l.guest()
		if who == nil {
			who = l.hello.guest
		}
		decrease(s.byPerson, who.ID())
		l.counted = false
	}
	s.unreserve(l)
	delete(s.hailing, l)
	if l.talk.Load() != nil && s.carriers[l.carries] == l {
		delete(s.carriers, l.carries)
	}
}

// publish makes a link with a conversation findable, after it has carried out the orders from
// the time of its hello.
func (s *registry) publish(l *link) {
	for {
		orders := s.publishUnlessOrdered(l)
		if len(orders) == 0 {
			return
		}
		for _, o := range orders {
			if o.id == (presence.LinkID{}) || o.id == l.carries {
				o.do(l)
			}
		}
	}
}

func (s *registry) publishUnlessOrdered(l *link) []order {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, connected := s.all[l]
	if !connected && !l.kind.isStream() {
		return nil // the connection has ended
	}
	if orders := l.hello.orders; len(orders) > 0 {
		l.hello.orders = nil
		return orders
	}
	s.unreserve(l)
	if connected {
		s.strangers--
		delete(s.hailing, l)
		s.returning.letIn(time.Now())
	}
	l.introduced = true
	if l.carries == (presence.LinkID{}) {
		s.loose[l] = struct{}{}
		return nil
	}
	s.carriers[l.carries] = l
	return nil
}

func decrease[K comparable](counts map[K]int, key K) {
	if counts[key]--; counts[key] <= 0 {
		delete(counts, key)
	}
}

func (s *registry) remove(l *link) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.all, l)
	delete(s.loose, l)
	decrease(s.byAddress, l.caller.Address)
	if !l.introduced {
		s.strangers--
	}
	l.introduced = true // even if its hello fails from here on
	s.forgetLocked(l)
	if s.draining && len(s.all) == 0 {
		close(s.empty)
	}
}

// eachLoose calls the function, without locks, with every link that sweep looks after.
func (s *registry) eachLoose(call func(*link)) {
	s.mu.Lock()
	links := make([]*link, 0, len(s.loose))
	for l := range s.loose {
		links = append(links, l)
	}
	s.mu.Unlock()
	for _, l := range links {
		call(l)
	}
}

func (s *registry) closeIf(over func(*realm.Guest) bool, code int, reason string) {
	s.orderIf(over, func(l *link) { l.finish(code, reason) })
}

// orderIf makes each link whose guest meets the condition carry out an order: now, or before it
// is published.
func (s *registry) orderIf(is func(*realm.Guest) bool, do func(*link)) {
	for _, l := range s.those(is, do) {
		do(l)
	}
}

func (s *registry) those(is func(*realm.Guest) bool, do func(*link)) (links []*link) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for l := range s.hailing {
		switch {
		case l.hello == nil: // an event stream without its connection
			if is(l.guest()) {
				links = append(links, l)
			}
		case is(l.hello.guest):
			l.hello.orders = append(l.hello.orders, order{do: do})
		}
	}
	for l := range s.all {
		if who := l.guest(); who != nil && l.hello == nil && is(who) {
			links = append(links, l)
		}
	}
	return links
}

// Drain refuses new links, tells each link that the service stops and when to return, and waits
// until all are closed or ctx ends. It closes the rest without notice. The times to return are
// spread over at most the given time. Call it once.
func (s *registry) Drain(ctx context.Context, most time.Duration) {
	s.mu.Lock()
	s.draining = true
	if len(s.all) == 0 {
		close(s.empty)
	}
	links := make([]*link, 0, len(s.all))
	for l := range s.all {
		links = append(links, l)
	}
	s.mu.Unlock()
	spread := min(most, time.Duration(len(links))*time.Second/comingBack)
	for _, l := range links {
		if l.talk.Load() != nil {
			after := time.Duration(rand.Float64() * float64(spread))
			l.send(outgoing{frame: wire.Encode(wire.Moving{Type: wire.TypeMoving, After: after.Milliseconds()})})
		}
		l.finish(transport.CloseServiceRestart, restarts)
	}
	select {
	case <-s.empty:
		return
	case <-ctx.Done():
	}
	s.mu.Lock()
	for l := range s.all {
		l.stream().Abort(errors.New(restarts))
	}
	s.mu.Unlock()
	<-s.empty
}
