package realm

import (
	"context"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// Realms are all realms of the service, with the keys that let people into them.
type Realms struct {
	keys   *access.Keyring
	guard  *access.Guard
	store  *records.Store
	writer *records.Writer
	asks   bool
	policy atomic.Pointer[presence.Policy]

	mu  sync.RWMutex
	all map[string]*Realm
}

// RealmsOptions are what Realms are made of. All are required.
type RealmsOptions struct {
	Keys   *access.Keyring
	Guard  *access.Guard
	Store  *records.Store
	Writer *records.Writer
	Policy *presence.Policy // of all realms; must not be changed
	// AsksOthers says that some application is asked about admissions, or that key sets are
	// fetched: then a request may have to wait for that.
	AsksOthers bool
}

// NewRealms returns a registry with no realm in it.
func NewRealms(o RealmsOptions) *Realms {
	s := &Realms{keys: o.Keys, guard: o.Guard, store: o.Store, writer: o.Writer, asks: o.AsksOthers, all: map[string]*Realm{}}
	s.policy.Store(o.Policy)
	return s
}

// Policy returns the policy in force. It must not be changed.
func (s *Realms) Policy() *presence.Policy { return s.policy.Load() }

// SetPolicy puts another policy in force, which must not be changed after that.
func (s *Realms) SetPolicy(policy *presence.Policy) {
	s.policy.Store(policy)
	for _, r := range s.All() {
		r.setPolicy(policy)
	}
}

// AsksOthers tells whether a request of a type may have to wait for an application or an
// identity service.
func (s *Realms) AsksOthers(requestType string) bool {
	return s.asks && slices.Contains(asking, requestType)
}

// asking are the requests about which an application or an identity service may be asked.
var asking = []string{wire.TypeHello, wire.TypeJoin, wire.TypeWatch, wire.TypeRenew, wire.TypeMembers}

// Add makes a realm known.
func (s *Realms) Add(r *Realm) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all[r.name] = r
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
	return slices.SortedFunc(maps.Values(s.all), func(a, b *Realm) int { return strings.Compare(a.name, b.name) })
}

// AllowsOrigin tells whether pages of an origin may ask at all. Whether they may be
// clients of their realm is found when they say who they are.
func (s *Realms) AllowsOrigin(origin string) bool {
	return slices.ContainsFunc(s.All(), func(r *Realm) bool { return r.allowsOrigin(origin) })
}

// identify finds out who says hello.
func (s *Realms) identify(h wire.Hello, caller Caller) (*Guest, error) {
	who, name, err := s.whois(h, caller)
	if err != nil {
		return nil, err
	}
	if who.realm, err = s.Get(name); err != nil {
		return nil, err
	}
	return who, who.realm.allows(caller)
}

func (s *Realms) whois(h wire.Hello, caller Caller) (who *Guest, realm string, err error) {
	switch {
	case h.Token != "" && h.Key != "":
		return nil, "", &wire.Problem{Code: wire.CodeBadField, Field: "key",
			Detail: "the hello has a token and a key", Allowed: "either a person's token or an operator's key"}
	case h.Key != "":
		operator, err := s.guard.Check(s.keys, caller.Address, h.Key, access.Read)
		return &Guest{operator: true, key: operator}, operator.Realm, err
	case h.Token == "" && caller.Operator != nil:
		return &Guest{operator: true, key: *caller.Operator}, caller.Operator.Realm, nil
	case h.Token == "":
		return nil, "", &wire.Problem{Code: wire.CodeNoToken, Field: "token",
			Detail: "the hello does not say who it is", Allowed: "token, a person's, or key, an operator's"}
	}
	person, err := s.keys.Verify(h.Token)
	return &Guest{person: person}, person.Realm, err
}

// StillIn tells whether a guest who was identified a while ago would be let in now. Its
// error is a [*wire.Problem].
func (s *Realms) StillIn(who *Guest) error {
	if realm, err := s.Get(who.realm.name); err != nil || realm != who.realm {
		return &wire.Problem{Code: wire.CodeUnknownRealm, Field: "realm", Value: who.realm.name, Detail: "the realm is no more"}
	}
	switch {
	case s.InForce(who):
		return nil
	case who.operator:
		return &wire.Problem{Code: wire.CodeBadKey, Field: "key", Detail: "the operator key is no longer in force"}
	}
	return &wire.Problem{Code: wire.CodeBadToken, Field: "token", Detail: "the key of the token is no longer in force", Allowed: "a token that a newer key has signed"}
}

// InForce tells whether the key that lets a guest in is in force.
func (s *Realms) InForce(who *Guest) bool { return s.keys.InForce(who.operator, who.keyID()) }

// IsClient tells whether a caller with a token or a key is the same person, or an operator
// of the same realm, as a guest.
func (s *Realms) IsClient(who *Guest, bearer string, caller Caller) bool {
	asker, err := s.identify(WithBearer(wire.Hello{}, bearer), caller)
	return err == nil && asker.operator == who.operator && asker.ID() == who.ID()
}

// WithBearer puts what an Authorization header had into a hello: three parts with points
// between are a person's token, anything else an operator's key.
func WithBearer(h wire.Hello, bearer string) wire.Hello {
	switch {
	case bearer == "" || h.Token != "" || h.Key != "":
	case strings.Count(bearer, ".") == 2:
		h.Token = bearer
	default:
		h.Key = bearer
	}
	return h
}

// Session tells what is known of a session to the holder of its resume key. A wrong key is
// answered like a session that has ended.
func (s *Realms) Session(session, key string) wire.Session {
	for _, r := range s.All() {
		if e, _, ok := r.engine.Session(presence.SessionID(session), key); ok {
			return sessionDocument(e)
		}
	}
	return wire.Session{Session: session, State: "ended"}
}

// Closing applies a page's note that it is going away. The answer does not tell a wrong key
// from a session that has ended.
func (s *Realms) Closing(note wire.ClosingNote) (wire.ClosingAnswer, error) {
	return s.applyNote(presence.ClosingBeacon{Session: presence.SessionID(note.Session), Key: note.ResumeKey, Nonce: note.Nonce})
}

// Bye ends a session for the holder of its resume key. The answer does not tell a wrong key
// from a session that has ended.
func (s *Realms) Bye(session, key string) (wire.ClosingAnswer, error) {
	return s.applyNote(presence.ByeNote{Session: presence.SessionID(session), Key: key})
}

// applyNote gives a note to the realm whose session it is about. It does not say which, but
// proves itself to one alone.
func (s *Realms) applyNote(note presence.Input) (wire.ClosingAnswer, error) {
	for _, r := range s.All() {
		if reply, err := r.do(note); err != nil || !reply.Stale {
			return wire.ClosingAnswer{Applied: err == nil}, err
		}
	}
	return wire.ClosingAnswer{}, nil
}

// Health returns how the records are.
func (s *Realms) Health() wire.RecordsHealth {
	h := s.writer.Health()
	doc := wire.RecordsHealth{Status: "ok", Waiting: h.Waiting, Lost: h.Lost, LostDeliveries: h.LostDeliveries}
	if h.Failing != nil {
		doc.Status, doc.Error, doc.Since = "failing", h.Failing.Error(), &wire.Time{Time: h.Since}
	}
	return doc
}

// Backup returns a copy of the records as they are at one moment, in a file that the caller
// deletes. The error of the second kind says that the copy lacks what cannot be written.
func (s *Realms) Backup(ctx context.Context) (file *os.File, lacks, err error) {
	lacks = s.writer.Sync(ctx)
	if file, err = s.store.Copy(ctx); err != nil {
		return nil, lacks, &wire.Problem{Code: wire.CodeNotRecorded, Detail: "no copy could be made of the records: " + err.Error()}
	}
	return file, lacks, nil
}

// Figures are how much there is of everything, for the metrics.
type Figures struct {
	Realms  []RealmFigures // by name
	Records records.Health
	// Parked and Waiting count the deliveries of hooks; they are negative when the records
	// cannot be read.
	Parked, Waiting int
}

// RealmFigures are those of one realm. The maps count, since the start, by kind of link or
// by reason.
type RealmFigures struct {
	Name                string
	Size                presence.Size
	Opened, Lost, Ended map[string]int64
	Left                map[string]int64
	Joined, Resumed     int64
}

// Figures returns how much there is of everything.
func (s *Realms) Figures() Figures {
	f := Figures{Records: s.writer.Health(), Parked: -1, Waiting: -1}
	places := map[string]int{}
	for i, r := range s.All() {
		places[r.name] = i
		f.Realms = append(f.Realms, RealmFigures{Name: r.name, Size: r.engine.Size(), Opened: map[string]int64{}, Lost: map[string]int64{}, Ended: map[string]int64{}, Left: map[string]int64{}})
	}
	for total, n := range s.writer.Totals() {
		at, known := places[total.Realm]
		if !known {
			continue
		}
		of := &f.Realms[at]
		switch total.Kind {
		case records.SessionOpened:
			of.Opened[total.Which] = n
		case records.SessionLost:
			of.Lost[total.Which] = n
		case records.SessionResumed:
			of.Resumed = n
		case records.SessionEnded:
			of.Ended[total.Which] = n
		case records.MemberJoined:
			of.Joined = n
		case records.MemberLeft:
			of.Left[total.Which] = n
		}
	}
	if deliveries, err := s.store.CountDeliveryStates(); err == nil {
		f.Parked, f.Waiting = deliveries[records.Parked], deliveries[records.Waiting]
	}
	return f
}
