package cluster

import (
	"cmp"
	"maps"
	"slices"
)

// Owners is the table: who owns what.
type Owners struct {
	Version uint64 // of the stored value
	Realms  map[Realm]Ownership
}

// Ownership is one realm's row in the table.
type Ownership struct {
	Owner       Name
	Incarnation Incarnation
	Epoch       Epoch
	// Handover says that the owner before gives the realm away by itself.
	Handover bool
}

// Candidate is a node as its judge sees it.
type Candidate struct {
	Name        Name
	Incarnation Incarnation
	// Steady says that all others have heard it for long enough to be given realms of living
	// owners.
	Steady bool
}

// Plan returns who should own what, given the living nodes; it changes as little as possible. A
// realm whose owner lives and has the same incarnation stays, unless nodes own unequal numbers:
// then as few realms as will do are handed over to steady nodes. Epochs only grow. The result
// depends on nothing else, so whoever makes a plan makes the same one.
func Plan(now Owners, living []Candidate) Owners {
	next := Owners{Version: now.Version, Realms: maps.Clone(now.Realms)}
	if len(living) == 0 {
		return next
	}
	nodes := map[Name]Candidate{}
	owned := map[Name][]Realm{}
	for _, c := range living {
		nodes[c.Name], owned[c.Name] = c, nil
	}
	realms := slices.Sorted(maps.Keys(now.Realms))
	var orphans []Realm
	for _, realm := range realms {
		is := now.Realms[realm]
		if c, lives := nodes[is.Owner]; lives && c.Incarnation == is.Incarnation {
			owned[is.Owner] = append(owned[is.Owner], realm)
		} else {
			orphans = append(orphans, realm)
		}
	}
	give := func(realm Realm, to Name, handover bool) {
		next.Realms[realm] = Ownership{Owner: to, Incarnation: nodes[to].Incarnation, Epoch: now.Realms[realm].Epoch + 1, Handover: handover}
		owned[to] = append(owned[to], realm)
	}
	fewest := func(of func(Candidate) bool) (Name, bool) {
		names := []Name{}
		for name, c := range nodes {
			if of(c) {
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
	for _, realm := range orphans {
		to, _ := fewest(func(Candidate) bool { return true })
		give(realm, to, false)
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

// Equal reports whether two tables say the same.
func (o Owners) Equal(other Owners) bool { return maps.Equal(o.Realms, other.Realms) }
