package cluster

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"time"

	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// Wish is what a node follows of a realm: the rooms of a pattern, in a view.
type Wish struct {
	Pattern presence.Pattern
	View    presence.View
}

func (w Wish) wants(topic engine.Topic) bool {
	return w.View == topic.View && w.Pattern.Match(topic.Room)
}

// lists are the lists of a realm that a node follows, as its receivers have them. They stand still
// while the realm has no owner. Under another owner, receivers get the difference as one batch.
type lists struct {
	wishes wishes
	people map[engine.Subject]bool // whether the present owner has answered
	topics map[engine.Topic]*list
	awaits map[engine.Topic]bool // rooms that the owner has named, and whose states have not come yet
	sights map[engine.Subject]engine.Sight
}

// list is a room as a view sees it.
type list struct {
	revision engine.Revision
	members  map[presence.UserID]presence.Member
	sorted   []presence.Member // them, by user id; nil: nobody has asked since they changed
	count    presence.Count
	typists  []presence.UserID
	asks     []presence.OpenAsk
	current  bool // it is the present owner's
}

func newLists() lists {
	return lists{wishes: newWishes(), people: map[engine.Subject]bool{}, topics: map[engine.Topic]*list{}, awaits: map[engine.Topic]bool{}, sights: map[engine.Subject]engine.Sight{}}
}

// stale notes that another owner has begun, or that messages were lost.
func (l *lists) stale() {
	for wish := range l.wishes.answered {
		l.wishes.answered[wish] = false
	}
	for subject := range l.people {
		l.people[subject] = false
	}
	for _, is := range l.topics {
		is.current = false
	}
	clear(l.awaits)
}

// unanswered returns the wishes that the owner has not answered.
func (l *lists) unanswered() (f Follow) {
	for wish, answered := range l.wishes.answered {
		if !answered {
			f.Wishes = append(f.Wishes, wish)
		}
	}
	for subject, answered := range l.people {
		if !answered {
			f.People = append(f.People, subject)
		}
	}
	slices.SortFunc(f.Wishes, func(a, b Wish) int { return strings.Compare(a.text(), b.text()) })
	slices.SortFunc(f.People, func(a, b engine.Subject) int { return strings.Compare(subjectText(a), subjectText(b)) })
	return f
}

func (w Wish) text() string               { return string(w.Pattern) + string(rune('0'+w.View)) }
func subjectText(s engine.Subject) string { return string(s.User) + string(rune('0'+s.View)) }

func compareTopics(a, b engine.Topic) int {
	return cmp.Or(strings.Compare(string(a.Room), string(b.Room)), cmp.Compare(a.View, b.View))
}

// wishes are what a node follows. Most name one room, and are found at once.
type wishes struct {
	answered map[Wish]bool // whether the present owner has answered
	wild     map[Wish]bool // those that name many rooms
}

func newWishes() wishes { return wishes{map[Wish]bool{}, map[Wish]bool{}} }

func (w *wishes) add(wish Wish) {
	w.answered[wish] = false
	if _, single := wish.Pattern.Room(); !single {
		w.wild[wish] = true
	}
}

func (w *wishes) remove(wish Wish) {
	delete(w.answered, wish)
	delete(w.wild, wish)
}

// want reports whether any wish has a topic.
func (w *wishes) want(topic engine.Topic) bool {
	if _, named := w.answered[Wish{presence.Pattern(topic.Room), topic.View}]; named {
		return true
	}
	for wish := range w.wild {
		if wish.wants(topic) {
			return true
		}
	}
	return false
}

// take takes a message of the owner about lists. It returns what to show to receivers: a
// [*engine.Batch]; an [engine.Topic], whose list is known now and was the same before; an
// [engine.Typists], [engine.Asks] or [engine.Sight]. It returns false if a change does not follow what
// is known of its topic, so that the list must be asked for.
func (l *lists) take(what Down, at time.Time) (show []any, missing engine.Topic, ok bool) {
	switch what := what.(type) {
	case Rooms:
		return l.rooms(what, at), engine.Topic{}, true
	case State:
		return l.state(what, at), engine.Topic{}, true
	case News:
		switch is := what.What.(type) {
		case *engine.Batch:
			if !l.wishes.want(is.Topic) {
				return nil, engine.Topic{}, true
			}
			if !l.batch(is) {
				return nil, is.Topic, false
			}
		case engine.Typists:
			known := l.topics[is.Topic]
			if known == nil || !known.current {
				return nil, engine.Topic{}, true // its state will have them
			}
			known.typists = is.Users
		case engine.Topic:
			if known := l.topics[is]; known != nil && !known.current {
				return nil, engine.Topic{}, true
			}
		case engine.Asks:
			for _, view := range []presence.View{presence.Full, presence.Open} {
				if known := l.topics[engine.Topic{Room: is.Room, View: view}]; known != nil {
					known.asks = is.Open
				}
			}
		case engine.Sight:
			if _, wanted := l.people[is.Subject]; !wanted {
				return nil, engine.Topic{}, true
			}
			l.people[is.Subject], l.sights[is.Subject] = true, is
		}
		return []any{what.What}, engine.Topic{}, true
	}
	return nil, engine.Topic{}, true
}

// rooms takes the names of all rooms of a wish. Other rooms of it have ended.
func (l *lists) rooms(r Rooms, at time.Time) (show []any) {
	if _, wished := l.wishes.answered[r.Wish]; !wished {
		return nil
	}
	l.wishes.answered[r.Wish] = true
	for _, room := range r.Names {
		topic := engine.Topic{Room: room, View: r.Wish.View}
		if is := l.topics[topic]; is == nil || !is.current {
			l.awaits[topic] = true
		}
	}
	if room, single := r.Wish.Pattern.Room(); single { // as most do
		topic := engine.Topic{Room: room, View: r.Wish.View}
		if len(r.Names) > 0 {
			return nil
		}
		if l.topics[topic] != nil {
			show = l.differs(engine.Snapshot{Topic: topic}, at)
		}
		return append(show, topic)
	}
	exist, ended := map[presence.RoomName]bool{}, []engine.Topic{}
	for _, room := range r.Names {
		exist[room] = true
	}
	for topic := range l.topics {
		if r.Wish.wants(topic) && !exist[topic.Room] {
			ended = append(ended, topic)
		}
	}
	slices.SortFunc(ended, compareTopics)
	for _, topic := range ended {
		show = append(show, l.differs(engine.Snapshot{Topic: topic}, at)...)
	}
	return show
}

// state takes a whole list.
func (l *lists) state(s State, at time.Time) (show []any) {
	topic := s.Snapshot.Topic
	delete(l.awaits, topic)
	if !l.wishes.want(topic) {
		return nil
	}
	known := l.topics[topic]
	if !s.Snapshot.Exists && known == nil {
		return []any{topic}
	}
	show = l.differs(s.Snapshot, at)
	if known = l.topics[topic]; known == nil {
		return show
	}
	known.current = true
	if !slices.Equal(known.typists, s.Typists) {
		known.typists = s.Typists
		show = append(show, engine.Typists{Topic: topic, Users: s.Typists})
	}
	if !slices.Equal(known.asks, s.Asks) {
		known.asks = s.Asks
		show = append(show, engine.Asks{Room: topic.Room, Open: s.Asks})
	}
	return show
}

// differs puts the difference between what is known of a topic and a snapshot into one batch. Of a room that was not known,
// the batch follows no revision that a receiver has: whoever was told that there is no such room gets it whole.
func (l *lists) differs(s engine.Snapshot, at time.Time) []any {
	known := l.topics[s.Topic]
	if known == nil {
		known = &list{members: map[presence.UserID]presence.Member{}}
		l.topics[s.Topic] = known
	} else if s.Exists && known.revision == s.Revision {
		return []any{s.Topic}
	}
	before := known.revision
	b := &engine.Batch{Topic: s.Topic, Revision: s.Revision, At: at, Count: s.Count, Ended: !s.Exists}
	if before != (engine.Revision{}) {
		b.After = &before
	}
	if b.Ended {
		b.Revision = engine.Revision{Run: before.Run, Number: before.Number + 1}
	}
	is := make(map[presence.UserID]presence.Member, len(s.Members))
	for _, m := range s.Members {
		is[m.User] = m
		b.Compare(known.members[m.User], m)
	}
	for _, user := range slices.Sorted(maps.Keys(known.members)) {
		if _, stays := is[user]; !stays {
			b.Left = append(b.Left, l.departure(s.Topic, user))
		}
	}
	known.revision, known.members, known.sorted, known.count = b.Revision, is, nil, s.Count
	if b.Ended {
		delete(l.topics, s.Topic)
	}
	return []any{b}
}

// departure describes a member who is missing from a newer list. Why and when they left was not
// heard.
func (l *lists) departure(from engine.Topic, user presence.UserID) engine.Departure {
	d := engine.Departure{User: user, Status: presence.Offline, Reason: presence.ReasonLost}
	for topic, is := range l.topics { // all of them have the same status of a person
		if m, elsewhere := is.members[user]; elsewhere && topic.View == from.View && topic != from {
			d.Status, d.Reason = m.Status, presence.ReasonLeave
		}
	}
	return d
}

// batch applies a batch. It returns false if the batch does not follow what is known.
func (l *lists) batch(b *engine.Batch) bool {
	known := l.topics[b.Topic]
	if known == nil && b.Revision.Number == 1 && l.answered(b.Topic) { // otherwise a restored room has had members before
		known = &list{members: map[presence.UserID]presence.Member{}, revision: b.Revision.Previous(), current: true}
		l.topics[b.Topic] = known
	}
	if known == nil || !known.current || known.revision != b.Revision.Previous() {
		if known != nil {
			known.current = false
		}
		return false
	}
	known.revision, known.sorted, known.count = b.Revision, nil, b.Count
	for _, list := range [][]presence.Member{b.Joined, b.Changed, b.Doing} {
		for _, m := range list {
			known.members[m.User] = m
		}
	}
	for _, d := range b.Left {
		delete(known.members, d.User)
	}
	if b.Ended {
		delete(l.topics, b.Topic)
	}
	return true
}

// snapshot returns a list; false if it is not known, or not the present owner's.
func (l *lists) snapshot(topic engine.Topic) (engine.Snapshot, bool) {
	is := l.topics[topic]
	if is == nil {
		_, known := l.known(topic)
		return engine.Snapshot{Topic: topic}, known
	}
	if is.sorted == nil {
		is.sorted = slices.SortedFunc(maps.Values(is.members), func(a, b presence.Member) int { return strings.Compare(string(a.User), string(b.User)) })
	}
	return engine.Snapshot{Topic: topic, Revision: is.revision, Count: is.count, Exists: true, Members: is.sorted}, is.current
}

// known returns the revision of a list, zero if there is no such room, and whether it is known as the present owner's.
func (l *lists) known(topic engine.Topic) (engine.Revision, bool) {
	if is := l.topics[topic]; is != nil {
		return is.revision, is.current
	}
	return engine.Revision{}, l.answered(topic) && !l.awaits[topic]
}

// answered reports whether the owner has answered a wish that has the topic.
func (l *lists) answered(topic engine.Topic) bool {
	if l.wishes.answered[Wish{presence.Pattern(topic.Room), topic.View}] {
		return true
	}
	for wish := range l.wishes.wild {
		if l.wishes.answered[wish] && wish.wants(topic) {
			return true
		}
	}
	return false
}

// forget forgets what nobody follows any more.
func (l *lists) forget() {
	maps.DeleteFunc(l.topics, func(topic engine.Topic, _ *list) bool { return !l.wishes.want(topic) })
	maps.DeleteFunc(l.sights, func(subject engine.Subject, _ engine.Sight) bool { _, wanted := l.people[subject]; return !wanted })
}

// Follow follows lists and people of a realm, from now on.
func (n *Node) Follow(at presence.Instant, id Realm, f Follow) {
	n.runs(at)
	r := n.realms[id]
	if r == nil {
		return
	}
	for _, wish := range f.Wishes {
		r.lists.wishes.add(wish)
	}
	for _, subject := range f.People {
		r.lists.people[subject] = false
	}
	n.toOwner(r, f)
}

// Unfollow ends that.
func (n *Node) Unfollow(at presence.Instant, id Realm, u Unfollow) {
	n.runs(at)
	r := n.realms[id]
	if r == nil {
		return
	}
	for _, wish := range u.Wishes {
		r.lists.wishes.remove(wish)
	}
	for _, subject := range u.People {
		delete(r.lists.people, subject)
	}
	r.lists.forget()
	n.toOwner(r, u)
}

// follow asks for what is followed and not answered.
func (n *Node) follow(r *realm) {
	if f := r.lists.unanswered(); len(f.Wishes)+len(f.People) > 0 {
		n.toOwner(r, f)
	}
}

// List returns a followed list, which is not to be changed. It returns false if the owner has not told it yet.
func (n *Node) List(id Realm, topic engine.Topic) (engine.Snapshot, bool) {
	r := n.realms[id]
	if r == nil {
		return engine.Snapshot{}, false
	}
	return r.lists.snapshot(topic)
}

// Follows reports whether a list is followed.
func (n *Node) Follows(id Realm, topic engine.Topic) bool {
	r := n.realms[id]
	return r != nil && r.lists.wishes.want(topic)
}

// Revision returns the revision of a followed list, zero if there is no such room. It returns false if the owner has not
// told it yet.
func (n *Node) Revision(id Realm, topic engine.Topic) (engine.Revision, bool) {
	r := n.realms[id]
	if r == nil {
		return engine.Revision{}, false
	}
	return r.lists.known(topic)
}

// Sight returns a followed person. It returns false if the owner has not told them yet.
func (n *Node) Sight(id Realm, subject engine.Subject) (engine.Sight, bool) {
	r := n.realms[id]
	if r == nil {
		return engine.Sight{}, false
	}
	return r.lists.sights[subject], r.lists.people[subject]
}
