package realm

import (
	"context"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// Realms are all realms of the service, with the keys that give access to them.
type Realms struct {
	keys            *access.Keyring
	guard           *access.Guard
	store           *records.Store
	writer          *records.Writer
	asks, elsewhere bool

	mu  sync.RWMutex
	all map[string]*Realm
}

// RealmsOptions are the parts of Realms. All are required.
type RealmsOptions struct {
	Keys   *access.Keyring
	Guard  *access.Guard
	Store  *records.Store
	Writer *records.Writer
	// AsksOthers says that an application is asked about admissions, or that key sets are
	// fetched, so that a request may have to wait for them.
	AsksOthers bool
	// Elsewhere says that cores may be at other nodes, so that any request may have to wait.
	Elsewhere bool
}

// NewRealms returns an empty registry.
func NewRealms(o RealmsOptions) *Realms {
	return &Realms{keys: o.Keys, guard: o.Guard, store: o.Store, writer: o.Writer, asks: o.AsksOthers, elsewhere: o.Elsewhere, all: map[string]*Realm{}}
}

// ShortestGrace returns the shortest grace of a lost link in any realm.
func (s *Realms) ShortestGrace() time.Duration {
	return s.shortest(func(p *presence.Policy) time.Duration { return p.GraceLost })
}

// Sweep returns how often links that the cores do not know must be looked after, so that no
// policy is kept late.
func (s *Realms) Sweep() time.Duration {
	return s.shortest(func(p *presence.Policy) time.Duration { return min(p.BeatEvery/4, p.Silence()/6) })
}

func (s *Realms) shortest(of func(*presence.Policy) time.Duration) time.Duration {
	least := time.Hour
	for _, r := range s.All() {
		least = min(least, of(r.Policy()))
	}
	return least
}

// AsksOthers reports whether a request of a type may have to wait for an application, an
// identity service or another node.
func (s *Realms) AsksOthers(requestType string) bool {
	return s.elsewhere || s.asks && slices.Contains(asking, requestType)
}

// Waits reports whether a request of a type may have to wait, as [Realms.AsksOthers] does. It knows whether the core is
// at this node now.
func (t *Conversation) Waits(s *Realms, requestType string) bool {
	core := t.Guest().realm.elsewhere
	if core != nil && slices.Contains(atOnce, requestType) && core.Here() {
		return s.asks && slices.Contains(asking, requestType)
	}
	return s.AsksOthers(requestType)
}

// atOnce are requests that a core answers without waiting for the log.
var atOnce = []string{wire.TypeJoin, wire.TypeLeave, wire.TypeBeat, wire.TypeTyping, wire.TypeIdle, wire.TypeActivity, wire.TypePage, wire.TypeSent, wire.TypeDoing, wire.TypeUnwatch}

// asking are the requests that may need an answer from an application or an identity service.
var asking = []string{wire.TypeHello, wire.TypeJoin, wire.TypeWatch, wire.TypeRenew, wire.TypeMembers}

// Add adds a realm.
func (s *Realms) Add(r *Realm) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all[r.name] = r
}

// Remove removes a realm.
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

// All returns all realms, ordered by name.
func (s *Realms) All() []*Realm {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return slices.SortedFunc(maps.Values(s.all), func(a, b *Realm) int { return strings.Compare(a.name, b.name) })
}

// AllowsOrigin reports whether any realm allows pages of an origin. The realm of a client is
// known only from its token.
func (s *Realms) AllowsOrigin(origin string) bool {
	return slices.ContainsFunc(s.All(), func(r *Realm) bool { return r.allowsOrigin(origin) })
}

// identify finds out who sent a hello.
func (s *Realms) identify(h wire.Hello, caller Caller) (*Guest, error) {
	who, name, err := s.whois(h, caller)
	if err != nil {
		return nil, err
	}
	if who.realm, err = s.Get(name); err != nil {
		return nil, err
	}
	if !who.operator {
		who.realm.early.note(who.person.User, who.person.Issued, time.Now())
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
		return &Guest{operator: true, key: &operator, person: nobody()}, operator.Realm, err
	case h.Token == "" && caller.Operator != nil:
		return &Guest{operator: true, key: caller.Operator, person: nobody()}, caller.Operator.Realm, nil
	case h.Token == "":
		return nil, "", &wire.Problem{Code: wire.CodeNoToken, Field: "token",
			Detail: "the hello does not say who it is", Allowed: "token, a person's, or key, an operator's"}
	}
	person, err := s.keys.Verify(h.Token)
	return &Guest{person: person}, person.Realm, err
}

// nobody is the person of a guest who is an operator.
func nobody() access.Person { return access.Person{Grants: &access.Grants{}} }

// StillIn returns an error if a guest who was identified a while ago would be refused now. It
// is a [*wire.Problem].
func (s *Realms) StillIn(who *Guest) error {
	if realm, err := s.Get(who.realm.name); err != nil || realm != who.realm {
		return &wire.Problem{Code: wire.CodeUnknownRealm, Field: "realm", Value: who.realm.name, Detail: "the realm was removed"}
	}
	switch {
	case s.InForce(who):
		return nil
	case who.operator:
		return &wire.Problem{Code: wire.CodeBadKey, Field: "key", Detail: "the operator key is no longer valid"}
	}
	return &wire.Problem{Code: wire.CodeBadToken, Field: "token", Detail: "the key that signed the token is no longer valid", Allowed: "a token that a newer key has signed"}
}

// InForce reports whether the guest's key is still valid.
func (s *Realms) InForce(who *Guest) bool { return s.keys.InForce(who.operator, who.keyID()) }

// IsClient reports whether a token or key is that of the same person as the guest, or of an
// operator of the same realm.
func (s *Realms) IsClient(who *Guest, bearer string, caller Caller) bool {
	asker, err := s.identify(WithBearer(wire.Hello{}, bearer), caller)
	return err == nil && asker.operator == who.operator && asker.ID() == who.ID()
}

// WithBearer adds the content of an Authorization header to a hello: as a token if it has
// three parts separated by dots, otherwise as an operator's key.
func WithBearer(h wire.Hello, bearer string) wire.Hello {
	switch {
	case bearer == "" || h.Token != "" || h.Key != "":
	case access.IsToken(bearer):
		h.Token = bearer
	default:
		h.Key = bearer
	}
	return h
}

// Session describes a session to the holder of its resume key. A wrong key gets the same answer
// as an ended session.
func (s *Realms) Session(session, key string) wire.Session {
	for _, r := range s.All() {
		if e, _, ok := r.core.Session(presence.SessionID(session), key); ok {
			return sessionDocument(e)
		}
	}
	return wire.Session{Session: session, State: "ended"}
}

// Closing applies the note of a page that is going away. A wrong key gets the same answer as an
// ended session.
func (s *Realms) Closing(note wire.ClosingNote) (wire.ClosingAnswer, error) {
	return s.applyNote(presence.ClosingBeacon{Session: presence.SessionID(note.Session), Key: note.ResumeKey, Nonce: note.Nonce})
}

// Bye ends a session for the holder of its resume key. A wrong key gets the same answer as an
// ended session.
func (s *Realms) Bye(session, key string) (wire.ClosingAnswer, error) {
	return s.applyNote(presence.ByeNote{Session: presence.SessionID(session), Key: key})
}

// applyNote applies a note about a session in the realm of that session. The note does not
// name the realm; its resume key is right in one realm only.
func (s *Realms) applyNote(note presence.Input) (wire.ClosingAnswer, error) {
	for _, r := range s.All() {
		if reply, err := r.do(note); err != nil || !reply.Stale {
			return wire.ClosingAnswer{Applied: err == nil}, err
		}
	}
	return wire.ClosingAnswer{}, nil
}

// Health returns the state of the records.
func (s *Realms) Health() wire.RecordsHealth {
	h := s.writer.Health()
	doc := wire.RecordsHealth{Status: "ok", Waiting: h.Waiting, Lag: h.Lag.Milliseconds(), Lost: h.Lost, LostDeliveries: h.LostDeliveries}
	if h.Failing != nil {
		doc.Status, doc.Error, doc.Since = "failing", h.Failing.Error(), &wire.Time{Time: h.Since}
	}
	return doc
}

// Backup copies the records as of one moment into a file, which the caller deletes. lacks is
// not nil if events are missing from the copy because they cannot be written.
func (s *Realms) Backup(ctx context.Context) (file *os.File, lacks, err error) {
	lacks = s.writer.Sync(ctx)
	if file, err = s.store.Copy(ctx); err != nil {
		return nil, lacks, &wire.Problem{Code: wire.CodeNotRecorded, Detail: "the backup failed: " + err.Error()}
	}
	return file, lacks, nil
}

// Figures are numbers for the metrics.
type Figures struct {
	Realms  []RealmFigures // by name
	Records records.Health
	Rows    int64 // written since the start
	// Parked and Waiting count deliveries of hooks; they are negative if the records cannot be
	// read.
	Parked, Waiting int
}

// RealmFigures are the numbers of one realm. The maps count since the start, by kind of link or
// by reason.
type RealmFigures struct {
	Name                string
	Size                presence.Size
	Quotas              []presence.QuotaUse
	Opened, Lost, Ended map[string]int64
	Left                map[string]int64
	Joined, Resumed     int64
}

// Figures returns the current numbers.
func (s *Realms) Figures() Figures {
	f := Figures{Records: s.writer.Health(), Rows: s.store.Totals().Rows(), Parked: -1, Waiting: -1}
	places := map[string]int{}
	for i, r := range s.All() {
		places[r.name] = i
		f.Realms = append(f.Realms, RealmFigures{Name: r.name, Size: r.core.Size(), Quotas: r.quotas(), Opened: map[string]int64{}, Lost: map[string]int64{}, Ended: map[string]int64{}, Left: map[string]int64{}})
	}
	for total, n := range s.store.Totals().Entries() {
		at, known := places[total.Realm]
		if !known {
			continue
		}
		of := &f.Realms[at]
		switch total.Kind {
		case journal.SessionOpened:
			of.Opened[total.Which] = n
		case journal.SessionLost:
			of.Lost[total.Which] = n
		case journal.SessionResumed:
			of.Resumed = n
		case journal.SessionEnded:
			of.Ended[total.Which] = n
		case journal.MemberJoined:
			of.Joined = n
		case journal.MemberLeft:
			of.Left[total.Which] = n
		}
	}
	if waiting, parked, err := s.store.CountDeliveryStates(context.Background(), ""); err == nil {
		f.Waiting, f.Parked = waiting, parked
	}
	return f
}
