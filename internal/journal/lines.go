package journal

import (
	"slices"

	"tovik.example/tovik/wire"
)

// Lines puts entries that have one cause together: what one input or one deadline did to
// somebody; the loss of a link with what came of it; and a run of status changes. The zero value
// is ready. It is not safe for concurrent use.
type Lines struct {
	last  map[string]*wire.JournalLine // the newest line of each person
	loose map[string]*wire.JournalLine // the line of each session that is without a link
	order []*wire.JournalLine          // those that may still get entries, the oldest first
}

// lineFor is how long a line may get further entries, in milliseconds.
const lineFor = 15 * 60 * 1000

// Add adds the next entry, and returns the line that it belongs to.
func (l *Lines) Add(r wire.Record) *wire.JournalLine {
	if l.last == nil {
		l.last, l.loose = map[string]*wire.JournalLine{}, map[string]*wire.JournalLine{}
	}
	l.forget(r.At.UnixMilli() - lineFor)
	line := l.lineOf(&r)
	if line == nil {
		line = &wire.JournalLine{ID: r.ID, User: r.User}
		l.order = append(l.order, line)
	}
	line.Entries = append(line.Entries, r)
	line.At = r.At
	if line.Room == "" {
		line.Room = r.Room
	}
	if r.User != "" {
		l.last[r.User] = line
	}
	switch Kind(r.Kind) {
	case SessionLost:
		l.loose[r.Session] = line
	case SessionResumed, SessionEnded:
		delete(l.loose, r.Session)
	}
	line.Waiting = slices.ContainsFunc(line.Entries, func(r wire.Record) bool { return l.loose[r.Session] == line && Kind(r.Kind) == SessionLost })
	line.Text = textOf(line.Entries)
	return line
}

// lineOf returns the line that an entry belongs to; nil if it begins one.
func (l *Lines) lineOf(r *wire.Record) *wire.JournalLine {
	if r.User == "" {
		return nil
	}
	lost := l.loose[r.Session]
	switch Kind(r.Kind) {
	case SessionLost:
		return lost
	case PersonRemoved, PersonSignedOut, PersonExported: // a line of its own, which what follows joins
		return nil
	case SessionResumed, SessionEnded:
		if lost != nil {
			return lost
		}
	case MemberLeft, SessionLeft:
		if lost != nil && r.Session != "" && wire.Reasons[r.Reason].Lost != "" {
			return lost
		}
	}
	last := l.last[r.User]
	switch {
	case last == nil:
		return nil
	case last.At.Equal(r.At.Time):
		return last
	case isRun(last) && isOfRun(r):
		return last
	}
	return nil
}

// isOfRun reports whether an entry may be one of many changes of a status.
func isOfRun(r *wire.Record) bool {
	switch Kind(r.Kind) {
	case SessionIdle, SessionActive:
		return true
	case StatusChanged:
		return r.Was != "offline" && r.Status != "offline"
	}
	return false
}

func isRun(line *wire.JournalLine) bool {
	return !slices.ContainsFunc(line.Entries, func(r wire.Record) bool { return !isOfRun(&r) })
}

// forget forgets lines that began before a time in Unix milliseconds.
func (l *Lines) forget(before int64) {
	n := 0
	for ; n < len(l.order) && l.order[n].Entries[0].At.UnixMilli() < before; n++ {
		line := l.order[n]
		if l.last[line.User] == line {
			delete(l.last, line.User)
		}
		for _, r := range line.Entries {
			if l.loose[r.Session] == line {
				delete(l.loose, r.Session)
			}
		}
	}
	l.order = l.order[n:]
}

// LinesOf puts the entries of a page together, in the order of the lines' newest entries.
func LinesOf(entries []wire.Record) []wire.JournalLine {
	var l Lines
	var all []*wire.JournalLine
	for _, r := range entries {
		line := l.Add(r)
		if len(line.Entries) == 1 {
			all = append(all, line)
		}
	}
	list := make([]wire.JournalLine, len(all))
	for i, line := range all {
		list[i] = *line
	}
	slices.SortStableFunc(list, func(a, b wire.JournalLine) int { return int(a.Newest() - b.Newest()) })
	return list
}
