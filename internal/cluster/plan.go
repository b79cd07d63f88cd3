package cluster

import (
	"cmp"
	"maps"
	"slices"
)

// Owners is the table of owners.
type Owners struct {
	Version uint64 // of the stored value
	Realms  map[Realm]Ownership
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
}

// Plan returns the table that should follow, given the living nodes. It moves as few realms as
// possible: those whose owner is dead or has restarted, and, while nodes own unequal numbers, some
// to steady nodes. Epochs only grow. The result depends on nothing else, so all nodes make the
// same plan.
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

// Equal reports whether two tables have the same owners.
func (o Owners) Equal(other Owners) bool { return maps.Equal(o.Realms, other.Realms) }
