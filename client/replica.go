package client

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"tovik.example/tovik/wire"
)

// Event is a change of a room that is followed.
type Event struct {
	Room string
	Rev  string
	// At is when the service sealed the change; zero when the event comes from a
	// snapshot.
	At time.Time
	// Whole tells that the event comes from a snapshot: it says how the room
	// differs from what was known of it before, and no reasons.
	Whole   bool
	Joined  []wire.Member
	Changed []wire.Member
	Doing   []wire.Member // only what they are doing has changed
	Left    []Departed
	Count   wire.Count
}

// Departed is a person who left, with the member that they were.
type Departed struct {
	wire.Departed
	Was wire.Member
}

// Replica is a room as a client has it: a snapshot and the changes that followed. The zero value
// is empty.
type Replica struct {
	rev     string
	whole   bool // has had a snapshot
	members map[string]wire.Member
}

// Apply applies a snapshot, changes or count frame of the room, and returns what it changed. Its
// error says that the changes do not follow the revision of the replica.
func (r *Replica) Apply(data []byte) (Event, error) {
	var frame struct {
		Type    string        `json:"type"`
		Members []wire.Member `json:"members"`
		wire.Changes
	}
	if err := json.Unmarshal(data, &frame); err != nil {
		return Event{}, fmt.Errorf("a frame of the service cannot be read: %w", err)
	}
	event := Event{Room: frame.Room, Rev: frame.Rev, Count: frame.Count}
	switch frame.Type {
	case wire.TypeCount:
		if err := json.Unmarshal(data, &event.Count); err != nil {
			return Event{}, fmt.Errorf("a count cannot be read: %w", err)
		}
		if !r.whole {
			r.rev = frame.Rev
		}
		return event, nil
	case wire.TypeSnapshot:
		event.Whole = true
		r.replace(frame.Members, &event)
	default:
		if !r.whole || frame.Prev != r.rev {
			return Event{}, fmt.Errorf("the changes of %s follow revision %q, but %q is what came last", frame.Room, frame.Prev, r.rev)
		}
		event.At = frame.At.Time
		event.Joined, event.Changed = frame.Joined, frame.Changed
		event.Left = r.change(frame.Changes)
		for _, d := range frame.Doing {
			event.Doing = append(event.Doing, r.members[d.User])
		}
	}
	r.rev = frame.Rev
	return event, nil
}

func (r *Replica) change(c wire.Changes) (left []Departed) {
	for _, m := range slices.Concat(c.Joined, c.Changed) {
		r.members[m.User] = m
	}
	for _, d := range c.Doing {
		m := r.members[d.User]
		if m.Doing = d.Doing; string(d.Doing) == "null" {
			m.Doing = nil
		}
		r.members[d.User] = m
	}
	for _, d := range c.Left {
		left = append(left, Departed{d, r.members[d.User]})
		delete(r.members, d.User)
	}
	return left
}

func (r *Replica) replace(members []wire.Member, event *Event) {
	old := r.members
	r.whole, r.members = true, make(map[string]wire.Member, len(members))
	for _, m := range members {
		was, there := old[m.User]
		switch {
		case !there:
			event.Joined = append(event.Joined, m)
		case !reflect.DeepEqual(was, m):
			event.Changed = append(event.Changed, m)
		}
		r.members[m.User] = m
	}
	for user, was := range old {
		if _, there := r.members[user]; !there {
			event.Left = append(event.Left, Departed{wire.Departed{User: user}, was})
		}
	}
	slices.SortFunc(event.Left, func(a, b Departed) int { return strings.Compare(a.User, b.User) })
}

// Rev returns the revision of the replica; it is empty if nobody is in the room.
func (r *Replica) Rev() string { return r.rev }

// Members returns the members of the room, by user id.
func (r *Replica) Members() []wire.Member {
	members := make([]wire.Member, 0, len(r.members))
	for _, m := range r.members {
		members = append(members, m)
	}
	slices.SortFunc(members, func(a, b wire.Member) int { return strings.Compare(a.User, b.User) })
	return members
}
