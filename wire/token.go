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
	Rooms  []string `json:"rooms"`            // patterns of rooms to be in and to watch
	Cue    []string `json:"cue,omitempty"`    // patterns of rooms to give cues in
	People []string `json:"people,omitempty"` // to watch: ids, or beginnings of ids followed by *
	Hide   bool     `json:"hide,omitempty"`   // from everybody but operators
}
