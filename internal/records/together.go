package records

import (
	"cmp"
	"slices"
)

// together joins the rows of successive records where the outcome is the same. One statement for many rows costs less than
// many statements, and somebody who changes often is written once. The list stays as it is.
func together(list []Rows) (joined []Rows) {
	var people map[personID]int // the place of each person in the rows that were joined last
	for i := range list {
		if i == 0 || !joined[len(joined)-1].join(&list[i], people) {
			joined, people = append(joined, list[i]), map[personID]int{}
			for j, p := range list[i].People {
				people[personID{p.Realm, p.User}] = j
			}
			own(&joined[len(joined)-1])
		}
	}
	return joined
}

// own gives rows slices of their own.
func own(r *Rows) {
	r.Entries, r.People, r.Counts = slices.Clip(r.Entries), slices.Clone(r.People), slices.Clip(r.Counts)
	r.Typings, r.Hooked = slices.Clip(r.Typings), slices.Clip(r.Hooked)
}

// join adds the rows of the next record, unless the outcome would differ. People has the place of each person.
func (r *Rows) join(next *Rows, people map[personID]int) bool {
	if len(r.Changes)+len(r.Tried) > 0 || r.Tidy != nil || r.Run != nil && next.Run != nil && r.Run.ID != next.Run.ID {
		return false
	}
	for i := range next.People {
		p := &next.People[i]
		if at, ok := people[personID{p.Realm, p.User}]; ok {
			if _, ok := r.People[at].then(p); !ok {
				return false
			}
		}
	}
	for i := range next.People {
		p := &next.People[i]
		id := personID{p.Realm, p.User}
		if at, ok := people[id]; ok {
			r.People[at], _ = r.People[at].then(p)
		} else {
			people[id], r.People = len(r.People), append(r.People, *p)
		}
	}
	r.Entries, r.Counts = append(r.Entries, next.Entries...), append(r.Counts, next.Counts...)
	r.Typings, r.Hooked = append(r.Typings, next.Typings...), append(r.Hooked, next.Hooked...)
	r.Tried, r.Changes, r.Tidy, r.Run = next.Tried, next.Changes, next.Tidy, cmp.Or(next.Run, r.Run)
	return true
}

// then merges the row with the next one of the same person. It reports false if no single row has the effect of both.
func (p Person) then(next *Person) (Person, bool) {
	one := *next
	switch {
	case next.adds() && !p.adds(), !next.adds() && p.adds() && p.FirstSeen == 0:
		return one, false
	case !next.adds(): // it changes no name, and no picture
		one.Name, one.Picture = p.Name, p.Picture
	}
	one.follows(&p)
	return one, true
}
