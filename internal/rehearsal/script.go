package rehearsal

import (
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"tovik.example/tovik/internal/agenda"
	"tovik.example/tovik/internal/presence"
)

// Script is a stretch of time in which people keep their habits: they come and go by their
// shifts, and their pages close, reload and lose their links by known distributions. Unlike a
// world of [Run] it is not scored; what the core says is told to Tell.
type Script struct {
	Policy presence.Policy
	Begin  time.Time
	Length time.Duration
	Seed   uint64
	Cast   []Character
	// Outages are times in which pages of some people cannot be heard.
	Outages []Outage
	Tell    Teller // may be nil
}

// Character is a person of a script.
type Character struct {
	User    presence.UserID
	Profile presence.Profile
	Rooms   []presence.RoomName // the first is theirs; now and then they go to another
	Tabs    int                 // that they open at the beginning of a shift
	Shifts  []Shift
	Habits  Habits
	Stream  bool // their links are event streams
	// Ends is how a shift ends: one of the Ends.
	Ends End
}

// Shift is when somebody is there, from the beginning of the script on.
type Shift struct{ From, To time.Duration }

// End is how people leave at the end of a shift.
type End uint8

const (
	Closes  End = iota // they close their pages
	SaysBye            // they sign off
	Dies               // the machine just goes away
	Forgets            // the page stays open, and nobody is there
)

// Outage is a time in which some of the people cannot be heard.
type Outage struct {
	From, For time.Duration
	Hits      func(*Character) bool
}

// Habits are what happens to a page while its person is there. Zero fields never happen.
type Habits struct {
	Every                     Spread // between two incidents
	Closing, Lost, Background Incident
	Typing                    Incident // how long it is; Never: the share in which no stop is sent
	Quiet                     Incident // without input
	Moves                     Incident // to another room, for how long
	Status                    Incident // set to busy, for how long
	Notes                     []string // of such a status
	// Input is the time between reports of input. Zero: the page has no human input, and is
	// never idle.
	Input Spread
}

// Incident is something that happens to a page.
type Incident struct {
	Weight int     // how often, compared with the others
	Gap    Spread  // how long it takes
	Never  float64 // share that does not come back
}

// Spread is a log-normal distribution of times: half are below Median, and Sigma is the standard
// deviation of their logarithm.
type Spread struct {
	Median time.Duration
	Sigma  float64
}

func (s Spread) draw(random *rand.Rand) time.Duration {
	return time.Duration(float64(s.Median) * math.Exp(s.Sigma*random.NormFloat64())).Round(time.Millisecond)
}

// Quantile returns the time that a share of all times does not exceed.
func (s Spread) Quantile(share float64) time.Duration {
	return time.Duration(float64(s.Median) * math.Exp(s.Sigma*math.Sqrt2*math.Erfinv(2*share-1)))
}

// Tab is a page that is open at the end of a script, so that somebody can go on with it.
type Tab struct {
	User    presence.UserID
	Session presence.SessionID
	Key     string
	Room    presence.RoomName
}

// Play plays a script. It returns what a restart of the service needs, and the pages that are
// open.
func (s Script) Play() (presence.Saved, []Tab) {
	p := &play{script: s, core: presence.NewCore(s.Policy), pages: map[presence.SessionID]*page{}}
	for i := range s.Cast {
		who := &s.Cast[i]
		random := rand.New(rand.NewPCG(s.Seed, uint64(i)))
		for _, shift := range who.Shifts {
			for range max(who.Tabs, 1) {
				p.at(shift.From+spread(random, 2*time.Second), func() { p.open(who, random, shift.To) })
			}
		}
	}
	for _, o := range s.Outages {
		p.at(o.From, func() { p.outage(o) })
	}
	p.run()
	var tabs []Tab
	for _, pg := range p.all() {
		if pg.live {
			tabs = append(tabs, Tab{pg.who.User, pg.link.Session, pg.key, pg.room})
		}
	}
	return p.core.Save(p.instant()), tabs
}

func spread(random *rand.Rand, most time.Duration) time.Duration {
	return time.Duration(random.Int64N(int64(most)))
}

// play is a script that is being played.
type play struct {
	script  Script
	core    *presence.Core
	agenda  agenda.Agenda
	now     time.Duration
	ids     uint64
	effects presence.Effects
	pages   map[presence.SessionID]*page
}

// page is a page of a person.
type page struct {
	who    *Character
	random *rand.Rand
	until  time.Duration // the end of the shift
	room   presence.RoomName

	key   string
	nonce string
	link  presence.LinkID
	live  bool          // has a link
	deaf  bool          // cannot be heard, although it has a link
	quiet bool          // nobody is at it
	input time.Duration // the last
	left  bool          // its person has gone, and forgotten it
	gone  bool          // for good
	loads int           // of a link; what was planned for an older one does not happen
}

func (p *play) at(at time.Duration, do func()) { p.agenda.Add(int64(max(at, p.now)), do) }

func (p *play) instant() presence.Instant {
	return presence.Instant{Mono: p.now, Wall: p.script.Begin.Add(p.now)}
}

// run plays everything in order, including the core's own deadlines.
func (p *play) run() {
	for {
		next := p.script.Length
		if at, ok := p.agenda.Due(); ok {
			next = min(next, time.Duration(at))
		}
		if due, ok := p.core.Due(); ok && due <= next {
			p.now = max(p.now, due)
			for more := true; more; {
				_, more = p.core.Advance(p.instant(), 1000, &p.effects)
				p.tell()
			}
			continue
		}
		if p.now = next; next >= p.script.Length {
			return
		}
		p.agenda.Next()()
	}
}

func (p *play) apply(in presence.Input) presence.Reply {
	reply, err := p.core.Apply(p.instant(), in, &p.effects)
	if _, hello := in.(presence.Hello); hello && err != nil {
		panic(fmt.Sprintf("rehearsal: a hello was refused: %v", err))
	}
	p.tell()
	return reply
}

// tell passes the effects on, and lets pages answer when they are asked for a beat.
func (p *play) tell() {
	for i := 0; i < len(p.effects.List); i++ { // an answered beat may add to them
		ask, ok := p.effects.List[i].(presence.AskBeat)
		if !ok {
			continue
		}
		_, _ = p.core.Apply(p.instant(), presence.BeatWritten{To: ask.Link, Probe: ask.Probe}, &p.effects)
		if pg := p.pages[ask.Link.Session]; pg != nil && pg.live && !pg.deaf {
			_, _ = p.core.Apply(p.instant(), presence.Beat{From: ask.Link}, &p.effects)
		}
	}
	if len(p.effects.List)+len(p.effects.Touched) > 0 && p.script.Tell != nil {
		p.script.Tell(p.script.Begin.Add(p.now), p.effects.List, p.effects.Touched)
	}
	p.effects.Reset()
}

// open opens a page with a new session.
func (p *play) open(who *Character, random *rand.Rand, until time.Duration) {
	pg := &page{who: who, random: random, until: until, room: who.Rooms[0], input: p.now}
	p.hello(pg, true)
	p.at(until+spread(random, 4*time.Minute), func() { p.end(pg) })
}

// all returns the pages that are there, always in the same order.
func (p *play) all() (list []*page) {
	for _, id := range slices.Sorted(maps.Keys(p.pages)) {
		list = append(list, p.pages[id])
	}
	return list
}

// hello gives the page a link: with its session, or, without one, with a new session.
func (p *play) hello(pg *page, reload bool) {
	p.ids++
	if reload {
		pg.nonce = fmt.Sprintf("%016x", pg.random.Uint64())
	}
	in := presence.Hello{
		User: pg.who.User, Profile: pg.who.Profile, Session: pg.link.Session, Key: pg.key, Nonce: pg.nonce, NewSession: presence.SessionID(fmt.Sprintf("session-%06x-%04x", p.ids, pg.random.Uint32()>>16)),
		NewKey: fmt.Sprintf("%016x%016x", pg.random.Uint64(), pg.random.Uint64()), Rooms: []presence.RoomName{pg.room}, NoInput: pg.who.Habits.Input == Spread{}, Stream: pg.who.Stream,
	}
	if !in.NoInput {
		idle := p.now - pg.input
		in.IdleFor = &idle
	}
	delete(p.pages, pg.link.Session)
	reply := p.apply(in)
	pg.link, pg.key, pg.live, pg.deaf = reply.Link, reply.Key, true, false
	p.pages[pg.link.Session] = pg
	pg.loads++
	p.next(pg)
	if h := pg.who.Habits; (h.Input != Spread{}) {
		p.later(pg, h.Input.draw(pg.random), func() { p.input(pg) })
	}
}

// later does something to a page after a while, if it still has the same link.
func (p *play) later(pg *page, d time.Duration, do func()) {
	load := pg.loads
	p.at(p.now+d, func() {
		if pg.live && pg.loads == load && !pg.gone && !pg.left {
			do()
		}
	})
}

// input is human input, now and then.
func (p *play) input(pg *page) {
	if !pg.quiet && !pg.deaf {
		pg.input = p.now
		p.apply(presence.Activity{From: pg.link})
	}
	p.later(pg, pg.who.Habits.Input.draw(pg.random), func() { p.input(pg) })
}

// next plans the next incident of a page.
func (p *play) next(pg *page) {
	h := &pg.who.Habits
	incidents := []Incident{h.Closing, h.Lost, h.Background, h.Typing, h.Quiet, h.Moves, h.Status}
	acts := []func(*page, Incident){p.closes, p.loses, p.backgrounds, p.types, p.rests, p.moves, p.sets}
	total := 0
	for _, one := range incidents {
		total += one.Weight
	}
	if total == 0 {
		return
	}
	p.later(pg, h.Every.draw(pg.random), func() {
		if pg.deaf {
			return
		}
		dice := pg.random.IntN(total)
		for i, one := range incidents {
			if dice -= one.Weight; dice < 0 {
				acts[i](pg, one)
				return
			}
		}
	})
}

// closes is the page that closes, which may be a reload.
func (p *play) closes(pg *page, i Incident) {
	p.apply(presence.ClosingBeacon{Session: pg.link.Session, Key: pg.key, Nonce: pg.nonce})
	p.returns(pg, i, true)
}

func (p *play) loses(pg *page, i Incident) {
	p.apply(presence.LinkLost{Link: pg.link})
	p.returns(pg, i, false)
}

func (p *play) backgrounds(pg *page, i Incident) {
	p.apply(presence.PageHidden{From: pg.link, Hidden: true})
	p.loses(pg, i)
}

// returns brings a page back after the gap of an incident, or leaves it gone.
func (p *play) returns(pg *page, i Incident, reload bool) {
	pg.live = false
	if pg.random.Float64() < i.Never {
		pg.gone = true
		delete(p.pages, pg.link.Session)
		back := time.Hour + spread(pg.random, time.Hour)
		if p.now+back < pg.until { // as somebody new to this browser
			p.at(p.now+back, func() { p.open(pg.who, pg.random, pg.until) })
		}
		return
	}
	p.at(p.now+i.Gap.draw(pg.random), func() {
		if !pg.gone {
			p.hello(pg, reload)
		}
	})
}

func (p *play) types(pg *page, i Incident) {
	length := i.Gap.draw(pg.random)
	report := func(on bool) func() {
		return func() { p.apply(presence.Typing{From: pg.link, Room: pg.room, On: on}) }
	}
	for at := time.Duration(0); at < length; at += 3 * time.Second {
		p.later(pg, at, report(true))
	}
	if pg.random.Float64() >= i.Never {
		p.later(pg, length, report(false))
	}
	p.next(pg)
}

func (p *play) rests(pg *page, i Incident) {
	pg.quiet = true
	p.at(p.now+i.Gap.draw(pg.random), func() { pg.quiet = false })
	p.next(pg)
}

func (p *play) moves(pg *page, i Incident) {
	to := func(room presence.RoomName) {
		from := pg.room
		if room == from {
			return
		}
		pg.room = room
		p.apply(presence.Join{From: pg.link, Room: room})
		p.apply(presence.Leave{From: pg.link, Room: from})
	}
	to(pg.who.Rooms[pg.random.IntN(len(pg.who.Rooms))])
	p.later(pg, i.Gap.draw(pg.random), func() { to(pg.who.Rooms[0]) })
	p.next(pg)
}

func (p *play) sets(pg *page, i Incident) {
	note := ""
	if notes := pg.who.Habits.Notes; len(notes) > 0 {
		note = notes[pg.random.IntN(len(notes))]
	}
	until := p.instant().Wall.Add(i.Gap.draw(pg.random)).UnixMilli()
	p.apply(presence.SetStatus{User: pg.who.User, Status: presence.Busy, Note: note, Until: until})
	p.next(pg)
}

// end ends a shift at a page.
func (p *play) end(pg *page) {
	if pg.gone {
		return
	}
	if !pg.live || pg.deaf { // its person gives up
		pg.gone = true
		return
	}
	switch pg.who.Ends {
	case Forgets:
		pg.left = true
		return
	case Closes:
		p.apply(presence.ClosingBeacon{Session: pg.link.Session, Key: pg.key, Nonce: pg.nonce})
	case SaysBye:
		p.apply(presence.Bye{From: pg.link})
	case Dies:
		p.apply(presence.LinkLost{Link: pg.link})
	}
	pg.live, pg.gone = false, true
	delete(p.pages, pg.link.Session)
}

// outage makes pages deaf for a while. Their links come back when it is over.
func (p *play) outage(o Outage) {
	for _, pg := range p.all() {
		if !pg.live || !o.Hits(pg.who) {
			continue
		}
		pg.deaf = true
		p.at(p.now+o.For+spread(pg.random, 20*time.Second), func() {
			if !pg.gone {
				p.hello(pg, false)
			}
		})
	}
}
