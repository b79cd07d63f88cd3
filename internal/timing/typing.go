package timing

import (
	"time"

	"tovik.example/tovik/internal/presence"
)

// Typing is how often typing in a room, that ended in some hour, took about some time. It says
// nothing of who typed.
type Typing struct {
	Realm   string            `json:",omitzero"`
	Room    presence.RoomName `json:",omitzero"`
	Hour    int64             `json:",omitzero"` // Unix milliseconds of its begin
	Length  int64             `json:",omitzero"` // milliseconds, rounded up to 10 % at most
	Expired bool              `json:",omitzero"` // it ended because no report came any more
	Times   int64             `json:",omitzero"`
}

// Typists measures how long people type in a realm. It is not safe for concurrent use.
type Typists struct {
	realm string
	since map[typist]int64
}

type typist struct {
	room presence.RoomName
	user presence.UserID
}

// NewTypists returns what measures typing in a realm.
func NewTypists(realm string) *Typists {
	return &Typists{realm: realm, since: map[typist]int64{}}
}

// Take takes a change at a time in Unix milliseconds. It returns true with a count of 1 when
// typing has ended that it has seen begin.
func (t *Typists) Take(at int64, e presence.TypingChanged) (Typing, bool) {
	if !e.Views.Has(presence.Full) {
		return Typing{}, false
	}
	who := typist{e.Room, e.User}
	if e.On {
		t.since[who] = at
		return Typing{}, false
	}
	since, ok := t.since[who]
	delete(t.since, who)
	const hour = int64(time.Hour / time.Millisecond)
	length := rounded(at - since)
	return Typing{Realm: t.realm, Room: e.Room, Hour: at / hour * hour, Length: length, Expired: e.Expired, Times: 1}, ok
}

// rounded rounds a length in milliseconds up, so that there are few different ones.
func rounded(ms int64) int64 {
	size := int64(100)
	for size*20 < ms {
		size *= 2
	}
	return (max(ms, 0) + size - 1) / size * size
}
