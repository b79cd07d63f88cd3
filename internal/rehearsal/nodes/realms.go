package nodes

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/presence"
)

// In some rehearsals a realm is ended and made again, and in some a new version is brought in, node by
// node, whose format is then put into force.

// name returns the name of a realm by its place.
func realmName(place int) string { return fmt.Sprint("aldermoor-", place+1) }

func (w *world) realmNames() (names []string) {
	for i := range w.Realms {
		names = append(names, realmName(i))
	}
	return names
}

// command appends a record of no owner over any host, until the log has it. It may have it twice.
func (w *world) command(r cluster.Record) {
	r.ID = fmt.Sprint("command-", w.id())
	over := false
	var try func()
	try = func() {
		h := w.hosts[w.random.IntN(len(w.hosts))]
		if !over && h.runs() {
			port{&w.broker, h}.Append(r, cluster.Unfenced, func(outcome cluster.Outcome) { over = over || outcome == cluster.Done })
		}
		if !over {
			w.in(w.between(500*time.Millisecond, 2*time.Second), try)
		}
	}
	try()
}

// takes notes what the log says after one more record.
func (b *broker) takes(at cluster.Position, r cluster.Record) {
	w := b.world
	if b.fold.Take(at, r, ^cluster.Format(0)) != cluster.Applies {
		return
	}
	switch r.Kind {
	case cluster.KindGone:
		w.ended(r.Realm)
	case cluster.KindMade:
		w.begins(b.fold.Number, r.Name)
	case cluster.KindFormat:
		w.tell("format %d is in force", r.Format)
		w.count("formats")
	}
}

// again ends a realm, and makes one of its name.
func (w *world) again() {
	if w.still {
		return
	}
	realm := w.someRealm()
	if realm == 0 {
		return
	}
	name := w.broker.fold.Realms[realm].Name
	w.tell("realm %d, %s, is to end", realm, name)
	w.command(cluster.Record{Kind: cluster.KindGone, Realm: realm, Changes: w.gone(name)})
	var remake func()
	remake = func() {
		if slices.Contains(w.realms, realm) {
			w.in(time.Second, remake)
			return
		}
		w.command(cluster.Record{Kind: cluster.KindMade, Name: name, Changes: w.made(name)})
	}
	w.lasts(20 * time.Second)
	w.in(w.between(0, 5*time.Second), remake)
}

// ended notes that a realm is gone. Nobody in it is expected anywhere.
func (w *world) ended(realm cluster.Realm) {
	w.tell("realm %d has ended", realm)
	w.count("realms made again")
	w.realms = slices.DeleteFunc(slices.Clone(w.realms), func(other cluster.Realm) bool { return other == realm })
	for _, p := range w.people {
		if p.realm == realm {
			p.removing = true
		}
	}
	for _, d := range w.devices {
		if d.person.realm == realm {
			d.person.removing = true
		}
	}
}

// begins brings people with the same ids into a realm that was made again.
func (w *world) begins(realm cluster.Realm, name string) {
	w.tell("realm %d, %s, is made", realm, name)
	w.realms = append(slices.Clone(w.realms), realm)
	w.less[realm] = &ownerless{}
	w.lasts(0)
	users := map[presence.UserID]bool{}
	for _, p := range slices.Clone(w.people) {
		if slices.Contains(w.realms, p.realm) || users[p.id] {
			continue
		}
		users[p.id] = true
		next := &person{id: p.id, realm: realm, issued: w.wall(0).UnixMilli()}
		w.people = append(w.people, next)
		w.in(w.between(100*time.Millisecond, 8*time.Second), func() { w.open(next) })
		w.in(w.between(5*time.Second, 40*time.Second), func() { w.set(next) })
	}
	w.device(realm, int(realm)-1)
}

// isGone reports whether a realm has ended.
func (w *world) isGone(realm cluster.Realm) bool { return !slices.Contains(w.realms, realm) }

// checkRealms checks in the end that all nodes have the same realms, and nobody is in another one.
func (w *world) checkRealms() {
	for _, h := range w.hosts {
		if got, want := fmt.Sprint(keys(h.seen)), fmt.Sprint(keys(w.broker.fold.Realms)); h.runs() && got != want {
			w.breaks(RealmsEnd, "%s has the realms %s, not %s", h.name, got, want)
		}
	}
	if got, want := fmt.Sprint(keys(w.broker.table.Realms)), fmt.Sprint(keys(w.broker.fold.Realms)); got != want {
		w.breaks(RealmsEnd, "the table has the realms %s, not %s", got, want)
	}
	for _, g := range w.pages {
		if w.isGone(g.person.realm) && g.linked {
			w.breaks(RealmsEnd, "page %d is linked in realm %d", g.number, g.person.realm)
		}
	}
}

func keys[V any](of map[cluster.Realm]V) []cluster.Realm { return slices.Sorted(maps.Keys(of)) }

// newFormat is the format of the version that is brought in.
const newFormat cluster.Format = 2

// upgrades reports whether a new version is brought in.
func (w *world) upgrades() bool { return w.Seed%4 == 3 }

// chooseVersion chooses the version that a host is started with.
func (w *world) chooseVersion(h *host) {
	h.older = false
	switch {
	case !w.upgrades():
	case w.broker.fold.Format == newFormat:
		h.knows = newFormat
		if !w.still && w.chance(0.15) {
			h.knows, h.older = 1, true
			w.tell("%s starts with an old version", h.name)
		}
	case w.chance(0.7):
		h.knows = newFormat
	}
}

// raise asks some node to put the new format into force, again and again.
func (w *world) raise() {
	if w.broker.fold.Format == newFormat {
		return
	}
	w.in(w.between(2*time.Second, 5*time.Second), w.raise)
	if h := w.hosts[w.random.IntN(len(w.hosts))]; h.runs() {
		h.run(func() {
			if err := h.node.RaiseFormat(h.at(), newFormat); err == nil {
				w.tell("%s puts format %d into force", h.name, newFormat)
			}
		})
	}
}

// restart restarts a host with the version that somebody brings in, if nothing else happens.
func (w *world) restart() {
	if w.still {
		return
	}
	w.in(w.between(4*time.Second, 10*time.Second), w.restart)
	for _, h := range w.hosts {
		if h.knows < newFormat && w.allRun() && len(w.hosts) > 1 {
			w.tell("%s is stopped for a new version", h.name)
			w.count("planned stops")
			h.run(func() { h.node.Leave(h.at()) })
			w.stops(h, w.now+5*time.Second)
			return
		}
	}
}

// stops stops a host that has handed its realms over, or needs too long, and starts it with the new version.
func (w *world) stops(h *host, limit time.Duration) {
	incarnation := h.incarnation
	w.lasts(time.Second)
	w.in(50*time.Millisecond, func() {
		switch {
		case !h.up || h.incarnation != incarnation: // it has died
			return
		case !h.runs() || !h.node.OwnsNone() && w.now < limit:
			w.stops(h, limit)
			return
		case !h.node.OwnsNone():
			w.count("stops without handover")
		}
		h.run(func() { h.node.SendAllAway(h.at()) })
		w.in(w.between(20*time.Millisecond, 200*time.Millisecond), func() {
			if !h.up || h.incarnation != incarnation {
				return
			}
			w.tell("%s stops", h.name)
			h.die(true)
			h.knows = newFormat
			w.in(w.between(200*time.Millisecond, time.Second), func() {
				if !h.up {
					h.start(true)
				}
			})
		})
	})
}

// halts ends a host whose node says that it cannot go on. It comes back with the new version.
func (w *world) halts(h *host, why string) {
	w.tell("%s halts: %s", h.name, why)
	w.count("halts")
	if !h.older || w.broker.fold.Format <= h.knows {
		w.breaks(FormatsKnown, "%s knows %d: %s", h.name, h.knows, why)
	}
	h.die(true)
	away := w.between(time.Second, 6*time.Second)
	w.lasts(away)
	w.in(away, func() {
		h.older, h.knows = false, newFormat // somebody has read what it said
		h.start(true)
	})
}
