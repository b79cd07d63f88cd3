package access

import (
	"slices"
	"strings"
	"sync"
	"time"

	"tovik.example/tovik/internal/presence"
)

// Person is what a token says: who somebody is, and what they may do.
type Person struct {
	Realm   string
	Key     string // the kid of the token
	User    presence.UserID
	Profile presence.Profile
	*Grants // never nil

	// Issued and Expires are the token's times. A token without iat counts as issued before all
	// others.
	Issued, Expires time.Time
}

// Grants are what a token permits. They are never changed, and shared by those who have the same.
type Grants struct {
	Rooms    []presence.Pattern // to be in and to watch
	Watch    []presence.Pattern // to watch only
	Count    []presence.Pattern // to watch at count only
	Cue      []presence.Pattern // to give cues in
	Moderate []presence.Pattern // to remove people from
	Admit    []presence.Pattern // to let people into who ask
	Invite   []presence.Pattern // to invite people into
	People   []string           // to watch: ids, or beginnings of ids followed by *
	Near     bool               // may watch whoever is in a room with them
	MayHide  bool               // from everybody who does not see the hidden
	Sees     bool               // the hidden
	NoInput  bool               // may be awake without a human's input
}

// sharing finds the grants that somebody else has already. It knows a bounded number of them, by their claims.
type sharing struct {
	mu    sync.Mutex
	known map[string]*Grants
}

// Few applications have many different grants; those of an application that names a person's own rooms are all different.
const (
	mostShared      = 256
	mostSharedBytes = 512 // of a claim
)

// like returns grants that are equal to some, given the claim that they come from.
func (s *sharing) like(some *Grants, claim []byte) *Grants {
	if len(claim) > mostSharedBytes {
		return some
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if known := s.known[string(claim)]; known != nil {
		return known
	}
	if s.known == nil || len(s.known) >= mostShared {
		s.known = map[string]*Grants{}
	}
	s.known[string(claim)] = some
	return some
}

// MayJoin tells whether the person may be in a room.
func (p Person) MayJoin(room presence.RoomName) bool { return covered(p.Rooms, presence.Pattern(room)) }

// MayWatch tells whether the person may watch every room of a pattern, at members or, with
// countOnly, at count.
func (p Person) MayWatch(asked presence.Pattern, countOnly bool) bool {
	return covered(p.Rooms, asked) || covered(p.Watch, asked) || (countOnly && covered(p.Count, asked))
}

// MayModerate tells whether the person may remove people from a room.
func (p Person) MayModerate(room presence.RoomName) bool {
	return covered(p.Moderate, presence.Pattern(room))
}

// MayAdmit tells whether the person may let others into a room who ask.
func (p Person) MayAdmit(room presence.RoomName) bool {
	return covered(p.Admit, presence.Pattern(room))
}

// MayInvite tells whether the person may invite people into a room.
func (p Person) MayInvite(room presence.RoomName) bool {
	return covered(p.Invite, presence.Pattern(room))
}

// MayWatchPerson tells whether the person may watch another one, wherever that one is. Everybody
// may watch themselves.
func (p Person) MayWatchPerson(user presence.UserID) bool {
	return user == p.User || slices.ContainsFunc(p.People, func(grant string) bool {
		beginning, any := strings.CutSuffix(grant, "*")
		return string(user) == grant || (any && strings.HasPrefix(string(user), beginning))
	})
}

func covered(grants []presence.Pattern, asked presence.Pattern) bool {
	return slices.ContainsFunc(grants, func(grant presence.Pattern) bool { return grant.Covers(asked) })
}

// Role is what the holder of a key may do. Each role includes the roles before it.
type Role string

// The roles.
const (
	Read    Role = "read"    // see everything of the realm
	Write   Role = "write"   // change what people see: statuses, rooms, cues
	Operate Role = "operate" // remove people, erase them, and make keys
)

var roles = []Role{Read, Write, Operate}

// ParseRole reads a role.
func ParseRole(text string) (Role, bool) { return Role(text), slices.Contains(roles, Role(text)) }

// Operator is the holder of a key: an operator or a back end of a realm.
type Operator struct {
	Realm string
	Key   string // its id
	Role  Role
	Rooms []presence.Pattern // that it is about; nil stands for all, and for what is about no room
	Root  bool               // the key of the service itself, which makes realms
	// Expires is when the key expires; zero: never.
	Expires time.Time
}

// Covers tells whether the operator may do everything that a key with a role and rooms may.
func (o Operator) Covers(role Role, rooms []presence.Pattern) bool {
	if !o.May(role) {
		return false
	}
	return o.Rooms == nil || rooms != nil && !slices.ContainsFunc(rooms, func(p presence.Pattern) bool { return !o.Sees(p) })
}

// May tells whether the operator has a role.
func (o Operator) May(need Role) bool {
	return slices.Index(roles, o.Role) >= slices.Index(roles, need)
}

// Sees tells whether the key covers every room of a pattern.
func (o Operator) Sees(asked presence.Pattern) bool { return o.Rooms == nil || covered(o.Rooms, asked) }
