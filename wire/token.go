package wire

// Claims are what a token says besides the registered claims sub, iat and exp of
// RFC 7519.
type Claims struct {
	Name    string `json:"name,omitempty"`
	Picture string `json:"picture,omitempty"`
	Grants  Grants `json:"tovik"`
}

// Grants is the private claim of Tovik: what a person may do.
type Grants struct {
	Rooms    []string `json:"rooms"`              // patterns of rooms to be in and to watch
	Watch    []string `json:"watch,omitempty"`    // patterns of rooms to watch only
	Count    []string `json:"count,omitempty"`    // patterns of rooms to watch at count only
	Cue      []string `json:"cue,omitempty"`      // patterns of rooms to give cues in
	Moderate []string `json:"moderate,omitempty"` // patterns of rooms to remove people from
	People   []string `json:"people,omitempty"`   // to watch: ids, or beginnings of ids followed by *
	Near     bool     `json:"near,omitempty"`     // may watch whoever is in a room with them
	Hide     bool     `json:"hide,omitempty"`     // may hide from who does not see the hidden
	// SeeHidden lets the person see those who hide.
	SeeHidden bool `json:"see_hidden,omitempty"`
	// NoInput lets the person be awake without a human's input: a device, a bot.
	NoInput bool `json:"no_input,omitempty"`
}
