package records

import (
	"encoding/json"
	"sync"
	"time"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// maxHappenings limits what a recorder has been told and the writer has not taken yet. Beyond
// it, journal entries are lost, and counted.
const maxHappenings = 200_000

// Recorder takes what happens in a realm, for the [Writer]. It is the [engine.Recorder] of the
// realm's engine.
type Recorder struct {
	realm  string
	writer *Writer
	engine *engine.Engine

	mu      sync.Mutex
	pending []happening
	lost    gap                          // of what was too much
	touched map[presence.UserID]struct{} // people to save anew

	// What follows is the writer's.
	heads    map[presence.RoomName]*head     // the realm's own under no name
	began    int64                           // Unix milliseconds
	minute   int64                           // that the heads count, the same
	anchored bool                            // the heads have a row of this run
	before   map[presence.RoomName]Headcount // of the first minute, by the run before
}

// happening is an effect of the core with its time in Unix milliseconds.
type happening struct {
	at       int64
	effect   presence.Effect
	restored bool // by a restart: it is so, but it does not happen
}

// Announcement is something that hooks may be told, as a view sees it.
type Announcement struct {
	Realm    string
	Kind     string // member.joined, member.left, room.first-in, room.empty, headcount, person.online, person.offline, status.changed
	At       int64  // Unix milliseconds
	View     presence.View
	Room     presence.RoomName
	Member   presence.Member // of who joined or left
	Person   presence.UserID
	Profile  presence.Profile
	Was, Is  presence.Appearance // of a person
	Reason   presence.Reason
	LastSeen int64
	// People are in the room after it, and were before it.
	People, Before int
}

// head counts those in a room.
type head struct {
	people, sessions [2]int // by view
	row              Headcount
	upTo             int64 // that the sums of row reach
	changed          bool
	start            int                          // how many people the minute began with
	came             map[presence.UserID]struct{} // of those who were not there then
	went             map[presence.UserID]struct{} // of those who were
}

// Record implements [engine.Recorder].
func (r *Recorder) Record(at time.Time, effects []presence.Effect, touched []presence.UserID) {
	r.take(at.UnixMilli(), effects, touched, false)
}

// Restored implements [engine.Recorder].
func (r *Recorder) Restored(at time.Time, effects []presence.Effect, touched []presence.UserID) {
	r.take(at.UnixMilli(), effects, touched, true)
}

func (r *Recorder) take(at int64, effects []presence.Effect, touched []presence.UserID, restored bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	before := len(r.pending) + len(r.touched)
	for _, effect := range effects {
		switch effect.(type) {
		case presence.TypingChanged, presence.AskBeat, presence.Cut, presence.WarnExpiry, presence.Settled:
			continue
		}
		if len(r.pending) >= maxHappenings && !restored {
			r.lost.add(at)
			continue
		}
		r.pending = append(r.pending, happening{at, effect, restored})
	}
	for _, user := range touched {
		r.touched[user] = struct{}{}
	}
	if before == 0 && len(r.pending)+len(r.touched) > 0 {
		r.writer.wake()
	}
}

// gather moves everything that has happened into the writer's batch.
func (r *Recorder) gather(b *batch) {
	var happened []happening
	var lost gap
	burst := false
	saved := map[presence.UserID]*Person{}
	for {
		more := false
		r.engine.SavePeople(func() []presence.UserID {
			r.mu.Lock()
			defer r.mu.Unlock()
			users := make([]presence.UserID, 0, min(len(r.touched), maxSaved))
			for user := range r.touched {
				if len(users) == maxSaved {
					more, burst = true, true // others wait for the engine: it is not held for all at once
					return users
				}
				users = append(users, user)
				delete(r.touched, user)
			}
			happened, r.pending = r.pending, happened[:0]
			if burst { // what it has made of the map is not needed any more
				r.touched = map[presence.UserID]struct{}{}
			}
			lost, r.lost = r.lost, gap{}
			return users
		}, func(p presence.SavedPerson) { saved[p.User] = r.person(p) })
		if !more {
			break
		}
	}
	b.miss(r.realm, lost)
	for user, p := range saved {
		b.person(p, user)
	}
	for i := range happened {
		r.digest(&happened[i], b)
	}
	r.keepSpare(happened)
}

// maxSaved is how many people are saved under one hold of the engine's lock.
const maxSaved = 1000

// keepSpare reuses the memory of what has been digested.
func (r *Recorder) keepSpare(happened []happening) {
	clear(happened)
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.pending == nil && cap(happened) <= 8*maxSaved {
		r.pending = happened[:0]
	}
}

// person returns the row of what a restart needs to know of somebody.
func (r *Recorder) person(saved presence.SavedPerson) *Person {
	p := &Person{Realm: r.realm, User: saved.User, Name: saved.Profile.Name, Picture: saved.Profile.Picture}
	for i := range saved.Sessions {
		if opened := saved.Sessions[i].Opened; p.FirstSeen == 0 || opened < p.FirstSeen {
			p.FirstSeen = opened
		}
	}
	if len(saved.Sessions) == 0 && saved.Set.Status == "" && !saved.Hidden {
		return p
	}
	saved.Removed = nil // is a row of its own
	state, err := json.Marshal(saved)
	if err != nil {
		panic("records: what is plain data can be written: " + err.Error())
	}
	p.State = state
	return p
}

// digest makes journal entries, counts and announcements of one effect.
func (r *Recorder) digest(h *happening, b *batch) {
	r.roll(h.at, b)
	entry := Entry{At: h.at, Realm: r.realm, Open: true}
	of := func(kind Kind, user presence.UserID, link presence.LinkID) *Entry {
		entry.Kind, entry.User, entry.Session, entry.Link = kind, user, link.Session, link.Number
		return &entry
	}
	switch e := h.effect.(type) {
	case presence.MemberChanged:
		r.member(h, e, b)
		return
	case presence.PersonChanged:
		r.person_(h, e, b)
		return
	case presence.SessionOpened:
		r.sessions(h, 1)
		if !h.restored {
			b.firstSeen(r.realm, e.User, h.at)
		}
		of(SessionOpened, e.User, e.Link).Over = e.Kind.String()
	case presence.SessionInGrace:
		of(SessionLost, e.User, e.Link).Over = e.Kind.String()
		entry.Reason = e.Reason.String()
	case presence.SessionResumed:
		of(SessionResumed, e.User, e.Link).Over = e.Kind.String()
		entry.Length = e.Gap.Milliseconds()
	case presence.SessionEnded:
		r.sessions(h, -1)
		of(SessionEnded, e.User, e.Link).Over = e.Kind.String()
		entry.Reason, entry.Length = e.Reason.String(), max(h.at-e.Opened, 0)
	case presence.SessionIdle:
		of(SessionActive, e.User, e.Link)
		if e.Idle {
			entry.Kind = SessionIdle
		}
	case presence.PersonRemoved:
		of(PersonRemoved, e.User, presence.LinkID{}).Room = e.Room
	default:
		return
	}
	if !h.restored {
		b.entry(entry)
	}
}

// member digests a change of a member.
func (r *Recorder) member(h *happening, e presence.MemberChanged, b *batch) {
	came, went := e.Before.Sessions == 0 && e.After.Sessions > 0, e.Before.Sessions > 0 && e.After.Sessions == 0
	hd := r.head(e.Room)
	user := e.After.User
	for _, view := range []presence.View{presence.Full, presence.Open} {
		if !e.Views.Has(view) {
			continue
		}
		before := hd.people[view]
		if view == presence.Full {
			hd.advance(h.at)
		}
		hd.sessions[view] += e.After.Sessions - e.Before.Sessions
		switch {
		case came:
			hd.people[view]++
		case went:
			hd.people[view]--
		}
		switch {
		case view != presence.Full:
		case h.restored: // as it was when the minute began
			hd.begin(r.realm, e.Room, r.minute, max(r.began, r.minute))
			hd.changed = true
		default:
			hd.note(h.at, user, came, went)
		}
		if (came || went) && !h.restored {
			r.announce(b, h.at, e, view, before, hd.people[view])
		}
	}
	if h.restored || !e.Views.Has(presence.Full) || (!came && !went) {
		return
	}
	b.profile(r.realm, user, e.After.Profile)
	entry := Entry{At: h.at, Realm: r.realm, Kind: MemberJoined, Room: e.Room, User: user, Status: string(e.After.Status), Open: e.Views.Has(presence.Open)}
	if went {
		entry.Kind, entry.Reason, entry.Length = MemberLeft, e.Reason.String(), max(h.at-e.Before.Since.UnixMilli(), 0)
	}
	b.entry(entry)
}

// announce announces a join or leave, and what that makes of the room.
func (r *Recorder) announce(b *batch, at int64, e presence.MemberChanged, view presence.View, before, after int) {
	a := Announcement{Realm: r.realm, Kind: string(MemberJoined), At: at, View: view, Room: e.Room, Member: e.After, Person: e.After.User,
		Profile: e.After.Profile, People: after, Before: before}
	if after < before {
		a.Kind, a.Member.Since, a.Member.Sessions = string(MemberLeft), e.Before.Since, 0
		a.Reason, a.LastSeen = e.Reason, e.LastSeen
	}
	b.announce(&a)
	switch a.Kind = ""; {
	case before == 0:
		a.Kind = "room.first-in"
	case after == 0:
		a.Kind = "room.empty"
	}
	if a.Kind != "" {
		b.announce(&a)
	}
	a.Kind = "headcount"
	b.announce(&a)
}

// person_ digests a change of a person.
func (r *Recorder) person_(h *happening, e presence.PersonChanged, b *batch) {
	came, went := e.Before.Status == presence.Offline, e.After.Status == presence.Offline
	seen := func(view presence.View) int64 {
		if went && e.Views.Has(view) {
			return e.LastSeen
		}
		return 0
	}
	if went && !h.restored {
		b.lastSeen(r.realm, e.User, seen(presence.Full), seen(presence.Open))
	}
	if e.Views.Has(presence.Full) && (came || went) {
		hd := r.head("")
		hd.advance(h.at)
		if came {
			hd.people[presence.Full]++
		} else {
			hd.people[presence.Full]--
		}
		if h.restored {
			hd.begin(r.realm, "", r.minute, max(r.began, r.minute))
			hd.changed = true
		} else {
			hd.note(h.at, e.User, came, went)
		}
	}
	if h.restored {
		return
	}
	for _, view := range []presence.View{presence.Full, presence.Open} {
		if !e.Views.Has(view) {
			continue
		}
		a := Announcement{Realm: r.realm, Kind: string(StatusChanged), At: h.at, View: view, Person: e.User, Was: e.Before, Is: e.After, LastSeen: seen(view)}
		if p := b.people[personID{r.realm, e.User}]; p != nil {
			a.Profile = presence.Profile{Name: p.Name, Picture: p.Picture}
		}
		b.announce(&a)
		switch a.Kind = ""; {
		case came:
			a.Kind = "person.online"
		case went:
			a.Kind = "person.offline"
		}
		if a.Kind != "" {
			b.announce(&a)
		}
	}
	if e.Views.Has(presence.Full) {
		b.entry(Entry{At: h.at, Realm: r.realm, Kind: StatusChanged, User: e.User, Status: string(e.After.Status), Was: string(e.Before.Status),
			Note: e.After.Note, Open: e.Views.Has(presence.Open)})
	}
}

// sessions counts the sessions of the realm.
func (r *Recorder) sessions(h *happening, change int) {
	hd := r.head("")
	hd.advance(h.at)
	hd.sessions[presence.Full] += change
	hd.note(h.at, "", false, false)
}

// head returns the counter of a room.
func (r *Recorder) head(room presence.RoomName) *head {
	hd := r.heads[room]
	if hd == nil {
		hd = &head{}
		hd.begin(r.realm, room, r.minute, max(r.began, r.minute)) // nobody was there before
		r.heads[room] = hd
	}
	return hd
}

// begin starts a minute, of which only the part after from is counted.
func (h *head) begin(realm string, room presence.RoomName, minute, from int64) {
	p, s := h.people[presence.Full], h.sessions[presence.Full]
	h.row = Headcount{Realm: realm, Room: room, Step: Minute, At: minute, PeopleMin: p, PeopleMax: p, SessionsMin: s, SessionsMax: s, Peak: from}
	h.upTo, h.start, h.changed = from, p, false
	h.came, h.went = nil, nil
}

// advance lets time pass without a change.
func (h *head) advance(at int64) {
	if d := at - h.upTo; d > 0 {
		h.row.PeopleTime += int64(h.people[presence.Full]) * d
		h.row.SessionsTime += int64(h.sessions[presence.Full]) * d
		h.row.Span += d
		h.upTo = at
	}
}

// note counts a change.
func (h *head) note(at int64, user presence.UserID, came, went bool) {
	h.changed = true
	p, s := h.people[presence.Full], h.sessions[presence.Full]
	if p > h.row.PeopleMax {
		h.row.PeopleMax, h.row.Peak = p, at
	}
	h.row.PeopleMin = min(h.row.PeopleMin, p)
	h.row.SessionsMin, h.row.SessionsMax = min(h.row.SessionsMin, s), max(h.row.SessionsMax, s)
	switch _, here := h.came[user]; {
	case came:
		h.row.Joins++
		if _, was := h.went[user]; !was {
			h.came = put(h.came, user)
		}
	case went:
		h.row.Leaves++
		if !here {
			h.went = put(h.went, user)
		}
	}
}

func put(set map[presence.UserID]struct{}, user presence.UserID) map[presence.UserID]struct{} {
	if set == nil {
		set = map[presence.UserID]struct{}{}
	}
	set[user] = struct{}{}
	return set
}

// closed returns the row as of now.
func (h *head) closed() Headcount {
	row := h.row
	row.PeopleClose, row.SessionsClose = h.people[presence.Full], h.sessions[presence.Full]
	row.Visitors = h.start + len(h.came)
	return row
}

// roll ends the minutes that are over by a time, and adds the rows of those in which something
// changed, or that others are filled in from.
func (r *Recorder) roll(at int64, b *batch) {
	minute := at / int64(Minute) * int64(Minute)
	if minute <= r.minute {
		return
	}
	anchor := !r.anchored || r.minute%int64(Hour) == 0 || minute/int64(Hour) != r.minute/int64(Hour)
	over := r.minute + int64(Minute)
	for room, h := range r.heads {
		h.advance(over)
		if h.changed || anchor {
			b.headcount(r.whole(h))
		}
		if room != "" && h.people == [2]int{} && h.sessions == [2]int{} {
			delete(r.heads, room)
			continue
		}
		h.begin(r.realm, room, minute, minute)
	}
	r.anchored, r.before = true, nil
	r.minute = minute
}

// whole returns the row of the present minute, including what an earlier run counted in it.
func (r *Recorder) whole(h *head) Headcount {
	row := h.closed()
	if before, ok := r.before[row.Room]; ok && before.At == row.At {
		before.add(&row)
		return before
	}
	return row
}

// count adds the rows of the present minute as they are so far.
func (r *Recorder) count(at int64, b *batch) {
	for _, h := range r.heads {
		h.advance(at)
		if h.changed || !r.anchored {
			b.headcount(r.whole(h))
		}
	}
}
