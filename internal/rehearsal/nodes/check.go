package nodes

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// owner returns the host that owns a realm and speaks, by the newest epoch that has begun.
func (w *world) owner(realm cluster.Realm) *host {
	h, _ := w.owned(realm)
	return h
}

func (w *world) owned(realm cluster.Realm) (*host, cluster.Owned) {
	begun := w.broker.begun[realm]
	for _, h := range w.hosts {
		if !h.runs() {
			continue
		}
		if is, ok := h.node.Owned(realm); ok && is.Speaks && is.Epoch >= begun {
			return h, is
		}
	}
	return nil, cluster.Owned{}
}

// watch checks what must be true at every moment, and counts the time without an owner.
func (w *world) watch() {
	const every = 100 * time.Millisecond
	for _, realm := range w.realms {
		is := w.less[realm]
		owner, owned := w.owned(realm)
		if owner == nil {
			is.total, is.now = is.total+every, is.now+every
			w.result.Longest = max(w.result.Longest, is.now)
			w.result.Ownerless += every
		} else {
			if is.now > 0 || owned.Epoch != is.epoch {
				is.since, is.epoch = w.now, owned.Epoch
			}
			is.now = 0
		}
		if len(is.log) == 0 || w.now-is.log[len(is.log)-1].at >= 2*time.Second {
			is.log = append(is.log, sample{w.now, is.total})
			w.ghosts(realm)
		}
		w.oneOwner(realm)
		w.ownedSoon(realm)
		w.moves(realm)
	}
	w.in(every, w.watch)
}

// ownedSoon checks that a realm has an owner again some time after the last fault, if a majority of
// nodes reach each other.
func (w *world) ownedSoon(realm cluster.Realm) {
	const soon = 15 * time.Second
	if w.less[realm].now <= soon || w.now < max(w.broker.stalled, w.cutAt, w.healed)+soon {
		return
	}
	for _, h := range w.hosts {
		if !h.up || h.began > w.now-soon || h.paused > w.now-soon {
			return
		}
	}
	if slices.ContainsFunc(w.hosts, w.broker.serves) {
		w.breaks(OwnedSoon, "realm %d has had none for %v", realm, w.less[realm].now)
	}
}

// settled reports whether a host has run, and it and a realm's owner have reached each other, for a
// while.
func (w *world) settled(h, owner *host, d time.Duration) bool {
	return h.runs() && owner.runs() && w.now > h.began+d && w.now > owner.began+d && w.now > h.paused+d && w.now > owner.paused+d && w.now > w.healed+d && w.linked(h, owner) && w.linked(owner, h)
}

// notReady checks that a node refuses a hello only if its realm had no owner that it reaches.
func (w *world) notReady(h *host, realm cluster.Realm) {
	const enough = 2 * time.Second
	owner, _ := w.owned(realm)
	if owner != nil && w.less[realm].now == 0 && w.now > w.less[realm].since+enough && w.settled(h, owner, 2*enough) {
		w.breaks(RequestsAnswered, "%s refuses a hello for realm %d although %s has owned it since %v", h.name, realm, owner.name, w.less[realm].since)
	}
}

// mayNotSay checks that an owner that stood still says nothing about its realm if another one has
// begun.
func (h *host) mayNotSay(e cluster.Envelope) {
	w := h.world
	if h.paused == 0 || w.now > h.paused+100*time.Millisecond || h.stood <= time.Second {
		return
	}
	proof := w.broker.marked[h.name]
	for _, m := range e.Messages {
		if is, ok := m.(cluster.FromOwner); ok && is.Epoch < w.broker.begun[is.Realm] && (proof.when < h.paused || proof.at > w.broker.begunAt[is.Realm]) {
			w.breaks(ReplacedAreSilent, "%s stood still for %v, and says %T of epoch %d; %d has begun", h.name, h.stood, is.What, is.Epoch, w.broker.begun[is.Realm])
		}
	}
}

// moves checks that pages are sent away from a host that cannot reach their owner, if others can.
func (w *world) moves(realm cluster.Realm) {
	const soon = 7 * time.Second
	owner, _ := w.owned(realm)
	if owner == nil || w.now < w.cutAt+soon || len(w.broker.cut) == 0 || w.now < w.less[realm].since+soon {
		return
	}
	for _, g := range w.pages {
		if g.person.realm != realm || !g.stands() || w.now < g.linkedAt+soon {
			continue
		}
		h := g.conn.host
		if h == owner || w.reaches(h, owner) || w.reaches(owner, h) || w.now < h.began+soon || w.now < h.paused+soon || w.now < owner.paused+soon {
			continue
		}
		if slices.ContainsFunc(w.hosts, func(other *host) bool {
			return other != h && other != owner && w.settled(other, owner, soon) && w.settled(h, other, soon)
		}) {
			w.breaks(PagesMove, "page %d is at %s, which has been cut off from %s since %v", g.number, h.name, owner.name, w.cutAt)
		}
	}
}

// agree checks that owners and carriers have the same links, and pages the links that they think they
// have, where nothing was broken for a while. What is still on its way counts a second later.
func (w *world) agree() {
	before := w.disagreements()
	w.in(time.Second, func() {
		for link, text := range w.disagreements() {
			if _, still := before[link]; still {
				w.breaks(LinksAgree, "%s", text)
			}
		}
	})
}

func (w *world) disagreements() map[presence.LinkID]string {
	found := map[presence.LinkID]string{}
	for _, realm := range w.realms {
		owner, is := w.owned(realm)
		if owner == nil || w.less[realm].now > 0 || w.now < w.less[realm].since+5*time.Second {
			continue
		}
		for link, name := range owner.node.Carriers(realm) {
			h := w.host(name)
			if now, live := is.Engine.LinkOf(link.Session, presence.Full); !live || now.Link != link || !w.settled(h, owner, 5*time.Second) {
				continue
			}
			if !h.node.Carries(realm, link) {
				found[link] = fmt.Sprintf("%s takes %s over %x for carried by %s", owner.name, link.Session, link.Number, name)
			}
		}
		for _, g := range w.pages {
			if g.person.realm != realm || !g.stands() || w.now < g.linkedAt+5*time.Second || !w.settled(g.conn.host, owner, 5*time.Second) {
				continue
			}
			link := presence.LinkID{Session: g.session, Number: g.link}
			if now, live := is.Engine.LinkOf(g.session, presence.Full); !live || now.Link != link {
				found[link] = fmt.Sprintf("page %d has %s over %x at %s; %s has it over %x, live: %v", g.number, g.session, g.link, g.conn.host.name, owner.name, now.Link.Number, live)
			}
		}
	}
	return found
}

// oneOwner checks that no two nodes run a realm under the same epoch.
func (w *world) oneOwner(realm cluster.Realm) {
	for i, h := range w.hosts {
		is, ok := h.owns(realm)
		if !ok {
			continue
		}
		for _, other := range w.hosts[:i] {
			if also, ok := other.owns(realm); ok && also.Epoch == is.Epoch {
				w.breaks(OneOwner, "%s and %s own realm %d in epoch %d", other.name, h.name, realm, is.Epoch)
			}
		}
	}
}

func (h *host) owns(realm cluster.Realm) (is cluster.Owned, ok bool) {
	if h.up {
		is, ok = h.node.Owned(realm)
	}
	return is, ok
}

func (w *world) sawJoin(h *host, realm cluster.Realm, room presence.RoomName, user presence.UserID) {
	for p, at := range w.removed {
		if p.id == user && p.realm == realm && w.now > max(at, h.paused)+3*time.Second { // it may catch up after a pause
			w.breaks(RemovedStayAway, "%s sees %s in %s, removed at %v", h.name, user, room, at)
		}
	}
}

// sawLeave checks a leave that a host shows: by the rules, the person must have left.
func (w *world) sawLeave(h *host, realm cluster.Realm, room presence.RoomName, user presence.UserID) {
	w.count("leaves")
	w.tell("%s shows that %s left %s", h.name, user, room)
	w.sawDeviceLeave(h, realm, user)
	for _, g := range w.pages {
		if g.since > h.paused-h.stood && w.now < h.paused+time.Second { // it may still be catching up with what came before
			continue
		}
		if g.person.id != user || g.person.realm != realm || !g.alive || !slices.Contains(g.rooms, room) || !g.remains() || g.since > w.now-100*time.Millisecond || w.now < g.excused || w.unrecorded(g, room) {
			continue
		}
		w.breaks(NobodyLeaves, "%s sees %s leave %s; page %d has %s, linked: %v, lost %v ago, grace %v", h.name, user, room, g.number, g.session, g.linked, w.now-g.lost, g.grace)
		return
	}
}

// sawDeviceLeave is sawLeave for a device.
func (w *world) sawDeviceLeave(h *host, realm cluster.Realm, user presence.UserID) {
	for _, d := range w.devices {
		if d.person.id == user && d.person.realm == realm && d.session != "" && d.remains() && w.now >= d.excused {
			w.breaks(NobodyLeaves, "%s sees %s leave, answered %v ago", h.name, user, w.now-d.beat)
		}
	}
}

// unrecorded reports whether the exception of docs/cluster.md applies to a page: its link, or that it
// was in a room over it, is not in the log; another owner has taken over; and the node that gave the
// link cannot report it, because it was the previous owner's, has died, or is cut off.
func (w *world) unrecorded(g *page, rooms ...presence.RoomName) bool {
	owner, is := w.owned(g.person.realm)
	if owner != nil && is.Epoch == cluster.Epoch(g.link>>32) {
		return false
	}
	if owner != nil && g.exception == (exception{g.link, is.Epoch}) { // one node has shown it; others hear of it later
		return true
	}
	reports := !g.byOwn && g.atNode.runs() && w.now > g.atNode.paused+time.Second && g.atNode.incarnation == g.atIncarnation && owner != nil && w.linked(owner, g.atNode) && w.linked(g.atNode, owner) && w.now > w.healed+time.Second // or its report is on its way
	recorded, known := w.broker.recorded[presence.LinkID{Session: g.session, Number: g.link}]
	if reports || known && !slices.ContainsFunc(rooms, func(room presence.RoomName) bool { return !slices.Contains(recorded, room) }) {
		return false
	}
	w.count("exceptions")
	if owner != nil {
		g.exception = exception{g.link, is.Epoch}
	}
	return true
}

// exception is the link of a page that an owner could not know.
type exception struct {
	link  presence.LinkNumber
	epoch cluster.Epoch
}

// ghosts looks for people who are shown long after they have gone.
func (w *world) ghosts(realm cluster.Realm) {
	owner, is := w.owned(realm)
	if owner == nil || w.now < w.healed+3*time.Second {
		return
	}
	pages := map[presence.UserID][]*page{}
	for _, g := range w.pages {
		if g.person.realm == realm {
			pages[g.person.id] = append(pages[g.person.id], g)
		}
	}
	gone := func(room presence.RoomName, user presence.UserID) time.Duration {
		if slices.ContainsFunc(w.devices, func(d *device) bool { return d.person.id == user && d.person.realm == realm && d.room == room }) {
			return w.now
		}
		at := w.shown[place{realm, room, user}]
		for _, g := range pages[user] {
			if room != gate && !slices.Contains(g.rooms, room) && !slices.Contains(g.want, room) { // it may be let in at the gate without hearing of it
				continue
			}
			if g.alive {
				return w.now
			}
			at = max(at, g.gone)
		}
		return at
	}
	bound := w.policy.BeatEvery + w.policy.Silence() + w.policy.GraceLost + 4*time.Second
	for _, h := range w.hosts {
		if !h.runs() || h.seen[realm] == nil || h.seen[realm].epoch != is.Epoch || !w.linked(h, owner) || !w.linked(owner, h) {
			continue
		}
		for topic, is := range h.seen[realm].topics {
			for user := range is.members {
				at := max(gone(topic.Room, user), w.less[realm].since)
				if w.now > at+bound+w.less[realm].during(at) {
					w.breaks(NoGhosts, "%s shows %s in %s, gone for %v", h.name, user, topic.Room, w.now-at)
				}
			}
		}
	}
}

// during returns the time without an owner since a moment.
func (o *ownerless) during(since time.Duration) time.Duration {
	before := time.Duration(0)
	for _, s := range o.log {
		if s.at > since {
			break
		}
		before = s.total
	}
	return o.total - before
}

func (l shown) String() string {
	var text strings.Builder
	for _, room := range slices.Sorted(maps.Keys(l)) {
		for _, user := range slices.Sorted(maps.Keys(l[room])) {
			fmt.Fprintf(&text, "%s %s %d; ", room, user, l[room][user])
		}
	}
	return text.String()
}

// shown are the numbers of sessions of the members of all rooms.
type shown map[presence.RoomName]map[presence.UserID]int

// end checks what must be true after the quiet time.
func (w *world) end() {
	for _, realm := range w.realms {
		owner, is := w.owned(realm)
		if owner == nil {
			w.breaks(OwnedInTheEnd, "realm %d has none", realm)
			continue
		}
		truth, core := shown{}, shown{}
		for _, g := range w.pages {
			if g.person.realm != realm || !g.alive {
				continue
			}
			if !g.linked {
				if !g.person.removing {
					w.breaks(LinkedInTheEnd, "page %d of %s is not", g.number, g.person.id)
				}
				continue
			}
			for _, room := range g.rooms {
				if truth[room] == nil {
					truth[room] = map[presence.UserID]int{}
				}
				truth[room][g.person.id]++
			}
		}
		for _, d := range w.devices {
			if d.person.realm == realm {
				if truth[d.room] == nil {
					truth[d.room] = map[presence.UserID]int{}
				}
				truth[d.room][d.person.id]++
			}
		}
		for room := range is.Engine.Rooms(presence.Full) {
			core[room] = map[presence.UserID]int{}
			for _, m := range is.Engine.MembersNow(room) {
				core[room][m.User] = m.Sessions
			}
		}
		if truth.String() != core.String() {
			w.breaks(TruthInTheEnd, "realm %d:\n  true: %s\n  core: %s", realm, truth, core)
		}
		for _, h := range w.hosts {
			w.sees(h, realm, is.Engine)
		}
		w.rowsAreTrue(owner, realm, is.Engine)
	}
	for _, h := range w.hosts {
		if now, most := h.node.Waiting(); now > 1<<16 || most > 5<<20 {
			w.breaks(QueuesBounded, "%s: %d bytes wait, and up to %d have", h.name, now, most)
		}
	}
	w.keeps()
	w.equalRows()
	for _, g := range w.pages {
		if _, is := w.removed[g.person]; is && g.linked {
			w.breaks(RemovedStayAway, "%s is linked in the end", g.person.id)
		}
	}
	w.checkRealms()
}

// keeps checks that what was answered as durable is not lost, and that nothing waits for ever.
func (w *world) keeps() {
	for _, p := range w.people {
		_, is := w.owned(p.realm)
		if is.Engine == nil || p.removing || p.setting || p.unsure {
			continue
		}
		saved, _ := is.Engine.Save(p.id)
		if saved.Set.Note != p.note || saved.Hidden != p.hidden {
			w.breaks(AnswersLast, "%s has %q, hidden: %v; answered were %q, %v", p.id, saved.Set.Note, saved.Hidden, p.note, p.hidden)
		}
	}
	for _, g := range w.pages {
		_, is := w.owned(g.person.realm)
		if is.Engine == nil || !g.linked {
			continue
		}
		saved, _ := is.Engine.Save(g.person.id)
		if own := g.knows.own; own.Set != saved.Set || own.Hidden != saved.Hidden || len(g.knows.asks)+len(g.knows.invitations) > 0 {
			w.breaks(PagesKnow, "page %d of %s has %v, hidden: %v, %v %v; true are %v, %v", g.number, g.person.id, own.Set, own.Hidden, g.knows.asks, g.knows.invitations, saved.Set, saved.Hidden)
		}
	}
	for _, realm := range w.realms {
		if _, is := w.owned(realm); is.Engine != nil && len(is.Engine.OpenAsks())+len(is.Engine.OpenInvitations()) > 0 {
			w.breaks(NothingWaits, "realm %d: %v %v", realm, is.Engine.OpenAsks(), is.Engine.OpenInvitations())
		}
	}
}

// rowsAreTrue checks that an owner has recorded what its core has, so that the next one begins with the truth.
func (w *world) rowsAreTrue(h *host, realm cluster.Realm, is *engine.Engine) {
	sessions := 0
	for _, p := range h.records.State(realm).People {
		sessions += len(p.Sessions)
		now, _ := is.Save(p.User)
		if on, core := lasting(p), lasting(now); on != core {
			w.breaks(RowsAreTrue, "%s, realm %d, %s:\n  row:  %s\n  core: %s", h.name, realm, p.User, on, core)
		}
	}
	if core := is.Size().Sessions; sessions != core {
		w.breaks(RowsAreTrue, "%s, realm %d: rows of %d sessions, and %d in the core", h.name, realm, sessions, core)
	}
}

// lasting describes what is saved of a person with each change. The times of their last signs are not.
func lasting(p presence.SavedPerson) string {
	var text strings.Builder
	fmt.Fprintf(&text, "%v hidden: %v, note %q", p.Profile, p.Hidden, p.Set.Note)
	for _, s := range p.Sessions {
		fmt.Fprintf(&text, "; %s %s over %x, live: %v %v, idle: %v, until %d", s.ID, s.Key, s.Link, s.Live, s.Reason, s.Idle, s.Expires)
		for _, e := range s.Rooms {
			fmt.Fprintf(&text, " in %s %v", e.Room, e.Reason)
		}
	}
	return text.String()
}

// equalRows checks that hosts at the same position have the same rows.
func (w *world) equalRows() {
	at := map[cluster.Position]*replica{}
	for _, h := range w.hosts {
		is := h.records
		if h.up {
			h.put()
			is.position = h.read // up to there, no further rows
		}
		other := at[is.position]
		at[is.position] = is
		switch {
		case other == nil:
		case other.Text() != is.Text():
			w.breaks(EqualRows, "%s at %d", h.name, is.position)
		default:
			if here, ok := is.table.(*file); ok {
				if differ := here.differs(other.table.(*file)); len(differ) > 0 {
					w.breaks(EqualRows, "%s at %d: %s", h.name, is.position, strings.Join(differ, "; "))
				}
			}
		}
	}
}

// sees checks that the receivers of a host have exactly what the owner's engine has.
func (w *world) sees(h *host, realm cluster.Realm, is *engine.Engine) {
	to := h.seen[realm]
	if to == nil {
		return
	}
	for _, wish := range to.wishes {
		for room := range is.Rooms(wish.View) {
			topic := engine.Topic{Room: room, View: wish.View}
			if !wish.Pattern.Match(room) {
				continue
			}
			s := is.Sealed(topic)
			typists, _ := is.Registers(topic)
			has := to.topics[topic]
			if has == nil {
				w.breaks(SeenInTheEnd, "%s does not see %v of realm %d", h.name, topic, realm)
				continue
			}
			members := slices.SortedFunc(maps.Values(has.members), func(a, b presence.Member) int { return strings.Compare(string(a.User), string(b.User)) })
			if has.revision != s.Revision || !slices.Equal(members, s.Members) || !slices.Equal(has.typists, typists) {
				w.breaks(SeenInTheEnd, "%s, realm %d, %v:\n  seen: %v %v %v\n  core: %v %v %v", h.name, realm, topic, has.revision, members, has.typists, s.Revision, s.Members, typists)
			}
		}
	}
	for topic := range to.topics {
		if !is.Sealed(topic).Exists {
			w.breaks(SeenInTheEnd, "%s sees %v of realm %d, which has ended", h.name, topic, realm)
		}
	}
	for _, subject := range to.people {
		if has, now := to.sights[subject], is.Sight(subject); has != now {
			w.breaks(SeenInTheEnd, "%s, realm %d: sees %+v, not %+v", h.name, realm, has, now)
		}
	}
}
