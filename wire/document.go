package wire

// Count says how many are in a room.
type Count struct {
	People   int   `json:"people"`
	Sessions int   `json:"sessions"`
	Online   Tally `json:"online"` // the same by the status of the person
	Away     Tally `json:"away"`
	Busy     Tally `json:"busy"`
}

// Tally is a part of a count.
type Tally struct {
	People   int `json:"people"`
	Sessions int `json:"sessions"`
}

// Member is a person in a room.
type Member struct {
	User     string `json:"user"`
	Name     string `json:"name,omitempty"`
	Picture  string `json:"picture,omitempty"`
	Status   string `json:"status"`          // online, away, busy
	Note     string `json:"note,omitempty"`  // of a set status
	Until    *Time  `json:"until,omitempty"` // when a set status ends
	Since    Time   `json:"since"`
	Sessions int    `json:"sessions"` // of the person in this room
}

// Members is a room with everybody in it, ordered by user.
type Members struct {
	Room    string   `json:"room"`
	Rev     string   `json:"rev"`
	Count   Count    `json:"count"`
	Members []Member `json:"members"`
}

// Room is a room with its count.
type Room struct {
	Room string `json:"room"`
	Count
}

// Rooms is a page of rooms ordered by name. Next, when set, is the name to pass
// as after for the next page.
type Rooms struct {
	Rooms []Room `json:"rooms"`
	Total int    `json:"total"` // rooms that match, on all pages
	Next  string `json:"next,omitempty"`
}

// ClosingNote is the body of POST /v1/closing, as a page's beacon sends it.
type ClosingNote struct {
	Session string `json:"session"`
	Key     string `json:"key"`
	Nonce   string `json:"nonce"`
}

// ClosingAnswer tells whether the note meant anything: not when the session has
// ended or has a newer page.
type ClosingAnswer struct {
	Applied bool `json:"applied"`
}
