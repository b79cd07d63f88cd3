package engine

// ReadInParts has large rooms begin at so many people, until undo is called.
func ReadInParts(most int) (undo func()) {
	before := readMost
	readMost = most
	return func() { readMost = before }
}
