package gateway

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"time"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/transport"
	"tovik.example/tovik/wire"
)

const (
	restarts   = "the service restarts"
	sweepEvery = time.Second
	// comingBack is how many links a second a restarted service should have to take.
	comingBack = 2000
)

// Links knows all links of the service. It is the [engine.Links] that carries
// out what the core wants done about them. The zero value is not ready; use
// NewLinks.
type Links struct {
	limits Limits // set by New

	mu        sync.Mutex
	all       map[*link]struct{}
	carriers  map[presence.SessionID]*link // the newest link of each session
	loose     map[*link]struct{}           // links that the core does not see to: without a session, or event streams
	byAddress map[string]int
	byPerson  map[personID]int
	strangers int // that have not said hello
	draining  bool
	asked     int64            // beats, since the start
	slow      int64            // links that were cut because they did not read
	refused   map[string]int64 // hellos, by the code of the problem

	cuesDropped atomic.Int64 // for links with too much unread
	beats       atomic.Int64 // that links and leases brought

	empty chan struct{} // closed when draining and no link is left
}

// personID is a person of a realm.
type personID struct {
	realm string
	user  presence.UserID
}

// NewLinks returns an empty registry.
func NewLinks() *Links {
	return &Links{
		all:       map[*link]struct{}{},
		carriers:  map[presence.SessionID]*link{},
		loose:     map[*link]struct{}{},
		byAddress: map[string]int{},
		byPerson:  map[personID]int{},
		refused:   map[string]int64{},
		empty:     make(chan struct{}),
	}
}

// AskBeat implements [engine.Links].
func (s *Links) AskBeat(id presence.LinkID) {
	if l := s.carrier(id); l != nil {
		l.send(outgoing{frame: beatFrame, beat: true})
		s.mu.Lock()
		s.asked++
		s.mu.Unlock()
	}
}

// Size is how many links there are, and what became of some since the start.
type Size struct {
	WebSockets, Streams, Strangers int // strangers have not said hello
	Operators                      int // of those before
	Beats, BeatsAsked, Slow        int64
	CuesDropped                    int64
	Refused                        map[string]int64 // hellos, by code
}

// Size says how many links there are.
func (s *Links) Size() Size {
	s.mu.Lock()
	defer s.mu.Unlock()
	size := Size{Strangers: s.strangers, Beats: s.beats.Load(), BeatsAsked: s.asked, Slow: s.slow, CuesDropped: s.cuesDropped.Load(), Refused: maps.Clone(s.refused)}
	for l := range s.all {
		if l.feed != nil {
			size.Streams++
		} else {
			size.WebSockets++
		}
		if b := l.badge.Load(); b != nil && b.operator {
			size.Operators++
		}
	}
	return size
}

func (s *Links) turnedAway(code string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.refused[code]++
}

func (s *Links) tooSlow() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.slow++
}

// Cut implements [engine.Links].
func (s *Links) Cut(cut presence.Cut) {
	if l := s.carrier(cut.Link); l != nil {
		l.finish(closeFor(cut), cut.Reason.String())
	}
}

// WarnExpiry implements [engine.Links].
func (s *Links) WarnExpiry(id presence.LinkID, expires time.Time) {
	if l := s.carrier(id); l != nil {
		l.send(outgoing{frame: encode(wire.Expiring{Type: wire.TypeExpiring, Expires: wire.Time{Time: expires}})})
	}
}

// carrier finds the link that carries a session now, if it is the one of this id.
func (s *Links) carrier(id presence.LinkID) *link {
	s.mu.Lock()
	defer s.mu.Unlock()
	if l := s.carriers[id.Session]; l != nil && l.carries == id {
		return l
	}
	return nil
}

// mayOpen tells whether an address may open one more link now. Its error is a
// [*wire.Problem].
func (s *Links) mayOpen(address string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.hasPlace(address, true)
}

func (s *Links) hasPlace(address string, stranger bool) error {
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

// add registers a new link, if there is still a place for it. Its error is a
// [*wire.Problem].
func (s *Links) add(l *link) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.hasPlace(l.caller.Address, l.guest == nil); err != nil {
		return err
	}
	s.all[l] = struct{}{}
	s.byAddress[l.caller.Address]++
	if l.guest == nil {
		s.strangers++
	}
	if l.feed != nil {
		s.loose[l] = struct{}{}
	}
	return nil
}

// know counts a link that says hello as the person's. Its error is a
// [*wire.Problem].
func (s *Links) know(user personID) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.byPerson[user] >= s.limits.PerPerson {
		return &wire.Problem{Code: wire.CodeTooManyLinks, Detail: "this person has too many links", Field: "user", Value: string(user.user),
			Allowed: fmt.Sprintf("at most %d at once", s.limits.PerPerson)}
	}
	s.byPerson[user]++
	return nil
}

// forget takes back what know has counted.
func (s *Links) forget(user personID) {
	s.mu.Lock()
	defer s.mu.Unlock()
	decrease(s.byPerson, user)
}

// introduced notes that a link has said hello.
func (s *Links) introduced(l *link) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.strangers--
	if l.carries == (presence.LinkID{}) {
		s.loose[l] = struct{}{}
	}
}

func decrease[K comparable](counts map[K]int, key K) {
	if counts[key]--; counts[key] <= 0 {
		delete(counts, key)
	}
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
	delete(s.loose, l)
	decrease(s.byAddress, l.caller.Address)
	if l.guest == nil {
		s.strangers--
	} else if !l.guest.operator {
		decrease(s.byPerson, l.guest.id())
	}
	if s.carriers[l.carries.Session] == l {
		delete(s.carriers, l.carries.Session)
	}
	if s.draining && len(s.all) == 0 {
		close(s.empty)
	}
}

// drop takes back what a link was counted for that never got a connection.
func (s *Links) drop(l *link) {
	s.mu.Lock()
	defer s.mu.Unlock()
	decrease(s.byPerson, l.guest.id())
	if s.carriers[l.carries.Session] == l {
		delete(s.carriers, l.carries.Session)
	}
}

// eachLoose calls with every link without a session or event stream, unlocked.
func (s *Links) eachLoose(call func(*link)) {
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

// Recheck closes the links whose key, or that of whose token, is no longer in force.
func (g *Gateway) Recheck() {
	g.closeIf(func(b *badge) bool { return !g.keys.InForce(b.operator, b.key) }, wire.CloseExpired, wire.CodeBadKey)
}

// Remove takes a person out of a room, or with an empty room out of the realm, and lets
// their tokens of before be refused. It is written first, so that it outlives whatever
// comes. Their links that follow what they may not any more are closed, also those
// without a session.
func (g *Gateway) Remove(realm *Realm, user presence.UserID, room presence.RoomName) (at time.Time, err error) {
	at = time.Now().UTC().Truncate(time.Millisecond)
	if err := realm.Store.Remove(records.Removal{Realm: realm.Name, User: user, Room: room, At: at}); err != nil {
		return at, err
	}
	if _, err := realm.do(presence.Remove{User: user, Room: room}); err != nil {
		return at, err
	}
	g.closeIf(func(b *badge) bool {
		return b.realm == realm.Name && !b.operator && b.user == user && (room == "" || b.follows(room))
	}, wire.CloseEnded, presence.ReasonRemoved.String())
	return at, nil
}

// CloseRealm closes the links of a realm that is no more.
func (g *Gateway) CloseRealm(name string) {
	g.closeIf(func(b *badge) bool { return b.realm == name }, wire.CloseExpired, wire.CodeUnknownRealm)
}

func (g *Gateway) closeIf(over func(*badge) bool, code int, reason string) {
	g.links.mu.Lock()
	var links []*link
	for l := range g.links.all {
		if b := l.badge.Load(); b != nil && over(b) {
			links = append(links, l)
		}
	}
	g.links.mu.Unlock()
	for _, l := range links {
		l.finish(code, reason)
	}
}

// sweep asks links without a session for beats and closes those that do not answer,
// which the core does for sessions; and lets a word pass over event streams, so that
// nobody on the way takes them for dead.
func (g *Gateway) sweep(now time.Time) {
	p := g.policy.Load()
	g.tickets.expire(now)
	g.Recheck() // for keys that expire
	g.links.eachLoose(func(l *link) {
		if l.stream() == nil {
			return
		}
		l.mu.Lock()
		quiet, waits := time.Duration(now.UnixNano()-l.heard), now.UnixNano()-l.wanted >= int64(p.BeatEvery)
		if waits {
			l.wanted = now.UnixNano()
		}
		l.mu.Unlock()
		switch {
		case l.feed != nil:
			if waits {
				l.stream().Comment()
			}
		case quiet > p.BeatEvery+p.Silence(): // it was asked in that time
			l.finish(wire.CloseSilent, presence.ReasonSilent.String())
		case waits && quiet >= p.BeatEvery:
			l.send(outgoing{frame: beatFrame})
		}
	})
}

// Drain refuses new links, tells each link that the service goes away and when to
// come back, and waits until all are closed or ctx is over; then it cuts those that
// are left. Returns are spread out over at most the time given. It is called once.
func (s *Links) Drain(ctx context.Context, most time.Duration) {
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
		l.mu.Lock()
		greeted := l.receiver != nil
		l.mu.Unlock()
		if greeted {
			after := time.Duration(rand.Float64() * float64(spread))
			l.send(outgoing{frame: encode(wire.Moving{Type: wire.TypeMoving, After: after.Milliseconds()})})
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
