package coding

import (
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/presence"
)

// report is a [cluster.Report]. A takeover waits for reports of all links, so the form of a fact is an array, which is
// quicker to write and to read than a map, and leaves out what an owner does not use.
type report struct {
	Read        uint64
	First, Last bool
	Facts       untagged[fact]
}

// fact is a [presence.Fact].
type fact struct {
	_                         struct{} `cbor:",toarray"`
	User                      presence.UserID
	Name, Picture             string
	Hidden                    bool
	Session                   presence.SessionID
	Key, Nonce                string
	Opened                    int64
	Link                      presence.LinkNumber
	Kind                      presence.LinkKind
	Issued, Expires           int64
	Idle, NoInput, PageHidden bool
	Device                    presence.Device
	Rooms                     []entry
	Grants, Admits            []presence.Pattern
	Heard, Active, Unanswered time.Duration
	Told                      *presence.Told // nil: nothing
	Reported                  []presence.RoomReports
	Confirmed                 bool
	Lost                      presence.Reason
}

// entry is a [presence.SavedEntry].
type entry struct {
	_          struct{} `cbor:",toarray"`
	Room       presence.RoomName
	Doing      string
	DoingOrder uint64
}

func reportOf(r cluster.Report) report {
	return report{Read: r.Read, First: r.First, Last: r.Last, Facts: each(r.Facts, factOf)}
}

func (r report) read() cluster.Report {
	return cluster.Report{Read: r.Read, First: r.First, Last: r.Last, Facts: each(r.Facts, (*fact).read)}
}

func factOf(f *presence.Fact) fact {
	is := &f.Session
	form := fact{
		User: f.User, Name: f.Profile.Name, Picture: f.Profile.Picture, Hidden: f.Hidden,
		Session: is.ID, Key: is.Key, Nonce: is.Nonce, Opened: is.Opened, Link: is.Link, Kind: is.Kind, Issued: is.Issued, Expires: is.Expires,
		Idle: is.Idle, NoInput: is.NoInput, PageHidden: is.PageHidden, Device: is.Device,
		Rooms: each(is.Rooms, func(e *presence.SavedEntry) entry {
			return entry{Room: e.Room, Doing: e.Doing, DoingOrder: e.DoingOrder}
		}),
		Grants: f.Grants, Admits: f.Admits, Heard: f.Heard, Active: f.Active, Unanswered: f.Unanswered,
		Reported: f.Reported, Confirmed: f.Confirmed, Lost: f.Lost,
	}
	if told := f.Told; told.Set != (presence.Appearance{}) || told.Asks != nil || told.Invitations != nil {
		form.Told = &told
	}
	return form
}

func (f *fact) read() presence.Fact {
	read := presence.Fact{
		User: f.User, Profile: presence.Profile{Name: f.Name, Picture: f.Picture}, Hidden: f.Hidden,
		Session: presence.SavedSession{ID: f.Session, Key: f.Key, Nonce: f.Nonce, Opened: f.Opened, Link: f.Link, Kind: f.Kind, Issued: f.Issued, Expires: f.Expires,
			Idle: f.Idle, NoInput: f.NoInput, PageHidden: f.PageHidden, Device: f.Device,
			Rooms: each(f.Rooms, func(e *entry) presence.SavedEntry {
				return presence.SavedEntry{Room: e.Room, Doing: e.Doing, DoingOrder: e.DoingOrder}
			})},
		Grants: f.Grants, Admits: f.Admits, Heard: f.Heard, Active: f.Active, Unanswered: f.Unanswered,
		Reported: f.Reported, Confirmed: f.Confirmed, Lost: f.Lost,
	}
	if f.Told != nil {
		read.Told = *f.Told
	}
	return read
}

// each calls a function for each element, and returns the results. For nil it returns nil.
func each[A, B any](list []A, call func(*A) B) []B {
	if list == nil {
		return nil
	}
	all := make([]B, len(list))
	for i := range list {
		all[i] = call(&list[i])
	}
	return all
}
