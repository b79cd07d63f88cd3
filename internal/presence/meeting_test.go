package presence_test

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/presence"
)

// The part of the model, and of the world that plays histories, that is about meeting people:
// what members are doing, asks, passes, invitations and engagement.

type mShown struct {
	object string
	at     time.Duration
}

type mAsk struct {
	id            presence.AskID
	room          presence.RoomName
	user          presence.UserID
	sessions      []*mSession
	opened, until time.Duration
}

type mInvitation struct {
	id            presence.InvitationID
	room          presence.RoomName
	from, to      presence.UserID
	session       *mSession // nil: from the back end
	opened, until time.Duration
}

type meetings struct {
	asks          []*mAsk
	invitations   []*mInvitation
	passes, waits map[mPlace]int64  // until when
	outcomes      map[string]string // of asks and invitations, by id
	tied          map[string]bool   // of asks: whether they and their last session ended at one instant
}

func newMeetings() meetings {
	return meetings{passes: map[mPlace]int64{}, waits: map[mPlace]int64{}, outcomes: map[string]string{}, tied: map[string]bool{}}
}

// Doing.

func (m *model) does(s *mSession, in presence.Doing) mAnswer {
	e := s.in(in.Room)
	if e == nil {
		return mAnswer{code: presence.CodeNotInRoom}
	}
	if in.Number != 0 && in.Number <= e.number {
		return mAnswer{stale: true}
	}
	m.reports++
	e.number, e.doing, e.order = max(e.number, in.Number), in.Object, m.reports
	return mAnswer{}
}

func (m *model) newestDoing(place mPlace) (object string) {
	order := uint64(0)
	for _, s := range m.of(place.user) {
		if e := s.in(place.room); e != nil && e.doing != "" && e.order > order {
			object, order = e.doing, e.order
		}
	}
	return object
}

// showDoings lets others see what changed, where enough time has passed since the last change.
func (m *model) showDoings() {
	for place := range m.since {
		was, seen := m.shown[place]
		if newest := m.newestDoing(place); newest != was.object && (!seen || m.now >= was.at+m.policy.For(place.room).DoingEvery) {
			m.shown[place] = mShown{newest, m.now}
		}
	}
}

// Engagement.

// engagedIn returns the rooms that engage a person through certain sessions.
func (m *model) engagedIn(user presence.UserID, through func(*mSession) bool) (rooms []presence.RoomName) {
	for _, s := range m.of(user) {
		for _, e := range s.rooms {
			if through(s) && m.policy.For(e.room).Engages {
				rooms = append(rooms, e.room)
			}
		}
	}
	return rooms
}

func (m *model) engagedBeside(user presence.UserID, room presence.RoomName, through func(*mSession) bool) bool {
	return m.policy.For(room).Engages && slices.ContainsFunc(m.engagedIn(user, through), func(other presence.RoomName) bool { return other != room })
}

func (m *model) engageTogether(rooms []presence.RoomName) bool {
	n := 0
	for i, room := range rooms {
		if m.policy.For(room).Engages && !slices.Contains(rooms[:i], room) {
			n++
		}
	}
	return n > 1
}

// Asks.

func (m *model) mustAsk(user presence.UserID, admits []presence.Pattern, room presence.RoomName) (bool, presence.Code) {
	place := mPlace{room, user}
	switch {
	case m.policy.For(room).Entry != presence.EntryAsk:
	case slices.ContainsFunc(admits, func(p presence.Pattern) bool { return p.Match(room) }):
	case m.passes[place] > m.wall():
	case m.person(user).hidden:
		return false, presence.CodeHiding
	case m.waits[place] > m.wall():
		return false, presence.CodeAskedBefore
	default:
		return true, ""
	}
	return false, ""
}

// askOf returns the open ask of a person about a room, or one without sessions.
func (m *model) askOf(user presence.UserID, room presence.RoomName) *mAsk {
	for _, a := range m.asks {
		if a.user == user && a.room == room {
			return a
		}
	}
	return &mAsk{}
}

func (m *model) asking(s *mSession) (n int) {
	for _, a := range m.asks {
		if slices.Contains(a.sessions, s) {
			n++
		}
	}
	return n
}

func (m *model) ask(s *mSession, room presence.RoomName, id presence.AskID) {
	a := m.askOf(s.User, room)
	if a.id == "" {
		for _, other := range m.asks {
			if other.id == id {
				id += "-2"
			}
		}
		a = &mAsk{id: id, room: room, user: s.User, opened: m.now, until: m.now + m.policy.For(room).AskWaits}
		m.asks = append(m.asks, a)
	}
	if !slices.Contains(a.sessions, s) {
		a.sessions = append(a.sessions, s)
	}
}

func (m *model) closeAsk(a *mAsk, outcome presence.Outcome, by presence.UserID) {
	m.asks = without(m.asks, a)
	m.outcomes[string(a.id)] = string(outcome) + " by " + string(by)
	ends := slices.ContainsFunc(a.sessions, func(s *mSession) bool { return s.endAt == a.until })
	m.tied[string(a.id)] = outcome == presence.Gone && a.until == m.now || outcome == presence.Expired && ends
}

// withdraw takes a session out of its ask about a room.
func (m *model) withdraw(s *mSession, room presence.RoomName, outcome presence.Outcome) bool {
	a := m.askOf(s.User, room)
	if !slices.Contains(a.sessions, s) {
		return false
	}
	if a.sessions = without(a.sessions, s); len(a.sessions) == 0 {
		m.closeAsk(a, outcome, "")
	}
	return true
}

func (m *model) letIn(a *mAsk, by presence.UserID) {
	m.closeAsk(a, presence.Admitted, by)
	for _, s := range a.sessions {
		if s.live {
			m.enter(s, a.room)
		}
	}
}

func (m *model) cannotBeIn(user presence.UserID, room presence.RoomName) presence.Code {
	if m.engagedBeside(user, room, func(*mSession) bool { return true }) {
		return presence.CodeEngaged
	}
	return m.full(user, room)
}

func (m *model) decide(a *mAsk, admit bool, by presence.UserID) mAnswer {
	place, policy := mPlace{a.room, a.user}, m.policy.For(a.room)
	if !admit {
		m.passes[place], m.waits[place] = 0, m.wall()+policy.AskAgain.Milliseconds()
		m.closeAsk(a, presence.Refused, by)
		return mAnswer{}
	}
	if code := m.cannotBeIn(a.user, a.room); code != "" {
		return mAnswer{code: code}
	}
	m.passes[place], m.waits[place] = m.wall()+policy.AskPass.Milliseconds(), 0
	m.letIn(a, by)
	return mAnswer{}
}

func (m *model) askNamed(id presence.AskID) *mAsk {
	for _, a := range m.asks {
		if a.id == id {
			return a
		}
	}
	return nil
}

// Invitations.

func (m *model) invitationNamed(id presence.InvitationID) *mInvitation {
	for _, i := range m.invitations {
		if i.id == id {
			return i
		}
	}
	return nil
}

func (m *model) closeInvitation(i *mInvitation, outcome presence.Outcome) {
	m.invitations = without(m.invitations, i)
	m.outcomes[string(i.id)] = string(outcome)
}

func (m *model) openInvitation(from, to presence.UserID, s *mSession, room presence.RoomName, id presence.InvitationID) mAnswer {
	if m.appearance(to, presence.Open).Status == presence.Offline {
		return mAnswer{code: presence.CodeOffline}
	}
	if _, there := m.since[mPlace{room, to}]; there {
		return mAnswer{code: presence.CodeAlreadyHere}
	}
	received := 0
	for _, i := range m.invitations {
		if i.to == to && i.from == from && i.room == room {
			return mAnswer{meeting: "invitation " + string(i.id)}
		}
		if i.to == to {
			received++
		}
	}
	switch {
	case m.engagedIn(to, func(*mSession) bool { return true }) != nil:
		return mAnswer{code: presence.CodeEngaged}
	case m.person(to).set.Status == presence.Busy:
		return mAnswer{code: presence.CodeSetBusy}
	case received >= m.policy.InvitationsMax:
		return mAnswer{code: presence.CodeTooManyInvitations}
	}
	m.invitations = append(m.invitations, &mInvitation{id: id, room: room, from: from, to: to, session: s, opened: m.now, until: m.now + m.policy.InvitationWaits})
	return mAnswer{meeting: "invitation " + string(id)}
}

func (m *model) invite(s *mSession, in presence.Invite) mAnswer {
	switch {
	case m.person(s.User).hidden:
		return mAnswer{code: presence.CodeHiding}
	case in.To == s.User:
		return mAnswer{code: presence.CodeBadUser}
	}
	asks, code := m.mayEnter(s.User, s.issued, s.Admits, in.Room)
	if code != "" {
		return mAnswer{code: code}
	}
	if asks {
		return mAnswer{code: presence.CodeMustAsk}
	}
	near := false
	for place := range m.since {
		_, here := m.since[mPlace{place.room, s.User}]
		near = near || place.user == in.To && here && !m.person(in.To).hidden
	}
	if !in.Anywhere && !near {
		return mAnswer{code: presence.CodeOffline}
	}
	return m.openInvitation(s.User, in.To, s, in.Room, in.New)
}

func (m *model) accept(s *mSession, i *mInvitation) mAnswer {
	switch {
	case m.person(s.User).hidden:
		return mAnswer{code: presence.CodeHiding}
	case s.in(i.room) == nil && len(s.rooms)+m.asking(s) >= m.policy.RoomsPerSession && m.askOf(s.User, i.room).id == "":
		return mAnswer{code: presence.CodeTooManyRooms}
	}
	if at, removed := m.person(s.User).removedIn[i.room]; removed && s.issued <= at {
		return mAnswer{code: presence.CodeRemoved}
	}
	if code := m.cannotBeIn(s.User, i.room); code != "" {
		return mAnswer{code: code}
	}
	m.closeInvitation(i, presence.Accepted)
	m.givePass(s.User, i.room, m.wall()+m.policy.For(i.room).AskPass.Milliseconds())
	m.enter(s, i.room)
	return mAnswer{}
}

func (m *model) givePass(user presence.UserID, room presence.RoomName, until int64) {
	m.passes[mPlace{room, user}], m.waits[mPlace{room, user}] = until, 0
	if a := m.askOf(user, room); a.id != "" && m.cannotBeIn(user, room) == "" {
		m.letIn(a, "")
	}
}

// meets applies what comes over a link and is about meeting somebody.
func (m *model) meets(s *mSession, in presence.Input) mAnswer {
	switch in := in.(type) {
	case presence.Invite:
		return m.invite(s, in)
	case presence.AnswerAsk:
		a := m.askNamed(in.Ask)
		switch {
		case a == nil || s.in(a.room) == nil || !slices.ContainsFunc(s.Admits, func(p presence.Pattern) bool { return p.Match(a.room) }):
			return mAnswer{code: presence.CodeNoAsk}
		case m.person(s.User).hidden:
			return mAnswer{code: presence.CodeHiding}
		}
		return m.decide(a, in.Admit, s.User)
	case presence.Accept:
		if i := m.invitationNamed(in.Invitation); i != nil && i.to == s.User {
			return m.accept(s, i)
		}
	case presence.Decline:
		if i := m.invitationNamed(in.Invitation); i != nil && i.to == s.User {
			if m.person(s.User).hidden {
				return mAnswer{code: presence.CodeHiding}
			}
			m.closeInvitation(i, presence.Declined)
			return mAnswer{}
		}
	case presence.TakeBack:
		if i := m.invitationNamed(in.Invitation); i != nil && i.from == s.User {
			m.closeInvitation(i, presence.Withdrawn)
			return mAnswer{}
		}
	}
	return mAnswer{code: presence.CodeNoInvitation}
}

func (m *model) fromBackEnd(in presence.Input) mAnswer {
	switch in := in.(type) {
	case presence.DecideAsk:
		if a := m.askNamed(in.Ask); a != nil {
			return m.decide(a, in.Admit, "")
		}
		return mAnswer{code: presence.CodeNoAsk}
	case presence.InviteFor:
		if in.To == in.User {
			return mAnswer{code: presence.CodeBadUser}
		}
		if m.person(in.User).hidden {
			return mAnswer{code: presence.CodeHiding}
		}
		return m.openInvitation(in.User, in.To, nil, in.Room, in.New)
	case presence.EndInvitation:
		i := m.invitationNamed(in.Invitation)
		if i == nil {
			return mAnswer{code: presence.CodeNoInvitation}
		}
		m.closeInvitation(i, presence.Withdrawn)
	case presence.GrantPass:
		if in.Until <= m.wall() {
			return mAnswer{code: presence.CodeBadPass}
		}
		m.givePass(in.User, in.Room, in.Until)
	case presence.RevokePass:
		delete(m.passes, mPlace{in.Room, in.User})
	}
	return mAnswer{}
}

// What ends asks and invitations.

func (m *model) meetingDeadlines(consider func(time.Duration, func())) {
	for _, a := range m.asks {
		consider(a.until, func() { m.closeAsk(a, presence.Expired, "") })
	}
	for _, i := range m.invitations {
		consider(i.until, func() { m.closeInvitation(i, presence.Expired) })
	}
	for place, shown := range m.shown {
		if m.newestDoing(place) != shown.object {
			consider(shown.at+m.policy.For(place.room).DoingEvery, func() {})
		}
	}
}

func (m *model) endMeetings(s *mSession) {
	for _, room := range someRooms {
		m.withdraw(s, room, presence.Gone)
	}
	m.closeInvitations(presence.Gone, func(i *mInvitation) bool { return i.session == s })
}

func (m *model) closeInvitations(outcome presence.Outcome, which func(*mInvitation) bool) {
	for _, i := range slices.Clone(m.invitations) {
		if which(i) {
			m.closeInvitation(i, outcome)
		}
	}
}

func (m *model) hideMeetings(user presence.UserID) {
	for _, a := range slices.Clone(m.asks) {
		if a.user == user {
			m.closeAsk(a, presence.Withdrawn, "")
		}
	}
	m.closeInvitations(presence.Withdrawn, func(i *mInvitation) bool { return i.from == user })
}

func (m *model) removeMeetings(in presence.Remove) {
	concerns := func(room presence.RoomName) bool { return in.Room == "" || in.Room == room }
	for _, a := range slices.Clone(m.asks) {
		if a.user == in.User && concerns(a.room) {
			m.closeAsk(a, presence.Withdrawn, "")
		}
	}
	m.closeInvitations(presence.Withdrawn, func(i *mInvitation) bool {
		return (i.from == in.User || i.to == in.User) && concerns(i.room)
	})
	for _, room := range someRooms {
		if concerns(room) {
			delete(m.passes, mPlace{room, in.User})
			delete(m.waits, mPlace{room, in.User})
		}
	}
}

// What is said about them.

func (m *model) askedBy(s *mSession, room presence.RoomName) (text string) {
	for _, a := range m.asks {
		if slices.Contains(a.sessions, s) && (room == "" || a.room == room) {
			text += fmt.Sprintf("%s about %s until %d ", a.id, a.room, dusk.Add(a.until).UnixMilli())
		}
	}
	return text
}

func (m *model) invitedTo(user presence.UserID) (text string) {
	for _, i := range m.invitations {
		if i.to == user {
			text += fmt.Sprintf("to %s by %s until %d ", i.room, i.from, dusk.Add(i.until).UnixMilli())
		}
	}
	for _, i := range m.invitations {
		if i.from == user {
			text += fmt.Sprintf("of %s ", i.to)
		}
	}
	return text
}

func meetingOf(reply presence.Reply) (text string) {
	for _, a := range reply.Asked {
		text += fmt.Sprintf("%s about %s until %d ", a.Ask, a.Room, a.Until)
	}
	if reply.Invitation != "" {
		text += "invitation " + string(reply.Invitation)
	}
	return text + textOf(reply.Invitations)
}

func textOf(all presence.Invitations) (text string) {
	for _, i := range all.Received {
		text += fmt.Sprintf("to %s by %s until %d ", i.Room, i.From, i.Until)
	}
	for _, i := range all.Sent {
		text += fmt.Sprintf("of %s ", i.To)
	}
	return text
}

// The world.

type meetingWorld struct {
	minted   int
	asks     []presence.AskID        // opened so far
	invites  []presence.InvitationID // the same
	outcomes map[string]string

	handedOver bool                                // to another core
	openAsks   map[presence.AskID]presence.OpenAsk // from effects alone
}

func newMeetingWorld() meetingWorld {
	return meetingWorld{outcomes: map[string]string{}, openAsks: map[presence.AskID]presence.OpenAsk{}}
}

func (w *meetingWorld) newAsk() presence.AskID {
	w.minted++
	return presence.AskID(fmt.Sprint("ask-", w.minted))
}

func (w *meetingWorld) takeMeeting(effect presence.Effect) {
	switch effect := effect.(type) {
	case presence.AskOpened:
		w.asks = append(w.asks, effect.Ask)
		w.openAsks[effect.Ask] = effect.OpenAsk
	case presence.AskAnswered:
		w.outcomes[string(effect.Ask)] = string(effect.Outcome) + " by " + string(effect.By)
		delete(w.openAsks, effect.Ask)
	case presence.InvitationOpened:
		w.invites = append(w.invites, effect.Invitation.Invitation)
	case presence.InvitationAnswered:
		w.outcomes[string(effect.Invitation.Invitation)] = string(effect.Outcome)
	}
}

// noteMeeting records what people who see only the open view are told.
func (w *world) noteMeeting(effect presence.Effect) {
	w.takeMeeting(effect)
	switch effect := effect.(type) {
	case presence.AskOpened, presence.InvitationOpened:
		fmt.Fprintf(&w.open, "%v %T%+v\n", w.now, effect, effect)
	case presence.AskAnswered:
		effect.Links = nil
		fmt.Fprintln(&w.open, w.now, effect)
	case presence.InvitationAnswered:
		effect.Links = nil
		fmt.Fprintln(&w.open, w.now, effect)
	case presence.InvitationsChanged:
		fmt.Fprintln(&w.open, w.now, effect)
	}
}

func (w *world) agreeOnMeetings() {
	same(w, len(w.model.outcomes), len(w.outcomes), "asks and invitations that are over")
	for id, want := range w.model.outcomes {
		got := w.outcomes[id]
		if w.handedOver || w.model.tied[id] { // which of them ends first at one instant depends on the timers' past
			want, got = strings.Replace(want, "gone", "expired", 1), strings.Replace(got, "gone", "expired", 1)
		}
		same(w, want, got, "how "+id+" ended")
	}
	same(w, len(w.model.asks), len(w.openAsks), "open asks as told")
	for _, room := range someRooms {
		var want []string
		for _, a := range w.model.asks {
			if a.room == room {
				want = append(want, fmt.Sprint(a.id, a.user, dusk.Add(a.opened).UnixMilli(), dusk.Add(a.until).UnixMilli()))
			}
		}
		var got []string
		for _, a := range w.core.Asks(instant(w.now), room) {
			got = append(got, fmt.Sprint(a.Ask, a.User, a.Since, a.Until))
			require.Contains(w.t, w.openAsks, a.Ask)
		}
		sameList(w, want, got, "the open asks of "+string(room))
	}
	for _, user := range someUsers {
		same(w, w.model.invitedTo(user), textOf(w.core.Invitations(instant(w.now), user)), "the open invitations of "+string(user))
		var passes []presence.Pass
		for _, room := range slices.Sorted(slices.Values(someRooms)) {
			if until := w.model.passes[mPlace{room, user}]; until > w.model.wall() {
				passes = append(passes, presence.Pass{User: user, Room: room, Until: until})
			}
		}
		sameList(w, passes, w.core.Passes(instant(w.now), user), "the passes of "+string(user))
	}
}

// meetingInput makes an input about meeting people, or nil.
func (w *world) meetingInput(kind uint64, a, b, c int, user presence.UserID, room presence.RoomName, link presence.LinkID, wall int64) presence.Input {
	var ask presence.AskID
	if len(w.asks) > 0 {
		ask = w.asks[len(w.asks)-1-a/4%min(len(w.asks), 4)]
	}
	var invitation presence.InvitationID
	if len(w.invites) > 0 {
		invitation = w.invites[len(w.invites)-1-a/4%min(len(w.invites), 4)]
	}
	w.minted++
	fresh := presence.InvitationID(fmt.Sprint("invitation-", w.minted))
	switch kind {
	case 33, 34, 35:
		in := presence.Doing{From: link, Room: room, Number: uint64(len(w.story) + 4 - a%4), Object: fmt.Sprintf(`{"page":%d}`, c%4)}
		if a%5 == 0 {
			in.Object = ""
		}
		return in
	case 36, 37:
		return presence.Join{From: link, Room: "desk.night", NewAsk: w.newAsk()}
	case 38, 39:
		return presence.AnswerAsk{From: link, Ask: ask, Admit: b%3 > 0}
	case 40:
		return presence.DecideAsk{Ask: ask, Admit: b%2 > 0}
	case 41, 42:
		return presence.Invite{From: link, To: user, Room: room, New: fresh, Anywhere: c%2 == 0}
	case 43:
		return presence.InviteFor{User: user, To: someUsers[c%3], Room: room, New: fresh}
	case 44, 45:
		return presence.Accept{From: link, Invitation: invitation}
	case 46:
		return presence.Decline{From: link, Invitation: invitation}
	case 47:
		return presence.TakeBack{From: link, Invitation: invitation}
	case 48:
		if c%4 > 0 {
			return nil
		}
		return presence.EndInvitation{Invitation: invitation}
	case 49:
		return presence.GrantPass{User: user, Room: room, Until: wall + int64(time.Duration(c)*unit/time.Millisecond)}
	case 50:
		return presence.RevokePass{User: user, Room: room}
	}
	return nil
}

// admits returns what some tokens allow to let others into.
func admits(n int) []presence.Pattern {
	if n%3 == 0 {
		return []presence.Pattern{"desk.*"}
	}
	return nil
}

func withoutDoing(members []presence.Member) []presence.Member {
	members = slices.Clone(members)
	for i := range members {
		members[i].Doing = ""
	}
	return members
}

// withoutTimesOfMeetings removes how long asks and invitations still wait, and what has ended but
// for the timer that finds it.
func withoutTimesOfMeetings(p presence.SavedPerson) presence.SavedPerson {
	p.Asks, p.Invitations = slices.Clone(p.Asks), slices.Clone(p.Invitations)
	for i := range p.Asks {
		p.Asks[i].Left = 0
	}
	for i := range p.Invitations {
		p.Invitations[i].Left = 0
	}
	return p
}
