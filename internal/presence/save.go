package presence

import (
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// SavedVersion is the version of [Saved] that this core writes and reads.
const SavedVersion = 2

// Saved is what must survive a restart of the service, as plain data. Times are
// Unix milliseconds. Two cores in the same state save the same.
type Saved struct {
	Version int   `json:"version"`
	At      int64 `json:"at"`
	// Mark is for a state that was kept edge by edge up to a crash: when the service was
	// last known to run. Whoever had a link then was there. 0 stands for the state of At.
	Mark     int64         `json:"mark"`
	People   []SavedPerson `json:"people"`   // by id
	Declared []RoomName    `json:"declared"` // by name
}

// SavedSession is one unended session.
type SavedSession struct {
	ID         SessionID    `json:"id"`
	Key        string       `json:"key"` // what is kept of the resume key, in hexadecimal
	Nonce      string       `json:"nonce"`
	Opened     int64        `json:"opened"`
	Link       LinkNumber   `json:"link"`
	Kind       LinkKind     `json:"kind"`
	Live       bool         `json:"live"` // not in grace
	Issued     int64        `json:"issued"`
	Expires    int64        `json:"expires"`
	LastHeard  int64        `json:"last_heard"`
	LastActive int64        `json:"last_active"`
	Idle       bool         `json:"idle"`
	NoInput    bool         `json:"no_input"`
	Leased     bool         `json:"leased"`
	PageHidden bool         `json:"page_hidden"`
	Rooms      []SavedEntry `json:"rooms"` // in the order of joining
}

// SavedEntry is a room that a session is in.
type SavedEntry struct {
	Room RoomName `json:"room"`
}

// SavedPerson is what is known of a person.
type SavedPerson struct {
	User     UserID         `json:"user"`
	Profile  Profile        `json:"profile"`
	Set      Appearance     `json:"set"`
	Hidden   bool           `json:"hidden"`
	Sessions []SavedSession `json:"sessions"` // the oldest first
	Members  []SavedMember  `json:"members"`  // by room
	// Removed is the time up to which tokens are refused; Room is empty for
	// altogether.
	Removed []SavedRemoval `json:"removed"` // by room
}

// SavedMember is since when a person is in a room, in the full and in the open
// view.
type SavedMember struct {
	Room      RoomName `json:"room"`
	Since     int64    `json:"since"`
	OpenSince int64    `json:"open_since"`
}

// SavedRemoval is one removal.
type SavedRemoval struct {
	Room RoomName `json:"room"`
	At   int64    `json:"at"`
}

// Save returns what must survive. It looks at every session, so it is for a stop,
// not for each change.
func (c *Core) Save(at Instant) Saved {
	now := c.read(at)
	saved := Saved{Version: SavedVersion, At: now.wall}
	for _, user := range slices.Sorted(maps.Keys(c.people)) {
		saved.People = append(saved.People, c.people[user].save(now))
	}
	for _, name := range slices.Sorted(maps.Keys(c.rooms)) {
		if c.rooms[name].declared {
			saved.Declared = append(saved.Declared, name)
		}
	}
	return saved
}

// SavePerson returns what must survive of one person. It is false when there is nothing
// to know of them.
func (c *Core) SavePerson(at Instant, user UserID) (SavedPerson, bool) {
	p := c.people[user]
	if p == nil {
		return SavedPerson{User: user}, false
	}
	return p.save(c.read(at)), true
}

func (s *session) save(now reading) SavedSession {
	saved := SavedSession{
		ID: s.id, Key: hex.EncodeToString(s.key[:]), Nonce: s.nonce, Opened: s.opened,
		Link: s.link, Kind: s.kind, Live: s.state == Live, Issued: s.issued, Expires: s.expires, LastHeard: s.heardWall,
		LastActive: now.wall - (now.awake - s.active).Milliseconds(),
		Idle:       s.idle, NoInput: s.noInput, Leased: s.leased, PageHidden: s.pageHidden,
	}
	for _, e := range s.entries {
		saved.Rooms = append(saved.Rooms, SavedEntry{e.room().name})
	}
	return saved
}

func (p *person) save(now reading) SavedPerson {
	saved := SavedPerson{User: p.id, Profile: p.profile, Hidden: p.hidden}
	for _, s := range p.sessions {
		saved.Sessions = append(saved.Sessions, s.save(now))
	}
	if p.set != nil {
		saved.Set = p.set.Appearance
	}
	for _, m := range p.members {
		saved.Members = append(saved.Members, SavedMember{m.room.name, m.since[Full], m.since[Open]})
	}
	slices.SortFunc(saved.Members, func(a, b SavedMember) int { return strings.Compare(string(a.Room), string(b.Room)) })
	if p.removed != nil {
		if p.removed.altogether != 0 {
			saved.Removed = append(saved.Removed, SavedRemoval{"", p.removed.altogether})
		}
		for _, room := range slices.Sorted(maps.Keys(p.removed.rooms)) {
			saved.Removed = append(saved.Removed, SavedRemoval{room, p.removed.rooms[room]})
		}
	}
	return saved
}

// Restore puts what was saved into an empty core. To the service a restart is the
// loss of every link: each session gets its grace from now on, a lease runs anew,
// and those who return are not noticed. Its error leaves the core empty.
//
// A crash leaves people as they were at their last edge, later than which they may have
// been heard and active. So who had a link counts as heard up to saved.Mark, and who was
// awake stays awake until the grace of their session is over, in which they come back
// and say better.
func (c *Core) Restore(at Instant, saved Saved, out *Effects) error {
	if err := c.mayRestore(saved); err != nil {
		return err
	}
	now := c.read(at)
	for _, room := range saved.Declared {
		c.declare(Declare{room, true})
	}
	for _, p := range saved.People {
		c.restorePerson(now, saved.Mark, p, out)
	}
	return nil
}

func (c *Core) mayRestore(saved Saved) error {
	if saved.Version != SavedVersion {
		return fmt.Errorf("the saved state has version %d; this core reads version %d", saved.Version, SavedVersion)
	}
	if len(c.people)+len(c.rooms) > 0 {
		return fmt.Errorf("the core is not empty: it has %d people and %d rooms", len(c.people), len(c.rooms))
	}
	people, sessions := map[UserID]bool{}, map[SessionID]bool{}
	for _, p := range saved.People {
		if people[p.User] {
			return fmt.Errorf("the saved state has person %q twice", p.User)
		}
		people[p.User] = true
		for _, s := range p.Sessions {
			if sessions[s.ID] {
				return fmt.Errorf("the saved state has session %q twice", s.ID)
			}
			sessions[s.ID] = true
			if key, err := hex.DecodeString(s.Key); err != nil || len(key) != len(secret{}) {
				return fmt.Errorf("the saved session %q has a key that is none", s.ID)
			}
		}
	}
	return nil
}

func (c *Core) restorePerson(now reading, mark int64, saved SavedPerson, out *Effects) {
	p := c.known(saved.User)
	p.profile, p.hidden = saved.Profile, saved.Hidden
	if saved.Set.Status != "" && (saved.Set.Until == 0 || saved.Set.Until > now.wall) {
		c.putStatus(now, p, saved.Set)
	}
	for _, r := range saved.Removed {
		if p.removed == nil {
			p.removed = &removal{rooms: map[RoomName]int64{}}
		}
		if r.Room == "" {
			p.removed.altogether = r.At
		} else {
			p.removed.rooms[r.Room] = r.At
		}
	}
	since := map[RoomName]SavedMember{}
	for _, m := range saved.Members {
		since[m.Room] = m
	}
	c.observe(p, leaving{}, out, func() {
		for _, s := range saved.Sessions {
			c.restoreSession(now, mark, p, s)
		}
		for _, m := range p.members {
			if was, ok := since[m.room.name]; ok {
				m.since = [viewCount]int64{was.Since, was.OpenSince}
			}
		}
	})
	for _, s := range p.sessions {
		if s.leased {
			c.arm(now, s)
			continue
		}
		c.lose(now, s, ReasonLost, out)
		if !s.idle && s.active+c.policy.IdleAfter < s.deadline {
			s.active = s.deadline - c.policy.IdleAfter
			c.arm(now, s)
		}
	}
	c.forget(p)
}

func (c *Core) restoreSession(now reading, mark int64, p *person, saved SavedSession) {
	if saved.Live {
		saved.LastHeard = max(saved.LastHeard, mark)
	}
	s := &session{
		id: saved.ID, nonce: saved.Nonce, person: p, link: saved.Link, kind: saved.Kind, opened: saved.Opened,
		issued: saved.Issued, expires: saved.Expires, heardWall: saved.LastHeard,
		heard: now.awake, active: now.awake - time.Duration(now.wall-saved.LastActive)*time.Millisecond,
		idle: true, noInput: saved.NoInput, leased: saved.Leased, pageHidden: saved.PageHidden,
	}
	_, _ = hex.Decode(s.key[:], []byte(saved.Key)) // mayRestore has checked it
	s.timer.owner = s
	c.sessions[s.id] = s
	if s.leased {
		c.leases++
	}
	c.hold(p, s)
	s.becomeIdle(saved.Idle)
	for _, e := range saved.Rooms {
		c.enter(now, s, e.Room)
	}
}
