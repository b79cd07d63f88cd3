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
		if who := l.guest(); who != nil && who.operator {
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

// TakenOut implements [engine.Links].
func (s *Links) TakenOut(taken presence.TakenOut) {
	if l := s.carrier(taken.Link); l != nil {
		l.takenOut(taken.Room, taken.Reason)
	}
}

// OwnChanged implements [engine.Links].
func (s *Links) OwnChanged(changed presence.OwnChanged) {
	frame := encode(wire.OwnFrame{Type: wire.TypeOwn, Own: ownOf(changed.Set, changed.Hidden)})
	for _, id := range changed.Links {
		if l := s.carrier(id); l != nil {
			l.send(outgoing{frame: frame})
		}
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
	if err := s.hasPlace(l.caller.Address, !l.introduced); err != nil {
		return err
	}
	s.all[l] = struct{}{}
	s.byAddress[l.caller.Address]++
	if !l.introduced {
		s.strangers++
	}
	if l.feed != nil {
		s.loose[l] = struct{}{}
	}
	return nil
}

// know counts a link that says hello as the guest's. Its error is a [*wire.Problem].
func (s *Links) know(l *link, who *guest) error {
	if who.operator {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, connected := s.all[l]; !connected && l.feed == nil {
		return &wire.Problem{Code: wire.CodeNotReady, Detail: "the connection has gone"}
	}
	if s.byPerson[who.id()] >= s.limits.PerPerson {
		return &wire.Problem{Code: wire.CodeTooManyLinks, Detail: "this person has too many links", Field: "user", Value: string(who.person.User),
			Allowed: fmt.Sprintf("at most %d at once", s.limits.PerPerson)}
	}
	s.byPerson[who.id()]++
	l.counted = who.id()
	return nil
}

// forget takes back what a link was counted and known for.
func (s *Links) forget(l *link) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.forgetLocked(l)
}

func (s *Links) forgetLocked(l *link) {
	if l.counted != (personID{}) {
		decrease(s.byPerson, l.counted)
		l.counted = personID{}
	}
	if l.talk.Load() != nil && s.carriers[l.carries.Session] == l {
		delete(s.carriers, l.carries.Session)
	}
}

// publish lets a link be found that has said hello. It carries its session from now on,
// unless that has a newer one already.
func (s *Links) publish(l *link) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, connected := s.all[l]; connected {
		s.strangers--
	} else if l.feed == nil {
		return // it ended a moment ago
	}
	l.introduced = true
	if l.carries == (presence.LinkID{}) {
		s.loose[l] = struct{}{}
		return
	}
	if other := s.carriers[l.carries.Session]; other == nil || other.carries.Number < l.carries.Number {
		s.carriers[l.carries.Session] = l
	}
}

func decrease[K comparable](counts map[K]int, key K) {
	if counts[key]--; counts[key] <= 0 {
		delete(counts, key)
	}
}

func (s *Links) remove(l *link) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.all, l)
	delete(s.loose, l)
	decrease(s.byAddress, l.caller.Address)
	if !l.introduced {
		s.strangers--
	}
	l.introduced = true // whatever comes of its hello now
	s.forgetLocked(l)
	if s.draining && len(s.all) == 0 {
		close(s.empty)
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
	g.closeIf(func(who *guest) bool { return !g.keys.InForce(who.operator, who.keyID()) }, wire.CloseExpired, wire.CodeBadKey)
}

// Remove takes a person out of a room, or with an empty room out of the realm, and lets
// their tokens of before be refused. It is written first, so that it outlives whatever
// comes. With it ends all that they follow there, over whatever link.
func (g *Gateway) Remove(realm *Realm, user presence.UserID, room presence.RoomName) (at time.Time, err error) {
	at = time.Now().UTC().Truncate(time.Millisecond)
	if err := realm.Store.Remove(records.Removal{Realm: realm.Name, User: user, Room: room, At: at}); err != nil {
		return at, err
	}
	if _, err := realm.do(presence.Remove{User: user, Room: room}); err != nil {
		return at, err
	}
	theirs := func(who *guest) bool { return who.realm == realm && !who.operator && who.person.User == user }
	if room == "" {
		g.closeIf(theirs, wire.CloseEnded, presence.ReasonRemoved.String())
		g.feeds.endIf(theirs)
		return at, nil
	}
	for _, l := range g.links.those(theirs) {
		l.narrow(nil)
	}
	g.feeds.narrow(theirs)
	return at, nil
}

// CloseRealm closes the links of a realm that is no more.
func (g *Gateway) CloseRealm(name string) {
	g.closeIf(func(who *guest) bool { return who.realm.Name == name }, wire.CloseExpired, wire.CodeUnknownRealm)
}

func (g *Gateway) closeIf(over func(*guest) bool, code int, reason string) {
	for _, l := range g.links.those(over) {
		l.finish(code, reason)
	}
}

// those returns the links that have said hello and whose guest is among those meant.
func (s *Links) those(is func(*guest) bool) (links []*link) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for l := range s.all {
		if who := l.guest(); who != nil && is(who) {
			links = append(links, l)
		}
	}
	return links
}

// late is how much later than it wanted the sweep may come before that is taken for a
// pause of the machine, in which nobody could be heard.
const late = time.Second

// sweep asks links without a session for beats and closes those that do not answer,
// which the core does for sessions; and has event streams say that they are alive, so often
// that their clients notice a loss within the silence that the service allows them.
func (g *Gateway) sweep(now time.Time, pause time.Duration) {
	p := g.policy.Load()
	g.tickets.expire(now)
	g.Recheck() // for keys that expire
	g.links.eachLoose(func(l *link) {
		if l.stream() == nil {
			return
		}
		every := p.BeatEvery
		if l.feed != nil {
			every = p.Silence() / 3
		}
		l.mu.Lock()
		if pause > late {
			l.heard += int64(pause)
			l.wanted += int64(pause)
		}
		quiet, waits := time.Duration(now.UnixNano()-l.heard), now.UnixNano()-l.wanted >= int64(every)
		if waits {
			l.wanted = now.UnixNano()
		}
		l.mu.Unlock()
		switch {
		case l.feed != nil:
			if waits {
				l.stream().Still()
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
		if l.talk.Load() != nil {
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
