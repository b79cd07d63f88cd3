package records

// HoldAtMost changes the limit of waiting entries, normally 200,000. Call it before Run.
func (w *Writer) HoldAtMost(entries int) { w.most = entries }

// Migrations are those that make each version of the file.
var Migrations = migrations
