package delivery

import (
	"encoding/json"
	"sync"
	"time"

	"tovik.example/tovik/internal/deflate"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

// frame is shared by all receivers that need it. The first of them encodes it, without holding a
// lock.
type frame struct {
	once sync.Once
	of   func() any // returns the value to encode; nil afterwards
	text deflate.Text
}

func (f *frame) encoded() deflate.Text {
	f.once.Do(func() { f.text, f.of = deflate.Shared(wire.Encode(f.of())), nil })
	return f.text
}

// changesFrame returns the frame of a batch. For those who do not follow what members are doing,
// prev is the revision of the last batch that was for them, too.
func changesFrame(b *engine.Batch, prev engine.Revision, bare bool) wire.Changes {
	frame := wire.Changes{
		Type: wire.TypeChanges, Room: string(b.Room),
		Rev: b.Revision.String(), Prev: prev.String(), At: wire.Time{Time: b.At},
		Joined: members(b.Joined, bare), Changed: members(b.Changed, bare), Count: Count(b.Count),
	}
	for _, m := range b.Doing {
		if !bare {
			frame.Doing = append(frame.Doing, wire.Doing{User: string(m.User), Doing: doing(m)})
		}
	}
	for _, d := range b.Left {
		frame.Left = append(frame.Left, wire.Departed{User: string(d.User), Status: string(d.Status),
			Reason: d.Reason.String(), LastSeen: wire.Time{Time: d.LastSeen}})
	}
	return frame
}

func snapshotFrame(s engine.Snapshot) wire.SnapshotFrame {
	return wire.SnapshotFrame{Type: wire.TypeSnapshot, Members: Document(s)}
}

// bareFrame is a snapshot without what members are doing, at the last revision that was for
// those who do not follow that.
func bareFrame(s engine.Snapshot, revision engine.Revision) wire.SnapshotFrame {
	s.Revision = revision
	frame := snapshotFrame(s)
	dropDoing(frame.Members.Members)
	return frame
}

// firstFrame is a snapshot with the first members by id, and the count of all.
func firstFrame(s engine.Snapshot, of part) wire.SnapshotFrame {
	frame := wire.SnapshotFrame{Type: wire.TypeSnapshot, Members: page(s, PageWanted{Limit: of.limit})}
	if of.sparse {
		dropDoing(frame.Members.Members)
	}
	return frame
}

// members returns members in their wire form, with or without what they are doing.
func members(list []presence.Member, bare bool) []wire.Member {
	all := Members(list)
	if bare {
		dropDoing(all)
	}
	return all
}

func dropDoing(members []wire.Member) {
	for i := range members {
		members[i].Doing = nil
	}
}

func doing(m presence.Member) json.RawMessage {
	if m.Doing == "" {
		return json.RawMessage("null")
	}
	return json.RawMessage(m.Doing)
}

func countFrame(room presence.RoomName, revision engine.Revision, count presence.Count) wire.CountFrame {
	return wire.CountFrame{Type: wire.TypeCount, Room: string(room), Rev: revision.String(), Count: Count(count)}
}

func typingFrame(room presence.RoomName, users []presence.UserID) wire.TypingFrame {
	frame := wire.TypingFrame{Type: wire.TypeTyping, Room: string(room), Users: make([]string, len(users))}
	for i, user := range users {
		frame.Users[i] = string(user)
	}
	return frame
}

func asksFrame(room presence.RoomName, asks []presence.OpenAsk) wire.AsksFrame {
	return wire.AsksFrame{Type: wire.TypeAsks, Room: string(room), Asks: Asks(asks)}
}

// Asks returns open asks in their wire form, never nil.
func Asks(asks []presence.OpenAsk) []wire.Ask {
	list := make([]wire.Ask, len(asks))
	for i, a := range asks {
		list[i] = wire.Ask{Ask: string(a.Ask), Room: string(a.Room), User: string(a.User), Name: a.Profile.Name, Picture: a.Profile.Picture,
			Since: *wire.TimeOf(a.Since), Until: *wire.TimeOf(a.Until)}
	}
	return list
}

func personFrame(s engine.Sight, profile presence.Profile) wire.PersonFrame {
	frame := wire.PersonFrame{Type: wire.TypePerson, User: string(s.User), Name: profile.Name, Picture: profile.Picture, Status: string(s.Status), Label: s.Label, Note: s.Note, Engaged: s.Engaged}
	if s.Until != 0 {
		frame.Until = &wire.Time{Time: time.UnixMilli(s.Until)}
	}
	if !s.LastSeen.IsZero() {
		frame.LastSeen = &wire.Time{Time: s.LastSeen}
	}
	return frame
}

// Document returns a snapshot in its wire form.
func Document(s engine.Snapshot) wire.Members {
	return wire.Members{Room: string(s.Room), Rev: s.Revision.String(),
		Count: Count(s.Count), Members: Members(s.Members)}
}

// Members returns members in their wire form, never nil.
func Members(members []presence.Member) []wire.Member {
	list := make([]wire.Member, len(members))
	for i, m := range members {
		list[i] = wire.Member{User: string(m.User), Name: m.Profile.Name, Picture: m.Profile.Picture,
			Status: string(m.Status), Label: m.Label, Note: m.Note, Engaged: m.Engaged, Since: wire.Time{Time: m.Since}, Sessions: m.Sessions, Devices: m.Devices.Words()}
		if m.Doing != "" {
			list[i].Doing = json.RawMessage(m.Doing)
		}
		if m.Until != 0 {
			list[i].Until = &wire.Time{Time: time.UnixMilli(m.Until)}
		}
	}
	return list
}

// Count returns a count in its wire form.
func Count(c presence.Count) wire.Count {
	return wire.Count{People: c.People, Sessions: c.Sessions,
		Online: wire.Tally(c.Online), Away: wire.Tally(c.Away), Busy: wire.Tally(c.Busy)}
}

// Session returns what is known about a session in its wire form.
func Session(e presence.Evidence) wire.Session {
	s := &wire.Unended{
		User: string(e.User), Over: e.Kind.String(), Opened: wire.Time{Time: e.Opened}, Reason: e.Reason.String(), Link: uint64(e.Link),
		LastHeard: wire.Time{Time: e.LastHeard}, LastActivity: wire.Time{Time: e.LastActivity},
		Idle: e.Idle, NoInput: e.NoInput, PageHidden: e.PageHidden, Device: e.Device.String(), Rooms: make([]string, len(e.Rooms)), Next: []wire.Upcoming{},
	}
	for i, room := range e.Rooms {
		s.Rooms[i] = string(room)
	}
	if !e.LostAt.IsZero() {
		s.LostAt = &wire.Time{Time: e.LostAt}
	}
	for _, next := range e.Next {
		s.Next = append(s.Next, wire.Upcoming{At: wire.Time{Time: next.At}, Act: string(next.Act), Room: string(next.Room)})
	}
	return wire.Session{Session: string(e.Session), State: e.State.String(), Unended: s}
}
