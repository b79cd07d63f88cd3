package wire

// Claims are the claims of a token besides sub, iat and exp (RFC 7519).
type Claims struct {
	Name    string `json:"name,omitempty"`
	Picture string `json:"picture,omitempty"`
	Grants  Grants `json:"tovik"`
}

// Grants is the private claim tovik: what a person may do. Rooms are named by patterns.
type Grants struct {
	Rooms    []string `json:"rooms"`              // rooms to be in and to watch
	Watch    []string `json:"watch,omitempty"`    // rooms to watch only
	Count    []string `json:"count,omitempty"`    // rooms to watch at count only
	Cue      []string `json:"cue,omitempty"`      // rooms to give cues in
	Moderate []string `json:"moderate,omitempty"` // rooms to remove people from
	Admit    []string `json:"admit,omitempty"`    // rooms to let people into who ask; such a room lets this person in without asking
	Invite   []string `json:"invite,omitempty"`   // rooms to invite people into
	People   []string `json:"people,omitempty"`   // people to watch: user ids, or beginnings of ids followed by *
	Near     bool     `json:"near,omitempty"`     // may watch people who are in a room with them
	Hide     bool     `json:"hide,omitempty"`     // may hide
	// SeeHidden lets the person see hidden people.
	SeeHidden bool `json:"see_hidden,omitempty"`
	// NoInput permits sessions without human input: a device, a bot.
	NoInput bool `json:"no_input,omitempty"`
}
