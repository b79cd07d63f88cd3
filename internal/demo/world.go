// Package demo plays the river watch of the Aldermoor: volunteers and duty engineers who keep
// flood-watch rooms through a wet night. A seeded script drives each of them over real links,
// and does what people's pages do: arrive, reload, lose the network, fall asleep, open another
// tab, move on, go home.
//
// It is a client of the service like any other.
package demo

import (
	"fmt"
	"time"

	"tovik.example/tovik/internal/presence"
)

// Rooms are the rooms of the watch.
var Rooms = []presence.RoomName{
	"basin.upper-weir", "basin.fen-end", "sluice.mill-lane", "sluice.salt-gate", "levee.north-bank", "desk.night",
}

// Visiting is the room for visitors.
const Visiting = "basin.upper-weir"

var givenNames = []string{
	"Ilse", "Tobin", "Hanne", "Corin", "Maudry", "Oskel", "Perrin", "Sunniva", "Jorund", "Wenna", "Edlyn", "Brannoc",
	"Tamsel", "Lorcas", "Ysolde", "Hobb", "Merrin", "Aldith", "Quill", "Rosken", "Dagny", "Fennel", "Garrick", "Thessaly",
}

var familyNames = []string{
	"Marrow", "Sedgewater", "Alderby", "Weirside", "Fennimoor", "Reedham", "Brookwise", "Saltmarch", "Oxbowe", "Millrace",
	"Tidewell", "Culvert", "Eddystow", "Rushmere", "Leveson-Bank", "Gaugely", "Stillpool", "Withywind", "Floodgate",
}

// character is a person of the watch.
type character struct {
	user    presence.UserID
	profile presence.Profile
	rooms   []presence.RoomName // their first room, and the others that they go to
	tabs    int                 // that they open at once
	steady  bool                // stays all night; reloads, but is never away for good
}

// cast returns n people, always the same ones for the same n. The first two of each room are
// steady: one with two tabs, one with one.
func cast(n int) []character {
	people := make([]character, n)
	for i := range people {
		kind := "w" // a volunteer
		if i%5 == 0 {
			kind = "e" // a duty engineer
		}
		name := givenNames[i%len(givenNames)] + " " + familyNames[(i*7+i/len(givenNames))%len(familyNames)]
		if round := i / (len(givenNames) * len(familyNames)); round > 0 {
			name += fmt.Sprintf(" %d", round+1)
		}
		home := i % len(Rooms)
		if i%4 == 3 {
			home = 0 // the weir is where most go on a wet night
		}
		people[i] = character{
			user:    presence.UserID(fmt.Sprintf("%s-%02d", kind, i+1)),
			profile: presence.Profile{Name: name},
			rooms:   []presence.RoomName{Rooms[home], Rooms[(home+1+i/len(Rooms))%len(Rooms)]},
			tabs:    1,
			steady:  i < 2*len(Rooms),
		}
		if i < len(Rooms) || i%8 == 7 {
			people[i].tabs = 2
		}
	}
	return people
}

// Policy is the policy of the watch. On the levees radios are out of reach now and then, so a
// lost link has a longer grace there. People ask to enter the handover at the desk; it and calls
// engage their members.
func Policy() presence.Policy {
	p := presence.DefaultPolicy()
	levee := p.RoomPolicy
	levee.GraceLost = 25 * time.Second
	asks, calls := p.RoomPolicy, p.RoomPolicy
	asks.Entry, asks.Engages, calls.Engages = presence.EntryAsk, true, true
	p.Rooms = []presence.PatternPolicy{{Pattern: "levee.*", RoomPolicy: levee}, {Pattern: handover, RoomPolicy: asks}, {Pattern: "call.*", RoomPolicy: calls}}
	p.Labels = map[presence.Status][]string{presence.Busy: {"on the radio", "at the pumps"}}
	return p
}
