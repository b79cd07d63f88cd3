package gateway

import (
	"context"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tovik.example/tovik/internal/delivery"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// Realm is a world of people and rooms: its core, and what follows that. Nothing
// crosses from one to another.
type Realm struct {
	Name      string
	Engine    *engine.Engine // whose Links must be those of the gateway, and whose Sink Hub
	Hub       *delivery.Hub
	Store     *records.Store
	Writer    *records.Writer
	Admission *Admission // is asked who may be in rooms; nil: grants alone decide

	origins atomic.Pointer[[]string]
}

// SetOrigins says of which origins pages may be clients, as in https://app.example; nil
// stands for any.
func (r *Realm) SetOrigins(origins []string) { r.origins.Store(&origins) }

// Origins are those of which pages may be clients; nil stands for any.
func (r *Realm) Origins() []string {
	if origins := r.origins.Load(); origins != nil {
		return *origins
	}
	return nil
}

func (r *Realm) allowsOrigin(origin string) bool {
	origins := r.Origins()
	return origins == nil || slices.Contains(origins, origin)
}

// do tells the core. A link that is gone does not take back what it asked for, so
// there is no context to be over.
func (r *Realm) do(in presence.Input) (presence.Reply, error) {
	return r.Engine.Do(context.Background(), in)
}

// profiles are what the directory has of people. Whom it does not know, or all when it
// cannot be read, have none.
func (r *Realm) profiles(ctx context.Context, users []presence.UserID) map[presence.UserID]presence.Profile {
	known, err := r.Store.People(ctx, records.PeopleQuery{Realm: r.Name, Users: users, Limit: len(users)})
	profiles := make(map[presence.UserID]presence.Profile, len(known))
	if err != nil {
		return profiles
	}
	for i := range known {
		profiles[known[i].User] = presence.Profile{Name: known[i].Name, Picture: known[i].Picture}
	}
	return profiles
}

// kept returns when all that has happened is written. Its error is a [*wire.Problem].
func (r *Realm) kept() error {
	ctx, cancel := context.WithTimeout(context.Background(), keepTimeout)
	defer cancel()
	if err := r.Writer.Sync(ctx); err != nil {
		return NotRecorded("it holds, but will not outlast a restart of the service until the records can be written", err)
	}
	return nil
}

// keepTimeout is how long somebody waits for the records.
const keepTimeout = 5 * time.Second

// NotRecorded is the problem of who is not told that something will last.
func NotRecorded(detail string, err error) *wire.Problem {
	return &wire.Problem{Code: wire.CodeNotRecorded, Detail: detail + ": " + err.Error(), Allowed: "try again when /readyz says that the records can be written"}
}

// allows tells whether a caller may be a client of the realm: a page of an origin that
// is allowed or of the service itself, or no page.
func (r *Realm) allows(c Caller) error {
	if c.Origin == "" || c.Own || r.allowsOrigin(c.Origin) {
		return nil
	}
	return &wire.Problem{Code: wire.CodeBadOrigin, Field: "Origin", Value: wire.Shorten(c.Origin),
		Detail: "pages of this origin may not be clients of the realm", Allowed: "the origins that the realm names"}
}

// Realms are all realms of the service.
type Realms struct {
	mu  sync.RWMutex
	all map[string]*Realm
}

// NewRealms returns a registry with no realm in it.
func NewRealms() *Realms { return &Realms{all: map[string]*Realm{}} }

// Add makes a realm known.
func (s *Realms) Add(r *Realm) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all[r.Name] = r
}

// Remove lets a realm no longer be known.
func (s *Realms) Remove(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.all, name)
}

// Get returns a realm. Its error is a [*wire.Problem].
func (s *Realms) Get(name string) (*Realm, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if r := s.all[name]; r != nil {
		return r, nil
	}
	return nil, &wire.Problem{Code: wire.CodeUnknownRealm, Field: "realm", Value: wire.Shorten(name), Detail: "there is no realm of this name"}
}

// All returns the realms by name.
func (s *Realms) All() []*Realm {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return slices.SortedFunc(maps.Values(s.all), func(a, b *Realm) int { return strings.Compare(a.Name, b.Name) })
}

// AllowsOrigin tells whether pages of an origin may ask at all. Whether they may be
// clients of their realm is found when they say who they are.
func (s *Realms) AllowsOrigin(origin string) bool {
	return slices.ContainsFunc(s.All(), func(r *Realm) bool { return r.allowsOrigin(origin) })
}
