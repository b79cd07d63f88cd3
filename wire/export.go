package wire

// ExportLine is a line of everything that the service has about a person. What says which of the
// other fields it has.
type ExportLine struct {
	What       string      `json:"what" jsonschema:"enum=person,enum=session,enum=pass,enum=removal,enum=ask,enum=invitation,enum=expected,enum=entry,enum=delivery"`
	Person     *Person     `json:"person,omitempty"`     // the directory's entry, with the present status
	Session    *Session    `json:"session,omitempty"`    // that has not ended
	Pass       *Pass       `json:"pass,omitempty"`       // into a room
	Removal    *Removal    `json:"removal,omitempty"`    // from a room, or from the realm
	Ask        *Ask        `json:"ask,omitempty"`        // that is open
	Invitation *Invitation `json:"invitation,omitempty"` // that is open, made or received
	Room       string      `json:"room,omitempty"`       // that expects the person
	Entry      *Record     `json:"entry,omitempty"`      // of the journal, about the person or with them
	Delivery   *Delivery   `json:"delivery,omitempty"`   // to a hook, with its body
}
