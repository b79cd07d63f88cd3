package presence_test

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"tovik.example/tovik/internal/presence"
)

// model implements the rules of presence in the most obvious way, without timers, counters or
// any other derived state. It computes everything at each question. The core must agree with
// it. Times are on one clock: the wall clock is dusk plus that.
type model struct {
	policy   presence.Policy
	now      time.Duration
	sessions []*mSession
	people   map[presence.UserID]*mPerson
	since    map[mPlace][2]time.Duration // full, open
	declared map[presence.RoomName]bool
	settled  map[uint64]mAnswer // of pending hellos
	ended    map[presence.SessionID]presence.Reason
	shown    map[mPlace]mShown // what others see of a member's doing
	reports  uint64            // of doings
	epoch    uint32
	minted   presence.LinkNumber // with an epoch
	meetings
}

type mPlace struct {
	room presence.RoomName
	user presence.UserID
}

type mPerson struct {
	profile   presence.Profile
	set       presence.Appearance
	setFor    presence.SessionID
	hidden    bool
	removed   int64
	removedIn map[presence.RoomName]int64
}

type mSession struct {
	presence.Hello  // the last that it was welcomed with; Session and Key are its own
	link            presence.LinkNumber
	live, idle      bool
	warned          bool
	heard, active   time.Duration
	asked, unheard  time.Duration
	endAt           time.Duration
	reason          presence.Reason
	rooms           []*mEntry
	waiting         []presence.Hello
	probed          bool // the probe has been written
	probeAt         time.Duration
	issued, expires int64
}

type mEntry struct {
	room    presence.RoomName
	leaveAt time.Duration
	reason  presence.Reason
	typing  bool
	report  uint64
	until   time.Duration
	doing   string
	order   uint64
	number  uint64 // of the last report of doing
}

// mAnswer is an answer to a client.
type mAnswer struct {
	code    presence.Code
	pending bool
	link    presence.LinkID
	resumed bool
	why     presence.NotResumed
	stale   bool
	refused string
	meeting string // what the answer says about asks and invitations
}

func newModel(policy presence.Policy) *model {
	return &model{policy: policy, people: map[presence.UserID]*mPerson{}, since: map[mPlace][2]time.Duration{},
		declared: map[presence.RoomName]bool{}, settled: map[uint64]mAnswer{}, ended: map[presence.SessionID]presence.Reason{},
		shown: map[mPlace]mShown{}, meetings: newMeetings()}
}

func (m *model) mint(last presence.LinkNumber) presence.LinkNumber {
	if m.epoch == 0 {
		return last + 1
	}
	m.minted++
	return m.minted
}

func (m *model) wall() int64 { return dusk.Add(m.now).UnixMilli() }

func (m *model) person(user presence.UserID) *mPerson {
	if m.people[user] == nil {
		m.people[user] = &mPerson{removedIn: map[presence.RoomName]int64{}}
	}
	return m.people[user]
}

func (m *model) session(id presence.SessionID) *mSession {
	for _, s := range m.sessions {
		if s.Session == id {
			return s
		}
	}
	return nil
}

func (m *model) of(user presence.UserID) (list []*mSession) {
	for _, s := range m.sessions {
		if s.User == user {
			list = append(list, s)
		}
	}
	return list
}

func (s *mSession) in(room presence.RoomName) *mEntry {
	for _, e := range s.rooms {
		if e.room == room {
			return e
		}
	}
	return nil
}

// What is seen.

func (m *model) appearance(user presence.UserID, view presence.View) presence.Appearance {
	p, sessions := m.person(user), m.of(user)
	awake := slices.ContainsFunc(sessions, func(s *mSession) bool { return !s.idle })
	switch {
	case len(sessions) == 0 || (view == presence.Open && p.hidden):
		return presence.Appearance{Status: presence.Offline}
	case p.set.Status != "":
		return p.set
	case m.engagedIn(user, func(*mSession) bool { return true }) != nil:
		return presence.Appearance{Status: presence.Busy, Note: p.set.Note, Until: p.set.Until, Engaged: true}
	case awake:
		return presence.Appearance{Status: presence.Online, Note: p.set.Note, Until: p.set.Until, Label: p.set.Label}
	}
	return presence.Appearance{Status: presence.Away, Note: p.set.Note, Until: p.set.Until}
}

func (m *model) members(room presence.RoomName, view presence.View) []presence.Member {
	tabs, devices := map[presence.UserID]int{}, map[presence.UserID]presence.Devices{}
	for _, s := range m.sessions {
		if s.in(room) != nil && !(view == presence.Open && m.person(s.User).hidden) {
			tabs[s.User]++
			if s.Device != presence.NoDevice {
				devices[s.User] |= 1 << s.Device
			}
		}
	}
	var list []presence.Member
	for _, user := range slices.Sorted(maps.Keys(tabs)) {
		list = append(list, presence.Member{User: user, Profile: m.person(user).profile, Appearance: m.appearance(user, view),
			Since: dusk.Add(m.since[mPlace{room, user}][view]), Sessions: tabs[user], Doing: m.shown[mPlace{room, user}].object, Devices: devices[user]})
	}
	return list
}

func (m *model) typists(room presence.RoomName, view presence.View) (list []presence.UserID) {
	for _, s := range m.sessions {
		e := s.in(room)
		if e != nil && e.typing && !(view == presence.Open && m.person(s.User).hidden) && !slices.Contains(list, s.User) {
			list = append(list, s.User)
		}
	}
	slices.Sort(list)
	return list
}

func (m *model) exists(room presence.RoomName, view presence.View) bool {
	return m.declared[room] || len(m.members(room, view)) > 0
}

// What happens by itself.

// pass advances to an instant, and does on the way what becomes due.
func (m *model) pass(to time.Duration) {
	for {
		at, act := m.next()
		if act == nil || at > to {
			break
		}
		m.now = at
		act()
		m.showDoings()
	}
	m.now = to
}

// next returns the earliest thing due.
func (m *model) next() (at time.Duration, act func()) {
	consider := func(when time.Duration, what func()) {
		if act == nil || when < at {
			at, act = when, what
		}
	}
	for _, s := range m.sessions {
		m.deadlines(s, consider)
	}
	for _, p := range m.people {
		if p.set.Until != 0 {
			consider(time.UnixMilli(p.set.Until).Sub(dusk), func() { p.set, p.setFor = presence.Appearance{}, "" })
		}
	}
	m.meetingDeadlines(consider)
	return at, act
}

func (m *model) deadlines(s *mSession, consider func(time.Duration, func())) {
	p := &m.policy
	switch {
	case !s.live:
		for _, e := range s.rooms {
			if e.leaveAt < s.endAt {
				consider(e.leaveAt, func() { m.exit(s, e) })
			}
		}
		consider(s.endAt, func() { m.end(s, s.reason) })
	case s.Leased:
		consider(s.heard+p.Lease, func() { m.end(s, presence.ReasonSilent) })
	default:
		if s.unheard > 0 {
			consider(s.unheard+p.Silence(), func() { m.lose(s, presence.ReasonSilent) })
		}
		consider(max(s.heard, s.asked)+p.BeatEvery, func() { s.asked = m.now })
	}
	if s.waiting != nil {
		consider(s.probeAt, func() { m.settle(s, true) })
	}
	if !s.idle && !s.NoInput {
		consider(s.active+p.IdleAfter, func() { s.idle = true })
	}
	for _, e := range s.rooms {
		if e.typing {
			consider(e.until, func() { e.typing = false })
		}
	}
	if s.live && s.expires != 0 {
		expires := time.UnixMilli(s.expires).Sub(dusk)
		if !s.warned {
			consider(expires-p.ExpiryWarning, func() { s.warned = true })
		}
		consider(expires, func() { m.lose(s, presence.ReasonExpired) })
	}
}

func (m *model) grace(s *mSession, policy *presence.RoomPolicy, reason presence.Reason) time.Duration {
	if reason == presence.ReasonClosing {
		return policy.GraceClosing
	}
	if s.PageHidden {
		return max(policy.GraceBackground, policy.GraceLost)
	}
	return policy.GraceLost
}

func (m *model) lose(s *mSession, reason presence.Reason) {
	first := s.live
	s.live = false
	if len(s.rooms) == 0 {
		if at := m.now + m.grace(s, &m.policy.RoomPolicy, reason); first || at < s.endAt {
			s.endAt, s.reason = at, reason
		}
	} else {
		s.endAt = 0
	}
	for _, e := range s.rooms {
		if at := m.now + m.grace(s, m.policy.For(e.room), reason); first || at < e.leaveAt {
			e.leaveAt, e.reason = at, reason
		}
		if e.leaveAt > s.endAt {
			s.endAt, s.reason = e.leaveAt, e.reason
		}
		if reason == presence.ReasonClosing {
			e.typing = false
		}
	}
	m.settle(s, true)
}

func (m *model) end(s *mSession, reason presence.Reason) {
	if m.session(s.Session) == nil {
		return
	}
	m.ended[s.Session] = reason
	if p := m.person(s.User); p.setFor == s.Session {
		p.set, p.setFor = presence.Appearance{}, ""
	}
	m.sessions = without(m.sessions, s)
	for _, e := range slices.Clone(s.rooms) {
		m.exit(s, e)
	}
	m.settle(s, false)
	m.endMeetings(s)
}

func (m *model) exit(s *mSession, e *mEntry) {
	s.rooms = without(s.rooms, e)
	for _, other := range m.of(s.User) {
		if other.in(e.room) != nil {
			return
		}
	}
	delete(m.since, mPlace{e.room, s.User})
	delete(m.shown, mPlace{e.room, s.User})
}

func (m *model) enter(s *mSession, room presence.RoomName) {
	if s.in(room) != nil {
		return
	}
	if place := (mPlace{room, s.User}); !slices.ContainsFunc(m.of(s.User), func(s *mSession) bool { return s.in(room) != nil }) {
		m.since[place] = [2]time.Duration{m.now, m.now}
	}
	s.rooms = append(s.rooms, &mEntry{room: room})
}

func without[T comparable](list []T, x T) []T {
	return slices.DeleteFunc(slices.Clone(list), func(y T) bool { return x == y })
}

// What is told.

// apply is the counterpart of the core's Apply.
func (m *model) apply(in presence.Input) mAnswer {
	defer m.showDoings()
	switch in := in.(type) {
	case presence.Hello:
		return m.hello(in)
	case presence.Withdraw:
		if s := m.session(in.Session); s != nil {
			s.waiting = slices.DeleteFunc(s.waiting, func(h presence.Hello) bool { return h.Attempt == in.Attempt })
			if len(s.waiting) == 0 {
				s.waiting = nil
			}
		}
	case presence.ClosingBeacon:
		s := m.session(in.Session)
		if s == nil || s.Key != in.Key || s.Nonce != in.Nonce {
			return mAnswer{stale: true}
		}
		if s.live {
			s.heard, s.unheard = m.now, 0
		}
		m.lose(s, presence.ReasonClosing)
	case presence.ByeNote:
		s := m.session(in.Session)
		if s == nil || s.Key != in.Key {
			return mAnswer{stale: true}
		}
		s.heard, s.unheard = m.now, 0
		m.end(s, presence.ReasonBye)
	case presence.LinkLost:
		if s := m.session(in.Link.Session); s != nil && s.link == in.Link.Number && s.live && !s.Leased {
			m.lose(s, presence.ReasonLost)
		}
	case presence.BeatWritten:
		s := m.session(in.To.Session)
		if s != nil && s.link == in.To.Number && s.live && in.Probe && s.waiting != nil {
			s.probed = true
		}
		if s != nil && s.link == in.To.Number && s.live && !s.Leased && s.unheard == 0 && s.heard <= s.asked {
			s.unheard = m.now
		}
	case presence.SetStatus:
		if in.Until != 0 && in.Until <= m.wall() {
			return mAnswer{code: presence.CodeBadStatus}
		}
		if in.Label != "" && !slices.Contains(m.policy.Labels[cmp.Or(in.Status, presence.Online)], in.Label) {
			return mAnswer{code: presence.CodeBadStatus}
		}
		if s := m.session(in.Session); in.Session != "" && (s == nil || s.User != in.User) {
			return mAnswer{code: presence.CodeNoSession}
		}
		p := m.person(in.User)
		p.set, p.setFor = presence.Appearance{}, ""
		if in.Status != "" || in.Note != "" || in.Label != "" {
			p.set, p.setFor = presence.Appearance{Status: in.Status, Note: in.Note, Until: in.Until, Label: in.Label}, in.Session
		}
	case presence.Hide:
		return m.hide(in)
	case presence.Remove:
		m.remove(in)
	case presence.SignOut:
		for _, s := range m.of(in.User) {
			m.end(s, presence.ReasonBye)
		}
	case presence.Declare:
		m.declared[in.Room] = in.Declared
	case presence.DecideAsk, presence.InviteFor, presence.EndInvitation, presence.GrantPass, presence.RevokePass:
		return m.fromBackEnd(in)
	default:
		return m.fromLink(in)
	}
	return mAnswer{}
}

func (m *model) hide(in presence.Hide) mAnswer {
	p := m.person(in.User)
	if p.hidden == in.Hidden {
		return mAnswer{}
	}
	for place := range m.since {
		if capacity := m.policy.For(place.room).Capacity; place.user == in.User && !in.Hidden && capacity > 0 &&
			len(m.members(place.room, presence.Open)) >= capacity {
			return mAnswer{code: presence.CodeRoomFull}
		}
	}
	if in.Hidden {
		m.hideMeetings(in.User)
	}
	p.hidden = in.Hidden
	for place, since := range m.since {
		if place.user == in.User {
			m.since[place] = [2]time.Duration{since[0], m.now}
		}
	}
	return mAnswer{}
}

func (m *model) remove(in presence.Remove) {
	m.removeMeetings(in)
	refused := max(m.wall(), in.Issued)
	for _, s := range m.of(in.User) {
		refused = max(refused, s.issued)
	}
	if in.Room == "" {
		m.person(in.User).removed = refused
		for _, s := range m.of(in.User) {
			m.end(s, presence.ReasonRemoved)
		}
		return
	}
	m.person(in.User).removedIn[in.Room] = refused
	for _, s := range m.of(in.User) {
		if e := s.in(in.Room); e != nil {
			m.exit(s, e)
		}
	}
}

func (m *model) fromLink(in presence.Input) mAnswer {
	link := presence.From(in)
	s := m.session(link.Session)
	switch {
	case s == nil:
		return mAnswer{code: presence.CodeNoSession}
	case s.link != link.Number || !s.live:
		return mAnswer{code: presence.CodeOldLink}
	case s.expires != 0 && m.wall() >= s.expires:
		m.lose(s, presence.ReasonExpired)
		return mAnswer{code: presence.CodeExpired}
	}
	s.heard, s.unheard = m.now, 0
	if _, closing := in.(presence.Closing); !closing && s.probed {
		m.settle(s, false)
	}
	if m.session(link.Session) == nil {
		return mAnswer{code: presence.CodeNoSession}
	}
	switch in := in.(type) {
	case presence.Join:
		return m.join(s, in)
	case presence.Leave:
		if m.withdraw(s, in.Room, presence.Withdrawn) {
			return mAnswer{}
		}
		e := s.in(in.Room)
		if e == nil {
			return mAnswer{code: presence.CodeNotInRoom}
		}
		m.exit(s, e)
	case presence.Activity:
		if !s.NoInput {
			s.active = max(s.active, m.now-in.IdleFor)
			s.idle = s.idle && in.IdleFor >= m.policy.IdleAfter
		}
	case presence.Idle:
		s.idle = !s.NoInput
	case presence.PageHidden:
		s.PageHidden = in.Hidden
	case presence.Typing:
		return m.types(s, in)
	case presence.Sent:
		return m.types(s, presence.Typing{Room: in.Room, Number: in.Number})
	case presence.Renew:
		if in.Expires != 0 && in.Expires <= m.wall() {
			return mAnswer{code: presence.CodeExpired}
		}
		s.issued, s.expires, s.warned = in.Issued, in.Expires, false
		m.person(s.User).profile = in.Profile
		s.Admits = in.Admits
		m.narrow(s, in.Grants)
	case presence.Doing:
		return m.does(s, in)
	case presence.AnswerAsk, presence.Invite, presence.Accept, presence.Decline, presence.TakeBack:
		return m.meets(s, in)
	case presence.Bye:
		m.end(s, presence.ReasonBye)
	case presence.Closing:
		m.lose(s, presence.ReasonClosing)
	}
	return mAnswer{}
}

func (m *model) join(s *mSession, in presence.Join) mAnswer {
	asks, code := m.mayJoin(s, s.issued, s.Admits, in.Room)
	switch {
	case code != "":
		return mAnswer{code: code}
	case asks:
		m.ask(s, in.Room, in.NewAsk)
		return mAnswer{meeting: m.askedBy(s, in.Room)}
	}
	m.enter(s, in.Room)
	return mAnswer{}
}

func (m *model) mayJoin(s *mSession, issued int64, admits []presence.Pattern, room presence.RoomName) (asks bool, code presence.Code) {
	if s.in(room) != nil {
		return false, ""
	}
	if len(s.rooms)+m.asking(s) >= m.policy.RoomsPerSession && !slices.Contains(m.askOf(s.User, room).sessions, s) {
		return false, presence.CodeTooManyRooms
	}
	if m.engagedBeside(s.User, room, func(*mSession) bool { return true }) {
		return false, presence.CodeEngaged
	}
	return m.mayEnter(s.User, issued, admits, room)
}

func (m *model) types(s *mSession, in presence.Typing) mAnswer {
	e := s.in(in.Room)
	if e == nil {
		return mAnswer{code: presence.CodeNotInRoom}
	}
	if in.Number != 0 && in.Number <= e.report {
		return mAnswer{stale: true}
	}
	e.report, e.typing, e.until = max(e.report, in.Number), in.On, m.now+m.policy.For(in.Room).TypingExpires
	return mAnswer{}
}

func (m *model) narrow(s *mSession, grants []presence.Pattern) {
	for _, room := range someRooms {
		if grants != nil && !slices.ContainsFunc(grants, func(p presence.Pattern) bool { return p.Match(room) }) {
			m.withdraw(s, room, presence.Withdrawn)
		}
	}
	for _, e := range slices.Clone(s.rooms) {
		if grants != nil && !slices.ContainsFunc(grants, func(p presence.Pattern) bool { return p.Match(e.room) }) {
			m.exit(s, e)
		}
	}
}

func (m *model) mayEnter(user presence.UserID, issued int64, admits []presence.Pattern, room presence.RoomName) (asks bool, code presence.Code) {
	p := m.person(user)
	if at, removed := p.removedIn[room]; removed && issued <= at {
		return false, presence.CodeRemoved
	}
	if _, in := m.since[mPlace{room, user}]; in {
		return false, ""
	}
	if asks, code := m.mustAsk(user, admits, room); asks || code != "" {
		return asks, code
	}
	return false, m.full(user, room)
}

func (m *model) full(user presence.UserID, room presence.RoomName) presence.Code {
	_, in := m.since[mPlace{room, user}]
	if capacity := m.policy.For(room).Capacity; !in && !m.person(user).hidden && capacity > 0 && len(m.members(room, presence.Open)) >= capacity {
		return presence.CodeRoomFull
	}
	return ""
}

func (m *model) hello(in presence.Hello) mAnswer {
	s := m.session(in.Session)
	var why presence.NotResumed
	contested := false
	switch {
	case in.Session == "":
		s = nil
	case s == nil || s.User != in.User || s.Key != in.Key:
		s, why = nil, presence.UnknownSession
	case s.live && (in.Nonce == "" || s.Nonce != in.Nonce):
		why, contested = presence.SessionInUse, !s.Leased
		if s.Leased {
			s = nil
		}
	}
	if code := m.mayHello(in, s); code != "" {
		return mAnswer{code: code}
	}
	if contested {
		if s.waiting == nil {
			s.probeAt, s.probed = m.now+m.policy.Probe, false
		}
		for i, other := range s.waiting {
			if in.Nonce != "" && in.Nonce == other.Nonce {
				s.waiting[i], m.settled[other.Attempt] = in, mAnswer{code: presence.CodeOldLink}
				return mAnswer{pending: true}
			}
		}
	}
	if contested && len(s.waiting) < 8 {
		s.waiting = append(s.waiting, in)
		return mAnswer{pending: true}
	}
	if contested {
		s = nil
		if code := m.mayHello(in, s); code != "" {
			return mAnswer{code: code}
		}
	}
	return m.welcome(in, s, why)
}

func (m *model) mayHello(in presence.Hello, s *mSession) presence.Code {
	p := m.person(in.User)
	switch {
	case in.Expires != 0 && in.Expires <= m.wall():
		return presence.CodeExpired
	case p.removed != 0 && in.Issued <= p.removed:
		return presence.CodeRemoved
	}
	if !in.OneByOne {
		if m.engageTogether(in.Rooms) {
			return presence.CodeEngaged
		}
		for _, room := range in.Rooms {
			if m.engagedBeside(in.User, room, func(other *mSession) bool { return other != s && m.policy.SecondSession == presence.AllowSecond }) {
				return presence.CodeEngaged
			}
			if _, code := m.mayEnter(in.User, in.Issued, in.Admits, room); code != "" {
				return code
			}
		}
	}
	if in.Report != nil {
		for _, room := range in.Report.Typing {
			if in.Rooms != nil && !slices.Contains(in.Rooms, room) || in.Rooms == nil && (s == nil || s.in(room) == nil) {
				return presence.CodeNotInRoom
			}
		}
		for room := range in.Report.Doing {
			if in.Rooms != nil && !slices.Contains(in.Rooms, room) || in.Rooms == nil && (s == nil || s.in(room) == nil) {
				return presence.CodeNotInRoom
			}
		}
	}
	if s == nil && m.policy.SecondSession == presence.AllowSecond && len(m.of(in.User)) >= m.policy.SessionsPerPerson {
		return presence.CodeTooManySessions
	}
	if s == nil && m.policy.SecondSession == presence.RefuseSecond && slices.ContainsFunc(m.of(in.User), func(s *mSession) bool { return s.live }) {
		return presence.CodeAlreadyHere
	}
	return ""
}

func (m *model) welcome(in presence.Hello, s *mSession, why presence.NotResumed) mAnswer {
	resumed := s != nil
	if s == nil {
		s = &mSession{idle: true}
		in.Session, in.Key = in.NewSession, in.NewKey
		m.sessions = append(m.sessions, s)
	} else {
		in.Session, in.Key = s.Session, s.Key
	}
	noInput, goesOn := s.NoInput, resumed && s.live && s.Leased && in.Leased
	s.Hello = in
	if !goesOn {
		s.link = m.mint(s.link)
		for _, e := range s.rooms {
			e.report, e.number = 0, 0
		}
	}
	s.live, s.asked, s.heard, s.unheard = true, 0, m.now, 0
	s.issued, s.expires, s.warned = in.Issued, in.Expires, false
	m.person(in.User).profile = in.Profile
	changed := noInput != in.NoInput
	if in.IdleFor != nil {
		s.active = m.now - *in.IdleFor
	} else if !resumed {
		s.active = m.now
	}
	if in.IdleFor != nil || !resumed || changed {
		s.idle = !in.NoInput && m.now-s.active >= m.policy.IdleAfter
	}
	answer := mAnswer{link: presence.LinkID{Session: s.Session, Number: s.link}, resumed: resumed, why: why}
	if in.Rooms != nil {
		for _, e := range slices.Clone(s.rooms) {
			if !slices.Contains(in.Rooms, e.room) {
				m.exit(s, e)
			}
		}
		for _, room := range someRooms {
			if !slices.Contains(in.Rooms, room) {
				m.withdraw(s, room, presence.Withdrawn)
			}
		}
		for _, room := range in.Rooms {
			asks, code := m.mayEnter(s.User, in.Issued, in.Admits, room)
			if in.OneByOne {
				asks, code = m.mayJoin(s, in.Issued, in.Admits, room)
			}
			switch {
			case code != "":
				answer.refused += string(room) + ": " + string(code) + " "
			case asks:
				m.ask(s, room, in.NewAsk)
			default:
				m.enter(s, room)
			}
		}
	}
	m.narrow(s, in.Grants)
	if resumed {
		m.settle(s, false)
	}
	if in.Report != nil && m.session(s.Session) != nil { // before an older session ends, so that nothing is interrupted
		m.report(s, *in.Report)
		m.showDoings()
	}
	if !resumed && m.policy.SecondSession != presence.AllowSecond {
		for _, older := range m.of(in.User) {
			if older != s {
				m.end(older, presence.ReasonReplaced)
			}
		}
	}
	answer.meeting = m.askedBy(s, "") + m.invitedTo(in.User)
	return answer
}

func (m *model) report(s *mSession, r presence.Report) {
	if r.Active && !s.NoInput {
		s.active, s.idle = m.now, false
	}
	if r.Idle {
		s.idle = !s.NoInput
	}
	for _, e := range s.rooms {
		if object, said := r.Doing[e.room]; said {
			m.reports++
			e.doing, e.order = object, m.reports
		}
	}
	if r.Typing != nil {
		for _, e := range s.rooms {
			e.typing, e.until = slices.Contains(r.Typing, e.room), m.now+m.policy.For(e.room).TypingExpires
		}
	}
}

func (m *model) settle(s *mSession, takeOver bool) {
	waiting := s.waiting
	s.waiting, s.probed = nil, false
	for i, in := range waiting {
		heir, why := s, presence.NotResumed("")
		if i > 0 || !takeOver {
			heir, why = nil, presence.SessionInUse
			if m.session(in.Session) == nil {
				why = presence.UnknownSession
			}
		}
		if code := m.mayHello(in, heir); code != "" {
			m.settled[in.Attempt] = mAnswer{code: code}
		} else {
			m.settled[in.Attempt] = m.welcome(in, heir, why)
		}
	}
}

// evidence is the common part of both descriptions of a session.
type evidence struct {
	id     presence.SessionID
	link   presence.LinkNumber
	state  presence.State
	idle   bool
	reason presence.Reason
	rooms  string
}

func (m *model) evidence(user presence.UserID) (list []evidence) {
	for _, s := range m.of(user) {
		e := evidence{id: s.Session, link: s.link, idle: s.idle}
		if !s.live {
			e.state, e.reason = presence.Grace, s.reason
		}
		for _, r := range s.rooms {
			e.rooms += string(r.room) + " "
		}
		list = append(list, e)
	}
	return sortEvidence(list)
}

func sortEvidence(list []evidence) []evidence {
	slices.SortFunc(list, func(a, b evidence) int { return cmp.Compare(a.id, b.id) })
	return list
}
