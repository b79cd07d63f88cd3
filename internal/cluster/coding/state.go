package coding

import (
	"time"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// state is a [cluster.State]. After a takeover each node gets all lists that it follows.
type state struct {
	Topic    engine.Topic
	Revision engine.Revision
	Members  untagged[member]
	Count    presence.Count
	Exists   bool
	Typists  []presence.UserID
	Asks     []presence.OpenAsk
}

// member is a [presence.Member].
type member struct {
	_             struct{} `cbor:",toarray"`
	User          presence.UserID
	Name, Picture string
	Status        presence.Status
	Note          string
	Until         int64
	Label         string
	Engaged       bool
	Since         int64 // Unix milliseconds
	Sessions      int
	Doing         string
	Devices       presence.Devices
}

func stateOf(s cluster.State) state {
	is := s.Snapshot
	return state{is.Topic, is.Revision, each(is.Members, memberOf), is.Count, is.Exists, s.Typists, s.Asks}
}

func (s state) read() cluster.State {
	is := engine.Snapshot{Topic: s.Topic, Revision: s.Revision, Members: each(s.Members, (*member).read), Count: s.Count, Exists: s.Exists}
	return cluster.State{Snapshot: is, Typists: s.Typists, Asks: s.Asks}
}

func memberOf(m *presence.Member) member {
	return member{
		User: m.User, Name: m.Profile.Name, Picture: m.Profile.Picture,
		Status: m.Status, Note: m.Note, Until: m.Until, Label: m.Label, Engaged: m.Engaged,
		Since: m.Since.UnixMilli(), Sessions: m.Sessions, Doing: m.Doing, Devices: m.Devices,
	}
}

func (m *member) read() presence.Member {
	return presence.Member{
		User: m.User, Profile: presence.Profile{Name: m.Name, Picture: m.Picture},
		Appearance: presence.Appearance{Status: m.Status, Note: m.Note, Until: m.Until, Label: m.Label, Engaged: m.Engaged},
		Since:      time.UnixMilli(m.Since).UTC(), Sessions: m.Sessions, Doing: m.Doing, Devices: m.Devices,
	}
}
