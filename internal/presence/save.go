package presence

import (
	"cmp"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// SavedVersion is the version of [Saved] that this package writes and reads.
const SavedVersion = 2

// Saved is what must survive a restart of the service, as plain data. Times are in Unix
// milliseconds. Cores in the same state save the same.
type Saved struct {
	Version int   `json:"version"`
	At      int64 `json:"at"`
	// Mark is set for a state that was written change by change until a crash: it is the last
	// time when the service is known to have run. Whoever had a link then was there. 0 means
	// that the state is complete as of At.
	Mark     int64         `json:"mark"`
	People   []SavedPerson `json:"people"`   // by id
	Declared []RoomName    `json:"declared"` // by name
}

// SavedSession is an unended session.
type SavedSession struct {
	ID         SessionID    `json:"id"`
	Key        string       `json:"key"` // hash of the resume key, in hexadecimal
	Nonce      string       `json:"nonce"`
	Opened     int64        `json:"opened"`
	Link       LinkNumber   `json:"link"`
	Kind       LinkKind     `json:"kind,omitzero"`
	Live       bool         `json:"live"` // not in grace
	Issued     int64        `json:"issued,omitzero"`
	Expires    int64        `json:"expires,omitzero"`
	LastHeard  int64        `json:"last_heard"`
	LastActive int64        `json:"last_active"`
	Idle       bool         `json:"idle,omitzero"`
	NoInput    bool         `json:"no_input,omitzero"`
	Leased     bool         `json:"leased,omitzero"`
	PageHidden bool         `json:"page_hidden,omitzero"`
	Device     Device       `json:"device,omitzero"`
	Rooms      []SavedEntry `json:"rooms"` // in the order of joining

	// The following are in the core's own time, and saved by a core with an epoch only.
	Active time.Duration `json:"active,omitzero"` // the last activity
	Silent time.Duration `json:"silent,omitzero"` // since when no carrier of its link is heard
	Lost   time.Duration `json:"lost,omitzero"`   // in grace: since when
	Ends   time.Duration `json:"ends,omitzero"`   // in grace: the end of the session
	Reason Reason        `json:"reason,omitzero"` // in grace: the reason if it ends
}

// SavedEntry is a room that a session is in.
type SavedEntry struct {
	Room RoomName `json:"room"`
	// Doing is what the session is doing there, as JSON; of several sessions, the one with the
	// highest DoingOrder has set it last.
	Doing      string `json:"doing,omitempty"`
	DoingOrder uint64 `json:"doing_order,omitempty"`
	// Ends and Reason are those of [SavedSession], for this room.
	Ends   time.Duration `json:"ends,omitzero"`
	Reason Reason        `json:"reason,omitzero"`
}

// SavedPerson is what the core knows about a person.
type SavedPerson struct {
	User     UserID         `json:"user"`
	Profile  Profile        `json:"profile"`
	Set      Appearance     `json:"set,omitzero"`
	SetFor   SessionID      `json:"set_for,omitzero"` // the session with which what is set ends
	Hidden   bool           `json:"hidden,omitzero"`
	Sessions []SavedSession `json:"sessions"` // oldest first
	Members  []SavedMember  `json:"members"`  // by room
	// Removed is until when issued tokens are refused; an empty Room means the realm.
	Removed []SavedRemoval `json:"removed,omitzero"` // by room
	// Standings are passes and refusals of rooms that ask; by room.
	Standings   []SavedStanding   `json:"standings,omitempty"`
	Asks        []SavedAsk        `json:"asks,omitempty"`        // in the order of opening
	Invitations []SavedInvitation `json:"invitations,omitempty"` // received, in the order of opening
}

// SavedStanding is until when a person has a pass for a room, and from when on they may ask
// again.
type SavedStanding struct {
	Room  RoomName `json:"room"`
	Pass  int64    `json:"pass"`
	Again int64    `json:"again"`
}

// SavedAsk is an open ask. Left is how long it still waits, in milliseconds; a core with an epoch
// also saves when it ends in its own time.
type SavedAsk struct {
	ID       AskID       `json:"id"`
	Room     RoomName    `json:"room"`
	Sessions []SessionID `json:"sessions"`
	Opened   int64       `json:"opened"`
	Left     int64       `json:"left"`

	Ends time.Duration `json:"ends,omitzero"`
}

// SavedInvitation is an open invitation. Left and Ends are those of [SavedAsk].
type SavedInvitation struct {
	ID      InvitationID `json:"id"`
	Room    RoomName     `json:"room"`
	From    UserID       `json:"from"`
	Session SessionID    `json:"session"` // that it came from; empty: from the back end
	Opened  int64        `json:"opened"`
	Left    int64        `json:"left"`

	Ends time.Duration `json:"ends,omitzero"`
}

// SavedMember is since when a person is in a room, in the full and in the open view.
type SavedMember struct {
	Room      RoomName `json:"room"`
	Since     int64    `json:"since"`
	OpenSince int64    `json:"open_since"`
}

// SavedRemoval is a removal.
type SavedRemoval struct {
	Room RoomName `json:"room"`
	At   int64    `json:"at"`
}

// Save returns what must survive a restart. It reads every session, so it is for the end of the
// service, not for each change.
func (c *Core) Save(at Instant) Saved {
	now := c.read(at)
	saved := Saved{Version: SavedVersion, At: now.wall}
	for _, user := range slices.Sorted(c.people.ids()) {
		saved.People = append(saved.People, c.people.get(user).save(now, c.epoch > 0))
	}
	for _, name := range slices.Sorted(maps.Keys(c.rooms)) {
		if c.rooms[name].declared {
			saved.Declared = append(saved.Declared, name)
		}
	}
	return saved
}

// SavePerson returns what must survive of one person; false if there is nothing.
func (c *Core) SavePerson(at Instant, user UserID) (SavedPerson, bool) {
	p := c.people.get(user)
	if p == nil {
		return SavedPerson{User: user}, false
	}
	return p.save(c.read(at), c.epoch > 0), true
}

// save saves a session; own says whether the core's own times are wanted, too.
func (s *session) save(now reading, own bool) SavedSession {
	saved := SavedSession{
		ID: s.id, Key: hex.EncodeToString(s.key[:]), Nonce: s.nonce, Opened: s.opened,
		Link: s.link, Kind: s.kind, Live: s.state == Live, Issued: s.issued, Expires: s.expires, LastHeard: s.heardWall,
		LastActive: now.wall - (now.awake - s.active).Milliseconds(),
		Idle:       s.idle, NoInput: s.noInput, Leased: s.leased, PageHidden: s.pageHidden, Device: s.device, Rooms: s.saveRooms(),
	}
	if own {
		s.times(&saved)
	}
	return saved
}

// saveRooms saves the rooms that a session is in; nil if there are none.
func (s *session) saveRooms() []SavedEntry {
	entries := s.entries.list()
	if len(entries) == 0 {
		return nil
	}
	saved := make([]SavedEntry, len(entries))
	for i, e := range entries {
		saved[i].Room = e.room().name
		if e.doing != nil && e.doing.object != "" {
			saved[i].Doing, saved[i].DoingOrder = e.doing.object, e.doing.order
		}
	}
	return saved
}

func (p *person) save(now reading, own bool) SavedPerson {
	saved := SavedPerson{User: p.id, Profile: p.profile, Hidden: p.hidden}
	for _, s := range p.sessions.list() {
		saved.Sessions = append(saved.Sessions, s.save(now, own))
	}
	if p.set != nil {
		saved.Set, saved.SetFor = p.set.Appearance, p.set.session
	}
	for _, m := range p.members.list() {
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
	p.saveMeetings(now, own, &saved)
	return saved
}

// saveMeetings saves the passes, asks and received invitations of a person.
func (p *person) saveMeetings(now reading, own bool, saved *SavedPerson) {
	left := func(until awakeTime) int64 { return (until - now.awake).Milliseconds() }
	if p.standings != nil {
		for _, room := range slices.Sorted(maps.Keys(p.standings.rooms)) {
			is := p.standings.rooms[room]
			saved.Standings = append(saved.Standings, SavedStanding{room, is.pass, is.again})
		}
	}
	for _, a := range p.asks {
		is := SavedAsk{ID: a.id, Room: a.room, Opened: a.opened, Left: left(a.until)}
		if own {
			is.Ends = a.until
		}
		for _, s := range a.sessions {
			is.Sessions = append(is.Sessions, s.id)
		}
		saved.Asks = append(saved.Asks, is)
	}
	for _, i := range p.invited {
		is := SavedInvitation{ID: i.id, Room: i.room, From: i.from.id, Opened: i.opened, Left: left(i.until)}
		if i.session != nil {
			is.Session = i.session.id
		}
		if own {
			is.Ends = i.until
		}
		saved.Invitations = append(saved.Invitations, is)
	}
}

// Restore loads a saved state into an empty core. A restart is the loss of every link: each
// session gets its grace from now on, a lease begins again, and nobody sees those who return. If
// it returns an error, the core is still empty.
//
// After a crash, people are as they were at their last written change, but may have been heard
// and active later. So whoever had a link counts as heard until saved.Mark, and an active
// session stays active until the end of its grace, in which its client can return and report.
func (c *Core) Restore(at Instant, saved Saved, out *Effects) error {
	if err := c.mayRestore(saved); err != nil {
		return err
	}
	now := c.read(at)
	for _, room := range saved.Declared {
		c.declare(Declare{room, true})
	}
	people := make([]*person, len(saved.People))
	for i := range people {
		people[i] = c.restorePerson(now, &saved.People[i], out, func(s *session, was *SavedSession) {
			s.active = now.awake - time.Duration(now.wall-was.LastActive)*time.Millisecond
			if was.Live {
				s.heardWall = max(s.heardWall, saved.Mark)
			}
			if s.leased {
				c.leases++
			}
		})
		for _, s := range people[i].sessions.list() {
			c.loseAtRestart(now, s, out)
		}
	}
	c.restoreMeetings(now, people, saved.People, false, out)
	return nil
}

func (c *Core) mayRestore(saved Saved) error {
	if saved.Version != SavedVersion {
		return fmt.Errorf("the saved state has version %d; this core reads version %d", saved.Version, SavedVersion)
	}
	if c.people.count+len(c.rooms) > 0 {
		return fmt.Errorf("the core is not empty: it has %d people and %d rooms", c.people.count, len(c.rooms))
	}
	people, sessions := make(map[UserID]bool, len(saved.People)), make(map[SessionID]bool, len(saved.People))
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
			if !isKey(s.Key) {
				return fmt.Errorf("the saved session %q has a key that is none", s.ID)
			}
		}
	}
	return nil
}

// isKey reports whether a text is a secret in hexadecimal digits.
func isKey(text string) bool {
	var key secret
	if len(text) != hex.EncodedLen(len(key)) {
		return false
	}
	_, err := hex.Decode(key[:], []byte(text))
	return err == nil
}

// restorePerson restores a person. Then gives each session its times.
func (c *Core) restorePerson(now reading, saved *SavedPerson, out *Effects, then func(*session, *SavedSession)) *person {
	p := c.known(saved.User)
	p.profile, p.hidden = saved.Profile, saved.Hidden
	if saved.Set != (Appearance{}) && (saved.Set.Until == 0 || saved.Set.Until > now.wall) {
		c.putStatus(now, p, saved.Set, saved.SetFor)
	}
	for _, r := range saved.Removed {
		if p.removed == nil {
			c.ownExtras(p).removed = &removal{rooms: map[RoomName]int64{}}
		}
		if r.Room == "" {
			p.removed.altogether = r.At
		} else {
			p.removed.rooms[r.Room] = r.At
		}
	}
	c.observe(p, cause{}, out, func() {
		for i := range saved.Sessions {
			restored := c.restoreSession(now, p, &saved.Sessions[i])
			then(restored, &saved.Sessions[i])
			out.add(SessionRestored{restored.linkID(), restored.state == Grace})
		}
		for _, m := range p.members.list() {
			if i := slices.IndexFunc(saved.Members, func(was SavedMember) bool { return was.Room == m.room.name }); i >= 0 {
				was := saved.Members[i]
				m.since = [viewCount]int64{was.Since, was.OpenSince}
			}
		}
	})
	return p
}

// loseAtRestart gives a session its grace, in which it stays as active as it was, or begins its
// lease.
func (c *Core) loseAtRestart(now reading, s *session, out *Effects) {
	if s.leased {
		c.arm(now, s)
		return
	}
	c.lose(now, s, ReasonLost, out)
	if !s.idle && s.active+c.policy.IdleAfter < s.deadline {
		s.active = s.deadline - c.policy.IdleAfter
		c.arm(now, s)
	}
}

func (c *Core) restoreSession(now reading, p *person, saved *SavedSession) *session {
	s := &session{
		id: saved.ID, nonce: saved.Nonce, person: p, link: saved.Link, kind: saved.Kind, opened: saved.Opened,
		issued: saved.Issued, expires: saved.Expires, heardWall: saved.LastHeard,
		heard: now.awake,
		idle:  true, noInput: saved.NoInput, leased: saved.Leased, pageHidden: saved.PageHidden, device: saved.Device,
	}
	_, _ = hex.Decode(s.key[:], []byte(saved.Key)) // checked by mayRestore
	s.timer.owner = s
	c.sessions.put(s)
	c.hold(p, s)
	s.becomeIdle(saved.Idle)
	for _, e := range saved.Rooms {
		c.enter(now, s, e.Room)
		s.entry(e.Room).inherited = true
		if e.Doing == "" {
			continue
		}
		in := s.entry(e.Room)
		in.doing = &done{object: e.Doing, order: e.DoingOrder}
		d := c.doingOf(now, in.member)
		d.reports = max(d.reports, e.DoingOrder)
		d.shown = in.member.newest()
	}
	return s
}

// restoreMeetings restores the passes, asks and invitations of people, once all of them and their
// sessions are there. Own says that the core goes on with the time of the core that saved them.
func (c *Core) restoreMeetings(now reading, people []*person, saved []SavedPerson, own bool, out *Effects) {
	for i, p := range people {
		c.restoreMeetingsOf(now, p, &saved[i], own, out)
	}
	for _, asks := range c.asked {
		slices.SortStableFunc(asks, func(a, b *ask) int { return cmp.Compare(a.opened, b.opened) })
	}
	sorted := map[*person]bool{}
	for _, i := range c.invitations { // those that somebody has sent came in the order of their receivers
		if !sorted[i.from] {
			sorted[i.from] = true
			slices.SortFunc(i.from.inviting, func(a, b *invitation) int { return compareOpened(a.opened, b.opened, string(a.id), string(b.id)) })
		}
	}
	for _, p := range people { // only now is it known who has invited whom
		c.forget(p)
	}
}

// restoreMeetingsOf restores the passes, asks and received invitations of a person.
func (c *Core) restoreMeetingsOf(now reading, p *person, saved *SavedPerson, own bool, out *Effects) {
	left := func(milliseconds int64, ends awakeTime) time.Duration {
		if own {
			return ends - now.awake
		}
		return time.Duration(milliseconds) * time.Millisecond
	}
	for _, is := range saved.Standings {
		c.setStanding(now, p, is.Room, standing{is.Pass, is.Again})
	}
	for _, is := range saved.Asks {
		a := &ask{id: is.ID, room: is.Room, person: p, opened: is.Opened}
		a.until, a.ends = now.in(left(is.Left, is.Ends))
		for _, id := range is.Sessions {
			if s := c.sessions.get(id); s != nil {
				a.sessions = append(a.sessions, s)
			}
		}
		if len(a.sessions) > 0 {
			c.holdAsk(a)
			out.add(AskOpened{OpenAsk: a.open(now)})
		}
	}
	for _, is := range saved.Invitations {
		session := c.sessions.get(is.Session)
		if is.Session != "" && session == nil { // it has ended
			continue
		}
		i := &invitation{id: is.ID, room: is.Room, from: c.known(is.From), session: session, to: p, opened: is.Opened}
		i.until, i.ends = now.in(left(is.Left, is.Ends))
		c.holdInvitation(i)
	}
}
