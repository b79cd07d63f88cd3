package cluster

import (
	"cmp"
	"maps"
	"slices"
)

// Owners is the table of owners.
type Owners struct {
	Version uint64   // of the stored value
	Listed  Position // of the last record about which realms there are that a plan has considered
	Realms  map[Realm]Ownership
}

// Listing are the realms that there are by the log, with their epochs.
type Listing struct {
	At     Position // of the last record that made or ended one
	Epochs map[Realm]Epoch
}

// Ownership is one realm's row in the table.
type Ownership struct {
	Owner       Name
	Incarnation Incarnation
	Epoch       Epoch
	// Handover says that the previous owner lives, and hands the realm over.
	Handover bool
}

// Candidate is a living node, as the node that makes the plan sees it.
type Candidate struct {
	Name        Name
	Incarnation Incarnation
	// Steady says that all others have heard it for long enough for it to take realms from living
	// owners.
	Steady bool
	// Leaving says that it is about to stop: its realms are handed over, and it gets no others.
	Leaving bool
}

// Plan returns the table that should follow, given the realms and the living nodes. It gives new realms
// an owner, and moves as few others as possible: those whose owner is dead, has restarted or is about to
// stop, and, while nodes own unequal numbers, some to steady nodes. Epochs only grow. A listing that is older than the
// table's adds and removes nothing. The result depends on nothing else, so all nodes make the same plan.
func Plan(now Owners, listing Listing, living []Candidate) Owners {
	next := Owners{Version: now.Version, Listed: now.Listed, Realms: maps.Clone(now.Realms)}
	if len(living) == 0 {
		return next
	}
	var orphans, leaving []Realm
	if next.Realms == nil {
		next.Realms = map[Realm]Ownership{}
	}
	if listing.At >= now.Listed {
		next.Listed = listing.At
		maps.DeleteFunc(next.Realms, func(id Realm, _ Ownership) bool { _, is := listing.Epochs[id]; return !is })
		for _, id := range slices.Sorted(maps.Keys(listing.Epochs)) {
			if _, known := next.Realms[id]; !known {
				orphans = append(orphans, id)
			}
		}
	}
	nodes := map[Name]Candidate{}
	owned := map[Name][]Realm{}
	for _, c := range living {
		nodes[c.Name] = c
		if !c.Leaving {
			owned[c.Name] = nil
		}
	}
	for _, realm := range slices.Sorted(maps.Keys(next.Realms)) {
		is := now.Realms[realm]
		switch c, lives := nodes[is.Owner]; {
		case !lives || c.Incarnation != is.Incarnation:
			orphans = append(orphans, realm)
		case c.Leaving:
			leaving = append(leaving, realm)
		default:
			owned[is.Owner] = append(owned[is.Owner], realm)
		}
	}
	give := func(realm Realm, to Name, handover bool) {
		next.Realms[realm] = Ownership{Owner: to, Incarnation: nodes[to].Incarnation, Epoch: max(now.Realms[realm].Epoch, listing.Epochs[realm]) + 1, Handover: handover}
		owned[to] = append(owned[to], realm)
	}
	fewest := func(of func(Candidate) bool) (Name, bool) {
		names := []Name{}
		for name, c := range nodes {
			if of(c) && !c.Leaving {
				names = append(names, name)
			}
		}
		if len(names) == 0 {
			return "", false
		}
		return slices.MinFunc(names, func(a, b Name) int {
			return cmp.Or(cmp.Compare(len(owned[a]), len(owned[b])), cmp.Compare(a, b))
		}), true
	}
	for _, list := range []struct {
		realms   []Realm
		handover bool
	}{{orphans, false}, {leaving, true}} {
		for _, realm := range list.realms {
			if to, ok := fewest(func(Candidate) bool { return true }); ok {
				give(realm, to, list.handover)
			}
		}
	}
	if len(owned) == 0 {
		return next
	}
	for {
		most := slices.MaxFunc(slices.Sorted(maps.Keys(owned)), func(a, b Name) int { return cmp.Compare(len(owned[a]), len(owned[b])) })
		to, ok := fewest(func(c Candidate) bool { return c.Steady })
		if !ok || len(owned[most])-len(owned[to]) < 2 {
			return next
		}
		movable := slices.DeleteFunc(slices.Clone(owned[most]), func(r Realm) bool { return next.Realms[r] != now.Realms[r] })
		if len(movable) == 0 {
			return next
		}
		realm := movable[len(movable)-1]
		owned[most] = slices.DeleteFunc(owned[most], func(r Realm) bool { return r == realm })
		give(realm, to, true)
	}
}

// Equal reports whether two tables have the same owners.
func (o Owners) Equal(other Owners) bool { return maps.Equal(o.Realms, other.Realms) }
